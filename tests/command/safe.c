/* What belongs to the user stays, whatever is built, taken or written. */
#define _GNU_SOURCE
#include "support.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define WORKSPACE "mosaicum: 1\nworkspace: saltmarsh-survey\n"
/* A card with one raw piece: built in a moment. */
#define SMALL                                                                                      \
    "mosaicum: 1\nboard: curlew\n"                                                                 \
    "hardware: {media: {card: {kind: sd, size: 1 MiB}}}\n"                                         \
    "pieces: {first: {file: pieces/first.bin, license: MIT}}\n"                                    \
    "layout: {card: {regions: {first: {at: 64 KiB, size: 64 KiB, piece: first}}}}\n"

static char *small_workspace(const char *name, const char *more) {
    char *w = test_folder(name), *text;
    if (asprintf(&text, "%s%s", SMALL, more) < 0)
        abort();
    write_text(path_in(w, "mosaicum.yaml"), WORKSPACE);
    write_text(path_in(w, "boards/curlew.yaml"), text);
    write_text(path_in(w, "pieces/first.bin"), "tide gauge");
    free(text);
    return w;
}

/* Everything below a folder: names, kinds, content. */
static char *picture_of(const char *folder) {
    struct outcome o = run_shell("cd '%s' && find . ! -name .lock | sort | while read -r f; do "
                                 "if [ -L \"$f\" ]; then echo \"$f -> $(readlink \"$f\")\"; elif [ "
                                 "-f \"$f\" ]; then echo \"$f $(cksum < \"$f\")\"; else echo "
                                 "\"$f\"; fi; done",
                                 folder);
    char *text = keep(o.out);
    outcome_free(&o);
    return text;
}

/* ---- B: files of the user ---- */

static void builds_replace_nothing_of_the_user(void) {
    static const struct {
        const char *before, *arguments; /* in the folder above the workspace, which is ws/ */
        int status;
        const char *says;
    } cases[] = {
        {"true", "build", 0, NULL},
        {"mosaicum_build", "build", 0, NULL}, /* an output of ours is replaced */
        {"mkdir -p ws/out/curlew && echo mine > ws/out/curlew/notes", "build", 4, "notes"},
        {"mosaicum_build && echo mine > ws/out/curlew/notes", "build", 4, "notes"},
        {"mosaicum_build && mkdir ws/out/curlew/sub", "build", 4, "sub"},
        {"mosaicum_build && rm ws/out/curlew/ledger.json", "build", 4, "card.img"},
        {"mosaicum_build && mv ws/out/curlew ws/out/dunlin && cp ws/boards/curlew.yaml "
         "ws/boards/dunlin.yaml && sed -i 's/board: curlew/board: dunlin/' ws/boards/dunlin.yaml",
         "build dunlin", 4, "dunlin"},
        {"mkdir -p ws/out && echo mine > ws/out/curlew", "build", 4, "no folder"},
        {"mkdir elsewhere ws/out && ln -s ../../elsewhere ws/out/curlew", "build", 4, "no folder"},
        {"mkdir elsewhere && ln -s ../elsewhere ws/out", "build", 4, "leads out"},
        {"mkdir elsewhere && ln -s ../elsewhere ws/out", "build --out ws/out", 0, NULL},
        {"mv ws curlew && ln -s curlew ws", "build --out .", 4, "curlew is not replaced"},
        {"mkdir -p ws/out/curlew.part && echo mine > ws/out/curlew.part/x", "build", 4, "x"},
        {"mkdir elsewhere && mkdir -p ws/out && ln -s ../../elsewhere ws/out/curlew.part", "build",
         4, "no folder"},
        {"mkdir -p ws/out && ln -s ../../stolen ws/out/.lock", "build", 3, "lock"},
        {"mosaicum_build && sed -i 's#pieces/first.bin#out/curlew/card.img#; s/64 KiB, piece/960 "
         "KiB, piece/' ws/boards/curlew.yaml && truncate -s 4096 ws/out/curlew/card.img",
         "build", 4, "this build reads that"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *top = test_folder("replaces");
        copy_folder(small_workspace("replaces-ws", ""), path_in(top, "ws"));
        CU_ASSERT(
            runs(0,
                 "cd '%s' && mkdir -p keep && echo precious > keep/file && mosaicum_build() { "
                 "'%s' --no-cache -q -w ws build; } && %s",
                 top, MOSAICUM_PROGRAM, cases[i].before));
        char *before = picture_of(top);
        struct outcome o = run_shell("cd '%s' && '%s' --no-cache -q -w ws %s", top,
                                     MOSAICUM_PROGRAM, cases[i].arguments);
        char *after = picture_of(top);
        bool good = o.status == cases[i].status && (!cases[i].says || strstr(o.err, cases[i].says));
        if (!good)
            printf("\n%zu: status %d\n%s%s", i, o.status, o.out, o.err);
        CU_ASSERT_TRUE(good);
        if (cases[i].status)
            CU_ASSERT_STRING_EQUAL(before, after);
        outcome_free(&o);
    }
}

static void names_stay_in_their_folder(void) {
    static const char *const releases[] = {
        "../../../X", "/tmp/mosaicum-escaped", "a/../../b", "..", ".", "a\nb", "-rf", ""};
    for (size_t i = 0; i < sizeof releases / sizeof *releases; i++) {
        const char *top = test_folder("names");
        const char *escaped = strcmp(releases[i], "a\nb") == 0 ? "a\\nb" : releases[i];
        char *more;
        if (asprintf(&more, "release: \"%s\"\noutputs: {card: {name: \"<release>\"}}\n", escaped) <
            0)
            abort();
        char *ws = keep(path_in(top, "deep/deeper/ws"));
        copy_folder(small_workspace("names-ws", more), ws);
        free(more);
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, ws));
        struct outcome o = run_shell("cd '%s' && find . -type l ! -path '*/out/curlew/*'; find . "
                                     "-path '*/out/curlew/*' | wc -l",
                                     top);
        CU_ASSERT(strcmp(o.out, *releases[i] ? "3\n" : "2\n") == 0);
        outcome_free(&o);
        /* and what was named so is an output that can be replaced */
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, ws));
    }
}

static void accepting_follows_no_link(void) {
    const char *top = test_folder("accept");
    char *ws = keep(path_in(top, "ws"));
    copy_folder(small_workspace("accept-ws", "system: {host-name: \"-x\"}\n"), ws);
    CU_ASSERT(runs(0, "cd '%s' && mkdir elsewhere && ln -s ../elsewhere ws/waivers", top));
    CU_ASSERT(runs(4, "'%s' --no-cache -w '%s' check --accept", MOSAICUM_PROGRAM, ws));
    CU_ASSERT(runs(0, "test -z \"$(ls '%s/elsewhere')\"", top));
}

static void takes_are_whole_or_nothing(void) {
    const char *top = test_folder("take");
    CU_ASSERT(
        runs(0,
             "cd '%s' && mkdir -p r/etc && echo tide > r/etc/name && head -c 300000 /dev/urandom > "
             "r/big && "
             "(cd r && find etc big | cpio --quiet -o -H newc) > a.cpio && head -c 200000 a.cpio > "
             "cut.cpio && echo mine > name",
             top));
    const struct {
        const char *arguments;
        int status;
        const char *makes, *check; /* check: a shell test */
    } cases[] = {
        {"a.cpio cpio:etc/name", 4, NULL, "grep -q mine name"},
        {"a.cpio cpio:etc/name -o -", 0, NULL, "test ! -e ./-"},
        {"a.cpio cpio:big -o big", 0, "big", "cmp big r/big"},
        {"cut.cpio cpio:big -o half", 3, NULL, "test ! -e half"},
        {"cut.cpio cpio:none -o half", 3, NULL, "test ! -e half"},
        {"a.cpio cpio: -o all.tar", 0, "all.tar", "tar -tf all.tar | grep -q '^etc/name$'"},
        {"a.cpio cpio:etc -o etc.tar", 0, "etc.tar", "tar -xOf etc.tar etc/name | grep -q tide"},
        {"a.cpio cpio:etc -o -", 0, NULL, "test ! -e ./-"},
        {"a.cpio cpio:etc/name -o a/b/n", 0, NULL, "grep -q tide a/b/n"},
        {"a.cpio cpio -o whole/x", 0, NULL, "cmp whole/x a.cpio"},
        {"a.cpio cpio:none -o nowhere/x", 2, NULL, "test ! -e nowhere"},
        {"a.cpio none -o nowhere/x", 2, NULL, "test ! -e nowhere"},
        {"a.cpio cpio -o name/x", 3, NULL, "grep -q mine name"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct outcome o =
            run_shell("cd '%s' && '%s' take %s", top, MOSAICUM_PROGRAM, cases[i].arguments);
        if (o.status != cases[i].status)
            printf("\n%s: %d %s%s", cases[i].arguments, o.status, o.out, o.err);
        CU_ASSERT_EQUAL(o.status, cases[i].status);
        CU_ASSERT(
            runs(0, "cd '%s' && %s && test -z \"$(ls -a | grep part)\"", top, cases[i].check));
        outcome_free(&o);
    }
    CU_ASSERT(
        runs(0, "cd '%s' && '%s' take a.cpio cpio:big -o - | cmp - r/big", top, MOSAICUM_PROGRAM));
    CU_ASSERT(runs(0, "cd '%s' && '%s' take a.cpio cpio:etc -o - | tar -tf - | grep -q etc/name",
                   top, MOSAICUM_PROGRAM));
    /* somebody's file that only looks like one of ours is left alone */
    CU_ASSERT(runs(0,
                   "cd '%s' && echo mine > new.part && '%s' take a.cpio cpio:big -o new && cmp new "
                   "r/big && grep -q mine new.part",
                   top, MOSAICUM_PROGRAM));
}

/* Two files of one name stay two, and whatever is given becomes a draft that can be checked. */
static void drafts_keep_what_they_are_given(void) {
    const char *top = test_folder("draft");
    CU_ASSERT(
        runs(0,
             "cd '%s' && mkdir a b c && cp '%s/demo/saltmarsh/pieces/rootfs.tar.zst' a/it && cp "
             "'%s/demo/saltmarsh/pieces/first.bin' b/it && (cd c && '%s' -q new jetty --cpu "
             "arm64 --kernel ../b/it --root ../a/it) && cmp a/it c/pieces/it-2 && cmp b/it "
             "c/pieces/it",
             top, MOSAICUM_SOURCE, MOSAICUM_SOURCE, MOSAICUM_PROGRAM));
    static const char *const consoles[] = {
        "ttyS0,115200", "ttyAMA0", "tty: [x", "a\"b\\c", "#", "~", "- x", "\xff\xfe", "x\x01y"};
    for (size_t i = 0; i < sizeof consoles / sizeof *consoles; i++) {
        struct outcome o =
            run_shell("cd '%s' && rm -rf d && mkdir d && cd d && '%s' -q new jetty "
                      "--console '%s' --baud 9600 --size '4 GiB' && '%s' show jetty all",
                      top, MOSAICUM_PROGRAM, consoles[i], MOSAICUM_PROGRAM);
        CU_ASSERT(o.status <= 1 && !strchr(o.out, '\x01'));
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "console:"));
        outcome_free(&o);
    }
    struct outcome o = run_shell("cd '%s' && rm -rf d && mkdir d && cd d && '%s' -q new jetty "
                                 "--console ttyS0,9600 && '%s' show jetty all && '%s' check",
                                 top, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    CU_ASSERT(strstr(o.out, "port: ttyS0\n") && strstr(o.out, "baud: 9600\n"));
    /* what is not known is counted until it is stated */
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "things could not be checked"));
    outcome_free(&o);
    CU_ASSERT(runs(0, "cd '%s/d' && '%s' check -v | grep -q 'asks: the processor'", top,
                   MOSAICUM_PROGRAM));
    CU_ASSERT(
        runs(0,
             "cd '%s/d' && sed -i 's/  # cpu: arm64 .*/  cpu: arm64/' boards/jetty.yaml && ! '%s' "
             "check -v | grep 'asks: the processor'",
             top, MOSAICUM_PROGRAM));
}

/* ---- C: nothing that looks complete and is not ---- */

static void nothing_unmade_is_built(void) {
    static const char *const boards[] = {
        /* raw, in an archive, in a pack, as a boot file, and one that nobody uses */
        "pieces: {first: {made-by: {run: [sh, -c, 'echo > $MOSAICUM_OUT']}, license: MIT}}\n"
        "layout: {card: {regions: {first: {at: 64 KiB, size: 64 KiB, piece: first}}}}\n",
        "pieces: {first: {made-by: {run: [sh, -c, 'echo > $MOSAICUM_OUT']}, license: MIT}}\n"
        "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: rest, volume: "
        "{kind: "
        "ext4, fills: {all: {archive: first}}}}}}}\n",
        "pieces: {first: {made-by: {run: [sh, -c, 'echo > $MOSAICUM_OUT']}, license: MIT}, all: "
        "{packed: {parts: {one: {piece: first}}}}}\n"
        "layout: {card: {regions: {first: {at: 64 KiB, size: 64 KiB, piece: all}}}}\n",
        "pieces: {first: {made-by: {run: [sh, -c, 'echo > $MOSAICUM_OUT']}, license: MIT}}\n"
        "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: rest, volume: "
        "{kind: "
        "ext4, fills: {all: {piece: first}}}}}}}\n",
        "pieces: {first: {made-by: {run: [sh, -c, 'echo > $MOSAICUM_OUT']}, license: MIT}}\n"
        "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: rest, volume: "
        "{kind: "
        "ext4}}}}}\n",
    };
    for (size_t i = 0; i < sizeof boards / sizeof *boards; i++) {
        char *ws = small_workspace("unmade", "");
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, ws));
        char *text;
        if (asprintf(&text,
                     "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 64 "
                     "MiB}}}\n%s",
                     boards[i]) < 0)
            abort();
        write_text(path_in(ws, "boards/curlew.yaml"), text);
        free(text);
        char *before = picture_of(path_in(ws, "out"));
        struct outcome o =
            run_shell("'%s' --no-cache --no-run -w '%s' build", MOSAICUM_PROGRAM, ws);
        if (o.status != 4)
            printf("\n%zu: %d %s%s", i, o.status, o.out, o.err);
        CU_ASSERT_EQUAL(o.status, 4);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "first (sh makes it, which --no-run forbids)"));
        CU_ASSERT_STRING_EQUAL(before, picture_of(path_in(ws, "out")));
        outcome_free(&o);
    }
}

static void every_combination_is_checked(void) {
    char *text = NULL;
    size_t length;
    FILE *f = open_memstream(&text, &length);
    fprintf(f, "variants:\n");
    for (int axis = 0; axis < 4; axis++)
        for (int i = 0; i < (axis < 2 ? 5 : 1); i++)
            fprintf(f, "  v%d-%d: {axis: a%d%s}\n", axis, i, axis,
                    axis == 3 ? ", system: {host-name: \"-x\"}" : "");
    fclose(f);
    char *ws = small_workspace("combinations", text);
    free(text);
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check --json", MOSAICUM_PROGRAM, ws);
    json_t *d = json_loads(o.out, 0, NULL);
    const json_t *finding = json_array_get(json_object_get(d, "findings"), 0);
    CU_ASSERT_EQUAL(json_array_size(json_object_get(finding, "selectors")), 72); /* half of 144 */
    json_decref(d);
    outcome_free(&o);
}

/* ---- E: nothing is read that should not be ---- */

#define SECRET "swordfish-7731"

static void trees_read_only_the_workspace(void) {
    static const struct {
        const char *tree, *before; /* before: in the workspace */
        const char *rule;          /* NULL: it may be read */
    } cases[] = {
        {"#include \"/SECRET\"\n", "true", "piece.path"},
        {"#include \"../../secret\"\n", "true", "piece.path"},
        {"#include \"link.h\"\n", "ln -s ../../secret tree/link.h", "piece.path"},
        {"#include <../secret>\n", "true", "tree.syntax"}, /* it is nowhere */
        {"#if 0\n#include \"../../secret\"\n#endif\n", "true", NULL},
        {"/* */ # /* x */ include /* y */ \"../../secret\"\n", "true", "piece.path"},
        {"#define X\n/* */ # /* x */ include /* y */ \"../../secret\"\n", "true", "piece.path"},
        {"#define X\n#inc\\\nlude \"../../secret\"\n", "true", "piece.path"},
        {"%:include \"../../secret\"\n#define X 1\n", "true", "tree.syntax"},
        {"#define F \"../../secret\"\n#include F\n", "true", "piece.path"},
        {"#include \"deep.h\"\n", "echo '#include \"../../secret\"' > tree/deep.h", "piece.path"},
        {"#pragma GCC dependency \"../../secret\"\n", "true", "tree.syntax"},
        {"#include \"good.h\"\n", "echo '#define X 1' > tree/good.h", NULL},
        {"// #include \"../../secret\"\n#define X 1\n", "true", NULL},
        {"#define X \"#include <../secret>\"\n", "true", NULL},
        {"#include <board.h>\n",
         "mkdir ../linux && echo '#define X 1' > ../linux/board.h && echo "
         "'roots: {linux: ../linux}' >> mosaicum.yaml",
         NULL},
        {"#include <up.h>\n",
         "mkdir ../linux && echo '#include \"../secret\"' > ../linux/up.h && "
         "echo 'roots: {linux: ../linux}' >> mosaicum.yaml",
         "piece.path"},
        {"/include/ \"../../secret\"\n", "true", "piece.path"},
        {"/ {x = /incbin/(\"../../secret\");};\n", "true", "piece.path"},
        {"/ {x = /incbin/(\"/SECRET\");};\n", "true", "piece.path"},
        {"/ {x = /incbin/(\"blob\");};\n", "ln -s ../../secret tree/blob", "piece.path"},
        {"/ {x = /incbin/(\"blob\");};\n", "echo x > tree/blob", NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *top = test_folder("reads");
        char *ws = keep(path_in(top, "ws")), *text, *at;
        copy_folder(small_workspace("reads-ws", "tree: {blobs: {main: tree/x.dts}, includes: "
                                                "[\"<linux>\"]}\n"),
                    ws);
        bool rooted = strstr(cases[i].before, "roots:");
        if (!rooted)
            CU_ASSERT(runs(0, "sed -i 's/, includes: .*/}/' '%s/boards/curlew.yaml'", ws));
        write_text(path_in(top, "secret"), "error " SECRET " /* \" */ #error " SECRET "\n");
        if (asprintf(&text, "/dts-v1/;\n%s/ {compatible = \"saltmarsh,curlew\";};\n",
                     cases[i].tree) < 0)
            abort();
        if ((at = strstr(text, "/SECRET"))) {
            char *with;
            *at = 0;
            if (asprintf(&with, "%s%s/secret%s", text, top, at + 7) < 0)
                abort();
            free(text);
            text = with;
        }
        write_text(path_in(ws, "tree/x.dts"), text);
        free(text);
        CU_ASSERT(runs(0, "cd '%s' && %s", ws, cases[i].before));
        struct outcome o = run_shell("'%s' --no-cache -v -w '%s' check", MOSAICUM_PROGRAM, ws);
        bool good = !strstr(o.out, SECRET) && !strstr(o.err, SECRET) &&
                    (cases[i].rule ? strstr(o.out, cases[i].rule) && o.status == 1 : !o.status);
        if (!good)
            printf("\n%zu: %d\n%s%s", i, o.status, o.out, o.err);
        CU_ASSERT_TRUE(good);
        outcome_free(&o);
    }
}

/* Every file that a definition names, as a link out of the workspace: said, and not read. */
static void definitions_read_only_the_workspace(void) {
    static const char *const cases[][2] = {
        {"pieces/first.bin", ""},
        {"kernel/x.config", "kernel: {config: {start: kernel/x.config}}\n"},
        {"kernel/x.config", "kernel: {config: {fragments: {a: kernel/x.config}}}\n"},
        {"loader/x.txt", "loader: {dialect: u-boot, facts: {defaults: loader/x.txt}}\n"},
        {"loader/x.config", "loader: {dialect: u-boot, facts: {config: loader/x.config}}\n"},
        {"tree/x.dtb", "tree: {blobs: {main: tree/x.dtb}}\n"},
        {"tree/x.dtso", "tree: {blobs: {main: tree/m.dts}, overlays: {a: tree/x.dtso}}\n"},
        {"traits/x.yaml", "traits: [x]\n"},
        {"features/x.yaml", "features: [x]\n"},
        {"waivers/curlew.yaml", ""},
        {"mosaicum.pins", ""},
        {"files/x", "pieces: {a: {ramdisk: {files: {init: {file: files/x}}}}}\n"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *top = test_folder("links"), *name = cases[i][0];
        char *ws = keep(path_in(top, "ws"));
        copy_folder(small_workspace("links-ws", cases[i][1]), ws);
        write_text(path_in(ws, "tree/m.dts"), "/dts-v1/;\n/ {};\n");
        write_text(path_in(top, "secret"), "CONFIG_" SECRET "\n: \"" SECRET "\n");
        CU_ASSERT(runs(0, "cd '%s' && mkdir -p $(dirname %s) && ln -sf '%s/secret' %s", ws, name,
                       top, name));
        struct outcome o = run_shell("'%s' --no-cache -v -w '%s' check", MOSAICUM_PROGRAM, ws);
        bool good = !strstr(o.out, SECRET) && !strstr(o.err, SECRET) && o.status;
        if (!good)
            printf("\n%s: %d\n%s%s", name, o.status, o.out, o.err);
        CU_ASSERT_TRUE(good);
        outcome_free(&o);
    }
}

/* Only storage devices are written: whatever else a path leads to stays as it is, by any option. */
static void writes_go_to_devices_only(void) {
    char *w = keep(small_workspace("writes", ""));
    CU_ASSERT_TRUE(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    write_text(path_in(w, "a/file"), "mine");
    CU_ASSERT_TRUE(
        runs(0, "cd '%s/a' && ln -s file link && ln -s nowhere dangling && mkfifo pipe", w));
    char *before = picture_of(path_in(w, "a"));
    static const char *const targets[] = {"a/file",   "a/link", "a/dangling",    "a/pipe",
                                          "a",        "a/new",  "/dev/null",     "/dev/zero",
                                          "/dev/tty", "''",     "/proc/self/mem"};
    static const char *const options[] = {"",           "--yes AAAA",     "--also AAAA --yes AAAA",
                                          "--changed",  "--region first", "--unmount",
                                          "--only-show"};
    for (size_t i = 0; i < sizeof targets / sizeof *targets; i++)
        for (size_t k = 0; k < sizeof options / sizeof *options; k++) {
            struct outcome o =
                run_shell("cd '%s' && timeout 10 '%s' --no-cache write curlew %s %s </dev/null", w,
                          MOSAICUM_PROGRAM, targets[i], options[k]);
            bool good = o.status == 4 && strstr(o.out, "write.not-a-device");
            if (!good)
                fprintf(stderr, "\n%s %s: %d %s%s\n", targets[i], options[k], o.status, o.out,
                        o.err);
            CU_ASSERT_TRUE(good);
            outcome_free(&o);
        }
    char *after = picture_of(path_in(w, "a"));
    CU_ASSERT_STRING_EQUAL(before, after);
    CU_ASSERT_FALSE(exists(path_in(w, "written.jsonl")));
    /* what is built must be what the definition says */
    write_text(path_in(w, "pieces/first.bin"), "another gauge");
    CU_ASSERT_TRUE(runs(4, "'%s' --no-cache -w '%s' write curlew /dev/null", MOSAICUM_PROGRAM, w));
    CU_ASSERT_TRUE(runs(2, "'%s' --no-cache -w '%s' write avocet /dev/null", MOSAICUM_PROGRAM, w));
    CU_ASSERT_TRUE(
        runs(2, "'%s' --no-cache -w '%s' write none.img /dev/null", MOSAICUM_PROGRAM, w));
    CU_ASSERT_TRUE(runs(2, "'%s' devices --wait --json", MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE(runs(2, "'%s' devices --true-size", MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE(runs(0, "'%s' devices", MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE(runs(4, "'%s' devices --true-size /dev/null", MOSAICUM_PROGRAM));
}

/* A board on a pseudo-terminal that never says a word: a signal ends the waiting, and sets the
 * board back all the same; who else has the line is left alone. */
static void a_signal_sets_the_board_back(void) {
    char *w = keep(small_workspace("stops",
                                   "loader: {dialect: u-boot}\nprogramming:\n  bench:\n    steps:\n"
                                   "      power: {prompt: yes, within: 100}\n"
                                   "      back: {command: [touch, back], back: yes}\n"));
    int master = posix_openpt(O_RDWR | O_NOCTTY);
    CU_ASSERT_FATAL(master >= 0 && grantpt(master) == 0 && unlockpt(master) == 0);
    char *port = keep(ptsname(master));
    CU_ASSERT_TRUE(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    struct outcome o =
        run_shell("'%s' --no-cache -w '%s' write curlew --serial %s --only-show | sed "
                  "-n 's/^token  *//p' | tr -d '\\n'",
                  MOSAICUM_PROGRAM, w, port);
    char *token = keep(o.out);
    outcome_free(&o);
    CU_ASSERT_EQUAL(strlen(token), 4);
    o = run_shell("'%s' --no-cache -w '%s' write curlew --serial %s --yes %s & sleep 1; '%s' "
                  "--no-cache -w '%s' write curlew --serial %s --yes %s | grep -c 'another program "
                  "has it'; kill -TERM $!; wait $!; echo status $?",
                  MOSAICUM_PROGRAM, w, port, token, MOSAICUM_PROGRAM, w, port, token);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "it was interrupted"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "status 3"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\n1\n"));
    if (!strstr(o.out, "it was interrupted"))
        fprintf(stderr, "\n%s%s\n", o.out, o.err);
    outcome_free(&o);
    CU_ASSERT_TRUE(exists(path_in(w, "back")));
    close(master);
}

SUITE(safe_suite, {"builds replace nothing of the user", builds_replace_nothing_of_the_user},
      {"names stay in their folder", names_stay_in_their_folder},
      {"accepting follows no link", accepting_follows_no_link},
      {"takes are whole or nothing", takes_are_whole_or_nothing},
      {"drafts keep what they are given", drafts_keep_what_they_are_given},
      {"nothing unmade is built", nothing_unmade_is_built},
      {"writes go to devices only", writes_go_to_devices_only},
      {"a signal sets the board back", a_signal_sets_the_board_back},
      {"every combination is checked", every_combination_is_checked},
      {"trees read only the workspace", trees_read_only_the_workspace},
      {"definitions read only the workspace", definitions_read_only_the_workspace});
