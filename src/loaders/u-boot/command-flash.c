/* sf and nand (the loader's cmd/sf.c, cmd/nand.c): a flash that is read, erased and written.
 * Numbers are hexadecimal.  What is written stays in memory, unless the medium keeps it. */
#include "loaders/u-boot/inside.h"

#include "base/bytes.h"

#include <string.h>

enum { PIECE = 4096 };

struct flash {
    struct sim *s;
    struct sim_disk *d;
    const char *number;
    bool nor;
    uint64_t size, block; /* bytes of the flash, and of what is erased at once */
};

static bool is_bad(const struct flash *f, uint64_t at) {
    const struct mos_rig_medium *m = f->d->medium;
    for (size_t i = 0; i < m->bad_count; i++)
        if (m->bad[i] == at / f->block)
            return true;
    return false;
}

static void step_over(const struct flash *f, uint64_t at) {
    sim_print(f->s, "Skip bad block 0x%08llx\n", (unsigned long long)at);
}

/* The next place at or behind `at` that is in no bad block; the flash's end: there is none. */
static uint64_t good_from(const struct flash *f, uint64_t at, bool tell) {
    for (; at < f->size && is_bad(f, at); at = (at / f->block + 1) * f->block)
        if (tell)
            step_over(f, at / f->block * f->block);
    return mos_min(at, f->size);
}

/* How much of `length` bytes lies in one piece from a good place on. */
static uint64_t good_length(const struct flash *f, uint64_t at, uint64_t length) {
    return f->nor || !f->d->medium->bad_count ? length : mos_min(length, f->block - at % f->block);
}

/* Do `length` bytes of good blocks lie behind `at`? */
static bool has_room(const struct flash *f, uint64_t at, uint64_t length) {
    while (length) {
        at = good_from(f, at, false);
        if (at >= f->size)
            return false;
        uint64_t n = mos_min(good_length(f, at, length), f->size - at);
        at += n;
        length -= n;
    }
    return true;
}

/* ---- erasing ---- */

static int fill(const struct flash *f, uint64_t at, uint64_t length) {
    uint8_t erased[PIECE];
    memset(erased, 0xff, sizeof erased);
    for (uint64_t n; length; at += n, length -= n) {
        n = mos_min(sizeof erased, length);
        int e = mos_io_write(sim_disk_to_write(f->s, f->d), erased, (size_t)n, at);
        if (e)
            return e;
    }
    return 0;
}

static int erase(const struct flash *f, uint64_t at, uint64_t length) {
    struct sim *s = f->s;
    sim_charge(s, length);
    if (at % f->block || length % f->block || at > f->size || length > f->size - at)
        return f->nor ? sim_trouble(s, "SF: %llu bytes @ 0x%llx Erased: ERROR -22",
                                    (unsigned long long)length, (unsigned long long)at)
                      : sim_trouble(s, "Attempt to erase non block-aligned data");
    if (!f->nor)
        sim_print(s, "\nNAND erase: device %s offset 0x%llx, size 0x%llx\n", f->number,
                  (unsigned long long)at, (unsigned long long)length);
    uint64_t end = at + length, step = f->d->medium->bad_count ? f->block : mos_max(length, 1);
    for (uint64_t from = at; from < end; from += step)
        if (is_bad(f, from))
            sim_print(s, "Skipping bad block at  0x%08llx\n", (unsigned long long)from);
        else if (fill(f, from, mos_min(step, end - from)))
            return sim_trouble(s, "ERROR");
    if (f->nor)
        sim_print(s, "SF: %llu bytes @ 0x%llx Erased: OK\n", (unsigned long long)length,
                  (unsigned long long)at);
    else
        sim_print(s, "OK\n");
    return 0;
}

/* ---- writing ---- */

/* Programming clears bits and sets none. */
static int program(const struct flash *f, uint64_t from, uint64_t at, uint64_t length) {
    struct mos_io *io = sim_disk_to_write(f->s, f->d);
    uint8_t now[PIECE], bytes[PIECE];
    for (uint64_t n; length; at += n, from += n, length -= n) {
        n = mos_min(sizeof now, length);
        int e = mos_io_read(io, now, (size_t)n, at);
        sim_ram_read(f->s, from, bytes, (size_t)n);
        for (size_t i = 0; i < n; i++)
            now[i] &= bytes[i];
        e = e ? e : mos_io_write(io, now, (size_t)n, at);
        if (e)
            return e;
    }
    return 0;
}

static int write_flash(const struct flash *f, uint64_t from, uint64_t at, uint64_t length) {
    struct sim *s = f->s;
    uint64_t left = length, to = at;
    int e = 0;
    sim_charge(s, length);
    if (sim_aborts(s, from))
        return 1;
    if (!f->nor)
        sim_print(s, "\nNAND write: device %s offset 0x%llx, size 0x%llx\n", f->number,
                  (unsigned long long)at, (unsigned long long)length);
    if (!has_room(f, at, length))
        return f->nor ? sim_trouble(s, "ERROR: attempting write past flash size (0x%llx)",
                                    (unsigned long long)f->size)
                      : sim_trouble(s, "Size of write exceeds partition or device limit");
    for (uint64_t n; left && !e; to += n, from += n, left -= n) {
        to = f->nor ? to : good_from(f, to, true);
        n = good_length(f, to, left);
        e = program(f, from, to, n);
    }
    const char *end = e ? "ERROR" : "OK";
    if (f->nor)
        sim_print(s, "SF: %llu bytes @ 0x%llx Written: %s\n", (unsigned long long)length,
                  (unsigned long long)at, end);
    else
        sim_print(s, " %llu bytes written: %s\n", (unsigned long long)length, end);
    return e != 0;
}

/* sf update: what differs is erased and written, what lies around it in its blocks stays. */
static int update(const struct flash *f, uint64_t from, uint64_t at, uint64_t length) {
    struct mos_io *io = sim_disk_to_write(f->s, f->d);
    uint8_t bytes[PIECE];
    sim_charge(f->s, length);
    if (sim_aborts(f->s, from))
        return 1;
    if (at > f->size || length > f->size - at)
        return sim_trouble(f->s, "ERROR: attempting update past flash size (0x%llx)",
                           (unsigned long long)f->size);
    for (uint64_t done = 0, n; done < length; done += n) {
        n = mos_min(sizeof bytes, length - done);
        sim_ram_read(f->s, from + done, bytes, (size_t)n);
        if (mos_io_write(io, bytes, (size_t)n, at + done))
            return sim_trouble(f->s, "SPI flash failed in write step");
    }
    sim_print(f->s, "%llu bytes written, 0 bytes skipped\n", (unsigned long long)length);
    return 0;
}

/* ---- reading ---- */

static int read_flash(const struct flash *f, uint64_t to, uint64_t from, uint64_t length) {
    struct sim *s = f->s;
    bool bad = false;
    uint64_t at = from, into = to;
    if (!has_room(f, from, length))
        return f->nor || !f->d->medium->bad_count
                   ? sim_trouble(s, "ERROR: attempting read past flash size (0x%llx)",
                                 (unsigned long long)f->size)
                   : sim_trouble(s, "Attempt to read outside the flash area");
    for (uint64_t left = length, n; left && !bad; at += n, into += n, left -= n) {
        at = f->nor ? at : good_from(f, at, true);
        n = good_length(f, at, left);
        bad = ub_read_bytes(s, f->d, into, at, n) != 0;
    }
    if (f->nor)
        sim_print(s, "SF: %llu bytes @ 0x%llx Read: %s\n", (unsigned long long)length,
                  (unsigned long long)from, bad ? "ERROR" : "OK");
    else
        sim_print(s, "NAND read: device %s offset 0x%llx, size 0x%llx\n %llu bytes read: %s\n",
                  f->number, (unsigned long long)from, (unsigned long long)length,
                  (unsigned long long)length, bad ? "ERROR" : "OK");
    return bad;
}

/* ---- the commands ---- */

/* read TO FROM LENGTH, write FROM TO LENGTH, update FROM TO LENGTH, erase AT LENGTH; -1: another.
 */
static int move(const struct flash *f, int argc, const char *const *argv) {
    uint64_t ram, at, length;
    const char *what = argv[1];
    bool erases = strcmp(what, "erase") == 0;
    if (argc != (erases ? 4 : 5) || !sim_address(argv[argc - 2], &at) ||
        !sim_address(argv[argc - 1], &length) || (!erases && !sim_address(argv[2], &ram)))
        return -1;
    return erases                       ? erase(f, at, length)
           : strcmp(what, "read") == 0  ? read_flash(f, ram, at, length)
           : strcmp(what, "write") == 0 ? write_flash(f, ram, at, length)
                                        : update(f, ram, at, length);
}

static int run_flash(struct sim *s, int argc, const char *const *argv) {
    struct flash f = {.s = s, .nor = strcmp(argv[0], "sf") == 0};
    f.number = ub_current_number(s, argv[0]);
    if (argc < 2)
        return -1;
    bool chooses = strcmp(argv[1], f.nor ? "probe" : "device") == 0;
    if (chooses && argc > 2) {
        f.number = f.nor && strchr(argv[2], ':')
                       ? mos_strndup(s->arena, argv[2], strcspn(argv[2], ":"))
                       : argv[2];
        own(s)->current = mos_printf(s->arena, "%s %s", argv[0], f.number);
    }
    f.d = sim_disk(s, argv[0], f.number);
    if (!f.d)
        return f.nor ? sim_trouble(s, "Failed to initialize SPI flash at 0:0 (error -2)")
                     : sim_trouble(s, "no devices available");
    f.size = f.d->io->size;
    f.block = f.d->medium->erase ? f.d->medium->erase : 1;
    if (chooses || (!f.nor && strcmp(argv[1], "info") == 0))
        return 0;
    if (strcmp(argv[1], "read") == 0 || strcmp(argv[1], "write") == 0 ||
        strcmp(argv[1], "erase") == 0 || (f.nor && strcmp(argv[1], "update") == 0))
        return move(&f, argc, argv);
    sim_unknown(s, "what %s %s does", argv[0], argv[1]);
    return 0;
}

const struct ub_command ub_commands_flash[] = {
    {"sf", run_flash, 5}, {"nand", run_flash, 0}, {NULL, NULL, 0}};
