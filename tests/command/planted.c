/* Mistakes of engineers, planted one at a time in boards that are right, and designs that are right
 * in other ways: what check says of each.  A line of tests/planted/BOARD.txt:
 *
 *     what was done :: rules, of which one must find it (-: a correct design) :: shell commands
 *
 * The family `start` may find any of them: it says that the board does not come up.
 *
 * The results are held in tests/data/golden/planted.txt. */
#include "support.h"

#include "base/buf.h"

#include <stdlib.h>
#include <string.h>

static const struct board {
    const char *name, *root;
} boards[] = {{"curlew", "pieces/rootfs.tar.zst"},
              {"avocet", "pieces/avocet-rootfs.tar.zst"},
              {"dunlin", "pieces/dunlin-rootfs.tar.zst"}};

struct tally {
    size_t mistakes, found, designs, clean;
};

static const char *base_of(const struct board *b) {
    const char *w = keep(test_folder(b->name));
    if (strcmp(b->name, "curlew") != 0) {
        copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), w);
        CU_ASSERT_TRUE_FATAL(runs(0, "rm -f '%s/mosaicum.pins'", w)); /* an edit is no new piece */
        return w;
    }
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && cp '%s/tests/planted/curlew.yaml' boards && cp "
                              "'%s/tests/planted/loader.config' loader",
                              w, MOSAICUM_SOURCE, MOSAICUM_SOURCE));
    return w;
}

static bool matches(const char *rules, const char *rule) {
    if (*rules != '-' && strncmp(rule, "start.", 6) == 0)
        return true;
    for (const char *p = rules; *(p += strspn(p, " ")); p += strcspn(p, " ")) {
        size_t n = strcspn(p, " ");
        if (strncmp(p, rule, n) == 0 && rule[n] == '.')
            return true;
    }
    return false;
}

/* The rules of all errors and warnings, each once; *hit: one of them is of those families. */
static void collect(const json_t *d, const char *rules, struct mos_buf *out, bool *hit) {
    const json_t *finding;
    size_t i;
    *hit = false;
    json_array_foreach(json_object_get(d, "findings"), i, finding) {
        const char *rule = json_string_value(json_object_get(finding, "rule"));
        if (strcmp(json_string_value(json_object_get(finding, "severity")), "note") == 0 ||
            strcmp(rule, "piece.unpinned") == 0) /* an edit pins nothing */
            continue;
        *hit |= matches(rules, rule);
        if (!strstr(mos_buf_string(out), rule))
            mos_buf_printf(out, " %s", rule);
    }
}

/* A line of a list in its parts. */
struct edit {
    const char *name, *rules, *commands;
};

static struct edit parse(char *line) {
    char *rules = strstr(line, " :: "), *commands = rules ? strstr(rules + 4, " :: ") : NULL;
    CU_ASSERT_PTR_NOT_NULL_FATAL(commands);
    *rules = *commands = 0;
    return (struct edit){line, rules + 4, commands + 4};
}

/* A copy of a board's workspace with an edit in it. */
static const char *edited(const struct board *b, const char *base, const struct edit *e) {
    const char *w = keep(test_folder("planted"));
    copy_folder(base, w);
    struct outcome o = run_shell(
        "cd '%s' && B=boards/%s.yaml ROOT=%s && . '%s/tests/planted/edits.sh' && { %s\n}; "
        "diff -rq '%s' . > diff.txt",
        w, b->name, b->root, MOSAICUM_SOURCE, e->commands, base);
    if (o.status != 1) /* every edit edits something */
        fprintf(stderr, "\n%s: %d %s\n", e->name, o.status, o.err);
    CU_ASSERT_EQUAL(o.status, 1);
    outcome_free(&o);
    return w;
}

static void try_line(struct core *c, const struct board *b, const char *base, char *line,
                     struct mos_buf *results, struct tally *all) {
    struct edit e = parse(line);
    const char *rules = e.rules, *w = edited(b, base, &e);
    int status;
    bool hit, design = strcmp(rules, "-") == 0;
    struct mos_buf said = {.arena = c->ctx.arena};
    json_t *d = run_json(&status, "-w '%s' check '%s*'", w, b->name);
    CU_ASSERT(d && status < 3);
    collect(d, rules, &said, &hit);
    json_decref(d);
    if (!said.length && !design) { /* a mistake of a variant? */
        d = run_json(&status, "-w '%s' check '%s+*'", w, b->name);
        collect(d, rules, &said, &hit);
        json_decref(d);
    }
    all->mistakes += !design;
    all->found += !design && hit;
    all->designs += design;
    all->clean += design && !said.length;
    mos_buf_printf(results, "%-9s%s%s%s\n",
                   design        ? said.length ? "ALARM" : "right"
                   : hit         ? "found"
                   : said.length ? "other"
                                 : "missed",
                   line, said.length ? "," : "", mos_buf_string(&said));
    remove_folder(w);
}

/* Calls `each` for every line of the lists. */
static void for_each_line(struct core *c,
                          void (*each)(struct core *c, const struct board *b, const char *base,
                                       char *line, void *self),
                          void *self, struct mos_buf *heading) {
    for (size_t i = 0; i < sizeof boards / sizeof *boards; i++) {
        const char *base = base_of(&boards[i]);
        char *text =
            read_whole(path_in(MOSAICUM_SOURCE, "tests/planted/%s.txt", boards[i].name), NULL);
        CU_ASSERT_PTR_NOT_NULL_FATAL(text);
        if (heading)
            mos_buf_printf(heading, "%s\n", boards[i].name);
        for (char *line = text, *next; *line; line = next) {
            next = line + strcspn(line, "\n");
            next += *next ? (*next = 0, 1) : 0;
            if (*line && *line != '#')
                each(c, &boards[i], base, line, self);
        }
        free(text);
    }
}

struct finding_run {
    size_t lines;
    struct mos_buf results;
    struct tally all;
};

static void find_line(struct core *c, const struct board *b, const char *base, char *line,
                      void *self) {
    struct finding_run *r = self;
    if (row_is_taken(r->lines++))
        try_line(c, b, base, line, &r->results, &r->all);
}

static void mistakes_are_found(void) {
    struct core c;
    core_start(&c);
    struct finding_run r = {.results = {.arena = c.ctx.arena}};
    for_each_line(&c, find_line, &r, &r.results);
    if (all_rows_are_taken())
        mos_buf_printf(&r.results, "%zu of %zu mistakes found, %zu of %zu correct designs right\n",
                       r.all.found, r.all.mistakes, r.all.clean, r.all.designs);
    size_t part = all_rows_are_taken() ? 1 : 5;
    CU_ASSERT(r.all.mistakes >= 300 / part && r.all.designs >= 60 / part);
    CU_ASSERT_EQUAL(r.all.clean, r.all.designs);
    hold_golden_rows("planted", mos_buf_string(&r.results));
    core_end(&c);
}

/* ---- what is planned is what is built ---- */

struct planned_run {
    size_t lines, every, same, other;
};

static const json_t *table_of(const json_t *d, const char *key) {
    const json_t *t;
    size_t i;
    json_array_foreach(json_object_get(d, "report"), i, t) {
        if (strcmp(json_string_value(json_object_get(t, "key")), key) == 0)
            return t;
    }
    return NULL;
}

static bool same_tables(const json_t *a, const json_t *b) {
    static const char *const keys[] = {"verdict", "failed", "timeline", "ram"};
    bool same = true;
    for (size_t i = 0; i < sizeof keys / sizeof *keys; i++) {
        const json_t *x = table_of(a, keys[i]), *y = table_of(b, keys[i]);
        same &= (!x && !y) || (x && y && json_equal(x, y));
    }
    return same && table_of(a, "verdict");
}

/* The whole time line of the board in w, from its plan and from its image. */
static bool planned_is_built(const char *w, const char *selector, bool *is_built) {
    int planned_status, built_status;
    const char *out = path_in(w, "made");
    *is_built = false;
    struct outcome o = run_shell("mkdir -p '%s' && '%s' -q -w '%s' build '%s' --out '%s'", out,
                                 MOSAICUM_PROGRAM, w, selector, out);
    CU_ASSERT(o.status < 128); /* it refuses, but does not fall over */
    *is_built = o.status == 0;
    outcome_free(&o);
    if (!*is_built)
        return false;
    json_t *planned = run_json(&planned_status, "-w '%s' rehearse '%s' --planned", w, selector);
    json_t *built = run_json(&built_status, "-w '%s' rehearse '%s' --out '%s'", w, selector, out);
    bool same = planned && built && planned_status == built_status && same_tables(planned, built);
    json_decref(planned);
    json_decref(built);
    return same;
}

static void plan_line(struct core *c, const struct board *b, const char *base, char *line,
                      void *self) {
    struct planned_run *r = self;
    struct edit e = parse(line);
    bool is_built;
    (void)c;
    if (r->lines++ % r->every)
        return;
    const char *w = edited(b, base, &e);
    struct outcome o =
        run_shell("'%s' -q -w '%s' check '%s' --accept", MOSAICUM_PROGRAM, w, b->name);
    CU_ASSERT(o.status < 128);
    outcome_free(&o);
    if (planned_is_built(w, b->name, &is_built))
        r->same++;
    else if (is_built)
        fprintf(stderr, "\n%s, %s: the plan boots otherwise than the image (%s)\n", b->name, e.name,
                w);
    r->other += is_built;
    remove_folder(w);
}

/* Boards of the lists, mistakes accepted: as many as can be built all the same. */
static void what_is_planned_is_what_is_built(void) {
    struct core c;
    struct planned_run r = {.every = getenv("MOSAICUM_FULL") ? 1 : all_rows_are_taken() ? 14 : 56};
    core_start(&c);
    for_each_line(&c, plan_line, &r, NULL);
    fprintf(stderr, "%zu boards planned and built … ", r.other);
    CU_ASSERT_EQUAL(r.same, r.other);
    CU_ASSERT(r.other >= 300 / r.every);
    core_end(&c);
}

SUITE(planted_suite, {"mistakes are found", mistakes_are_found},
      {"what is planned is what is built", what_is_planned_is_what_is_built});
