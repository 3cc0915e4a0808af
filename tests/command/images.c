/* Looking into images, taking things out, comparing, amending. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

static const char *built; /* the folder with curlew's output, built once */

/* The demo's board on a card that is quickly packed and unpacked. */
static void small_demo(const char *w) {
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(0, "sed -i 's/960 MiB/128 MiB/' '%s/boards/curlew.yaml'", w));
}

static const char *build_once(void) {
    if (built)
        return built;
    const char *w = test_folder("images");
    small_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    return built = keep(path_in(w, "out/curlew"));
}

static json_t *rows_of(json_t *d, size_t table) {
    return json_object_get(json_array_get(json_object_get(d, "report"), table), "rows");
}

static const char *text_of(json_t *row, const char *key) {
    const char *t = json_string_value(json_object_get(row, key));
    return t ? t : "";
}

static json_t *row_with(json_t *rows, const char *key, const char *text) {
    json_t *r;
    size_t i;
    json_array_foreach(rows, i, r) if (strcmp(text_of(r, key), text) == 0) return r;
    return NULL;
}

static void files_are_listed(void) {
    static const char *const forms[] = {"card.img", "card.img.gz", "card.img.xz", "card.img.zst"};
    const char *folder = build_once();
    CU_ASSERT(runs(0, "cd '%s' && gzip -k card.img && xz -k -0 card.img", folder));
    CU_ASSERT(
        runs(0, "cd '%s' && (zstd -q card.img 2>/dev/null || cp card.img card.img.zst)", folder));
    for (size_t i = 0; i < 4; i++) {
        int status;
        json_t *d = run_json(&status, "inspect '%s/%s' --files", folder, forms[i]);
        CU_ASSERT_EQUAL(status, 0);
        json_t *boot = rows_of(d, 1), *root = rows_of(d, 2), *r;
        CU_ASSERT_PTR_NOT_NULL(row_with(boot, "path", "boot.scr"));
        r = row_with(root, "path", "etc/motd");
        CU_ASSERT_STRING_EQUAL(text_of(r, "kind"), "same file");
        CU_ASSERT_STRING_EQUAL(text_of(r, "to"), "etc/issue");
        r = row_with(root, "path", "dev/console");
        CU_ASSERT_STRING_EQUAL(text_of(r, "mode"), "0600");
        CU_ASSERT_STRING_EQUAL(text_of(r, "to"), "5, 1");
        json_decref(d);
    }
}

static void things_are_taken(void) {
    const char *folder = build_once(), *to = test_folder("taken");
    static const struct {
        const char *what, *file;
        int status;
    } cases[] = {{"root:/etc/hostname", "name", 0}, {"2:etc/motd", "motd", 0},
                 {"root:etc", "etc.tar", 0},        {"boot", "boot.img", 0},
                 {"BOOT:boot.scr", "script", 0},    {"root:etc", "etc", 2},
                 {"root:etc/mtab", "link", 2},      {"root:dev/null", "null", 2},
                 {"root:not/there", "x", 2},        {"nothing", "x", 2},
                 {"root:../etc", "x", 2},           {"512 KiB:etc", "x", 2},
                 {"root:/etc/hostname", "name", 4}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct outcome o = run_shell("'%s' take '%s/card.img' '%s' -o '%s/%s'", MOSAICUM_PROGRAM,
                                     folder, cases[i].what, to, cases[i].file);
        if (o.status != cases[i].status)
            fprintf(stderr, "\n%s: %d %s\n", cases[i].what, o.status, o.err);
        CU_ASSERT_EQUAL(o.status, cases[i].status);
        CU_ASSERT_EQUAL(exists(path_in(to, "%s", cases[i].file)),
                        cases[i].status == 0 || cases[i].status == 4);
        outcome_free(&o);
    }
    size_t n;
    char *name = read_whole(path_in(to, "name"), &n);
    CU_ASSERT(name && strncmp(name, "curlew", 6) == 0);
    free(name);
    CU_ASSERT(runs(0, "cmp '%s/script' '%s/boot.scr'", to, folder));
    CU_ASSERT(runs(0,
                   "tar --numeric-owner -tvf '%s/etc.tar' | grep -q 'link to etc/issue' && "
                   "test $(stat -c %%s '%s/boot.img') = 67108864",
                   to, to));
}

static void changes_are_seen(void) {
    const char *folder = build_once(), *to = test_folder("amended");
    write_text(path_in(to, "hostname"), "curlew-7\n");
    write_text(path_in(to, "kernel"), "no kernel\n");
    char good[4096], wrong[5000];
    snprintf(good, sizeof good,
             "cd '%s' && '%s' amend '%s/card.img' root:etc/hostname=hostname boot:kernel=kernel "
             "root:srv/gauge/new.txt=kernel root:~etc/issue '2 MiB:bootdelay=9' -o new.img",
             to, MOSAICUM_PROGRAM, folder);
    snprintf(wrong, sizeof wrong, "%s '2 MiB:~x'", good);
    struct outcome o = run_shell("%s", wrong);
    CU_ASSERT_EQUAL(o.status, 2); /* there is no variable x: nothing appears */
    CU_ASSERT(!exists(path_in(to, "new.img")) && !exists(path_in(to, "new.img.part")));
    outcome_free(&o);
    CU_ASSERT_TRUE_FATAL(runs(0, "%s", good));
    CU_ASSERT(runs(4, "%s", good));
    int status;
    json_t *d = run_json(&status, "compare '%s/card.img' '%s/new.img'", folder, to);
    json_t *rows = rows_of(d, 0);
    CU_ASSERT_EQUAL(status, 1);
    static const struct {
        const char *thing, *change;
    } seen[] = {{"/etc/hostname", "changed"},
                {"/kernel", "changed"},
                {"/srv/gauge/new.txt", "added"},
                {"/etc/issue", "removed"},
                {"/etc/motd", "changed"},
                {"bootdelay", "changed"},
                {"/srv", "added"},
                {"/srv/gauge", "added"}};
    CU_ASSERT_EQUAL(json_array_size(rows), sizeof seen / sizeof *seen);
    for (size_t i = 0; i < sizeof seen / sizeof *seen; i++) {
        json_t *r = row_with(rows, "thing", seen[i].thing);
        CU_ASSERT_STRING_EQUAL(text_of(r, "change"), seen[i].change);
    }
    json_decref(d);
    CU_ASSERT(runs(0, "'%s' inspect '%s/new.img'", MOSAICUM_PROGRAM, to));
    CU_ASSERT(
        runs(0, "'%s' compare '%s/card.img' '%s/card.img.gz'", MOSAICUM_PROGRAM, folder, folder));
    /* back again: the same files as before, but in other places */
    CU_ASSERT(runs(0,
                   "cd '%s' && '%s' take '%s/card.img' boot:kernel -o old && '%s' amend new.img "
                   "boot:kernel=old -o back.img && '%s' take back.img boot:kernel -o again && cmp "
                   "old again",
                   to, MOSAICUM_PROGRAM, folder, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

static void a_damaged_table_is_mended(void) {
    const char *folder = build_once(), *to = test_folder("mended");
    write_text(path_in(to, "hostname"), "curlew-7\n");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && cp --sparse=always '%s/card.img' bad.img && printf x | dd of=bad.img bs=1 "
             "seek=600 conv=notrunc status=none",
             to, folder));
    CU_ASSERT(runs(1, "'%s' inspect '%s/bad.img'", MOSAICUM_PROGRAM, to));
    CU_ASSERT(runs(0,
                   "cd '%s' && '%s' amend bad.img root:etc/hostname=hostname -o good.img && '%s' "
                   "inspect good.img && cmp -n 1048576 good.img '%s/card.img'",
                   to, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, folder));
    /* somebody has put a loader over the entries: it stays, and both commands say so */
    CU_ASSERT(runs(0,
                   "cd '%s' && yes x | head -c 9000 | dd of=bad.img bs=1 seek=8192 conv=notrunc "
                   "status=none",
                   to));
    CU_ASSERT(runs(1, "cd '%s' && '%s' inspect bad.img >said", to, MOSAICUM_PROGRAM));
    CU_ASSERT(runs(1, "cd '%s' && '%s' amend bad.img root:etc/hostname=hostname -o kept.img >>said",
                   to, MOSAICUM_PROGRAM));
    CU_ASSERT(runs(0,
                   "cd '%s' && [ $(grep -c 'cannot be fixed: something else' said) = 2 ] && cmp "
                   "-n 1048576 bad.img kept.img && '%s' take kept.img root:etc/hostname -o got && "
                   "cmp got hostname",
                   to, MOSAICUM_PROGRAM));
}

static void a_picture_is_drawn(void) {
    const char *to = test_folder("picture");
    /* the library that knows about fonts keeps what it read until the process ends */
    CU_ASSERT(runs(0,
                   "export ASAN_OPTIONS=detect_leaks=0; '%s' -w '%s/demo/saltmarsh' show curlew "
                   "layout --picture '%s/a.svg' && '%s' -w "
                   "'%s/demo/saltmarsh' show dunlin layout --picture '%s/b.png' && grep -q '<svg' "
                   "'%s/a.svg' && head -c 4 '%s/b.png' | grep -q PNG",
                   MOSAICUM_PROGRAM, MOSAICUM_SOURCE, to, MOSAICUM_PROGRAM, MOSAICUM_SOURCE, to, to,
                   to));
    CU_ASSERT(runs(2, "'%s' -w '%s/demo/saltmarsh' show curlew layout --picture '%s/a.jpg'",
                   MOSAICUM_PROGRAM, MOSAICUM_SOURCE, to));
    CU_ASSERT(runs(2, "'%s' -w '%s/demo/saltmarsh' show curlew boot --picture '%s/c.svg'",
                   MOSAICUM_PROGRAM, MOSAICUM_SOURCE, to));
}

/* A draft from an image builds an image with the same files in the same places. */
static void a_draft_builds_the_same(void) {
    const char *folder = build_once(), *w = test_folder("drafted");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "'%s' -w '%s' --from '%s/card.img' new gull && '%s' --no-cache -q -w "
                              "'%s' build",
                              MOSAICUM_PROGRAM, w, folder, MOSAICUM_PROGRAM, w));
    int status;
    json_t *d = run_json(&status, "compare '%s/card.img' '%s/out/gull/card.img'", folder, w), *r;
    size_t i;
    json_array_foreach(rows_of(d, 0), i, r) {
        CU_ASSERT_STRING_EQUAL(text_of(r, "change"), "bytes");
        CU_ASSERT(strncmp(text_of(r, "thing"), "no file differs", 15) == 0);
    }
    CU_ASSERT_EQUAL(i, 2); /* the two volumes, whose hash seeds and serial numbers are new */
    json_decref(d);
}

/* Raw flash and eMMC: a file for each region, erased bytes, the set-up script. */
static void flash_and_emmc(void) {
    const char *to = test_folder("flash");
    CU_ASSERT_TRUE_FATAL(
        runs(0, "'%s' --no-cache -q -w '%s/demo/saltmarsh' build dunlin avocet --out '%s'",
             MOSAICUM_PROGRAM, MOSAICUM_SOURCE, to));
    size_t n;
    uint8_t *flash = (uint8_t *)read_whole(path_in(to, "dunlin/flash.img"), &n);
    CU_ASSERT_PTR_NOT_NULL_FATAL(flash);
    CU_ASSERT_EQUAL(n, 8 << 20);
    CU_ASSERT(flash[n - 1] == 0xff && flash[(512 << 10) + (20 << 10)] == 0xff);
    free(flash);
    CU_ASSERT(runs(0,
                   "cd '%s/dunlin' && cmp -n $(stat -c %%s flash.loader.bin) flash.loader.bin "
                   "flash.img 0 65536 && cmp flash.env.bin flash.env-copy.bin",
                   to));
    int status;
    json_t *d = run_json(&status, "inspect '%s/dunlin/flash.img'", to);
    json_t *env = json_array_get(rows_of(d, 0), 2); /* what is erased is no data */
    CU_ASSERT_EQUAL(json_integer_value(json_object_get(env, "start")), 512 << 10);
    CU_ASSERT_PTR_NOT_NULL(strstr(text_of(env, "holds"), "environment, "));
    json_decref(d);
    char *setup = read_whole(path_in(to, "avocet/emmc-setup.txt"), &n);
    CU_ASSERT(setup && strstr(setup, "mmc partconf 0 1 1 0") &&
              strstr(setup, "mmc bootbus 0 2 0 0"));
    free(setup);
    CU_ASSERT(exists(path_in(to, "avocet/emmc-setup.scr")));
}

static void outputs_leave_the_house(void) {
    const char *w = test_folder("outputs");
    small_demo(w);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && printf 'release: \"3.2\"\\noutputs: {card: {compress: gz, "
             "name: <selector>-<release>}}\\n' >> boards/curlew.yaml && '%s' "
             "--no-cache -q build && cd out/curlew && gzip -t card.img.gz && zcat "
             "curlew-3.2.img.gz | cmp - card.img && grep -q card.img.gz ledger.json",
             w, MOSAICUM_PROGRAM));
    struct outcome a = run_shell("cd '%s' && sha256sum out/curlew/*.gz", w);
    CU_ASSERT_TRUE_FATAL(
        runs(0, "cd '%s' && taskset -c 0 '%s' --no-cache -q build", w, MOSAICUM_PROGRAM));
    struct outcome b = run_shell("cd '%s' && sha256sum out/curlew/*.gz", w);
    CU_ASSERT_STRING_EQUAL(a.out, b.out);
    outcome_free(&a);
    outcome_free(&b);
}

/* Sizes as shares of what a table leaves for regions, and what others may ask of a layout. */
static void layouts_of_all_kinds(void) {
    const char *w = test_folder("shares");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "boards/curlew.yaml"),
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 128 MiB}}}\n"
        "layout:\n  card:\n    table: {kind: mbr}\n    regions:\n"
        "      boot: {number: 1, size: 25%, bootable: yes, volume: {kind: fat16}}\n"
        "      root: {slots: [a, b], number: 5, size: 20%, volume: {kind: ext4, unit: 4 KiB, "
        "journal: no, reserved: 5%, inodes: 5000}}\n"
        "      swap: {number: 7, size: 4 MiB, volume: {kind: swap, label: swap}}\n"
        "      data: {number: 2, size: rest, grows: yes, volume: {kind: fat12, unit: 32 KiB}}\n");
    static const struct {
        const char *region;
        uint64_t number, size;
    } regions[] = {{"boot", 1, 31 << 20},
                   {"root-a", 5, 25 << 20},
                   {"root-b", 6, 25 << 20},
                   {"swap", 7, 4 << 20}};
    int status;
    json_t *d = run_json(&status, "-w '%s' show layout", w);
    CU_ASSERT_EQUAL(status, 0);
    for (size_t i = 0; i < 4; i++) {
        json_t *r = row_with(rows_of(d, 0), "region", regions[i].region);
        CU_ASSERT_EQUAL((uint64_t)json_integer_value(json_object_get(r, "number")),
                        regions[i].number);
        CU_ASSERT_EQUAL((uint64_t)json_integer_value(json_object_get(r, "size")), regions[i].size);
    }
    json_decref(d);
    CU_ASSERT(runs(0,
                   "cd '%s' && '%s' --no-cache -q build && sfdisk --verify out/curlew/card.img | "
                   "grep -q 'No errors' && '%s' inspect out/curlew/card.img",
                   w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

/* Two ledgers: what went in, what came out, what moved. */
static void ledgers_are_compared(void) {
    const char *to = test_folder("ledgers");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "'%s' --no-cache -q -w '%s/demo/saltmarsh' build curlew+bench "
                              "curlew+field --out '%s'",
                              MOSAICUM_PROGRAM, MOSAICUM_SOURCE, to));
    int status;
    json_t *d = run_json(
        &status, "compare '%s/curlew+bench/ledger.json' '%s/curlew+field/ledger.json'", to, to);
    CU_ASSERT_EQUAL(status, 1);
    json_t *r = row_with(rows_of(d, 0), "fact", "board");
    CU_ASSERT_STRING_EQUAL(text_of(r, "b"), "curlew+field");
    CU_ASSERT_PTR_NOT_NULL(row_with(rows_of(d, 0), "fact", "outputs.boot.scr.sha256"));
    CU_ASSERT_PTR_NULL(row_with(rows_of(d, 0), "fact", "inputs.kernel.sha256"));
    json_decref(d);
    CU_ASSERT(runs(0, "'%s' compare '%s/curlew+bench/ledger.json' '%s/curlew+bench/ledger.json'",
                   MOSAICUM_PROGRAM, to, to));
}

/* A build of a board whose file has errors of its own is not begun. */
static void errors_in_files_stop_a_build(void) {
    const char *w = test_folder("stopped");
    copy_demo(w);
    CU_ASSERT(
        runs(1, "cd '%s' && printf 'nonsense: 1\\n' >> boards/curlew.yaml && '%s' --no-cache build",
             w, MOSAICUM_PROGRAM));
    CU_ASSERT(!exists(path_in(w, "out/curlew")));
}

/* What a compressed image holds beyond what is kept in memory is read from a file without a name.
 */
static void large_images_spill(void) {
    static const char *const packers[] = {"gzip -1", "zstd -q -1"};
    const char *w = keep(test_folder("spill"));
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && seq 1000000 | head -c 5000001 > a && truncate -s 20000000 a && seq 9999999 "
        "| head -c 75000000 >> a && truncate -s 99000000 a && seq 77 >> a",
        w));
    for (size_t i = 0; i < 2; i++)
        CU_ASSERT(runs(0,
                       "cd '%s' && %s -c < a > a.img.packed && "
                       "'%s' -q compare a a.img.packed",
                       w, packers[i], MOSAICUM_PROGRAM));
}

/* A container of volumes in a flash without a table, in a partition, and alone. */
static void containers_are_opened(void) {
    static const unsigned places[] = {0, 262144, 1048576};
    const char *w = keep(test_folder("containers"));
    for (size_t i = 0; i < 3; i++) {
        struct outcome o =
            run_shell("cd '%s' && rm -f a.img && truncate -s 4M a.img && dd "
                      "if='%s/fuzz/corpus/fuzz_container/"
                      "six-blocks' of=a.img bs=4096 seek=%u conv=notrunc 2>/dev/null && { [ %zu != "
                      "2 ] || printf "
                      "'label: dos\\nstart=2048,size=2048\\n' | sfdisk -q a.img; }; '%s' inspect "
                      "a.img; '%s' -q "
                      "take a.img mark -o - ; '%s' amend a.img root:x=a.img -o b.img",
                      w, MOSAICUM_SOURCE, places[i] / 4096, i, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM,
                      MOSAICUM_PROGRAM);
        bool good = strstr(o.out, "2 volumes in blocks of 4 KiB") && strstr(o.out, "volume 1") &&
                    strstr(o.out, "tide") && strstr(o.err, "are only read");
        if (!good)
            fprintf(stderr, "\n%zu: %s%s\n", i, o.out, o.err);
        CU_ASSERT(good);
        outcome_free(&o);
    }
}

SUITE(images_suite, {"files are listed", files_are_listed}, {"things are taken", things_are_taken},
      {"changes are seen", changes_are_seen},
      {"a damaged table is mended", a_damaged_table_is_mended},
      {"a picture is drawn", a_picture_is_drawn}, {"flash and eMMC", flash_and_emmc},
      {"a draft builds the same", a_draft_builds_the_same}, {"outputs", outputs_leave_the_house},
      {"layouts", layouts_of_all_kinds}, {"ledgers", ledgers_are_compared},
      {"errors stop a build", errors_in_files_stop_a_build},
      {"large images spill", large_images_spill}, {"containers are opened", containers_are_opened});
