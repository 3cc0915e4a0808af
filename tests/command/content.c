/* Pieces, archives and what is kept between runs. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

static char *copy_of_demo(const char *name) {
    char *w = test_folder(name);
    copy_demo(w);
    return w;
}

static void edit(const char *w, const char *expression) {
    CU_ASSERT_TRUE_FATAL(runs(0, "sed -i '%s' '%s/boards/curlew.yaml'", expression, w));
}

static size_t findings(const char *w, const char *options, const char *rule) {
    struct outcome o = run_shell("'%s' %s --json -w '%s' check", MOSAICUM_PROGRAM, options, w);
    json_t *d = json_loads(o.out, 0, NULL), *f;
    size_t i, n = 0;
    json_array_foreach(json_object_get(d, "findings"), i, f) n +=
        strcmp(json_string_value(json_object_get(f, "rule")), rule) == 0;
    json_decref(d);
    outcome_free(&o);
    return n;
}

/* Cold, warm, after a change, and with a damaged store: always the same answer. */
static void the_store_changes_nothing_but_time(void) {
    char *w = copy_of_demo("stored"), *store = test_folder("store");
    setenv("XDG_CACHE_HOME", store, 1);
    for (int i = 0; i < 2; i++)
        CU_ASSERT(runs(0, "'%s' -w '%s' build --out '%s/out%d'", MOSAICUM_PROGRAM, w, w, i));
    CU_ASSERT(runs(0, "cmp '%s/out0/curlew/card.img' '%s/out1/curlew/card.img'", w, w));
    CU_ASSERT(runs(0,
                   "for f in '%s'/mosaicum/*; do printf xx | dd of=\"$f\" bs=1 seek=9 conv=notrunc "
                   "2>/dev/null; done",
                   store));
    CU_ASSERT(runs(0,
                   "'%s' -w '%s' build --out '%s/out2' && cmp '%s/out0/curlew/card.img' "
                   "'%s/out2/curlew/card.img'",
                   MOSAICUM_PROGRAM, w, w, w, w));
    edit(w, "s/only: \\[lib.modules\\]/only: [boot]/");
    CU_ASSERT_EQUAL(findings(w, "", "piece.missing"), 0);
    CU_ASSERT(runs(0, "cd '%s' && printf broken > pieces/rootfs.tar.zst", w));
    struct outcome o = run_shell("'%s' -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 1); /* one finding, at the piece */
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "piece.format"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "Piece rootfs is called .zst, but is a text"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "1 error, 0 warnings"));
    outcome_free(&o);
    unsetenv("XDG_CACHE_HOME");
}

static void members_of_archives_are_pieces(void) {
    char *w = copy_of_demo("members");
    CU_ASSERT_EQUAL(findings(w, "--no-cache", "piece.missing"), 0);
    edit(w, "s#path: boot/Image#path: boot/image#");
    CU_ASSERT_EQUAL(findings(w, "--no-cache", "piece.missing"), 1);
    edit(w, "s#path: boot/image}#path: boot/Image, sha256: "
            "0000000000000000000000000000000000000000000000000000000000000000}#");
    CU_ASSERT_EQUAL(findings(w, "--no-cache", "piece.hash"), 1);
}

/* A path in an archive leads through the archive's own links, and never out of it; pieces and rows
 * of ramdisks alike, in archives and in archives within them, with a store and without. */
static void paths_lead_through_links(void) {
    static const struct {
        const char *path, *remedy; /* NULL: it leads to the program */
    } rows[] = {
        {"real/tool", NULL},
        {"bin/tool", NULL},
        {"by-name", NULL},
        {"bin/other", NULL},
        {"absolute", NULL},
        {"second", NULL},
        {"out", "starts at the root"},
        {"loop", "starts at the root"},
        {"nothing", "starts at the root"},
        {"bin/toll", "Write path: bin/tool."},
        {"real", "starts at the root"},
    };
    char *w = test_folder("links"), *store = keep(test_folder("links-store"));
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && mkdir -p a/real pieces && seq 5000 >a/real/tool && ln a/real/tool "
             "a/second && ln -s real a/bin && ln -s bin/tool a/by-name && ln -s ../by-name "
             "a/real/other && ln -s /real/tool a/absolute && ln -s ../../../../etc/passwd a/out && "
             "ln -s loop a/loop && ln -s gone a/nothing && tar -C a -cf pieces/in.tar . && tar -C "
             "pieces -czf pieces/outer.tar.gz in.tar",
             w));
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        for (int nested = 0; nested < 2; nested++) {
            char text[2048];
            snprintf(
                text, sizeof text,
                "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 64 "
                "MiB}}}\npieces:\n  tool: {in: all, path: %s, license: MIT}\n  all: {%s, "
                "license: MIT}\n  outer: {file: pieces/outer.tar.gz, license: MIT}\n  early: "
                "{ramdisk: {compress: none, files: {tool: {in: all, path: %s, to: /tool}}}}\n"
                "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: rest, "
                "volume: {kind: ext4, fills: {one: {piece: tool, to: one}, two: {piece: early, "
                "to: two}}}}}}}\n",
                rows[i].path, nested ? "in: outer, path: in.tar" : "file: pieces/in.tar",
                rows[i].path);
            write_text(path_in(w, "boards/curlew.yaml"), text);
            for (int again = 0; again < 2; again++) {
                struct outcome o = run_shell(
                    "cd '%s' && rm -f r && XDG_CACHE_HOME='%s' '%s' build 2>&1 && '%s' -q take "
                    "out/curlew/card.img 1:one -o - | cmp - a/real/tool && '%s' -q take "
                    "out/curlew/card.img 1:two -o r && rm -rf x && mkdir x && cd x && "
                    "cpio -id --quiet <../r && cmp tool ../a/real/tool && echo same",
                    w, store, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
                const char *first = strstr(o.out, "there is no file");
                bool good = rows[i].remedy ? first && strstr(first + 1, "there is no file") &&
                                                 strstr(o.out, rows[i].remedy)
                                           : strstr(o.out, "same") != NULL;
                CU_ASSERT_TRUE(good);
                if (!good)
                    fprintf(stderr, "%s%s\n%s", rows[i].path, nested ? " nested" : "", o.out);
                outcome_free(&o);
            }
        }
}

/* Packages are archives, and archives may lie in archives; sizes, hashes and bytes are those of the
 * innermost, whether the store knows them or not. */
static void archives_lie_in_archives(void) {
    char *w = test_folder("nested"), *store = test_folder("nested-store");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "boards/curlew.yaml"),
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 64 MiB}}}\n"
        "pieces:\n  file: {in: inner, path: usr/share/tide}\n"
        "  inner: {in: middle, path: deep/gauge.deb}\n"
        "  middle: {in: outer, path: middle.tar.gz}\n  outer: {file: pieces/outer.tar}\n"
        "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: rest, volume: "
        "{kind: ext4, fills: {one: {piece: file, to: one}, all: {archive: inner, to: all}"
        "}}}}}}\n");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && mkdir -p p/usr/share m/deep pieces && seq 30000 > p/usr/share/tide && tar "
             "-C p -czf data.tar.gz . && tar -cf control.tar -T /dev/null && echo 2.0 > "
             "debian-binary && ar rc m/deep/gauge.deb debian-binary control.tar data.tar.gz && tar "
             "-C m -czf middle.tar.gz . && tar -cf pieces/outer.tar middle.tar.gz",
             w));
    setenv("XDG_CACHE_HOME", store, 1);
    for (int i = 0; i < 3; i++)
        CU_ASSERT(
            runs(0,
                 "cd '%s' && '%s' %s -q build --out out%d && for f in one all/usr/share/tide; "
                 "do '%s' -q take out%d/curlew/card.img 1:$f -o - | cmp - p/usr/share/tide; "
                 "done && cmp out0/curlew/card.img out%d/curlew/card.img",
                 w, MOSAICUM_PROGRAM, i == 2 ? "--no-cache" : "", i, MOSAICUM_PROGRAM, i, i));
    /* what is not there, or no package, or made here, or in a circle */
    static const struct {
        const char *edit, *says;
    } wrong[] = {
        {"s|usr/share/tide}|usr/share/tides}|", "there is no file usr/share/tides in inner"},
        {"s|deep/gauge|deep/gauges|", "there is no file deep/gauges.deb in middle"},
        {"s|{file: pieces/outer.tar}|{in: file, path: x}|", "lies in file again"},
        {"s|{file: pieces/outer.tar}|{ramdisk: {folder: p}}|", "which is made here"}};
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++)
        CU_ASSERT(runs(0,
                       "cd '%s' && cp boards/curlew.yaml before && sed -i '%s' boards/curlew.yaml "
                       "&& { '%s' check; mv before boards/curlew.yaml; } | grep -q '%s'",
                       w, wrong[i].edit, MOSAICUM_PROGRAM, wrong[i].says));
    /* a zip that was packed into a pipe does not say how large its files are */
    CU_ASSERT(runs(
        0,
        "cd '%s' && printf 'PK\\3\\4\\24\\0\\10\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0\\0"
        "\\0\\0\\4\\0\\0\\0tidelow' > z.zip && mkdir -p z/boards && cp mosaicum.yaml z/ && sed "
        "'s|{in: middle, path: deep/gauge.deb}|{file: z.zip}|' boards/curlew.yaml > "
        "z/boards/curlew.yaml && cp z.zip z/ && '%s' -w z check | grep -q 'how large tide "
        "is'",
        w, MOSAICUM_PROGRAM));
    static const struct {
        const char *make, *says;
    } packages[] = {
        {"ar rc g debian-binary control.tar", "it is a package without data"},
        {"ar rc g control.tar data.tar.gz", "it is an ar archive, but no package"},
        {"head -c 100 m/deep/gauge.deb > g", "it is cut off"},
        {"tar -C p -cf data.tar . && ar rc g debian-binary control.tar data.tar && "
         "truncate -s 11000 g",
         "cannot be read: "},
        /* between two entries, where a tar may end */
        {"mkdir -p e/b && printf %512s x > e/a && printf %512s x > e/b/c && tar -C e -cf "
         "data.tar a b && ar rc g debian-binary data.tar && truncate -s $((8 + 64 + 60 + "
         "1024)) g",
         "cut off"}};
    for (size_t i = 0; i < sizeof packages / sizeof *packages; i++)
        CU_ASSERT(
            runs(0,
                 "cd '%s' && rm -f g && %s && mkdir -p n/deep && cp g n/deep/gauge.deb && tar "
                 "-C n -czf middle.tar.gz . && rm pieces/outer.tar && tar -cf "
                 "pieces/outer.tar middle.tar.gz && '%s' check | grep -q '%s'",
                 w, packages[i].make, MOSAICUM_PROGRAM, packages[i].says));
    unsetenv("XDG_CACHE_HOME");
}

static void links_do_not_lead_out(void) {
    char *w = copy_of_demo("links");
    CU_ASSERT(runs(0, "cd '%s/pieces' && mv first.bin real.bin && ln -s real.bin first.bin", w));
    CU_ASSERT_EQUAL(findings(w, "--no-cache", "piece.path"), 0);
    CU_ASSERT(runs(0, "cd '%s/pieces' && ln -sf /etc/passwd first.bin", w));
    CU_ASSERT_EQUAL(findings(w, "--no-cache", "piece.path"), 1);
    CU_ASSERT(runs(0,
                   "cd '%s/pieces' && rm first.bin && mv real.bin first.bin && mkdir ../t && echo "
                   "x > ../t/f && "
                   "tar -C ../t --transform 's#^f#../f#' -P -cf rootfs.tar.zst f",
                   w));
    CU_ASSERT_EQUAL(findings(w, "--no-cache", "piece.path"), 1);
}

/* Two entries: both in the script, the first one first; shared files only once. */
static void fallbacks_follow_in_the_script(void) {
    char *w = copy_of_demo("fallback");
    edit(w, "s/^    main:$/    spare: {kernel: kernel, tree: main, arguments: {root: <root>, "
            "panic: 5, init: \\/bin\\/sh}}\\n    main:/; s/^boot:$/system: {confirm: "
            "inittab, loader-access: yes}\\nboot:\\n  tries: 3/");
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    char *script = read_whole(path_in(w, "out/curlew/boot-script.txt"), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(script);
    char *first = strstr(script, "Entry spare"), *second = strstr(script, "Entry main");
    CU_ASSERT(first && second && first < second);
    CU_ASSERT_PTR_NOT_NULL(strstr(script, " panic=5 init=/bin/sh'"));
    free(script);
    int status;
    json_t *d = run_json(&status, "inspect '%s/out/curlew/card.img'", w);
    char *all = json_dumps(d, 0);
    CU_ASSERT_PTR_NOT_NULL(strstr(all, "kernel, main.dtb, boot.scr"));
    free(all);
    json_decref(d);
}

static void damage_is_shown_by_inspect(void) {
    char *w = copy_of_demo("damaged");
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    static const struct {
        unsigned long long offset;
        const char *problem;
    } places[] = {{512 + 20, "sum of the primary GPT header"},
                  {1024 + 33, "sum of the primary GPT entries"},
                  {(68ull << 20) + 1024 + 100, "sum of the superblock"}};
    for (size_t i = 0; i < 3; i++) {
        int status;
        CU_ASSERT(runs(0,
                       "cp --sparse=always '%s/out/curlew/card.img' '%s/bad' && printf '\\377' | "
                       "dd of='%s/bad' bs=1 seek=%llu conv=notrunc 2>/dev/null",
                       w, w, w, places[i].offset));
        json_t *d = run_json(&status, "inspect '%s/bad'", w);
        char *all = json_dumps(d, 0);
        CU_ASSERT_EQUAL(status, 1);
        CU_ASSERT_PTR_NOT_NULL(strstr(all, places[i].problem));
        CU_ASSERT_PTR_NOT_NULL(
            strstr(all, "kernel, main.dtb, boot.scr")); /* the rest is still read */
        free(all);
        json_decref(d);
    }
}

/* With no date in the workspace, SOURCE_DATE_EPOCH gives it; without that a fixed one. */
static void dates_come_from_the_definition(void) {
    char *w = copy_of_demo("dates");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    CU_ASSERT(runs(0,
                   "cd '%s' && env -u SOURCE_DATE_EPOCH '%s' --no-cache -q build --out a && "
                   "SOURCE_DATE_EPOCH=1767225600 '%s' --no-cache -q build --out b && cmp "
                   "a/curlew/card.img b/curlew/card.img && "
                   "SOURCE_DATE_EPOCH=1700000000 '%s' --no-cache -q build --out c && ! cmp -s "
                   "a/curlew/card.img c/curlew/card.img",
                   w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

/* One cause, one finding: of an archive that cannot be read nobody says what it lacks.  The library
 * that reads archives is told about where it is not there; what needs no archive works without. */
static void what_cannot_be_read_lacks_nothing(void) {
    char *w = keep(test_folder("unread"));
    const char *without = keep(path_in(w, "without"));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "sed 's/libarchive[.]so[.]13/libarchivx.so.13/g' '%s' > '%s' && "
                              "chmod +x '%s'",
                              MOSAICUM_PROGRAM, without, without));
    copy_demo(path_in(w, "d"));
    struct outcome o = run_shell("cd '%s/d' && '%s' --no-cache check curlew", w, without);
    CU_ASSERT_EQUAL(o.status, 1);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "libarchivx.so.13 (package libarchive13) is not there"));
    CU_ASSERT_PTR_NULL(strstr(o.out, "piece.missing"));
    outcome_free(&o);
    CU_ASSERT(runs(0,
                   "cd '%s/d' && '%s' --no-cache -q build curlew && '%s' inspect "
                   "out/curlew/card.img >/dev/null",
                   w, MOSAICUM_PROGRAM, without));
    CU_ASSERT(runs(3,
                   "cd '%s/d' && '%s' take out/curlew/card.img root: -o r.tar 2>err; s=$?; grep -q "
                   "'is not there' err && [ ! -e r.tar ] && exit $s",
                   w, without));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s/d' && for f in pieces/linux.tar.*; do head -c 300 $f > x && "
                              "mv x $f; done",
                              w));
    o = run_shell("cd '%s/d' && '%s' --no-cache check curlew", w, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 1);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "piece.format"));
    CU_ASSERT_PTR_NULL(strstr(o.out, "piece.missing"));
    outcome_free(&o);
}

SUITE(content_suite, {"paths lead through links", paths_lead_through_links},
      {"what cannot be read lacks nothing", what_cannot_be_read_lacks_nothing},
      {"the store", the_store_changes_nothing_but_time},
      {"members of archives", members_of_archives_are_pieces},
      {"archives in archives", archives_lie_in_archives}, {"links", links_do_not_lead_out},
      {"fallbacks", fallbacks_follow_in_the_script}, {"damage", damage_is_shown_by_inspect},
      {"dates", dates_come_from_the_definition});
