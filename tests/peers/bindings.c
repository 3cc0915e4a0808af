/* The kernel's bindings against their own examples, which keep to them by construction; then the
 * same examples with seeded damage. */
#include "peers.h"

#include <ctype.h>
#include <glob.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_EXAMPLES = 16 };

/* The examples of one file, each as a tree of its own; includes and macros of earlier ones hold for
 * later ones, as they do where the kernel builds them. */
struct examples {
    char *text; /* of the file */
    char *trees[MOST_EXAMPLES];
    size_t count;
};

static const char *bindings(void) {
    static char path[4096];
    snprintf(path, sizeof path, "%s/sources-of-trees/Documentation/devicetree/bindings",
             peers_cache());
    return path;
}

struct text {
    char *bytes;
    size_t length;
};

static void add(struct text *t, const char *bytes, size_t length) {
    t->bytes = realloc(t->bytes, t->length + length + 1);
    memcpy(t->bytes + t->length, bytes, length);
    t->length += length;
    t->bytes[t->length] = 0;
}

static void add_text(struct text *t, const char *text) {
    add(t, text, strlen(text));
}

/* Cells of the first `interrupts` of an example: its controller is told nowhere. */
static unsigned interrupt_cells(const char *text) {
    const char *p = strstr(text, " interrupts = <");
    unsigned cells = 0;
    if (!p)
        return 1;
    for (p += 15; *p && *p != '>'; p += strcspn(p, " \n>"), p += strspn(p, " \n"))
        cells++;
    return cells;
}

static char *as_tree(const char *before, const char *body) {
    struct text t = {0};
    char line[300];
    add_text(&t, strstr(body, "/dts-v1/") ? "" : "/dts-v1/;\n/plugin/;\n");
    add_text(&t, before);
    bool whole = strstr(body, "\n/ {") || strncmp(body, "/ {", 3) == 0;
    snprintf(
        line, sizeof line,
        "/ {\nexample {\n#address-cells = <1>; #size-cells = <1>; interrupt-parent = <&fake>;\n"
        "fake: fake { interrupt-controller; #interrupt-cells = <%u>; };\n",
        interrupt_cells(body));
    add_text(&t, whole ? "" : line);
    add_text(&t, body);
    add_text(&t, whole ? "" : "};\n};\n");
    return t.bytes;
}

/* Preprocessor lines of `block` go to `before`, the others to `body`. */
static void split_lines(const char *block, struct text *before, struct text *body) {
    for (const char *p = block; *p;) {
        size_t n = strcspn(p, "\n") + (p[strcspn(p, "\n")] == '\n');
        bool first = strncmp(p, "#include", 8) == 0 || strncmp(p, "#define", 7) == 0;
        add(first ? before : body, p, n);
        p += n;
    }
}

static struct examples examples_of(const char *path) {
    struct examples e = {.text = read_whole(path, NULL)};
    struct text before = {0};
    add_text(&before, "");
    const char *p = strstr(e.text, "\nexamples:");
    for (p = p ? p + 1 : ""; *p && e.count < MOST_EXAMPLES;) {
        p = strstr(p, "- |");
        if (!p)
            break;
        p += strcspn(p, "\n") + 1;
        struct text block = {0}, body = {0};
        size_t indent = strspn(p + strspn(p, "\n"), " ");
        add_text(&block, "");
        while (*p == '\n' || (indent && strspn(p, " ") >= indent)) {
            size_t skip = *p == '\n' ? 0 : indent, n = strcspn(p, "\n") + 1;
            add(&block, p + skip, n - skip);
            p += n;
        }
        add_text(&body, "");
        split_lines(block.bytes, &before, &body);
        e.trees[e.count++] = as_tree(before.bytes, body.bytes);
        free(block.bytes);
        free(body.bytes);
    }
    free(before.bytes);
    return e;
}

static void free_examples(struct examples *e) {
    for (size_t i = 0; i < e->count; i++)
        free(e->trees[i]);
    free(e->text);
}

static void each_file(void (*look)(void *self, const char *name, const struct examples *e),
                      void *self) {
    struct outcome o = run_shell("cd '%s' && find . -name '*.yaml' | LC_ALL=C sort", bindings());
    size_t i = 0;
    for (char *name = strtok(o.out, "\n"); name; name = strtok(NULL, "\n"), i++) {
        if (i % (peers_all() ? 1 : 8))
            continue;
        char path[4400];
        snprintf(path, sizeof path, "%s/%s", bindings(), name);
        struct examples e = examples_of(path);
        look(self, name + 2, &e);
        free_examples(&e);
    }
    outcome_free(&o);
}

/* ---- the examples as they are ---- */

struct written {
    const char *folder;
    size_t count, damaged;
    FILE *list; /* of what must be said of each */
};

static void write_examples(void *self, const char *name, const struct examples *e) {
    struct written *w = self;
    (void)name;
    for (size_t i = 0; i < e->count; i++)
        write_text(path_in(w->folder, "%05zu.dts", w->count++), e->trees[i]);
}

/* Some at a time: no more findings are kept than anybody would read. */
static struct outcome judged(const char *folder) {
    return run_shell("cd '%s/sources-of-trees' && ls '%s'/*.dts | xargs -n 300 '%s' tree bindings "
                     "-I include -I scripts/dtc/include-prefixes --bindings "
                     "Documentation/devicetree/bindings",
                     peers_cache(), folder, MOSAICUM_PROGRAM);
}

static size_t count_of(const char *text, const char *word) {
    size_t n = 0;
    for (const char *p = text; (p = strstr(p, word)); p += strlen(word))
        n++;
    return n;
}

static void examples_keep_to_their_bindings(void) {
    struct written w = {.folder = test_folder("examples")};
    each_file(write_examples, &w);
    struct outcome o = judged(w.folder);
    /* two numbers of one example are no multiples of what its file wants them to be */
    size_t said = count_of(o.out, "WARNING"), known = count_of(o.out, "must be a multiple of 1000");
    CU_ASSERT_TRUE(known <= 2);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_EQUAL(said, known);
    CU_ASSERT_TRUE(w.count > 300);
    if (o.status || said != known)
        fprintf(stderr, "%s%s", o.out, o.err);
    unsigned long nodes = 0;
    for (const char *p = o.out; (p = strstr(p, "files not read")); p++)
        nodes += strtoul(p + strcspn(p, "\n"), NULL, 10);
    CU_ASSERT_TRUE(nodes > w.count);
    proved("the bindings' own examples",
           "%zu examples, %lu nodes with a binding: nothing but %zu "
           "numbers that break their own file",
           w.count, nodes, known);
    outcome_free(&o);
}

/* ---- damage ---- */

/* The only statement of a tree that sets a property; NULL: none, or several. */
static char *statement_of(char *tree, const char *name) {
    char *found = NULL;
    size_t n = strlen(name);
    for (char *p = tree; (p = strstr(p, name)); p += n) {
        bool starts = p > tree && (isspace((unsigned char)p[-1]) || p[-1] == ';' || p[-1] == '{');
        const char *next = p + n + strspn(p + n, " \t");
        if (!starts || (*next != '=' && *next != ';'))
            continue;
        if (found)
            return NULL;
        found = p;
    }
    return found;
}

/* "- name" lines of a list at the file's top; false: there are no more. */
static bool listed(const char **at, char name[100]) {
    const char *p = *at + strspn(*at, " ");
    if (*p != '-' || p == *at)
        return false;
    p += 1 + strspn(p + 1, " \"'");
    size_t n = strcspn(p, "\"'\n #");
    if (*p == '#')
        n = 1 + strcspn(p + 1, "\"'\n ");
    snprintf(name, 100, "%.*s", (int)n, p);
    *at += strcspn(*at, "\n") + 1;
    return true;
}

static void damaged_as(struct written *w, const char *tree, const char *what, const char *name) {
    write_text(path_in(w->folder, "%05zu.dts", w->damaged), tree);
    fprintf(w->list, "%05zu.dts %s %s\n", w->damaged++, what, name);
}

/* What the file needs is taken out, or misspelt where it lets nothing else in. */
static void damage(void *self, const char *file, const struct examples *e) {
    struct written *w = self;
    const char *needs = strstr(e->text, "\nrequired:\n");
    bool closed = strstr(e->text, "\nadditionalProperties: false") &&
                  !strstr(e->text, "^.*$"); /* any name fits that */
    char name[100];
    (void)file;
    w->count++;
    /* it may be for nothing, or only for nodes that are whole */
    if (strstr(e->text, "\nselect:") || !strstr(e->text, "\n  compatible:"))
        return;
    for (const char *p = needs ? needs + 11 : ""; listed(&p, name);) {
        if (strcmp(name, "compatible") == 0 || (w->count + w->damaged) % 3 == 0)
            continue;
        for (size_t i = 0; i < e->count; i++) {
            /* one node with a binding, so that nobody else's property is meant */
            if (count_of(e->trees[i], "compatible") != 1)
                continue;
            char *tree = strdup(e->trees[i]), *at = statement_of(tree, name);
            if (!at || strstr(tree, "status = \"disabled\"")) {
                free(tree);
                continue;
            }
            if (closed && w->damaged % 2) {
                at[strlen(name) - 1] = at[strlen(name) - 1] == 'z' ? 'y' : 'z';
                damaged_as(w, tree, "unknown", name);
            } else {
                while (*at != ';') /* its lines stay */
                    *at = *at == '\n' ? '\n' : ' ', at++;
                *at = ' ';
                damaged_as(w, tree, "missing", name);
            }
            free(tree);
            break;
        }
    }
}

static void damage_is_found(void) {
    struct written w = {.folder = test_folder("damage")};
    w.list = fopen(path_in(w.folder, "list"), "w");
    each_file(damage, &w);
    fclose(w.list);
    struct outcome o = judged(w.folder);
    char *list = read_whole(path_in(w.folder, "list"), NULL);
    size_t found = 0;
    for (char *line = strtok(list, "\n"); line; line = strtok(NULL, "\n")) {
        char file[20], what[20], name[100], place[40];
        CU_ASSERT_EQUAL_FATAL(sscanf(line, "%19s %19s %99s", file, what, name), 3);
        snprintf(place, sizeof place, "/%s", file);
        bool told = false;
        for (const char *p = o.out; !told && (p = strstr(p, place)); p++) {
            const char *start = p; /* the finding that has this place */
            while (start > o.out && strncmp(start, "WARNING", 7) != 0)
                start--;
            char *whole = strndup(start, (size_t)(p - start));
            told = strcmp(what, "missing") == 0
                       ? strstr(whole, name) && strstr(whole, "is needed, and not there")
                       : strstr(whole, "is not known to its binding") != NULL;
            free(whole);
        }
        found += told;
        if (!told)
            fprintf(stderr, "not found: %s\n", line);
    }
    CU_ASSERT_TRUE(w.damaged > 100);
    CU_ASSERT_EQUAL(found, w.damaged);
    proved("damaged examples of bindings", "%zu of %zu found", found, w.damaged);
    free(list);
    outcome_free(&o);
}

SUITE(bindings_suite, {"examples keep to their bindings", examples_keep_to_their_bindings},
      {"damage is found", damage_is_found});
