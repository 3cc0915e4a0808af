/* Many boards from one workspace, driven from the command line. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

static const char *head = "mosaicum: 1\nboard: curlew\n";

static char *workspace(const char *name, const char *board) {
    char *w = test_folder(name), *text = malloc(strlen(head) + strlen(board) + 1);
    strcpy(text, head);
    strcat(text, board);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), text);
    free(text);
    return w;
}

/* Runs the program and looks for a text in what it prints. */
static bool says(int status, const char *text, const char *format, ...)
    __attribute__((format(printf, 3, 4)));
static bool says(int status, const char *text, const char *format, ...) {
    char command[2048];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(command, sizeof command, format, arguments);
    va_end(arguments);
    struct outcome o = run_shell("'%s' --no-cache %s", MOSAICUM_PROGRAM, command);
    bool good = o.status == status && (strstr(o.out, text) || strstr(o.err, text));
    if (!good)
        fprintf(stderr, "\n%s: status %d\n%s%s\n", command, o.status, o.out, o.err);
    outcome_free(&o);
    return good;
}

static const char *demo(void) {
    return keep(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"));
}

static void list_knows_what_is_there(void) {
    char *store = test_folder("list-store"), *w = test_folder("list");
    copy_folder(demo(), w);
    setenv("XDG_CACHE_HOME", store, 1);
    static const char *const patterns[] = {"^dunlin  .*not checked *not built",
                                           "^dunlin  .*clean *not built", "^dunlin  .*clean *built",
                                           "^dunlin  .*not checked *stale"};
    for (size_t i = 0; i < 4; i++) {
        if (i == 1 || i == 2)
            CU_ASSERT(runs(0, "'%s' -w '%s' %s dunlin", MOSAICUM_PROGRAM, w,
                           i == 1 ? "check" : "-q build"));
        if (i == 3)
            CU_ASSERT(runs(0, "echo '# more' >> '%s/kernel/dunlin.config'", w));
        CU_ASSERT(runs(0, "'%s' -w '%s' list | grep -q '%s'", MOSAICUM_PROGRAM, w, patterns[i]));
    }
    unsetenv("XDG_CACHE_HOME");
}

static void two_variants_are_compared(void) {
    CU_ASSERT(says(1, "boot.entries.main.arguments.loglevel",
                   "-w '%s' compare curlew+bench "
                   "curlew+field",
                   demo()));
    CU_ASSERT(says(1, "(hidden)", "-w '%s' compare curlew+bench curlew+field", demo()));
    CU_ASSERT(says(1, "1 GiB", "-w '%s' compare curlew curlew+ram-1g", demo()));
    CU_ASSERT(says(0, "Nothing differs", "-w '%s' compare curlew curlew", demo()));
    CU_ASSERT(says(2, "fits 3 boards", "-w '%s' compare '*' curlew", demo()));
    CU_ASSERT(says(2, "no variant", "-w '%s' compare curlew curlew+benhc", demo()));
}

static void trails_are_shown(void) {
    CU_ASSERT(says(0, "512 MiB (traits/soc/tern64.yaml:8)",
                   "-w '%s' --trail show curlew+ram-1g ram", demo()));
    char *w = workspace("trail", "traits: [chip]\nhardware: {console: {port: ttyS0, baud: 9600}}\n"
                                 "loader: {dialect: u-boot, facts: {config: loader.config}}\n");
    write_text(path_in(w, "traits/chip.yaml"),
               "mosaicum: 1\ntrait: chip\nhardware: {console: {port: ttyS0, baud: 38400}}\n");
    write_text(path_in(w, "loader.config"), "CONFIG_BAUDRATE=38400\n");
    CU_ASSERT(says(1, "instead of traits/chip.yaml:3", "-w '%s' check", w));
    int status;
    json_t *d = run_json(&status, "-w '%s' check", w);
    json_t *p = json_array_get(
        json_object_get(json_array_get(json_object_get(d, "findings"), 0), "places"), 0);
    json_t *before = json_array_get(json_object_get(p, "replaced"), 0);
    CU_ASSERT_EQUAL(json_integer_value(json_object_get(before, "line")), 3);
    json_decref(d);
}

/* 60 boards with findings of many kinds: the same text from one core and from all. */
static void all_cores_say_the_same(void) {
    char *w = workspace("cores", "");
    for (int i = 0; i < 60; i++) {
        char text[1024];
        snprintf(
            text, sizeof text,
            "mosaicum: 1\nboard: b%d\ntraits: [shared%s]\n"
            "pieces: {x: {file: none%d.bin}}\nhardware: {media: {card: {kind: sd, size: 64 MiB}}}\n"
            "layout: {card: {table: {kind: gpt}, regions: {a: {number: 1, at: %d KiB, size: 8 "
            "MiB}, "
            "b: {number: 2, at: 8 MiB, size: 8 MiB}}}}\n"
            "variants: {one: {axis: x}, two: {axis: x, hardware: {cores: %d}}}\n",
            i, i % 7 ? "" : ", missing", i, 1024 + i * 100, i);
        write_text(path_in(w, "boards/b%d.yaml", i), text);
    }
    write_text(path_in(w, "traits/shared.yaml"),
               "mosaicum: 1\ntrait: shared\nsystem: {host-name: bad_name}\n");
    struct outcome one =
        run_shell("taskset -c 0 '%s' --no-cache -v -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(one.status, 1);
    CU_ASSERT_PTR_NOT_NULL(strstr(one.out, "access.host-name  b0 and 179 more"));
    for (int i = 0; i < 5; i++) {
        struct outcome all = run_shell("'%s' --no-cache -v -w '%s' check", MOSAICUM_PROGRAM, w);
        CU_ASSERT_STRING_EQUAL(one.out, all.out);
        outcome_free(&all);
    }
    outcome_free(&one);
}

static void waivers_accept_on_purpose(void) {
    char *w =
        workspace("accept", "system: {host-name: bad_name}\n"
                            "pieces: {a: {file: a.tar.gz, license: MIT}, b: {file: b.bin}}\n");
    write_text(path_in(w, "a.tar.gz"), "no archive at all\n");
    write_text(path_in(w, "b.bin"), "b\n");
    CU_ASSERT(says(1, "access.host-name", "-w '%s' check", w));
    CU_ASSERT(says(0, "waivers/curlew.yaml", "-w '%s' check --accept", w));
    CU_ASSERT(says(0, "3 findings waived", "-w '%s' check", w));
    CU_ASSERT(runs(0, "grep -q 'place: system.host-name' '%s/waivers/curlew.yaml'", w));
    /* what is accepted is clean for list, too */
    CU_ASSERT(
        runs(0,
             "export XDG_CACHE_HOME='%s/cache' && '%s' -q -w '%s' check && '%s' -w '%s' list | "
             "grep -q '^curlew .*clean'",
             w, MOSAICUM_PROGRAM, w, MOSAICUM_PROGRAM, w));
    /* a waiver goes with its place, not with its line */
    CU_ASSERT(runs(0, "sed -i '2a # a line more' '%s/boards/curlew.yaml'", w));
    CU_ASSERT(says(0, "3 findings waived", "-w '%s' check", w));
    CU_ASSERT(runs(0, "sed -i 's/bad_name/good-name/' '%s/boards/curlew.yaml'", w));
    CU_ASSERT(says(0, "is not needed any more", "-w '%s' check", w));
    CU_ASSERT(runs(0,
                   "sed -i 's/good-name/bad_name/; s/^    reason.*/&\\n    until: 2026-01-01/' "
                   "'%s/boards/curlew.yaml' '%s/waivers/curlew.yaml'",
                   w, w));
    CU_ASSERT(says(1, "ended on 2026-01-01", "-w '%s' check", w));
}

static void pins_are_kept(void) {
    char *w = workspace("pins", "pieces: {a: {file: a.bin}, b: {file: b.bin, follow: yes}}\n"
                                "variants: {field: {purpose: field, pieces: {a: {license: MIT}, "
                                "b: {license: MIT}}}}\n");
    write_text(path_in(w, "a.bin"), "one\n");
    write_text(path_in(w, "b.bin"), "one\n");
    CU_ASSERT(says(1, "Pieces a and b are not pinned", "-w '%s' check", w));
    CU_ASSERT(says(0, "new", "-w '%s' pin", w));
    CU_ASSERT(says(0, "Nothing to complain", "-w '%s' check curlew", w));
    CU_ASSERT(says(1, "Piece b is not pinned", "-w '%s' check", w));
    write_text(path_in(w, "b.bin"), "two\n"); /* it may change */
    CU_ASSERT(says(0, "Nothing to complain", "-w '%s' check curlew", w));
    write_text(path_in(w, "a.bin"), "two\n");
    CU_ASSERT(says(1, "mosaicum.pins:4", "-w '%s' check curlew", w));
    CU_ASSERT(says(0, "changed", "-w '%s' pin", w));
    CU_ASSERT(says(0, "Nothing to complain", "-w '%s' check curlew", w));
}

/* A command makes a piece: in a build only, only when an input changed, and again after a failure.
 */
static void pieces_are_made(void) {
    char *w = workspace(
        "made", "hardware: {media: {card: {kind: sd, size: 8 MiB}}}\n"
                "pieces: {first: {made-by: {run: [sh, tools/make, low tide], inputs: [tools]}}}\n"
                "layout: {card: {regions: {first: {at: 32 KiB, size: 64 KiB, piece: first}}}}\n");
    write_text(path_in(w, "tools/make"),
               "echo run >> runs; env > environment; echo a log line >&2\n"
               "test -e tools/broken && exit 3; printf '%s' \"$1\" > \"$MOSAICUM_OUT\"\n");
    CU_ASSERT(says(0, "it is not made yet", "-w '%s' -v check", w));
    CU_ASSERT_FALSE(exists(path_in(w, "runs")));
    CU_ASSERT(says(0, "made/first.log", "-w '%s' build", w));
    CU_ASSERT(says(0, "card.img", "-w '%s' build", w));
    CU_ASSERT(runs(0, "test $(wc -l < '%s/runs') = 1", w)); /* nothing changed: not again */
    CU_ASSERT(runs(0,
                   "dd if='%s/out/curlew/card.img' bs=32768 skip=1 count=1 2>/dev/null | head -c 8 "
                   "| grep -qx 'low tide'",
                   w));
    CU_ASSERT(runs(1, "grep -q '^HOME' '%s/environment'", w)); /* a clean environment */
    CU_ASSERT(runs(0, "grep -q 'a log line' '%s/made/first.log'", w));
    write_text(path_in(w, "tools/broken"), "");
    CU_ASSERT(says(3, "made/first.log", "-w '%s' build", w));
    CU_ASSERT(runs(0, "grep -q low '%s/out/curlew/card.img'", w)); /* the last build stays */
    CU_ASSERT(runs(0, "rm '%s/tools/broken'; echo '# more' >> '%s/tools/make'", w, w));
    CU_ASSERT(says(0, "not made yet", "-w '%s' -v check", w));
    CU_ASSERT(says(0, "card.img", "-w '%s' build", w));
    CU_ASSERT(runs(0, "test $(wc -l < '%s/runs') = 3", w));
    CU_ASSERT(
        says(4, "sh makes it, which --no-run forbids", "-w '%s' --no-run -v build --out '%s/other'",
             workspace("made-no", "pieces: {x: {made-by: {run: [sh, -c, 'echo > $MOSAICUM_OUT'"
                                  "]}}}\n"),
             test_folder("made-other")));
}

/* Boards of one command are built side by side: each as it is alone, whatever happens to another
 * one, told in the same order by one core and by all; what a command makes is made once. */
static void boards_are_built_side_by_side(void) {
    enum { BOARDS = 14, LACKS = 5, EARLY = 8, TAKEN = 9 };
    char *w = workspace("side", "");
    CU_ASSERT(runs(0, "rm '%s/boards/curlew.yaml'", w));
    write_text(path_in(w, "traits/shared.yaml"),
               "mosaicum: 1\ntrait: shared\n"
               "pieces: {first: {made-by: {run: [sh, tools/make], inputs: [tools]}}}\n");
    write_text(path_in(w, "tools/make"),
               "echo run >> runs; sleep 0.2; echo tide > \"$MOSAICUM_OUT\"\n");
    for (int i = 0; i < BOARDS; i++) {
        char text[1024];
        snprintf(
            text, sizeof text,
            "mosaicum: 1\nboard: b%02d\ntraits: [shared]\n%s"
            "hardware: {media: {card: {kind: sd, size: 64 MiB}}}\n"
            "layout: {card: {table: {kind: gpt}, regions: {first: {at: 32 KiB, size: 64 KiB, "
            "piece: first}, root: {number: 1, size: %d MiB, volume: {kind: ext4, label: r, "
            "fills: {tools: {folder: tools}}}}}}}\n",
            i,
            i == EARLY ? "pieces: {earlier: {made-by: {run: [sh, tools/make], inputs: [tools]}}}\n"
            : i == LACKS ? "pieces: {extra: {made-by: {run: [sh, -c, exit 3], inputs: [tools]}}}\n"
                         : "",
            8 + i);
        write_text(path_in(w, "boards/b%02d.yaml", i), text);
    }
    struct outcome told[4];
    for (int i = 0; i < 4; i++) {
        CU_ASSERT(runs(0,
                       "cd '%s' && rm -rf made runs out && mkdir -p out/b%02d && "
                       "echo mine > out/b%02d/mine",
                       w, TAKEN, TAKEN));
        told[i] = run_shell("cd '%s' && %s '%s' --no-cache build", w, i ? "" : "taskset -c 0",
                            MOSAICUM_PROGRAM);
        CU_ASSERT_EQUAL(told[i].status, 3);
        CU_ASSERT_STRING_EQUAL(told[i].out, told[0].out);
        CU_ASSERT_STRING_EQUAL(told[i].err, told[0].err);
        CU_ASSERT(runs(0,
                       "cd '%s' && test $(wc -l < runs) = 2 && grep -q mine out/b%02d/mine && "
                       "test $(ls out | wc -l) = %d",
                       w, TAKEN, BOARDS - 1));
        CU_ASSERT(i || runs(0, "cp -r '%s/out' '%s/was'", w, w));
        CU_ASSERT(runs(0, "diff -r '%s/out' '%s/was'", w, w));
    }
    const char *said = "mosaicum: b05: Piece extra: sh ended with status 3; run build again to go "
                       "on.  Its log is made/extra.log and ends with\n  | (it printed nothing); "
                       "b09: out/b09 is not replaced";
    CU_ASSERT_PTR_NOT_NULL(strstr(told[0].err, said));
    CU_ASSERT_PTR_NOT_NULL(strstr(told[0].out, "earlier  made/earlier  made/earlier.log\n"
                                               "first    made/first    made/first.log\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(told[0].out, "Built into out/b04"));
    CU_ASSERT_PTR_NULL(strstr(told[0].out, "Built into out/b05"));
    for (int i = 0; i < 4; i++)
        outcome_free(&told[i]);
    CU_ASSERT(runs(0,
                   "cd '%s' && '%s' --no-cache -q build b03 --out alone && "
                   "diff -r alone/b03 out/b03",
                   w, MOSAICUM_PROGRAM));
    CU_ASSERT(runs(0,
                   "cd '%s' && rm -rf out made && ('%s' --no-cache -q build b03 & "
                   "'%s' --no-cache -q build b04 && wait $!) && diff -r out/b03 was/b03 && "
                   "diff -r out/b04 was/b04 && test $(wc -l < runs) = 3",
                   w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

/* The root file system says what the definition says, checked with the file system's own reader. */
static void root_is_told(void) {
    char *out = test_folder("root-told");
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build curlew+bench --out '%s'", MOSAICUM_PROGRAM,
                   demo(), out));
    static const struct {
        const char *path, *text;
    } files[] = {{"etc/hostname", "curlew"},
                 {"etc/fstab", " / ext4 ro 0 1"},
                 {"etc/fstab", " /boot vfat ro,noatime 0 2"},
                 {"etc/fw_env.config", "/dev/mmcblk0 0x200000 0x10000"},
                 {"etc/passwd", "tide:x:1000:1000::/home/tide:/bin/sh"},
                 {"etc/shadow", "root:!:"},
                 {"etc/inittab", "ttyAMA0::respawn:/sbin/getty -L ttyAMA0 115200 vt100"},
                 {"home/tide/.ssh/authorized_keys", "ssh-ed25519 "}};
    CU_ASSERT(runs(0,
                   "dd if='%s/curlew+bench/card.img' of='%s/root.img' bs=1M skip=68 conv=sparse "
                   "status=none",
                   out, out));
    for (size_t i = 0; i < sizeof files / sizeof *files; i++)
        CU_ASSERT(runs(0, "debugfs -R 'cat %s' '%s/root.img' 2>/dev/null | grep -qF '%s'",
                       files[i].path, out, files[i].text));
}

static const char *const facts =
    "--cpu arm64 --ram-start 0x40000000 --ram '256 MiB' --console ttyAMA0 --size '128 MiB'";

/* new, check, a mistake, explain, fix, build, inspect. */
static void a_newcomer_gets_there(void) {
    char *w = test_folder("newcomer");
    CU_ASSERT(says(0, "mosaicum.yaml", "-w '%s/gauge' new jetty", w));
    CU_ASSERT(says(0, "Nothing to complain about", "-w '%s/gauge' check", w));
    CU_ASSERT(says(4, "is there already", "-w '%s/gauge' new jetty", w));
    CU_ASSERT(says(2, "not a name", "-w '%s/gauge' new 'a b'", w));
    CU_ASSERT(
        says(0, "pieces/Image",
             "-w '%s/gauge' %s --kernel '%s/tests/rules/boot.root-unknown/passes/pieces/Image' "
             "--root '%s/pieces/rootfs.tar.zst' new mast",
             w, facts, MOSAICUM_SOURCE, demo()));
    CU_ASSERT(says(0, "Nothing to complain about", "-w '%s/gauge' check mast", w));
    CU_ASSERT(runs(0, "sed -i 's/root: <root>/root: <roof>/' '%s/gauge/boards/mast.yaml'", w));
    CU_ASSERT(says(1, "<root>", "-w '%s/gauge' check mast", w));
    CU_ASSERT(says(0, "refers", "explain board.reference"));
    CU_ASSERT(runs(0, "sed -i 's/<roof>/<root>/' '%s/gauge/boards/mast.yaml'", w));
    CU_ASSERT(says(0, "card.img", "-w '%s/gauge' build mast", w));
    CU_ASSERT(says(0, "boot.scr", "inspect '%s/gauge/out/mast/card.img'", w));
    /* and back from the image, with a GPT and with an MBR */
    CU_ASSERT(says(0, "could not be known",
                   "-w '%s/gauge' --from '%s/gauge/out/mast/card.img' new again", w, w));
    CU_ASSERT(says(0, "Nothing to complain about", "-w '%s/gauge' check again", w));
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build dunlin --out '%s/d'", MOSAICUM_PROGRAM,
                   demo(), w));
    CU_ASSERT(says(0, "Written", "-w '%s/gauge' --from '%s/d/dunlin/card.img' new tern", w, w));
    CU_ASSERT(says(0, "Nothing to complain about", "-w '%s/gauge' check tern", w));
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s/gauge' build tern", MOSAICUM_PROGRAM, w));
    CU_ASSERT(runs(0,
                   "sfdisk -d '%s/gauge/out/tern/card.img' | tail -n +5 | sed 's/.*start/start/' > "
                   "'%s/a' && sfdisk -d '%s/d/dunlin/card.img' | tail -n +5 | sed "
                   "'s/.*start/start/' > '%s/b' && cmp '%s/a' '%s/b'",
                   w, w, w, w, w, w)); /* the same table, identities too */
}

/* The same on a terminal, where questions are asked; a file that is not there is asked for again.
 */
static void a_newcomer_is_asked(void) {
    char *w = test_folder("asked");
    CU_ASSERT(runs(
        0,
        "cd '%s' && printf '\\n\\n1 GiB\\nttyS2\\n\\n\\n4 GiB\\n/nowhere\\n\\n\\n\\n' | script "
        "-qec \"'%s' --no-cache new jetty\" /dev/null > said && grep -q 'no such file' said "
        "&& grep -q 'port: ttyS2, baud: 115200' boards/jetty.yaml && grep -q 'size: 4 GiB' "
        "boards/jetty.yaml",
        w, MOSAICUM_PROGRAM));
    CU_ASSERT(says(0, "Nothing to complain about", "-w '%s' check", w));
}

SUITE(boards_suite, {"list", list_knows_what_is_there}, {"compare", two_variants_are_compared},
      {"trails", trails_are_shown}, {"one core and all cores", all_cores_say_the_same},
      {"waivers", waivers_accept_on_purpose}, {"pins", pins_are_kept},
      {"pieces that are made", pieces_are_made},
      {"boards are built side by side", boards_are_built_side_by_side},
      {"root content", root_is_told}, {"a newcomer's path", a_newcomer_gets_there},
      {"a newcomer is asked", a_newcomer_is_asked});
