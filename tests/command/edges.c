/* Just there and not one further: limits, last days, and what must be on the disk before it has a
 * name. */
#define _GNU_SOURCE
#include "support.h"

#include "base/text.h"
#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>

/* ---- days ---- */

static int64_t day;

static int64_t that_day(const struct mos_host *h) {
    (void)h;
    return day;
}

static void a_waiver_holds_on_its_last_day(void) {
    struct mos_host host = *mos_platform_host();
    host.today = that_day;
    char *w = test_folder("last-day");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "boards/curlew.yaml"),
        "mosaicum: 1\nboard: curlew\nsystem: {host-name: \"-x\"}\nwaivers: {name: {rule: "
        "access.host-name, place: system.host-name, reason: \"for a test\", until: 2026-03-01}}\n");
    int64_t start = mos_days_of_date(2026, 3, 1) * 86400;
    const struct {
        int64_t at;
        int status;
    } moments[] = {{start - 1, 0}, {start, 0}, {start + 86399, 0}, {start + 86400, 1}};
    for (size_t i = 0; i < sizeof moments / sizeof *moments; i++) {
        struct mosaicum_options o = {.host = &host, .workspace = w};
        mosaicum *m = mosaicum_new(&o);
        day = moments[i].at;
        CU_ASSERT_EQUAL((int)mosaicum_check(m, NULL, 0), moments[i].status);
        mosaicum_free(m);
    }
}

/* ---- ranges ---- */

static void touching_is_not_overlapping(void) {
    static const struct {
        const char *board;
        const char *rule; /* NULL: nothing is wrong */
    } cases[] = {
        {"a: {at: 64 KiB, size: 4 KiB}, b: {at: 68 KiB, size: 4 KiB}", NULL},
        {"a: {at: 64 KiB, size: 4 KiB}, b: {at: 69631 B, size: 4 KiB}", "layout.overlap"},
        {"a: {at: 64 KiB, size: 4097 B}, b: {at: 68 KiB, size: 4 KiB}", "layout.overlap"},
        {"b: {at: 68 KiB, size: 4 KiB}, a: {at: 64 KiB, size: 4097 B}", "layout.overlap"},
        {"a: {at: 1020 KiB, size: 4 KiB}", NULL},
        {"a: {at: 1020 KiB, size: 4097 B}", "layout.beyond-medium"},
        {"a: {at: 1044481 B, size: 4 KiB}", "layout.beyond-medium"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char *w = test_folder("touching"), *text;
        write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
        if (asprintf(&text,
                     "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 1 "
                     "MiB}}}\nlayout: {card: {regions: {%s}}}\n",
                     cases[i].board) < 0)
            abort();
        write_text(path_in(w, "boards/curlew.yaml"), text);
        free(text);
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        bool good = cases[i].rule ? o.status == 1 && strstr(o.out, cases[i].rule) : o.status == 0;
        if (!good)
            printf("\n%s: %d %s", cases[i].board, o.status, o.out);
        CU_ASSERT_TRUE(good);
        outcome_free(&o);
    }
}

/* RAM: the smallest that is fitted counts, to the byte.  The kernel of 64 KiB lies at the address.
 */
static void the_smallest_ram_counts(void) {
    static const struct {
        const char *sizes, *at;
        bool fits;
    } cases[] = {
        {"[64 MiB]", "0x43e00000", true},           {"[64 MiB, 128 MiB]", "0x43e00000", true},
        {"[128 MiB, 64 MiB]", "0x43e00000", true},  {"[64 MiB]", "0x44000000", false},
        {"[128 MiB, 64 MiB]", "0x44000000", false}, {"[128 MiB]", "0x44000000", true},
        {"[64 MiB]", "0x3fe00000", false},          {"[64 MiB]", "0x40000000", true}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char *w = test_folder("ram");
        copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/ram.outside/passes"), w);
        CU_ASSERT(runs(
            0,
            "sed -i 's/sizes: .*}}/sizes: %s}}/; s/addresses: .*/addresses: {kernel: %s, tree: "
            "0x41000000}/' '%s/boards/curlew.yaml'",
            cases[i].sizes, cases[i].at, w));
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
        bool found = strstr(o.out, "ram.outside") != NULL;
        if (found == cases[i].fits)
            printf("\n%s %s: %s\n", cases[i].sizes, cases[i].at, o.out);
        CU_ASSERT_EQUAL(found, !cases[i].fits);
        outcome_free(&o);
    }
}

/* ---- what must be on the disk ---- */

/* A host that notes which files were made and written since they were last synced. */
static struct {
    struct mos_host host;
    struct {
        int file;
        char path[1024];
        bool dirty, open;
    } files[512];
    size_t count, unsynced, folders, renames;
} disk;

static int disk_open(const struct mos_host *h, const char *path, enum mos_open_mode mode,
                     int *file) {
    (void)h;
    int e = mos_platform_host()->open(mos_platform_host(), path, mode, file);
    if (!e && mode != MOS_OPEN_READ && disk.count < 512) {
        disk.files[disk.count].file = *file;
        disk.files[disk.count].dirty = mode == MOS_OPEN_NEW;
        disk.files[disk.count].open = true;
        snprintf(disk.files[disk.count++].path, sizeof disk.files[0].path, "%s", path);
    }
    return e;
}

static void touch(int file, bool dirty) {
    for (size_t i = 0; i < disk.count; i++)
        if (disk.files[i].open && disk.files[i].file == file)
            disk.files[i].dirty = dirty;
}

static int disk_pwrite(const struct mos_host *h, int file, const void *from, size_t length,
                       uint64_t offset) {
    (void)h;
    touch(file, true);
    return mos_platform_host()->pwrite(mos_platform_host(), file, from, length, offset);
}

static int disk_resize(const struct mos_host *h, int file, uint64_t size) {
    (void)h;
    touch(file, true);
    return mos_platform_host()->resize(mos_platform_host(), file, size);
}

static int disk_sync(const struct mos_host *h, int file) {
    (void)h;
    touch(file, false);
    return mos_platform_host()->sync(mos_platform_host(), file);
}

static void disk_close(const struct mos_host *h, int file) {
    (void)h;
    for (size_t i = 0; i < disk.count; i++)
        if (disk.files[i].file == file)
            disk.files[i].open = false;
    mos_platform_host()->close(mos_platform_host(), file);
}

static int disk_sync_folder(const struct mos_host *h, const char *path) {
    (void)h;
    disk.folders++;
    return mos_platform_host()->sync_folder(mos_platform_host(), path);
}

/* Something gets its name: all that lies there must be on the disk. */
static void named(const char *from) {
    size_t n = strlen(from);
    disk.renames++;
    for (size_t i = 0; i < disk.count; i++)
        if (strncmp(disk.files[i].path, from, n) == 0 &&
            (!disk.files[i].path[n] || disk.files[i].path[n] == '/') && disk.files[i].dirty &&
            !strstr(disk.files[i].path, ".mosaicum-part")) {
            fprintf(stderr, "\nnot synced: %s\n", disk.files[i].path);
            disk.unsynced++;
        }
}

static int disk_rename(const struct mos_host *h, const char *from, const char *to) {
    (void)h;
    named(from);
    return mos_platform_host()->rename(mos_platform_host(), from, to);
}

static int disk_rename_new(const struct mos_host *h, const char *from, const char *to) {
    (void)h;
    named(from);
    return mos_platform_host()->rename_new(mos_platform_host(), from, to);
}

static int disk_exchange(const struct mos_host *h, const char *a, const char *b) {
    (void)h;
    named(a);
    return mos_platform_host()->exchange(mos_platform_host(), a, b);
}

static mosaicum *on_disk(const char *workspace, const char *cache) {
    memset(&disk, 0, sizeof disk);
    disk.host = *mos_platform_host();
    disk.host.open = disk_open;
    disk.host.pwrite = disk_pwrite;
    disk.host.resize = disk_resize;
    disk.host.sync = disk_sync;
    disk.host.close = disk_close;
    disk.host.sync_folder = disk_sync_folder;
    disk.host.rename = disk_rename;
    disk.host.rename_new = disk_rename_new;
    disk.host.exchange = disk_exchange;
    struct mosaicum_options o = {.host = &disk.host, .workspace = workspace, .cache_folder = cache};
    return mosaicum_new(&o);
}

static void finish(mosaicum *m, int status, size_t renames) {
    CU_ASSERT_EQUAL(status, 0);
    if (status)
        printf("\n%s\n", mosaicum_error(m) ? mosaicum_error(m) : "findings");
    CU_ASSERT(disk.unsynced == 0 && disk.renames >= renames && disk.folders >= 1);
    mosaicum_free(m);
}

static void what_has_a_name_is_on_the_disk(void) {
    char *w = test_folder("synced"),
         *cache = keep(path_in(test_folder("synced-cache"), "mosaicum"));
    copy_demo(w);
    CU_ASSERT(
        runs(0,
             "sed -i 's/size: 960 MiB, erase: 4 MiB/size: 48 MiB/; s/size: 64 MiB/size: 34 MiB/' "
             "'%s/boards/curlew.yaml' && echo 'outputs: {card: {compress: gz}}' >> "
             "'%s/boards/curlew.yaml'",
             w, w));
    for (int i = 0; i < 2; i++) { /* the first time, and in place of what is there */
        mosaicum *m = on_disk(w, cache);
        finish(m, mosaicum_build(m, NULL, 0, NULL), 2);
        CU_ASSERT(runs(0, "echo '# more' >> '%s/kernel/common.config'", w));
    }
    char *image = keep(path_in(w, "out/curlew/card.img")), *taken = keep(path_in(w, "kernel.img"));
    mosaicum *m = on_disk(NULL, NULL);
    finish(m, mosaicum_take(m, image, "boot:kernel", taken), 1);
    m = on_disk(NULL, NULL);
    finish(m, mosaicum_take(m, image, "root:etc", path_in(w, "etc.tar.gz")), 1);
    m = on_disk(NULL, NULL);
    finish(m, mosaicum_take(m, image, "root", path_in(w, "root.img")), 1);
    char change[1100];
    const char *changes[] = {change};
    snprintf(change, sizeof change, "boot:kernel=%s", taken);
    m = on_disk(NULL, NULL);
    finish(m, mosaicum_amend(m, image, changes, 1, path_in(w, "new.img")), 1);
    m = on_disk(w, NULL);
    finish(m, mosaicum_pin(m, NULL, 0), 1);
    m = on_disk(keep(path_in(w, "new")), NULL);
    struct mosaicum_draft d = {.name = "jetty", .cpu = "arm64", .kernel = taken};
    finish(m, mosaicum_new_board(m, &d), 3);
}

SUITE(edges_suite, {"a waiver holds on its last day", a_waiver_holds_on_its_last_day},
      {"touching is not overlapping", touching_is_not_overlapping},
      {"the smallest RAM counts", the_smallest_ram_counts},
      {"what has a name is on the disk", what_has_a_name_is_on_the_disk});
