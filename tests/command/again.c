/* A build that takes what has not changed from the build before is, byte for byte, one that takes
 * nothing. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

/* What may change from one build to the next. */
struct state {
    unsigned note, host, argument, archive, folder, more, squash, data, label;
};

static void write_state(const char *w, const struct state *s) {
    char text[2600];
    snprintf(
        text, sizeof text,
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: %u MiB}}}\n"
        "pieces: {one: {file: one.tar}, two: {file: two.tar}, raw: {file: raw}}\n"
        "system: {host-name: jetty-%u, mounts: {root: {at: /, kind: auto}}}\n"
        "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
        "      raw: {number: 1, at: 1 MiB, size: 1 MiB, piece: raw}\n"
        "      boot: {number: 2, size: 8 MiB, volume: {kind: fat16, fills: {n: {piece: raw, to: "
        "note}}}}\n"
        "      root: {number: 3, size: 40 MiB, volume: {kind: ext4, label: r%u, fills: {a: "
        "{archive: %s}, s: {made: system}}}}\n"
        "      more: {number: 4, size: %u MiB, volume: {kind: ext4, unit: 1 KiB, fills: {f: "
        "{folder: files}, a: {archive: one, to: old%s}}}}\n"
        "      ship: {number: 5, size: 18 MiB, volume: {kind: squashfs%s, fills: {a: {archive: "
        "two}, f: {folder: files, to: own}}}}\n"
        "      data: {number: 6, size: rest, volume: {kind: ext4%s}}\n",
        112 + 8 * s->data, s->host, s->label, s->archive ? "two" : "one", 18 + 2 * s->more,
        s->argument ? ", except: [usr/lib]" : "", s->squash ? ", compress: zst" : "",
        s->note & 1 ? ", label: data" : "");
    write_text(path_in(w, "boards/curlew.yaml"), text);
}

static void prepare(const char *w) {
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && mkdir -p t/usr/lib t/usr/bin t/etc t/dev t/proc t/sys "
                              "t/tmp t/run files && i=0 && "
                              "while [ $i -lt 300 ]; do head -c $((i * 37)) /dev/urandom > "
                              "t/usr/lib/f$i; i=$((i+1)); done "
                              "&& head -c 9000000 /dev/urandom > t/usr/bin/gauged && truncate -s "
                              "5M t/usr/lib/hole && tar "
                              "-cf one.tar -C t . && head -c 3000 /dev/urandom > t/usr/lib/f7 && "
                              "tar -cf two.tar -C t . && "
                              "echo raw > raw && echo file > files/note",
                              w));
}

enum { KINDS = 9 };

/* One change; some are in files, some in the definition. */
static void change(const char *w, struct state *s, size_t which, uint64_t *seed) {
    switch (which) {
    case 0:
        s->host = (unsigned)random_below(seed, 3);
        break;
    case 1:
        s->archive = !s->archive;
        break;
    case 2:
        s->label = (unsigned)random_below(seed, 3);
        break;
    case 3:
        s->more = (unsigned)random_below(seed, 2);
        break;
    case 4:
        s->squash = !s->squash;
        break;
    case 5:
        CU_ASSERT(runs(0, "echo %u > '%s/files/note'", (unsigned)random_below(seed, 3), w));
        break;
    case 6:
        CU_ASSERT(runs(0, "echo %u > '%s/raw'", (unsigned)random_below(seed, 3), w));
        break;
    case 7:
        s->data = (unsigned)random_below(seed, 2);
        break;
    default:
        s->argument = !s->argument;
    }
    write_state(w, s);
}

static void warm_is_cold(void) {
    char *w = test_folder("again"), *store = test_folder("again-store");
    uint64_t seed = 20261127;
    struct state s = {0};
    size_t count = getenv("MOSAICUM_FULL") ? 200 : all_rows_are_taken() ? 10 : 4, taken = 0;
    prepare(w);
    write_state(w, &s);
    setenv("XDG_CACHE_HOME", store, 1);
    for (size_t i = 0; i < count; i++) {
        struct outcome o = run_shell("'%s' -w '%s' build", MOSAICUM_PROGRAM, w);
        const char *built = strstr(o.out, "Built into ");
        const char *number = built ? strpbrk(built, ";\n") : NULL;
        if (o.status)
            fprintf(stderr, "\n%s%s", o.out, o.err);
        CU_ASSERT_EQUAL_FATAL(o.status, 0);
        taken += number && *number == ';' ? strtoul(number + 2, NULL, 10) : 0;
        outcome_free(&o);
        CU_ASSERT(runs(0,
                       "'%s' --no-cache -q -w '%s' build --out '%s/cold' && diff -r "
                       "'%s/out/curlew' '%s/cold/curlew'",
                       MOSAICUM_PROGRAM, w, w, w, w));
        change(w, &s, i < KINDS ? i : random_below(&seed, KINDS), &seed);
    }
    CU_ASSERT(taken > count);
    /* what stands there was touched since: nothing is taken from it */
    CU_ASSERT(
        runs(0,
             "cd '%s' && '%s' -q build && chmod u+w out/curlew/card.img && printf XXXX | dd "
             "of=out/curlew/card.img bs=1 seek=20000000 conv=notrunc status=none && echo other "
             "> raw && '%s' -q build && '%s' --no-cache -q build --out cold && diff -r "
             "out/curlew cold/curlew",
             w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    unsetenv("XDG_CACHE_HOME");
}

/* The SHA-256 of a whole image is in the ledger when it is asked for, also of what stands there
 * already, and without being asked where it is cheap. */
static void images_are_hashed_as_a_whole(void) {
    static const struct {
        const char *arguments, *says, *lacks;
        int big; /* does the ledger have it for the large image? */
    } builds[] = {{"", "list of chunks", NULL, 0},
                  {"", "Nothing has changed", NULL, 0},
                  {"--sha256", "Built into", "list of chunks", 1},
                  {"--sha256", "Nothing has changed", "list of chunks", 1},
                  {"", "Nothing has changed", "list of chunks", 1},
                  {"--sha256 --verify", "was read and is the same", "list of chunks", 1}};
    const char *w = keep(test_folder("whole"));
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 32 MiB}, "
               "flash: {kind: nor, size: 8 MiB, erase: 64 KiB}}}\npieces: {raw: {file: raw}}\n"
               "layout: {card: {regions: {a: {at: 1 MiB, size: 1 MiB, piece: raw}}}, "
               "flash: {regions: {b: {at: 0 KiB, size: 1 MiB, piece: raw}}}}\n");
    write_text(path_in(w, "raw"), "tide\n");
    for (size_t i = 0; i < sizeof builds / sizeof *builds; i++) {
        struct outcome o = run_shell("cd '%s' && XDG_CACHE_HOME='%s/cache' '%s' build %s", w, w,
                                     MOSAICUM_PROGRAM, builds[i].arguments);
        bool good = o.status == 0 && strstr(o.out, builds[i].says) &&
                    !(builds[i].lacks && strstr(o.out, builds[i].lacks));
        if (!good)
            fprintf(stderr, "\n%zu: %s%s", i, o.out, o.err);
        CU_ASSERT(good);
        CU_ASSERT(runs(0,
                       "cd '%s/out/curlew' && test $(grep -c $(sha256sum card.img | head -c 64) "
                       "ledger.json) = %d && test $(grep -c $(sha256sum flash.img | head -c 64) "
                       "ledger.json) = 1",
                       w, builds[i].big));
        outcome_free(&o);
    }
}

/* Another program may build otherwise: what the one before has built is no reason to build nothing.
 */
static void another_program_builds_again(void) {
    const char *w = keep(test_folder("programs"));
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/access.no-shell/passes"), w);
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && export XDG_CACHE_HOME=$PWD/cache && r=$(sed -n "
        "'s/.*mos_revision.*\"\\(.*\\)\".*/\\1/p' "
        "'%s/revision.c') && [ ${#r} = 16 ] && sed s/$r/0123456789abcdef/ '%s' >other && chmod 755 "
        "other && ! cmp -s other '%s' && now() { stat -c %%i out/curlew/card.img; } && '%s' -q "
        "build && a=$(now) && "
        "'%s' -q build && [ $a = $(now) ] && ./other -q build && b=$(now) && [ $a != $b ] && "
        "./other -q build && [ $b = $(now) ]",
        w, MOSAICUM_BUILD, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

SUITE(again_suite, {"another program builds again", another_program_builds_again},
      {"warm is cold", warm_is_cold},
      {"images are hashed as a whole", images_are_hashed_as_a_whole});
