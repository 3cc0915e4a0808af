/* A second dialect (tests/loaders/lantern) that the product does not have: whatever it says of
 * itself is used everywhere, and nothing of the first one's is. */
#include "binaries.h"
#include "support.h"

#include <string.h>

static const char board[] =
    "mosaicum: 1\nboard: curlew\n"
    "hardware:\n  cpu: arm64\n  ram: {main: {start: 0x40000000, sizes: [512 MiB]}}\n"
    "  console: {port: ttyAMA0, baud: 115200}\n"
    "  media: {card: {kind: sd, size: 128 MiB, kernel: mmcblk0}}\n"
    "pieces: {kernel: {file: pieces/Image}}\n"
    "loader:\n  dialect: lantern\n"
    "  facts: {symbols: {CONFIG_LANTERN_BRING: y, CONFIG_LANTERN_FAT: y}}\n"
    "  environments: {main: {base: none, size: 16 KiB, values: {colour: green}}}\n"
    "tree: {blobs: {main: tree/curlew.dts}}\n"
    "system:\n  loader-access: yes\n"
    "boot:\n  via: script\n  otherwise: reset\n"
    "  entries:\n"
    "    main: {kernel: kernel, tree: main, arguments: {root: <root>, console: <console>, panic: "
    "5}, flags: [rootwait]}\n"
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
    "      vars: {at: 1 MiB, size: 16 KiB, environment: main}\n"
    "      boot: {number: 1, size: 48 MiB, volume: {kind: fat32, label: BOOT, fills: {boot: {made: "
    "boot}}}}\n"
    "      root: {number: 2, size: 32 MiB, volume: {kind: ext4, label: root, fills: {base: "
    "{folder: "
    "root}, system: {made: system}}}}\n";

static void make(const char *w) {
    uint8_t image[4096] = {[17] = 0x20, [24] = 0xa}, program[4096] = {0};
    memcpy(image + 56, "ARM\x64", 4);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), board);
    write_file(path_in(w, "pieces/Image"), image, sizeof image);
    write_text(path_in(w, "tree/curlew.dts"),
               "/dts-v1/;\n\n/ {\n\tmodel = \"Saltmarsh Curlew tide gauge\";\n\tcompatible = "
               "\"saltmarsh,curlew\";\n};\n");
    write_text(path_in(w, "root/etc/inittab"), "::respawn:/sbin/getty -L ttyAMA0 115200 vt100\n");
    write_file(path_in(w, "root/sbin/init"), program, make_program(program, true, 183, NULL, 1024));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && chmod 755 root/sbin/init && mkdir root/proc root/dev "
                              "root/sys root/tmp root/run",
                              w));
}

#define L "cd '%s' && '" MOSAICUM_LANTERN "' --no-cache "

static void holds(const char *text, const char *part) {
    if (!text || !strstr(text, part))
        fprintf(stderr, "\nno \"%s\" in\n%s\n", part, text ? text : "(nothing)");
    CU_ASSERT(text && strstr(text, part));
}

/* Built, looked into, rehearsed from the image alone, and changed. */
static void a_board_goes_all_the_way(void) {
    char *w = keep(test_folder("lantern"));
    make(w);
    CU_ASSERT_TRUE(runs(0, L "check && " L "-q build", w, w));
    char *script = read_whole(path_in(w, "out/curlew/lantern.txt"), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(script);
    holds(script, "; curlew\nlight main\nbring 1 kernel 40200000h\nbring 1 main.dtb 40400000h\n"
                  "tell root=PARTUUID=");
    holds(script, "\nleave 40200000h tree 40400000h\nagain\n");
    free(script);
    static const struct {
        const char *command;
        int status;
        const char *says[4];
    } rows[] = {
        {"inspect out/curlew/card.img", 0, {"environment, 1 variables in 16 KiB"}},
        {"inspect --files out/curlew/card.img", 0, {"etc/lantern.places", "lantern.txt"}},
        {"-v rehearse --planned curlew", 0, {"lantern: main\nlantern out", "boots"}},
        {"-v rehearse out/curlew/card.img --cpu arm64 --ram-start 0x40000000 --ram '512 MiB'",
         0,
         {"lantern: main\nlantern out", "environment at 1 MiB"}},
        {"show curlew boot", 0, {"lantern.txt"}},
        {"amend out/curlew/card.img -o dark.img '1 MiB:dark=yes'", 0, {NULL}},
        {"rehearse ./dark.img", 1, {"it is kept dark"}},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct outcome o = run_shell(L "%s", w, rows[i].command);
        if (o.status != rows[i].status)
            fprintf(stderr, "\n%s: %d\n%s%s\n", rows[i].command, o.status, o.out, o.err);
        CU_ASSERT_EQUAL(o.status, rows[i].status);
        for (size_t k = 0; k < 4 && rows[i].says[k]; k++)
            holds(o.out, rows[i].says[k]);
        outcome_free(&o);
    }
}

/* What it has not is refused, and named as what it is. */
static void what_it_has_not_is_refused(void) {
    char *w = keep(test_folder("lantern-not"));
    static const struct {
        const char *edit; /* of the definition */
        const char *rule, *says;
    } rows[] = {
        {"s/via: script/via: menu/", "board.schema", "dialect lantern has no menus"},
        {"s/via: script/via: parcel/", "board.schema", "dialect lantern has no use for parcels"},
        {"s/via: script/via: environment/", "board.schema", "could start something"},
        {"s/via: script/via: script\\n  tries: 3/", "board.schema", "way to count starts"},
        {"s/via: script/via: script\\n  network: {automatic: yes}/", "board.schema",
         "way to boot from a server"},
        {"s/via: script/via: script\\n  parcel: {locks: kernel, key: keys\\/k.pem}/",
         "board.schema", "way to be locked"},
        {"s/dialect: lantern/dialect: lamp/", "board.schema", "u-boot, lantern"},
        {"/dialect: lantern/d", "board.schema", "in which form environment main is stored"},
        {"/dialect: lantern/d", "board.schema", "how the system reaches the loader's variables"},
        {"/dialect: lantern/d; s/facts: {/facts: {defaults: pieces\\/Image, /", "board.schema",
         "Nobody says how variables stand in pieces/Image"},
        {"/dialect: lantern/d; s/via: script/via: script\\n  parcel: {locks: kernel, key: "
         "keys\\/k.pem}/",
         "board.schema", "Nobody says how loader kernel is locked"},
        {"s/LANTERN_BRING: y/LANTERN_BRING: n/", "loader.command-missing", "What is bring?"},
        {"s/LANTERN_FAT: y/LANTERN_FAT: n/", "volume.loader-cannot-read", "CONFIG_LANTERN_FAT"},
        {"s/kind: fat32/kind: ext4/", "volume.loader-cannot-read", "ext4"},
        {"s/colour: green/dark: \"yes\"/", "start.loader", "kept dark"},
        {"s/panic: 5/panic: 5, note: this-is-a-long-argument-that-no-lantern-takes-in-one-line/",
         "start.endless", "this lantern takes 120"},
        {"s/16 KiB, values: .*/16 B, values: {colour: green}}}/", "loader.env-too-big", "16 B"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        remove_folder(w);
        make(w);
        CU_ASSERT_TRUE(runs(0, "sed -i -e '%s' '%s/boards/curlew.yaml'", rows[i].edit, w));
        struct outcome o = run_shell(L "check", w);
        if (o.status != 1)
            fprintf(stderr, "\n%s: status %d\n", rows[i].edit, o.status);
        CU_ASSERT_EQUAL(o.status, 1);
        holds(o.out, rows[i].rule);
        holds(o.out, rows[i].says);
        outcome_free(&o);
    }
}

/* A flash is not programmed by a loader that has no commands for it: not proved, not passed over.
 */
static void what_it_cannot_do_is_not_proved(void) {
    char *w = keep(test_folder("lantern-flash"));
    make(w);
    struct outcome o = run_shell("cd '%s' && sed -i 's/media: {/media: {flash: {kind: nor, size: 8 "
                                 "MiB}, /' boards/curlew.yaml && '%s' --no-cache -v check",
                                 w, MOSAICUM_LANTERN);
    holds(o.out, "that medium flash is ever programmed: a loader of dialect lantern");
    outcome_free(&o);
}

/* A kernel that it would have to expand. */
static void it_expands_nothing(void) {
    char *w = keep(test_folder("lantern-packed"));
    make(w);
    struct outcome o = run_shell("cd '%s' && gzip -n pieces/Image && mv pieces/Image.gz "
                                 "pieces/Image && '%s' --no-cache check",
                                 w, MOSAICUM_LANTERN);
    CU_ASSERT_EQUAL(o.status, 1);
    holds(o.out, "is compressed with gzip, which the loader cannot expand");
    outcome_free(&o);
}

/* Boards of the other dialect are what they were, and the product itself has one only. */
static void the_other_dialect_is_as_before(void) {
    char *w = keep(test_folder("lantern-other"));
    copy_demo(w);
    CU_ASSERT_TRUE(runs(0,
                        L "-q build curlew --out a && '%s' --no-cache -q build curlew --out b && "
                          "diff -r a b",
                        w, MOSAICUM_PROGRAM));
    make(w);
    struct outcome o = run_shell("cd '%s' && '%s' --no-cache check curlew", w, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 1);
    holds(o.out, "There is no loader dialect lantern");
    outcome_free(&o);
}

SUITE(dialect_suite, {"a board goes all the way", a_board_goes_all_the_way},
      {"what it has not is refused", what_it_has_not_is_refused},
      {"what it cannot do is not proved", what_it_cannot_do_is_not_proved},
      {"it expands nothing", it_expands_nothing},
      {"the other dialect is as before", the_other_dialect_is_as_before});
