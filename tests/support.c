#define _GNU_SOURCE
#include "support.h"
#include "form.h"

#include "model/schema.h"
#include "platform/platform.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

static char root[64];
void (*after_command)(const char *command, int status);

const char *test_root(void) {
    return *root ? root : NULL;
}

static void remove_root(void) {
    if (*root)
        remove_folder(root);
}

char *test_folder(const char *name) {
    static unsigned number;
    if (!*root) {
        const char *base = getenv("MOSAICUM_TEST_FOLDER");
        snprintf(root, sizeof root, "%s/mosaicum-test.XXXXXX", base ? base : "/tmp");
        if (!mkdtemp(root))
            abort();
        atexit(remove_root);
    }
    char *path = keep(path_in(root, "%u-%s", ++number, name));
    if (mkdir(path, 0777))
        abort();
    return path;
}

char *keep(const char *text) {
    static struct kept {
        struct kept *next;
        char text[];
    } * all;
    struct kept *k = malloc(sizeof *k + strlen(text) + 1);
    if (!k)
        abort();
    strcpy(k->text, text);
    k->next = all;
    all = k;
    return k->text;
}

char *path_in(const char *folder, const char *format, ...) {
    static char *kept[64]; /* a ring: long enough for any one test step */
    static unsigned next;
    char *name, *path;
    va_list arguments;
    va_start(arguments, format);
    if (vasprintf(&name, format, arguments) < 0 || asprintf(&path, "%s/%s", folder, name) < 0)
        abort();
    va_end(arguments);
    free(name);
    free(kept[next]);
    kept[next] = path;
    next = (next + 1) % 64;
    return path;
}

void write_file(const char *path, const void *bytes, size_t length) {
    const struct mos_host *h = mos_platform_host();
    char *folder = strdup(path), *slash = strrchr(folder, '/');
    if (slash && slash != folder) {
        *slash = 0;
        h->make_folder(h, folder);
    }
    free(folder);
    FILE *f = fopen(path, "wb");
    if (!f || fwrite(bytes, 1, length, f) != length || fclose(f)) {
        fprintf(stderr, "cannot write %s: %s\n", path, strerror(errno));
        abort();
    }
}

void write_text(const char *path, const char *text) {
    write_file(path, text, strlen(text));
}

char *read_whole(const char *path, size_t *length) {
    FILE *f = fopen(path, "rb");
    if (!f)
        return NULL;
    struct stat st;
    char *data = fstat(fileno(f), &st) ? NULL : malloc((size_t)st.st_size + 1);
    size_t n = data ? fread(data, 1, (size_t)st.st_size, f) : 0;
    fclose(f);
    if (data)
        data[n] = 0;
    if (length)
        *length = n;
    return data;
}

bool exists(const char *path) {
    return access(path, F_OK) == 0;
}

void remove_folder(const char *path) {
    const struct mos_host *h = mos_platform_host();
    h->remove_tree(h, path);
}

void copy_folder(const char *from, const char *to) {
    if (!runs(0, "mkdir -p '%s' && cp -a '%s/.' '%s/'", to, from, to))
        abort();
}

static char *collect(const char *path) {
    char *text = read_whole(path, NULL);
    return text ? text : strdup("");
}

static struct outcome shell(const char *format, va_list arguments) {
    char *command, *full, out[] = "/tmp/mosaicum-out.XXXXXX", err[] = "/tmp/mosaicum-err.XXXXXX";
    struct outcome o;
    close(mkstemp(out));
    close(mkstemp(err));
    if (vasprintf(&command, format, arguments) < 0 ||
        asprintf(&full, "( %s ) >%s 2>%s </dev/null", command, out, err) < 0)
        abort();
    int status = system(full);
    o.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    o.out = collect(out);
    o.err = collect(err);
    form_of_text(o.out);
    unlink(out);
    unlink(err);
    free(full);
    if (after_command)
        after_command(command, o.status);
    free(command);
    return o;
}

void copy_demo(const char *to) {
    copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), to);
    remove_folder(path_in(to, "boards"));
    remove_folder(path_in(to, "mosaicum.pins"));
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/data"), path_in(to, "boards"));
}

struct outcome run_shell(const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    struct outcome o = shell(format, arguments);
    va_end(arguments);
    return o;
}

void outcome_free(struct outcome *o) {
    free(o->out);
    free(o->err);
}

bool runs(int expected, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    struct outcome o = shell(format, arguments);
    va_end(arguments);
    bool good = o.status == expected;
    if (!good)
        fprintf(stderr, "\nstatus %d, not %d: %s\n%s%s\n", o.status, expected, format, o.out,
                o.err);
    outcome_free(&o);
    return good;
}

json_t *run_json(int *status, const char *format, ...) {
    char *command;
    va_list arguments;
    va_start(arguments, format);
    if (vasprintf(&command, format, arguments) < 0)
        abort();
    va_end(arguments);
    struct outcome o = run_shell("'%s' --no-cache --json %s", MOSAICUM_PROGRAM, command);
    json_t *document = json_loads(o.out, 0, NULL);
    if (!document)
        fprintf(stderr, "\nno JSON from %s: %s%s\n", command, o.out, o.err);
    form_of_document(document);
    *status = o.status;
    outcome_free(&o);
    free(command);
    return document;
}

void core_start(struct core *c) {
    memset(c, 0, sizeof *c);
    c->ctx.host = mos_platform_host();
    c->ctx.arena = mos_arena_new(&c->out_of_memory);
    c->ctx.error = &c->error;
    c->ctx.findings = mos_findings_make(c->ctx.arena);
    c->ctx.not_proved = mos_vec_make(c->ctx.arena, sizeof(char *));
    if (setjmp(c->out_of_memory))
        abort();
}

void core_end(struct core *c) {
    mos_arena_free(c->ctx.arena);
}

size_t count_rule(const struct core *c, enum mos_rule_id rule) {
    size_t n = 0;
    for (size_t i = 0; i < c->ctx.findings.items.count; i++)
        n += ((struct mos_finding *)mos_vec_pointer(&c->ctx.findings.items, i))->rule == rule;
    return n;
}

struct mos_board *board_from_text(struct core *c, const char *text) {
    struct mos_source *s = mos_source_make(c->ctx.arena, "board", text, strlen(text), 0);
    struct mos_node *n = mos_yaml_parse(&c->ctx, s);
    CU_ASSERT_PTR_NOT_NULL_FATAL(n);
    struct mos_board *b = mos_alloc(c->ctx.arena, sizeof *b);
    mos_schema_read(&c->ctx, &mos_board_keys, n, MOS_READ_WHOLE, b);
    b->r.name = b->selector = "curlew";
    mos_schema_refer(&c->ctx, b);
    return b;
}

static const char *golden(const char *name) {
    return path_in(MOSAICUM_SOURCE, "tests/data/golden/%s.txt", name);
}

void hold_golden(const char *name, const char *text) {
    hold_file(name, golden(name), text);
}

void hold_file(const char *name, const char *path, const char *text) {
    const char *mode = getenv("MOSAICUM_GOLDEN");
    size_t length;
    if (mode && strcmp(mode, "write") == 0)
        write_text(path, text);
    char *expected = read_whole(path, &length);
    bool same = expected && strcmp(expected, text) == 0;
    CU_ASSERT(same);
    if (!same) {
        const char *seen = keep(path_in(test_root(), "%s.seen", name));
        write_text(seen, text);
        struct outcome o = run_shell("diff '%s' '%s' | head -n 20", path, seen);
        printf("\n%s is not what it was:\n%s", name, o.out);
        outcome_free(&o);
    }
    free(expected);
}

#if defined __has_feature
#if __has_feature(address_sanitizer)
#define SLOW 1
#endif
#endif
#ifndef SLOW
#define SLOW 0
#endif

bool all_rows_are_taken(void) {
    return !SLOW || getenv("MOSAICUM_FULL");
}

bool row_is_taken(size_t row) {
    return row % 4 == 0 || all_rows_are_taken();
}

void hold_golden_rows(const char *name, const char *text) {
    if (all_rows_are_taken()) {
        hold_golden(name, text);
        return;
    }
    char *kept = read_whole(golden(name), NULL), *at = kept, *own = strdup(text), *state;
    CU_ASSERT_PTR_NOT_NULL_FATAL(kept);
    for (char *line = strtok_r(own, "\n", &state); line; line = strtok_r(NULL, "\n", &state)) {
        size_t n = strlen(line);
        while (*at && (strncmp(at, line, n) != 0 || at[n] != '\n'))
            at += strcspn(at, "\n") + (at[strcspn(at, "\n")] != 0);
        if (!*at) {
            printf("\n%s is not what it was, or not at its place: %s\n", name, line);
            CU_FAIL("a line of a golden text");
            at = kept;
        }
    }
    free(kept);
    free(own);
}

uint64_t random_next(uint64_t *state) {
    uint64_t z = *state += 0x9e3779b97f4a7c15u; /* splitmix64 */
    z = (z ^ z >> 30) * 0xbf58476d1ce4e5b9u;
    z = (z ^ z >> 27) * 0x94d049bb133111ebu;
    return z ^ z >> 31;
}

uint64_t random_below(uint64_t *state, uint64_t n) {
    return random_next(state) % n;
}
