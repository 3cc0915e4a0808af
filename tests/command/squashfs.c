/* Squashfs roots: what they hold, whether it fits, who can read it. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

/* Fills that meet: names that come twice, folders behind links, hard links, devices, what is
 * replaced. */
static void prepare(const char *w) {
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir -p a/usr/lib a/usr/bin a/etc a/dev a/proc a/sys a/run a/tmp b/lib/gauge "
        "c/etc && ln -s usr/lib "
        "a/lib "
        "&& ln -s usr/bin a/bin && head -c 300000 /dev/urandom > a/usr/bin/gauged && ln "
        "a/usr/bin/gauged a/usr/bin/gauge-log && printf 'root:x:0:0::/:/bin/sh\n' > a/etc/passwd "
        "&& "
        "printf 'OLD-SECRET\n' > a/etc/key && head -c 70000 /bin/sh > a/usr/lib/one && truncate -s "
        "900000 a/usr/lib/hole && printf end >> a/usr/lib/hole && : > a/etc/empty && tar -cf a.tar "
        "--owner=0 --group=0 --numeric-owner -C a . && mkdir d && mkdir -p d/etc && printf "
        "'SECOND\n' > d/etc/twice && tar -rf a.tar -C d etc/twice && printf 'A THIRD ONE\n' > "
        "d/etc/twice && tar -rf a.tar -C d etc/twice && printf 'NEW\n' > c/etc/key && head -c 5000 "
        "/dev/urandom > b/lib/gauge/table && cp a/usr/lib/one b/lib/one",
        w));
}

static void write_board(const char *w, const char *board, const char *volume, const char *size) {
    char text[1400];
    snprintf(
        text, sizeof text,
        "mosaicum: 1\nboard: %s\nhardware: {media: {card: {kind: sd, size: 64 MiB}}}\n"
        "pieces: {root: {file: a.tar}}\nsystem: {host-name: jetty, mounts: {root: {at: /, kind: "
        "auto}}}\n"
        "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, at: 1 MiB, size: %s, "
        "volume: {%s, fills: {a: {archive: root}, b: {folder: b}, c: {folder: c, replaces: yes}, "
        "s: {made: system}}}}}}}\n",
        board, size, volume);
    write_text(path_in(w, "boards/%s.yaml", board), text);
}

static void it_holds_what_ext4_holds(void) {
    static const char *const volumes[] = {"kind: squashfs", "kind: squashfs, compress: xz",
                                          "kind: squashfs, compress: zst, unit: 4 KiB",
                                          "kind: squashfs, unit: 1 MiB"};
    char *w = test_folder("squashfs");
    prepare(w);
    write_board(w, "curlew", "kind: ext4", "32 MiB");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && '%s' --no-cache -q build && '%s' inspect --files "
             "out/curlew/card.img | grep '^[a-z/]*  ' | grep -v '^lost\\|^ ' | sort > ext4.txt && "
             "'%s' -q take out/curlew/card.img root: -o e.tar && mkdir e && tar -xf "
             "e.tar -C e --exclude lost+found && grep -q gauge-log ext4.txt",
             w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    CU_ASSERT(runs(0, "cd '%s' && grep -q 'A THIRD' e/etc/twice && grep -q NEW e/etc/key", w));
    for (size_t i = 0; i < sizeof volumes / sizeof *volumes; i++) {
        write_board(w, "curlew", volumes[i], "32 MiB");
        CU_ASSERT(
            runs(0,
                 "cd '%s' && rm -rf s s.tar && '%s' --no-cache -q build && '%s' inspect --files "
                 "out/curlew/card.img | grep '^[a-z/]*  ' | grep -v '^ ' | sort > squashfs.txt && "
                 "diff ext4.txt "
                 "squashfs.txt && '%s' -q take out/curlew/card.img root: -o s.tar && mkdir s && "
                 "tar -xf s.tar -C s && diff -r --no-dereference e s && ! grep -q OLD-SECRET "
                 "s.tar",
                 w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    }
}

/* Length less what is free, of the region. */
static long long needed(const char *w, const char *options) {
    struct outcome o =
        run_shell("'%s' %s --json -w '%s' show layout", MOSAICUM_PROGRAM, options, w);
    json_t *d = json_loads(o.out, 0, NULL), *r;
    long long need = -1;
    size_t i;
    json_array_foreach(json_object_get(json_array_get(json_object_get(d, "report"), 0), "rows"), i,
                       r) if (json_string_value(json_object_get(r, "region")) &&
                              strcmp(json_string_value(json_object_get(r, "region")), "root") == 0)
        need = json_integer_value(json_object_get(r, "size")) -
               json_integer_value(json_object_get(r, "free"));
    json_decref(d);
    outcome_free(&o);
    return need;
}

/* What check accepts is what fits, to the block; with and without a store, before and after a
 * build. */
static void what_fits_is_known(void) {
    char *w = test_folder("squashfs-fits"), *store = test_folder("squashfs-store"), size[40];
    prepare(w);
    write_board(w, "curlew", "kind: squashfs", "32 MiB");
    setenv("XDG_CACHE_HOME", store, 1);
    long long need = needed(w, "--no-cache");
    CU_ASSERT(need > 300000 && need < 600000 && need % 4096 == 0);
    for (int i = 0; i < 2; i++)
        CU_ASSERT_EQUAL(needed(w, ""), need);
    for (int less = 0; less < 2; less++) {
        snprintf(size, sizeof size, "%lld B", need - 4096 * less);
        write_board(w, "curlew", "kind: squashfs", size);
        for (int i = 0; i < 2; i++)
            CU_ASSERT(runs(less, "'%s' %s -q -w '%s' build >/dev/null", MOSAICUM_PROGRAM,
                           i ? "" : "--no-cache", w));
        struct outcome o = run_shell("'%s' -w '%s' check", MOSAICUM_PROGRAM, w);
        CU_ASSERT_EQUAL(strstr(o.out, ": it needs 4 KiB more") != NULL, less);
        outcome_free(&o);
    }
    CU_ASSERT(
        runs(0, "printf x >> '%s/b/lib/gauge/table'", w)); /* kept figures are of the old one */
    write_board(w, "curlew", "kind: squashfs", "32 MiB");
    CU_ASSERT_EQUAL(needed(w, ""), needed(w, "--no-cache"));
    unsetenv("XDG_CACHE_HOME");
}

static void its_findings(void) {
    static const struct {
        const char *volume, *config, *rule; /* rule NULL: nothing is found */
    } cases[] = {
        {"kind: squashfs", "CONFIG_SQUASHFS=y", NULL},
        {"kind: squashfs", "# CONFIG_SQUASHFS is not set", "volume.kernel-cannot-mount"},
        {"kind: squashfs", "CONFIG_SQUASHFS=m", "kernel.needed-early"},
        {"kind: squashfs\\n          compress: xz", "# CONFIG_SQUASHFS_XZ is not set",
         "kernel.driver-missing"},
        {"kind: squashfs\\n          compress: zst", "# CONFIG_SQUASHFS_XZ is not set", NULL},
        {"kind: squashfs\\n          label: root", "CONFIG_SQUASHFS=y", "board.schema"},
        {"kind: squashfs\\n          journal: no", "CONFIG_SQUASHFS=y", "board.schema"},
        {"kind: ext4\\n          compress: gz", "CONFIG_SQUASHFS=y", "board.schema"},
        {"kind: squashfs\\n          unit: 2 KiB", "CONFIG_SQUASHFS=y", "board.schema"},
        {"kind: squashfs\\n          compress: lz4", "CONFIG_SQUASHFS=y", "board.schema"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char *w = test_folder("squashfs-found");
        copy_demo(w);
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s' && sed -i '/^ *label: root$/d; s/kind: ext4$/%s/' "
                                  "boards/curlew.yaml && printf '%s\\n' >> kernel/common.config",
                                  w, cases[i].volume, cases[i].config));
        struct outcome o = run_shell("'%s' --no-cache --json -w '%s' check", MOSAICUM_PROGRAM, w);
        json_t *d = json_loads(o.out, 0, NULL), *f = json_object_get(d, "findings");
        const char *rule = json_string_value(json_object_get(json_array_get(f, 0), "rule"));
        bool good = cases[i].rule ? rule && strcmp(rule, cases[i].rule) == 0 : !json_array_size(f);
        if (!good)
            fprintf(stderr, "\n%s, %s: %s\n%s", cases[i].volume, cases[i].config,
                    rule ? rule : "nothing", o.out);
        CU_ASSERT(good);
        json_decref(d);
        outcome_free(&o);
    }
}

/* In a flash without a table, between what is raw, it is found by its own bytes. */
static void it_is_found_in_a_flash(void) {
    char *w = test_folder("squashfs-flash");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "boards/curlew.yaml"),
        "mosaicum: 1\nboard: curlew\nhardware: {media: {flash: {kind: nor, size: 8 MiB, erase: "
        "64 KiB}}}\npieces: {raw: {file: raw}}\nlayout: {flash: {regions: {one: {at: 0 B, size: "
        "64 KiB, piece: raw}, ship: {at: 64 KiB, size: 2 MiB, volume: {kind: squashfs, fills: "
        "{a: {folder: files}}}}, two: {at: 4 MiB, size: 64 KiB, piece: raw}}}}\n");
    CU_ASSERT(
        runs(0,
             "cd '%s' && mkdir -p files/etc && echo curlew > files/etc/name && head -c 9000 "
             "/dev/urandom > raw && '%s' --no-cache -q build && '%s' inspect out/curlew/flash.img "
             "> i.txt && grep -q '64 KiB .*squashfs' i.txt && grep -c '(piece)' i.txt | grep "
             "-qx 2 && for n in squashfs ship; do '%s' -q take out/curlew/flash.img $n:etc/name -o "
             "- | cmp - files/etc/name || exit 1; done && cp out/curlew/flash.img alone.img && "
             "'%s' inspect alone.img >i.txt && grep -q '64 KiB .*squashfs' i.txt && grep -c ' "
             "data' i.txt | grep -qx 2 && '%s' -q take alone.img squashfs:etc/name -o - | cmp - "
             "files/etc/name",
             w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM,
             MOSAICUM_PROGRAM));
}

static void it_is_rehearsed(void) {
    char *w = test_folder("squashfs-boot");
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && sed -i '/^ *label: root$/d; s/kind: ext4$/kind: squashfs\\n          compress: "
        "xz/' boards/curlew.yaml && '%s' --no-cache -q build && '%s' --no-cache "
        "rehearse curlew > built.txt && '%s' --no-cache rehearse --planned "
        "curlew > planned.txt && grep -q squashfs built.txt",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    CU_ASSERT(
        runs(1,
             "cd '%s' && '%s' -q amend out/curlew/card.img root:etc/hostname=mosaicum.yaml -o "
             "x.img 2>/dev/null || exit 1",
             w, MOSAICUM_PROGRAM));
}

SUITE(squashfs_suite, {"it holds what ext4 holds", it_holds_what_ext4_holds},
      {"what fits is known", what_fits_is_known}, {"its findings", its_findings},
      {"it is rehearsed", it_is_rehearsed}, {"it is found in a flash", it_is_found_in_a_flash});
