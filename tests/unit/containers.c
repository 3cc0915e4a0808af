/* Containers of volumes in raw flash: images made here, at random, are read as they were meant. */
#include "support.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "fs/container.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_BLOCKS = 64, MOST_VOLUMES = 5, TABLE = 0x7fffefff };

/* How one is made, and what must be read out of it. */
struct flash {
    uint32_t block, part_at, data_at, blocks;
    uint8_t *bytes, taken[MOST_BLOCKS];
    uint64_t order;
    struct {
        uint32_t number, parts, pad, size; /* size: of the content of a static one */
        bool fixed;
        char name[20];
        uint8_t *content;
    } volumes[MOST_VOLUMES];
    unsigned count;
};

static void seal(uint8_t *header, size_t at) {
    mos_put_be32(header + at, mos_crc32(0, header, at) ^ UINT32_MAX);
}

/* A free block, anywhere. */
static uint32_t take_block(struct flash *f, uint64_t *seed) {
    uint32_t b = (uint32_t)random_below(seed, f->blocks);
    while (f->taken[b])
        b = (b + 1) % f->blocks;
    f->taken[b] = 1;
    return b;
}

/* sum_of: as many bytes have a sum (a static part, or one that was moved). */
static uint8_t *put_part(struct flash *f, uint32_t block, uint32_t volume, uint32_t number,
                         const uint8_t *data, uint32_t length, bool fixed, bool moved,
                         uint32_t used) {
    uint8_t *b = f->bytes + (size_t)block * f->block, *p = b + f->part_at;
    memset(p, 0, 64);
    memcpy(p, "UBI!\1", 5);
    p[5] = fixed ? 2 : 1;
    p[6] = moved;
    mos_put_be32(p + 8, volume);
    mos_put_be32(p + 12, number);
    mos_put_be32(p + 20, fixed || moved ? length : 0);
    mos_put_be32(p + 24, used);
    mos_put_be32(p + 32, fixed || moved ? mos_crc32(0, data, length) ^ UINT32_MAX : 0);
    mos_put_be64(p + 40, ++f->order);
    seal(p, 60);
    memcpy(b + f->data_at, data, length);
    return b;
}

static void put_table(struct flash *f, uint64_t *seed) {
    uint8_t *rows = calloc(128, 172);
    for (unsigned i = 0; i < 128; i++)
        seal(rows + (size_t)i * 172, 168);
    for (unsigned i = 0; i < f->count; i++) {
        uint8_t *r = rows + (size_t)f->volumes[i].number * 172;
        mos_put_be32(r, f->volumes[i].parts);
        mos_put_be32(r + 4, 1);
        mos_put_be32(r + 8, f->volumes[i].pad);
        r[12] = f->volumes[i].fixed ? 2 : 1;
        r[15] = (uint8_t)strlen(f->volumes[i].name);
        strcpy((char *)r + 16, f->volumes[i].name);
        seal(r, 168);
    }
    uint32_t room = f->block - f->data_at, length = room / 172 * 172;
    for (uint32_t i = 0; i < 2; i++)
        put_part(f, i ? take_block(f, seed) : 0, TABLE, i, rows,
                 length < 128 * 172 ? length : 128 * 172, false, false, 0);
    free(rows);
}

/* A volume: parts in any block, some never written, some written twice or moved. */
static void put_volume(struct flash *f, unsigned v, uint64_t *seed) {
    uint32_t usable = f->block - f->data_at - f->volumes[v].pad;
    uint32_t parts = f->volumes[v].parts, number = f->volumes[v].number;
    f->volumes[v].size =
        (uint32_t)(f->volumes[v].fixed ? random_below(seed, parts * usable) + 1 : parts * usable);
    uint8_t *content = f->volumes[v].content = malloc((size_t)parts * usable);
    for (size_t i = 0; i < (size_t)parts * usable; i++)
        content[i] = (uint8_t)random_next(seed);
    uint32_t used = f->volumes[v].fixed ? (f->volumes[v].size + usable - 1) / usable : 0;
    for (uint32_t k = 0; k < (used ? used : parts); k++) {
        uint8_t *data = content + (size_t)k * usable;
        uint32_t left = f->volumes[v].size - k * usable, n = left < usable ? left : usable;
        if (!used && random_below(seed, 4) == 0) {
            memset(data, 0xff, usable);
            continue;
        }
        uint8_t *old = malloc(n);
        memcpy(old, data, n);
        old[random_below(seed, n)] ^= 0x10;
        uint64_t twice = used ? 0 : random_below(seed, 4);
        if (twice == 1) /* an older one; or one that was moved and came over */
            put_part(f, take_block(f, seed), number, k, old, n, false, false, 0);
        put_part(f, take_block(f, seed), number, k, data, n, used,
                 twice == 1 && random_below(seed, 2), used);
        if (twice == 2) /* it was moved, and the move was cut off */
            put_part(f, take_block(f, seed), number, k, data, n, false, true, 0)[f->data_at] ^= 1;
        free(old);
    }
}

static void make_flash(struct flash *f, uint64_t *seed) {
    static const uint32_t pages[] = {64, 512, 2048};
    uint32_t page = pages[random_below(seed, 3)];
    *f = (struct flash){.block = 8192u << random_below(seed, 3),
                        .part_at = page,
                        .data_at = 2 * page,
                        .blocks = MOST_BLOCKS,
                        .count = 1 + (unsigned)random_below(seed, MOST_VOLUMES)};
    f->bytes = malloc((size_t)f->block * f->blocks);
    memset(f->bytes, 0xff, (size_t)f->block * f->blocks);
    for (uint32_t i = 0; i < f->blocks; i++) {
        uint8_t *h = f->bytes + (size_t)i * f->block;
        memset(h, 0, 64);
        memcpy(h, "UBI#\1", 5);
        mos_put_be32(h + 12, i); /* how often it was erased */
        mos_put_be32(h + 16, f->part_at);
        mos_put_be32(h + 20, f->data_at);
        mos_put_be32(h + 24, 0xabcd);
        seal(h, 60);
    }
    f->taken[0] = 1;
    for (unsigned i = 0; i < f->count; i++) {
        f->volumes[i].number = i * 3 + (uint32_t)random_below(seed, 3);
        f->volumes[i].parts = 1 + (uint32_t)random_below(seed, 5);
        f->volumes[i].pad = random_below(seed, 2) ? 0 : 32;
        f->volumes[i].fixed = random_below(seed, 2);
        snprintf(f->volumes[i].name, sizeof f->volumes[i].name, "volume-%u", i);
        put_volume(f, i, seed);
    }
    put_table(f, seed);
}

static void free_flash(struct flash *f) {
    for (unsigned i = 0; i < f->count; i++)
        free(f->volumes[i].content);
    free(f->bytes);
}

static void volumes_are_read_as_meant(void) {
    uint64_t seed = 41;
    for (int round = 0; round < 300; round++) {
        struct core c;
        core_start(&c);
        struct flash f;
        make_flash(&f, &seed);
        struct mos_io io = mos_io_memory(c.ctx.arena, f.bytes, (uint64_t)f.block * f.blocks);
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        struct mos_container got;
        CU_ASSERT_TRUE_FATAL(mos_container_open(&io, c.ctx.arena, &got, &problems));
        CU_ASSERT_EQUAL(problems.count, 0);
        CU_ASSERT_EQUAL(got.block, f.block);
        CU_ASSERT_EQUAL(got.length, io.size);
        CU_ASSERT_EQUAL_FATAL(got.volumes.count, f.count);
        for (unsigned i = 0; i < f.count; i++) {
            struct mos_contained *v = mos_vec_at(&got.volumes, i);
            CU_ASSERT_EQUAL(v->number, f.volumes[i].number);
            CU_ASSERT_STRING_EQUAL(v->name, f.volumes[i].name);
            CU_ASSERT_EQUAL(v->fixed, f.volumes[i].fixed);
            CU_ASSERT_EQUAL_FATAL(v->io.size, f.volumes[i].size);
            uint8_t *bytes = malloc(v->io.size);
            CU_ASSERT_EQUAL(mos_io_read(&v->io, bytes, v->io.size, 0), 0);
            CU_ASSERT_EQUAL(memcmp(bytes, f.volumes[i].content, v->io.size), 0);
            uint64_t at = random_below(&seed, v->io.size),
                     n = random_below(&seed, v->io.size - at) + 1;
            CU_ASSERT_EQUAL(mos_io_read(&v->io, bytes, n, at), 0);
            CU_ASSERT_EQUAL(memcmp(bytes, f.volumes[i].content + at, n), 0);
            CU_ASSERT(mos_io_write(&v->io, bytes, 1, 0) != 0);
            free(bytes);
        }
        free_flash(&f);
        core_end(&c);
    }
}

/* One wrong byte in a header or in a static volume is told; what is told of the others stays right.
 */
static void damage_in_containers_is_told(void) {
    uint64_t seed = 43;
    for (int round = 0; round < 300; round++) {
        struct core c;
        core_start(&c);
        struct flash f;
        make_flash(&f, &seed);
        struct mos_io io = mos_io_memory(c.ctx.arena, f.bytes, (uint64_t)f.block * f.blocks);
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        struct mos_container got;
        uint32_t block = 1 + (uint32_t)random_below(&seed, f.blocks - 2);
        uint8_t *b = f.bytes + (size_t)block * f.block, *p = b + f.part_at;
        bool holds = p[0] == 'U', fixed = holds && p[5] == 2, part = random_below(&seed, 2);
        uint32_t length = mos_be32(p + 20);
        if (fixed && part)
            b[f.data_at + random_below(&seed, length)] ^= 4;
        else
            (holds && part ? p : b)[random_below(&seed, 60)] ^= 4;
        CU_ASSERT_TRUE_FATAL(mos_container_open(&io, c.ctx.arena, &got, &problems));
        CU_ASSERT(problems.count >= 1);
        CU_ASSERT_EQUAL(got.volumes.count, f.count);
        for (unsigned i = 0; i < got.volumes.count; i++) {
            struct mos_contained *v = mos_vec_at(&got.volumes, i);
            CU_ASSERT_STRING_EQUAL(v->name, f.volumes[i].name);
            CU_ASSERT(!v->empty || (fixed && part));
        }
        free_flash(&f);
        core_end(&c);
    }
}

/* No header at the start, or one that cannot be: no container, and nothing is told of it. */
static void anything_else_is_no_container(void) {
    uint64_t seed = 47;
    for (int round = 0; round < 200; round++) {
        struct core c;
        core_start(&c);
        struct flash f;
        make_flash(&f, &seed);
        struct mos_io io = mos_io_memory(c.ctx.arena, f.bytes, (uint64_t)f.block * f.blocks);
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        struct mos_container got;
        if (round % 4 == 0) { /* where the data begins cannot be there */
            mos_put_be32(f.bytes + 20, round % 8 ? f.block : f.part_at);
            mos_put_be32(f.bytes + f.block + 20, round % 8 ? f.block : f.part_at);
            seal(f.bytes, 60);
            seal(f.bytes + f.block, 60);
        } else if (round % 4 == 1) {
            io.size = random_below(&seed, f.block);
        } else {
            f.bytes[random_below(&seed, 64)] ^= 1 << random_below(&seed, 8);
        }
        CU_ASSERT_FALSE(mos_container_open(&io, c.ctx.arena, &got, &problems));
        CU_ASSERT_EQUAL(problems.count, 0);
        free_flash(&f);
        core_end(&c);
    }
}

SUITE(containers_suite, {"volumes are read as meant", volumes_are_read_as_meant},
      {"damage is told", damage_in_containers_is_told},
      {"anything else is none", anything_else_is_no_container});
