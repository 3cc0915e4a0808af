/* UBI, the volume manager of Linux for raw flash (linux/drivers/mtd/ubi/ubi-media.h): every block
 * that is erased at once begins with how often it was, and with which part of which volume it
 * holds.  All numbers are big-endian; each header has a CRC32 without the last inversion. */
#include "fs/container.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

/* The header of a block, at its start. */
enum { HEADER = 64, HEADER_SUM = 60, AT_VERSION = 4, AT_PART = 16, AT_DATA = 20, AT_IMAGE = 24 };
/* The header of the part of a volume in it. */
enum {
    PART_TYPE = 5, /* 1: dynamic, 2: static */
    PART_COPY = 6, /* 1: was moved here; its sum tells whether it came over whole */
    PART_VOLUME = 8,
    PART_NUMBER = 12,
    PART_SIZE = 20,
    PART_USED = 24,
    PART_PAD = 28,
    PART_DATA_SUM = 32,
    PART_ORDER = 40
};
/* A row of the table of volumes. */
enum {
    ROW = 172,
    ROWS = 128,
    ROW_BLOCKS = 0,
    ROW_PAD = 8,
    ROW_TYPE = 12,
    ROW_UPDATING = 13,
    ROW_NAME_LENGTH = 14,
    ROW_NAME = 16,
    LONGEST_NAME = 127,
    ROW_SUM = 168
};
enum { STATIC = 2, TABLE_VOLUME = 0x7fffefff, LEAST_BLOCK = 4096, MOST_BLOCK = 4 << 20 };

/* One block that holds a part. */
struct part {
    uint32_t volume, number, block;
    uint32_t size, used, pad, sum; /* static volumes, and parts that were moved */
    uint64_t order;                /* the higher one came later */
    bool fixed, moved;
};

struct ubi {
    struct mos_io *io;
    struct mos_arena *arena;
    struct mos_vec *problems;
    uint32_t block, part_at, data_at; /* bytes */
    uint32_t blocks, image;           /* image: of all blocks that belong together */
    struct mos_vec parts;             /* of struct part */
    uint8_t *scratch;                 /* a block, once one is looked at whole */
    bool lost;                        /* of some blocks it is not known what they hold */
};

/* Always true. */
static bool problem(struct ubi *u, const char *format, ...) __attribute__((format(printf, 2, 3)));
static bool problem(struct ubi *u, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    if (u->problems->count < 100)
        mos_vec_push_pointer(u->problems, mos_vprintf(u->arena, format, arguments));
    va_end(arguments);
    return true;
}

static uint32_t sum_of(const void *bytes, size_t length) {
    return mos_crc32(0, bytes, length) ^ UINT32_MAX;
}

static bool is_header(const uint8_t h[HEADER], const char *magic) {
    return memcmp(h, magic, 4) == 0 && h[AT_VERSION] == 1 &&
           mos_be32(h + HEADER_SUM) == sum_of(h, HEADER_SUM);
}

static bool is_erased(const uint8_t *bytes, size_t length) {
    return bytes[0] == 0xff && memcmp(bytes, bytes + 1, length - 1) == 0;
}

/* ---- blocks ---- */

/* Does any of the first blocks of this size, but of no larger one, begin with a header like the
 * first?  The very next one may be damaged. */
static bool is_block_size(const struct ubi *u, uint32_t size) {
    enum { TRIES = 128 };
    uint8_t h[HEADER];
    for (uint32_t n = 1; n < TRIES && (uint64_t)n * size <= u->io->size - HEADER; n += 2)
        if (!mos_io_read(u->io, h, sizeof h, (uint64_t)n * size) && is_header(h, "UBI#") &&
            mos_be32(h + AT_DATA) == u->data_at && mos_be32(h + AT_IMAGE) == u->image)
            return true;
    return false;
}

static bool find_block_size(struct ubi *u) {
    uint8_t h[HEADER];
    if (u->io->size < LEAST_BLOCK || mos_io_read(u->io, h, sizeof h, 0) || !is_header(h, "UBI#"))
        return false;
    u->part_at = mos_be32(h + AT_PART);
    u->data_at = mos_be32(h + AT_DATA);
    u->image = mos_be32(h + AT_IMAGE);
    u->block = LEAST_BLOCK;
    while (u->block <= MOST_BLOCK && !is_block_size(u, u->block))
        u->block *= 2;
    if (u->block > MOST_BLOCK)
        return false;
    u->blocks = (uint32_t)mos_min(u->io->size / u->block, UINT32_MAX);
    return u->part_at >= HEADER && u->part_at <= u->block - HEADER && u->data_at < u->block &&
           u->data_at >= u->part_at + HEADER;
}

static void take_part(struct ubi *u, uint32_t block, const uint8_t p[HEADER]) {
    struct part x = {.volume = mos_be32(p + PART_VOLUME),
                     .number = mos_be32(p + PART_NUMBER),
                     .block = block,
                     .size = mos_be32(p + PART_SIZE),
                     .used = mos_be32(p + PART_USED),
                     .pad = mos_be32(p + PART_PAD),
                     .sum = mos_be32(p + PART_DATA_SUM),
                     .order = mos_be64(p + PART_ORDER),
                     .fixed = p[PART_TYPE] == STATIC,
                     .moved = p[PART_COPY] != 0};
    if (x.pad >= u->block - u->data_at || x.size > u->block - u->data_at - x.pad)
        problem(u, "Block %u: the header of its volume makes no sense.", block);
    else
        *(struct part *)mos_vec_push(&u->parts) = x;
}

/* Reads the headers of all blocks; returns where the last one ends that belongs to it. */
static uint64_t read_blocks(struct ubi *u) {
    uint8_t h[HEADER], p[HEADER];
    uint64_t end = 0;
    uint32_t strange = 0, between = 0;
    for (uint32_t i = 0; i < u->blocks; i++) {
        uint64_t at = (uint64_t)i * u->block;
        if (mos_io_read(u->io, h, sizeof h, at) || mos_io_read(u->io, p, sizeof p, at + u->part_at))
            memset(h, 0, sizeof h);
        if (!is_header(h, "UBI#")) {
            strange += !is_erased(h, sizeof h);
            continue;
        }
        if (mos_be32(h + AT_IMAGE) != u->image)
            break; /* another one begins here */
        end = at + u->block;
        between = strange;
        if (is_header(p, "UBI!"))
            take_part(u, i, p);
        else if (!is_erased(p, sizeof p))
            u->lost = problem(u,
                              "Block %u: the header of its volume is damaged; what it held is "
                              "lost.",
                              i);
    }
    u->lost |= between != 0;
    if (between)
        problem(u, "%u of its blocks have no header that can be read.", between);
    return end;
}

static int by_place(const void *a, const void *b) {
    const struct part *x = a, *y = b;
    if (x->volume != y->volume)
        return x->volume < y->volume ? -1 : 1;
    if (x->number != y->number)
        return x->number < y->number ? -1 : 1;
    return (x->order < y->order) - (x->order > y->order);
}

static bool is_sound(struct ubi *u, const struct part *x) {
    if (!u->scratch)
        u->scratch = mos_alloc(u->arena, u->block);
    uint64_t at = (uint64_t)x->block * u->block + u->data_at;
    return !mos_io_read(u->io, u->scratch, x->size, at) && sum_of(u->scratch, x->size) == x->sum;
}

/* Of several blocks with the same part the latest counts; one that was moved only when it came over
 * whole. */
static void settle_parts(struct ubi *u) {
    if (!u->parts.count)
        return;
    qsort(u->parts.items, u->parts.count, sizeof(struct part), by_place);
    size_t kept = 0;
    for (size_t i = 0, next; i < u->parts.count; i = next) {
        struct part *first = mos_vec_at(&u->parts, i), *x = first;
        for (next = i + 1; next < u->parts.count; next++) {
            const struct part *o = mos_vec_at(&u->parts, next);
            if (o->volume != first->volume || o->number != first->number)
                break;
        }
        while (x->moved && x < first + (next - i - 1) && !is_sound(u, x))
            x++;
        *(struct part *)mos_vec_at(&u->parts, kept++) = *x;
    }
    u->parts.count = kept;
}

/* ---- volumes ---- */

/* Its parts in order; what is not there reads as erased. */
struct volume {
    struct mos_io of;
    const uint32_t *blocks; /* + 1; 0: none */
    uint32_t count, block, data_at, usable;
};

static int volume_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct volume *v = io->self;
    for (uint8_t *p = to; length;) {
        uint64_t part = offset / v->usable;
        uint32_t within = (uint32_t)(offset % v->usable);
        size_t n = (size_t)mos_min(length, v->usable - within);
        uint32_t block = part < v->count ? v->blocks[part] : 0;
        int e = 0;
        if (block)
            e = mos_io_read(&v->of, p, n, (uint64_t)(block - 1) * v->block + v->data_at + within);
        else
            memset(p, 0xff, n);
        if (e)
            return e;
        p += n;
        offset += n;
        length -= n;
    }
    return 0;
}

/* The parts of a volume are a stretch of the sorted list. */
static const struct part *parts_of(const struct ubi *u, uint32_t volume, size_t *count) {
    size_t from = 0;
    for (size_t to = u->parts.count; from < to;) {
        size_t middle = from + (to - from) / 2;
        const struct part *x = mos_vec_at(&u->parts, middle);
        if (x->volume < volume)
            from = middle + 1;
        else
            to = middle;
    }
    const struct part *first = u->parts.count ? mos_vec_at(&u->parts, from) : NULL;
    for (*count = 0; from + *count < u->parts.count && first[*count].volume == volume;)
        ++*count;
    return first;
}

static void check_fixed(struct ubi *u, const char *name, const struct part *parts, size_t count,
                        uint32_t used) {
    size_t lost = 0;
    for (size_t k = 0; k < count; k++)
        lost += parts[k].number < used && is_sound(u, &parts[k]);
    lost = used - lost;
    if (lost)
        problem(u, "Volume %s: %zu of its %u parts are missing or damaged.", name, lost, used);
}

static void add_volume(struct ubi *u, struct mos_container *out, unsigned number,
                       const uint8_t row[ROW]) {
    static const struct mos_io_driver driver = {volume_read};
    uint32_t length = (uint32_t)row[ROW_NAME_LENGTH] << 8 | row[ROW_NAME_LENGTH + 1],
             pad = mos_be32(row + ROW_PAD);
    size_t count;
    const struct part *parts = parts_of(u, number, &count);
    if (pad >= u->block - u->data_at || length > LONGEST_NAME) {
        problem(u, "Volume %u: its row in the table makes no sense.", number);
        return;
    }
    struct mos_contained *c = mos_vec_push(&out->volumes);
    struct volume *v = mos_alloc(u->arena, sizeof *v);
    c->number = number;
    c->name = mos_strndup(u->arena, (const char *)row + ROW_NAME, length);
    c->fixed = row[ROW_TYPE] == STATIC;
    if (row[ROW_UPDATING])
        problem(u, "Volume %s was being written and never was finished.", c->name);
    uint32_t most = mos_be32(row + ROW_BLOCKS), used = count ? parts[0].used : 0;
    *v = (struct volume){*u->io, NULL, 0, u->block, u->data_at, u->block - u->data_at - pad};
    uint32_t *blocks = mos_alloc_array(u->arena, mos_min(most, u->blocks), sizeof *blocks);
    for (size_t k = 0; k < count && parts[k].number < mos_min(most, u->blocks); k++) {
        blocks[parts[k].number] = parts[k].block + 1;
        v->count = parts[k].number + 1;
    }
    v->blocks = blocks;
    c->empty = !v->count && !u->lost;
    uint64_t size = (uint64_t)most * v->usable;
    if (c->fixed) {
        check_fixed(u, c->name, parts, count, used);
        bool whole = used && count && parts[count - 1].number == used - 1;
        size = mos_min(size, used ? (uint64_t)(used - 1) * v->usable +
                                        (whole ? parts[count - 1].size : v->usable)
                                  : 0);
    }
    c->io = (struct mos_io){&driver, size, v};
}

/* The table of volumes is kept twice, row by row with sums. */
static bool read_table(struct ubi *u, struct mos_container *out) {
    size_t count;
    const struct part *copies = parts_of(u, TABLE_VOLUME, &count);
    uint32_t room = u->block - u->data_at;
    uint32_t rows = room / ROW < ROWS ? room / ROW : ROWS;
    uint8_t row[ROW];
    uint64_t blocks = 0;
    bool damaged = !count;
    for (uint32_t i = 0; i < rows; i++) {
        bool good = false;
        for (size_t k = 0; k < count && !good; k++) {
            uint64_t at = (uint64_t)copies[k].block * u->block + u->data_at + (uint64_t)i * ROW;
            good = !mos_io_read(u->io, row, ROW, at) &&
                   mos_be32(row + ROW_SUM) == sum_of(row, ROW_SUM);
        }
        damaged |= !good;
        blocks += good ? mos_be32(row + ROW_BLOCKS) : 0;
        if (good && mos_be32(row + ROW_BLOCKS))
            add_volume(u, out, i, row);
    }
    if (damaged)
        problem(u, "The table of volumes is %s.", count ? "damaged" : "missing");
    uint64_t ours = out->length / u->block, taken = blocks + 2;
    out->free = taken < ours ? (ours - taken) * (u->block - u->data_at) : 0;
    return true;
}

static bool ubi_open(struct mos_io *io, struct mos_arena *arena, struct mos_container *out,
                     struct mos_vec *problems) {
    struct ubi u = {.io = io,
                    .arena = arena,
                    .problems = problems,
                    .parts = mos_vec_make(arena, sizeof(struct part))};
    if (!find_block_size(&u))
        return false;
    *out = (struct mos_container){.block = u.block,
                                  .volumes = mos_vec_make(arena, sizeof(struct mos_contained))};
    out->length = read_blocks(&u);
    settle_parts(&u);
    return read_table(&u, out);
}

const struct mos_container_driver mos_container_ubi = {.name = "ubi", .open = ubi_open};
