/* The rehearsal against the real loader: its shell, line by line. */
#include "peers.h"

#include "io/io.h"
#include "rehearse/rehearse.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum { GENERATED = 150 };

/* ---- two ways to run a script ---- */

struct both {
    struct core core;
    struct mos_rehearsal_shell *shell;
    struct machine *machine;
    size_t count, wrong, open; /* open: the loader asks for more */
};

/* What times, rates and the loader's help texts leave. */
static void normalise(char *text) {
    char *to = text;
    for (char *p = text; *p;) {
        size_t n = strcspn(p, "\n");
        char *line = to;
        char *bytes = strstr(p, " bytes read in ");
        if (bytes && bytes < p + n) {
            size_t keep_length = (size_t)(bytes - p) + strlen(" bytes read");
            memmove(to, p, keep_length);
            to += keep_length;
        } else {
            memmove(to, p, n);
            to += n;
        }
        char *tree =
            strstr(line, "FDT_ERR_"); /* which function says so is the loader's own affair */
        if (tree && tree < to) {
            memmove(line + 6, tree, (size_t)(to - tree));
            memcpy(line, "tree: ", 6);
            to = line + 6 + (to - tree);
        }
        bool more = p[n] == '\n';
        /* "NAME - about it", an empty line, "Usage:" … to the end of the help text */
        char *usage = strstr(p, "\n\nUsage:\n");
        p += n;
        if (usage == p) {
            char *dash = to;
            while (dash > text && dash[-1] != '\n')
                dash--;
            char *sign = strstr(dash, " - ");
            if (sign && sign < to)
                to = sign + sprintf(sign, " - usage");
            p += strlen("\n\nUsage:\n");
            while (*p) { /* the help goes on while lines begin with blanks or the name itself */
                size_t rest = strcspn(p, "\n");
                bool is_help = *p == ' ' || *p == '\t' ||
                               strncmp(p, dash, strcspn(dash, " ")) == 0 ||
                               strncmp(p, "NOTE:", 5) == 0;
                if (!is_help)
                    break;
                p += rest + (p[rest] == '\n');
            }
            p += *p == '\n'; /* some end in an empty line */
            *to++ = '\n';
            continue;
        }
        if (more) {
            *to++ = '\n';
            p++;
        }
    }
    *to = 0;
}

static bool start_both(struct both *b, const char *image) {
    static struct mos_machine_medium medium;
    static struct mos_machine machine;
    static struct mos_map compiled;
    static const char *const lacks[] = {"[", "bootz", "mmc", "sf", "sata", NULL};
    static struct mos_io io;
    size_t length;
    core_start(&b->core);
    struct mos_arena *arena = b->core.ctx.arena;
    const struct mos_host *h = b->core.ctx.host;
    int file;
    CU_ASSERT_EQUAL_FATAL(h->open(h, image, MOS_OPEN_READ, &file), 0);
    struct mos_file_info info;
    h->file_info(h, file, &info);
    io = mos_io_file(arena, h, file, info.size);
    medium = (struct mos_machine_medium){"disk", "virtio 0", "vda", &io};
    char *binary = read_whole("/usr/lib/u-boot/qemu_arm64/u-boot.bin", &length);
    CU_ASSERT_PTR_NOT_NULL_FATAL(binary);
    CU_ASSERT_TRUE_FATAL(mos_environment_find(arena, (const uint8_t *)binary, length, &compiled));
    machine = (struct mos_machine){.cpu = "arm64",
                                   .ram = {0x40000000, 512u << 20},
                                   .loader_from = 0x5ddb2000,
                                   .media = &medium,
                                   .media_count = 1,
                                   .compiled = &compiled,
                                   .lacks = lacks};
    b->shell = mos_rehearsal_shell(&b->core.ctx, &machine);
    b->machine = machine_start("arm64", image, "virtio-blk-pci");
    if (!machine_expect(b->machine, "autoboot", 40))
        return false;
    machine_type(b->machine, "\003\003");
    machine_type(b->machine, "\recho sy''nc\r");
    return machine_expect(b->machine, "\nsync", 20) && machine_expect(b->machine, "\n=> ", 20);
}

/* Types a line; its output until the next prompt, malloc'ed; NULL: none came.  Nothing is typed
 * ahead: loops of the loader eat what comes while they run. */
static char *type_real(struct machine *m, const char *line) {
    machine_type(m, line);
    machine_type(m, "\r");
    char *out = machine_until(m, "\n=> ", 4);
    if (out) {
        char *from = strchr(out, '\n'); /* behind the echo of the line */
        memmove(out, from ? from + 1 : "", strlen(from ? from + 1 : "") + 1);
        if (from)
            strcat(out, "\n"); /* there is room: the echo is gone */
        return out;
    }
    machine_type(m, "\003"); /* it waits for the rest of something that was begun */
    machine_expect(m, "\n=> ", 5);
    return NULL;
}

static void compare(struct both *b, const char *line) {
    char *raw = type_real(b->machine, line);
    if (!raw) {
        b->open++;
        CU_ASSERT_PTR_NOT_NULL(strstr(mos_rehearsal_type(b->shell, line), "syntax error"));
        return;
    }
    char *real = raw;
    char *ours = strdup(mos_rehearsal_type(b->shell, line));
    normalise(real);
    normalise(ours);
    b->count++;
    if (strcmp(real, ours) != 0) {
        b->wrong++;
        printf("\nscript: %s\n--- the loader:\n%s--- the rehearsal:\n%s", line, real, ours);
    }
    free(ours);
    free(raw);
}

/* ---- scripts made by chance ---- */

struct maker {
    uint64_t seed;
    char text[1024];
    size_t length;
    unsigned depth, names;
};

static void put(struct maker *g, const char *text) {
    size_t n = strlen(text);
    if (g->length + n + 1 < sizeof g->text)
        memcpy(g->text + g->length, text, n + 1), g->length += n;
}

static const char *one_of(struct maker *g, const char *const *list, size_t count) {
    return list[random_below(&g->seed, count)];
}
#define ONE_OF(g, ...)                                                                             \
    one_of(g, (const char *const[]){__VA_ARGS__},                                                  \
           sizeof((const char *const[]){__VA_ARGS__}) / sizeof(char *))

static void make_word(struct maker *g) {
    put(g, ONE_OF(g, "a", "bc", "$p", "${q}", "\"$p x\"", "'$p'", "\"d  e\"", "$q$p", "x\\;y",
                  "${none:-z}", "\"\"", "$?", "f'g'h"));
}

static void make_list(struct maker *g);

static void make_condition(struct maker *g) {
    put(g, ONE_OF(g, "true", "false", "test $p = 1", "test -n \"$q\"", "test $n -lt 3",
                  "test 2 -gt 1 -a a = b", "nosuch", "env exists p"));
}

static void make_command(struct maker *g) {
    uint64_t kind = random_below(&g->seed, g->depth > 2 ? 5 : 9);
    g->depth++;
    if (kind < 2) {
        put(g, "echo");
        for (uint64_t n = random_below(&g->seed, 4); n; n--) {
            put(g, " ");
            make_word(g);
        }
    } else if (kind == 2) {
        put(g, ONE_OF(g, "setenv p ", "setenv q ", "q=", "setexpr n 1 + ", "setexpr n $n + "));
        put(g, ONE_OF(g, "1", "2", "$n", "\"3\""));
    } else if (kind == 3) {
        make_condition(g);
    } else if (kind == 4) {
        put(g, ONE_OF(g, "setenv r 'echo r $p; false'; run r", "run none", "printenv p"));
    } else if (kind < 7) {
        put(g, "if ");
        make_condition(g);
        put(g, "; then ");
        make_list(g);
        if (random_below(&g->seed, 2)) {
            put(g, "; else ");
            make_list(g);
        }
        put(g, "; fi");
    } else {
        put(g, ONE_OF(g, "for i in 1 2; do ", "for i in $q x; do ", "for p in \"a b\" c; do "));
        make_list(g);
        put(g, "; done");
    }
    g->depth--;
}

static void make_list(struct maker *g) {
    make_command(g);
    for (uint64_t n = random_below(&g->seed, 3); n; n--) {
        put(g, ONE_OF(g, "; ", " && ", " || "));
        make_command(g);
    }
}

/* ---- the tests ---- */

static void the_shell_agrees(void) {
    struct both b = {0};
    size_t length;
    char *all = read_whole(path_in(MOSAICUM_SOURCE, "tests/data/shell-scripts.txt"), &length);
    const char *out = keep(test_folder("shell"));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "'%s' --no-cache -q -w '%s/demo/saltmarsh' build curlew --out '%s'",
                              MOSAICUM_PROGRAM, MOSAICUM_SOURCE, out));
    CU_ASSERT_TRUE_FATAL(start_both(&b, path_in(out, "curlew/card.img")));
    for (char *line = strtok(all, "\n"); line; line = strtok(NULL, "\n"))
        if (*line != '#' || strcmp(line, "# only a comment") == 0)
            compare(&b, line);
    compare(&b, "setenv p 1; setenv q 'u v'; setenv n 0");
    struct maker g = {.seed = 5};
    for (size_t i = 0; i < GENERATED; i++) {
        g.length = 0;
        make_list(&g);
        if (strlen(g.text) < 500) /* the loader's line */
            compare(&b, g.text);
    }
    CU_ASSERT_EQUAL(b.wrong, 0);
    machine_stop(b.machine);
    core_end(&b.core);
    free(all);
    proved("the loader's shell, line by line", "%zu scripts typed into the real loader: %zu differ",
           b.count, b.wrong);
}

SUITE(loader_suite, {"the shell agrees", the_shell_agrees});
