/* The rehearsal against the real loader: its shell, line by line. */
#include "peers.h"
#include "session.h"

#include "loaders/u-boot/environment.h"

#include <stdlib.h>
#include <string.h>

enum { GENERATED = 150 };

/* ---- two ways to run a script ---- */

struct both {
    struct core core;
    struct mos_rehearsal_shell *shell, *bare; /* bare: without the loader's own variables */
    struct machine *machine;
    struct mos_buf said;       /* what `./dev test` compares with, where there is no loader */
    size_t count, wrong, open; /* open: the loader asks for more */
};

static bool start_both(struct both *b, const char *cpu, const char *loader, const char *image) {
    size_t length;
    core_start(&b->core);
    struct mos_arena *arena = b->core.ctx.arena;
    static struct mos_map compiled;
    char *binary = read_whole(loader, &length);
    CU_ASSERT_PTR_NOT_NULL_FATAL(binary);
    CU_ASSERT_TRUE_FATAL(mos_environment_find(arena, (const uint8_t *)binary, length, &compiled));
    b->shell = session_shell(&b->core, image, &compiled);
    b->bare = session_shell(&b->core, image, NULL);
    b->machine = machine_start(cpu, image, "virtio-blk-pci");
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
        mos_rehearsal_type(b->bare, line);
        session_note(&b->said, line, NULL);
        return;
    }
    char *real = raw;
    char *ours = strdup(mos_rehearsal_type(b->shell, line));
    char *bare = strdup(mos_rehearsal_type(b->bare, line));
    session_plain(real);
    session_plain(ours);
    session_plain(bare);
    session_note(&b->said, line, strcmp(real, bare) == 0 ? real : NULL);
    free(bare);
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

/* The record of the command tests is what the loader says today, or becomes it. */
static void keep_session(const struct both *b) {
    const char *path = session_path(), *mode = getenv("MOSAICUM_GOLDEN");
    if (mode && strcmp(mode, "write") == 0)
        write_file(path, b->said.data, b->said.length);
    size_t length;
    char *kept = read_whole(path, &length);
    bool same = kept && length == b->said.length && memcmp(kept, b->said.data, length) == 0;
    CU_ASSERT(same);
    if (!same)
        printf("\nThe loader says other things than tests/data/loader-session.txt: "
               "MOSAICUM_GOLDEN=write, and read the difference.\n");
    free(kept);
}

static void the_shell_agrees(void) {
    struct both b = {0};
    size_t length;
    char *all = read_whole(path_in(MOSAICUM_SOURCE, "tests/data/shell-scripts.txt"), &length);
    CU_ASSERT_TRUE_FATAL(
        start_both(&b, "arm64", "/usr/lib/u-boot/qemu_arm64/u-boot.bin", session_image()));
    b.said.arena = b.core.ctx.arena;
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
    keep_session(&b);
    machine_stop(b.machine);
    core_end(&b.core);
    free(all);
    proved("the loader's shell, line by line", "%zu scripts typed into the real loader: %zu differ",
           b.count, b.wrong);
}

/* A card that has a first stage and nothing else, for the board that starts from one. */
static const char *bare_card(const char *first) {
    const char *card = keep(path_in(test_folder("card"), "card.img"));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "truncate -s 64M '%s' && dd if='%s' of='%s' bs=8K seek=1 "
                              "conv=notrunc status=none",
                              card, first, card));
    return card;
}

/* Scripts made by chance, in the loaders of three other machines. */
static void the_shell_of_others_agrees(void) {
    const char *first = keep(
        path_in(peers_cache(), "sunxi/usr/lib/u-boot/orangepi_plus/u-boot-sunxi-with-spl.bin"));
    const char *const others[][3] = {
        {"arm", "/usr/lib/u-boot/qemu_arm/u-boot.bin", NULL},
        {"riscv64", "/usr/lib/u-boot/qemu-riscv64_smode/u-boot.bin", NULL},
        {"card board", first, bare_card(first)}};
    size_t count = 0, wrong = 0;
    for (size_t i = 0; i < sizeof others / sizeof *others; i++) {
        struct both b = {0};
        const char *image = others[i][2] ? others[i][2] : session_image();
        CU_ASSERT_TRUE_FATAL(start_both(&b, others[i][0], others[i][1], image));
        b.said.arena = b.core.ctx.arena;
        compare(&b, "setenv p 1; setenv q 'u v'; setenv n 0");
        struct maker g = {.seed = 100 + i};
        for (size_t k = 0; k < (peers_all() ? 2 * GENERATED : GENERATED); k++) {
            g.length = 0;
            make_list(&g);
            if (strlen(g.text) < 250) /* their line is shorter */
                compare(&b, g.text);
        }
        count += b.count;
        wrong += b.wrong;
        machine_stop(b.machine);
        core_end(&b.core);
    }
    CU_ASSERT_EQUAL(wrong, 0);
    proved("the shell of other loaders",
           "%zu scripts typed into those of 32-bit Arm, RISC-V and the card board: %zu differ",
           count, wrong);
}

SUITE(loader_suite, {"the shell agrees", the_shell_agrees},
      {"the shell of others agrees", the_shell_of_others_agrees});
