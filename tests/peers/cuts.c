/* Power cuts: a guest writes cards whose every write and flush the emulator notes (its format is
 * that of the kernel's Documentation/admin-guide/device-mapper/log-writes.rst).  Replayed up to
 * each flush, and with what came behind it in any order, torn and half lost, no card starts that is
 * not whole, and no table stands over half a content. */
#include "peers.h"

#include "base/bytes.h"
#include "disk/table.h"
#include "ledger/ledger.h"

#include <stdlib.h>
#include <string.h>

enum { SECTOR = 512, DISK = 96 << 20, FLUSH = 1, FUA = 2, DISCARD = 4, MARK = 8 };

struct entry {
    uint64_t at, length; /* bytes of the disk */
    unsigned flags;
    const uint8_t *bytes; /* NULL: a discard */
};

struct cut_log {
    char *file;
    struct entry *entries;
    size_t count;
};

static struct cut_log read_log(const char *path) {
    struct cut_log log = {0};
    size_t length;
    log.file = read_whole(path, &length);
    CU_ASSERT_FATAL(log.file && length > SECTOR);
    const uint8_t *b = (const uint8_t *)log.file;
    CU_ASSERT_FATAL(mos_le64(b) == 0x6a736677736872ull && mos_le64(b + 8) == 1 &&
                    mos_le32(b + 24) == SECTOR);
    log.entries = calloc(mos_le64(b + 16), sizeof *log.entries);
    for (size_t at = SECTOR; log.count < mos_le64(b + 16); log.count++) {
        CU_ASSERT_FATAL(at + SECTOR <= length);
        struct entry *e = &log.entries[log.count];
        *e = (struct entry){mos_le64(b + at) * SECTOR, mos_le64(b + at + 8) * SECTOR,
                            (unsigned)mos_le64(b + at + 16), NULL};
        at += SECTOR;
        if (e->flags & (DISCARD | MARK) || !e->length)
            continue;
        e->bytes = b + at;
        at += e->length;
        CU_ASSERT_FATAL(at <= length && e->at + e->length <= DISK);
    }
    return log;
}

/* The first `length` bytes of an entry come to the disk. */
static void apply(uint8_t *disk, const struct entry *e, uint64_t length) {
    if (e->bytes)
        memcpy(disk + e->at, e->bytes, (size_t)length);
    else if (e->flags & DISCARD)
        memset(disk + e->at, 0, (size_t)length);
}

/* ---- what a card may look like ---- */

struct card {
    struct core core;
    uint8_t *old, *image; /* of the disk before; of the image */
    struct mos_ledger_image_last ledger;
    uint64_t starts_at, starts_length; /* what the ROM starts */
    uint64_t usable[2];                /* bytes between the old tables */
    size_t old_states, none, complete; /* how often it looked so */
};

/* All that the ledger defines is there; but for what the ROM starts, where that is left out. */
static bool has_image(const struct card *c, const uint8_t *disk, bool start_too) {
    for (size_t i = 0; i < c->ledger.spans.count; i++) {
        const struct mos_ledger_span_last *s = mos_vec_at(&c->ledger.spans, i);
        bool table = s->offset < c->usable[0] || s->offset + s->length > c->usable[1];
        bool starts = s->offset >= c->starts_at && s->offset < c->starts_at + c->starts_length;
        if (s->kind != 'a' && (start_too || !starts) && !(table && !starts) &&
            memcmp(disk + s->offset, c->image + s->offset, (size_t)s->length) != 0)
            return false;
    }
    return true;
}

static bool is_old(const struct card *c, const uint8_t *disk) {
    return memcmp(disk + c->usable[0], c->old + c->usable[0],
                  (size_t)(c->usable[1] - c->usable[0])) == 0;
}

/* What is wrong with a disk on which the power was cut; NULL: nothing. */
static const char *wrong_with(struct card *c, uint8_t *disk) {
    struct mos_vec problems = mos_vec_make(c->core.ctx.arena, sizeof(char *));
    struct mos_table_data t;
    struct mos_io io = mos_io_memory(c->core.ctx.arena, disk, DISK);
    bool table = mos_table_read(&io, c->core.ctx.arena, &t, &problems) != NULL;
    bool old = is_old(c, disk), content = has_image(c, disk, false),
         whole = content && has_image(c, disk, true);
    const uint8_t *start = disk + c->starts_at;
    c->old_states += old;
    c->none += !table;
    c->complete += table && whole;
    if (table && !old && !content)
        return "a table stands over half a content";
    if (memcmp(start, c->image + c->starts_at, SECTOR) == 0 && !whole && !old)
        return "the ROM would start half a card";
    if (memcmp(start, c->image + c->starts_at, SECTOR) == 0 && !table && !old)
        return "the ROM would start a card without a table";
    if (memcmp(start, c->old + c->starts_at, SECTOR) == 0 && !old)
        return "the ROM would start what was there before, over half a content";
    return NULL;
}

/* Entries from..to, of which some are lost, in any order, one perhaps torn. */
static void apply_in_disorder(uint8_t *disk, const struct cut_log *log, size_t from, size_t to,
                              uint64_t *seed) {
    size_t n = to - from, *order = calloc(n + 1, sizeof *order), some = random_below(seed, n + 1);
    for (size_t i = 0; i < n; i++)
        order[i] = from + i;
    for (size_t i = 0; i < some; i++) {
        size_t k = i + random_below(seed, n - i), x = order[i];
        order[i] = order[k];
        order[k] = x;
        const struct entry *e = &log->entries[order[i]];
        bool torn = i + 1 == some && e->length > SECTOR;
        apply(disk, e, torn ? random_below(seed, e->length / SECTOR) * SECTOR : e->length);
    }
    free(order);
}

/* ---- the replay ---- */

static void start_card(struct card *c, const char *w, const char *old) {
    size_t length;
    memset(c, 0, sizeof *c);
    core_start(&c->core);
    c->old = (uint8_t *)read_whole(path_in(w, "%s", old), &length);
    CU_ASSERT_FATAL(c->old && length == DISK);
    c->image = (uint8_t *)read_whole(path_in(w, "ws/out/curlew/card.img"), &length);
    CU_ASSERT_TRUE_FATAL(c->image && mos_ledger_image_last(&c->core.ctx,
                                                           path_in(w, "ws/out/curlew/ledger.json"),
                                                           "card.img", &c->ledger));
    for (size_t i = 0; i < c->ledger.regions.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(&c->ledger.regions, i);
        if (r->starts) {
            c->starts_at = r->offset;
            c->starts_length = r->length;
        }
    }
    CU_ASSERT_FATAL(c->starts_length > 0);
    /* the tables, and what the ROM starts, are made invalid before all else */
    c->usable[0] = c->starts_at + c->starts_length;
    c->usable[1] = c->ledger.size - 34 * SECTOR;
}

static void end_card(struct card *c) {
    free(c->old);
    free(c->image);
    core_end(&c->core);
}

/* How many cuts were looked at; 0 with a failure. */
static size_t replay(struct card *c, const struct cut_log *log, unsigned orders, const char *name) {
    uint8_t *disk = malloc(DISK), *torn = malloc(DISK);
    size_t cuts = 0, flushes = 0, from = 0;
    uint64_t seed = 18;
    const char *bad = NULL;
    for (size_t i = 0; i < log->count; i++)
        flushes += (log->entries[i].flags & (FLUSH | FUA)) != 0;
    memcpy(disk, c->old, DISK);
    for (size_t i = 0; i <= log->count && !bad; i++) {
        if (i < log->count && !(log->entries[i].flags & (FLUSH | FUA)))
            continue;
        for (unsigned k = 0; k < orders / (flushes + 1) + 1 && !bad; k++, cuts++) {
            memcpy(torn, disk, DISK);
            apply_in_disorder(torn, log, from, i < log->count ? i + 1 : i, &seed);
            bad = wrong_with(c, torn);
        }
        for (; from < log->count && from <= i; from++)
            apply(disk, &log->entries[from], log->entries[from].length);
        bad = bad ? bad : wrong_with(c, disk);
        cuts++;
        if (bad)
            fprintf(stderr, "\n%s: %s, at entry %zu of %zu\n", name, bad, i, log->count);
    }
    CU_ASSERT_PTR_NULL(bad);
    CU_ASSERT_TRUE(has_image(c, disk, true) && !is_old(c, disk)); /* the last state is the card */
    free(disk);
    free(torn);
    return bad ? 0 : cuts;
}

/* Without the first writes, up to the first flush, the judgement above is another one. */
static bool would_be_noticed(struct card *c, const struct cut_log *log) {
    uint8_t *disk = malloc(DISK);
    size_t i = 0;
    bool bad = false;
    memcpy(disk, c->old, DISK);
    while (i < log->count && !(log->entries[i].flags & (FLUSH | FUA)))
        i++;
    for (; i < log->count && !bad; i++) {
        apply(disk, &log->entries[i], log->entries[i].length);
        bad = log->entries[i].length && wrong_with(c, disk);
    }
    free(disk);
    return bad;
}

/* ---- the guest ---- */

static const char board[] =
    "mosaicum: 1\nboard: curlew\n"
    "hardware: {media: {card: {kind: sd, size: {at-least: 64 MiB, at-most: 64 GiB}}}}\n"
    "rom: {order: [card], first-stage: {card: {at: 32 KiB}}}\n"
    "stages: {first: {piece: first, by: rom}}\n"
    "pieces: {first: {file: pieces/first.bin, license: MIT}}\n"
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
    "      first: {stage: first}\n"
    "      boot: {number: 1, size: 8 MiB, volume: {kind: fat16, label: BOOT, fills: {base: "
    "{folder: "
    "files, only: [f1]}}}}\n"
    "      root: {number: 2, size: rest, grows: true, volume: {kind: ext4, label: root, fills: "
    "{base: {folder: files}}}}\n";

static void build(const char *w) {
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s/ws' && mkdir -p pieces files && head -c 100000 /dev/urandom > "
             "pieces/first.bin && for i in 1 2 3; do head -c 2500000 /dev/urandom "
             "> files/f$i; done && '%s' --no-cache -q build curlew",
             w, MOSAICUM_PROGRAM));
}

/* Two disks whose writes are logged, and one for the devices that fail. */
static const char disks[] =
    "-blockdev driver=file,node-name=fa,filename=d-other "
    "-blockdev driver=file,node-name=la,filename=l-other "
    "-blockdev driver=blklogwrites,node-name=a,file=fa,log=la,log-sector-size=512 "
    "-device virtio-blk-pci,drive=a "
    "-blockdev driver=file,node-name=fb,filename=d-changed "
    "-blockdev driver=file,node-name=lb,filename=l-changed "
    "-blockdev driver=blklogwrites,node-name=b,file=fb,log=lb,log-sector-size=512 "
    "-device virtio-blk-pci,drive=b "
    "-blockdev driver=file,node-name=fc,filename=d-flaky -device virtio-blk-pci,drive=fc";

/* What comes of each write, as the guest says it. */
static const struct {
    const char *role;
    int status;
    const char *says;
} rows[] = {
    {"other", 0, "written, and read back"},
    {"changed", 0, "written, and read back"},
    {"drops", 1, "write.read-back"},
    {"fails", 3, "could not be written"},
    {"turns", 1, "write.read-back"},
    {"unreadable", 3,
     "could not be read in boot, at 2048 to 2560 KiB: the medium is damaged there"},
};

static size_t told(const char *out) {
    size_t right = 0;
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        char line[2000];
        int status = guest_result(out, rows[i].role, line, sizeof line);
        bool good = status == rows[i].status && strstr(line, rows[i].says);
        if (!good)
            fprintf(stderr, "\n%s: status %d,%s\n", rows[i].role, status, line);
        CU_ASSERT_TRUE(good);
        right += good;
    }
    return right;
}

static void cut_at_any_flush(void) {
    static const char *const logs[] = {"other", "changed"};
    char *w = keep(test_folder("cuts"));
    if (!exists(path_in(peers_cache(), "x86/complete"))) {
        proved("power cuts", "NOT DONE: its kernel could not be fetched");
        return;
    }
    write_text(path_in(w, "ws/mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "ws/boards/curlew.yaml"), board);
    build(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && cp ws/out/curlew/card.img d-changed && truncate -s 96M d-changed && "
        "head -c 100663296 /dev/urandom > d-other && printf 'label: dos\\n2048,,L' | sfdisk "
        "-q d-other && cp d-other o-other && cp d-changed o-changed && truncate -s 96M d-flaky "
        "&& truncate -s 300M l-other l-changed",
        w));
    build(w); /* another one: the card carries the build before */
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s/tests/peers/computer/prepare-cuts' '%s' '%s' '%s'",
                              MOSAICUM_SOURCE, peers_cache(), MOSAICUM_PROGRAM, w));
    struct outcome o = guest_run(w, disks);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "marker-end"));
    size_t right = told(o.out), cuts = 0, none = 0, entries = 0, noticed = 0;
    for (size_t i = 0; i < 2; i++) {
        struct card c;
        struct cut_log log = read_log(path_in(w, "l-%s", logs[i]));
        start_card(&c, w, path_in("", "o-%s", logs[i]) + 1);
        cuts += replay(&c, &log, peers_all() ? 1000 : 200, logs[i]);
        CU_ASSERT(c.old_states > 0 && c.none > 0 && c.complete > 0); /* it was in each of them */
        none += c.none;
        entries += log.count;
        bool would = would_be_noticed(&c, &log);
        CU_ASSERT_TRUE(would);
        noticed += would;
        end_card(&c);
        free(log.entries);
        free(log.file);
    }
    proved("power cuts while a card is written (the emulator's log of writes)",
           "%zu cuts in %zu entries of two writes, at each flush and in any order behind it: none "
           "starts half, %zu without a table; without the first writes %zu of 2 are found wrong",
           cuts, entries, none, noticed);
    proved("failing devices on a real kernel (flakey, scsi_debug)",
           "%zu of %zu reports as expected: dropped, refused and corrupted by the device mapper, "
           "a medium error on reading back",
           right, sizeof rows / sizeof *rows);
    outcome_free(&o);
    remove_folder(w);
}

SUITE(cuts_suite, {"cut at any flush", cut_at_any_flush});
