/* Superblocks, group descriptors, bitmaps and the journal's first block. */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <stdlib.h>
#include <string.h>

/* ---- bitmaps ---- */

static void set_bits(uint8_t *map, uint32_t from, uint32_t to) {
    for (; from < to && from % 8; from++)
        map[from / 8] |= (uint8_t)(1 << from % 8);
    for (; from + 8 <= to; from += 8)
        map[from / 8] = 0xff;
    for (; from < to; from++)
        map[from / 8] |= (uint8_t)(1 << from % 8);
}

static void clear_bits(uint8_t *map, uint32_t from, uint32_t to) {
    for (; from < to; from++)
        map[from / 8] &= (uint8_t) ~(1 << from % 8);
}

static uint32_t count_bits(const uint8_t *map, uint32_t bits) {
    uint32_t n = 0;
    for (uint32_t i = 0; i < bits; i++)
        n += map[i / 8] >> i % 8 & 1;
    return n;
}

/* The block bitmap of a group; returns its free blocks. */
static uint32_t block_bitmap(const struct ext4 *v, uint32_t group, uint8_t *map) {
    uint64_t start = ext4_group_start(v, group);
    uint32_t size = (uint32_t)mos_min(v->per_group, v->blocks - start);
    memset(map, 0, v->block_size);
    set_bits(map, 0, (uint32_t)mos_min(v->next > start ? v->next - start : 0, size));
    for (size_t i = 0; i < v->gaps.count; i++) {
        const struct ext4_run *r = mos_vec_at(&v->gaps, i);
        uint64_t from = mos_max(r->start, start),
                 to = mos_min(r->start + (uint64_t)r->count, start + size);
        if (from < to)
            clear_bits(map, (uint32_t)(from - start), (uint32_t)(to - start));
    }
    set_bits(map, 0, ext4_group_reserved(v, group));
    set_bits(map, size, v->block_size * 8); /* what no group has */
    return v->block_size * 8 - count_bits(map, v->block_size * 8);
}

/* ---- group descriptors ("Block Group Descriptors", 32 bytes) ---- */

static void put_desc(struct ext4 *v, uint32_t group, uint8_t *d, uint8_t *map) {
    mos_put_le32(d + 0x0, v->block_bitmaps[group]);
    mos_put_le32(d + 0x4, v->inode_bitmaps[group]);
    mos_put_le32(d + 0x8, v->inode_tables[group]);
    mos_put_le16(d + 0xc, (uint16_t)block_bitmap(v, group, map));
    mos_volume_write(&v->base, map, v->block_size,
                     (uint64_t)v->block_bitmaps[group] * v->block_size);
    mos_put_le16(d + 0x18, (uint16_t)mos_crc32c(v->csum_seed, map, v->per_group / 8));
    uint32_t used = v->used_inodes[group];
    if (group == 0 && used < EXT4_FIRST_INODE - 1)
        used = EXT4_FIRST_INODE - 1;
    memset(map, 0, v->block_size);
    set_bits(map, 0, used);
    set_bits(map, v->inodes_per_group, v->block_size * 8);
    mos_volume_write(&v->base, map, v->block_size,
                     (uint64_t)v->inode_bitmaps[group] * v->block_size);
    mos_put_le16(d + 0x1a, (uint16_t)mos_crc32c(v->csum_seed, map, v->inodes_per_group / 8));
    mos_put_le16(d + 0xe, (uint16_t)(v->inodes_per_group - used));
    mos_put_le16(d + 0x10, (uint16_t)v->folders[group]);
    mos_put_le16(d + 0x12, 0x4); /* the inode table is zeroed */
    mos_put_le16(d + 0x1c, (uint16_t)(v->inodes_per_group - used));
    uint8_t number[4];
    mos_put_le32(number, group);
    uint32_t sum = mos_crc32c(v->csum_seed, number, 4);
    mos_put_le16(d + 0x1e, (uint16_t)mos_crc32c(sum, d, EXT4_DESC_SIZE)); /* its own field is 0 */
}

/* ---- the superblock ---- */

static void put_journal_copy(const struct ext4 *v, uint8_t *s) {
    uint32_t tree;
    mos_put_le32(s + 0xe0, EXT4_JOURNAL_INODE);
    s[0xfd] = 1; /* a copy of the journal inode's block field follows */
    ext4_extent_field(v, &v->journal, 0, s + 0x10c, &tree);
    mos_put_le32(s + 0x10c + 64, (uint32_t)v->journal.size);
}

static void put_super(const struct ext4 *v, uint8_t *s, uint64_t free_blocks,
                      uint32_t free_inodes) {
    const struct mos_volume_wish *w = &v->base.wish;
    memset(s, 0, EXT4_SUPER_SIZE);
    mos_put_le32(s + 0x0, v->inodes_per_group * v->groups);
    mos_put_le32(s + 0x4, v->blocks);
    mos_put_le32(s + 0x8, (uint32_t)(w->reserved / v->block_size));
    mos_put_le32(s + 0xc, (uint32_t)free_blocks);
    mos_put_le32(s + 0x10, free_inodes);
    mos_put_le32(s + 0x14, v->first_block);
    uint32_t log = v->block_size / 2048; /* 1024, 2048 or 4096 */
    mos_put_le32(s + 0x18, log);
    mos_put_le32(s + 0x1c, log);
    mos_put_le32(s + 0x20, v->per_group);
    mos_put_le32(s + 0x24, v->per_group);
    mos_put_le32(s + 0x28, v->inodes_per_group);
    mos_put_le32(s + 0x30, (uint32_t)w->date); /* last written */
    mos_put_le16(s + 0x36, 0xffff);            /* no check after so many mounts */
    mos_put_le16(s + 0x38, EXT4_MAGIC);
    mos_put_le16(s + 0x3a, 1);                 /* clean */
    mos_put_le16(s + 0x3c, 1);                 /* on errors go on */
    mos_put_le32(s + 0x40, (uint32_t)w->date); /* last checked */
    mos_put_le32(s + 0x4c, 1);                 /* revision with dynamic inode sizes */
    mos_put_le32(s + 0x54, EXT4_FIRST_INODE);
    mos_put_le16(s + 0x58, EXT4_INODE_SIZE);
    mos_put_le32(s + 0x5c, v->journal_blocks ? EXT4_COMPAT : EXT4_COMPAT & ~EXT4_COMPAT_JOURNAL);
    mos_put_le32(s + 0x60, EXT4_INCOMPAT);
    mos_put_le32(s + 0x64, EXT4_RO_COMPAT);
    memcpy(s + 0x68, w->uuid, 16);
    size_t label = strlen(w->label);
    memcpy(s + 0x78, w->label, label < 16 ? label : 16);
    if (v->journal_blocks)
        put_journal_copy(v, s);
    memcpy(s + 0xec, w->hash_seed, 16);
    s[0xfc] = 1;                  /* half MD4 for folders indexed later */
    mos_put_le32(s + 0x100, 0xc); /* user attributes and ACLs when mounted */
    mos_put_le32(s + 0x108, (uint32_t)w->date);
    mos_put_le16(s + 0x15c, 32); /* room behind the first 128 bytes of an inode */
    mos_put_le16(s + 0x15e, 32);
    mos_put_le32(s + 0x160, 1); /* signed folder hash */
    s[0x174] = 4;               /* 16 groups share their bookkeeping */
    s[0x175] = 1;               /* sums are CRC-32C */
}

static void write_supers(struct ext4 *v, uint8_t *s, const uint8_t *descs) {
    for (uint32_t g = 0; g < v->groups; g++) {
        if (!ext4_has_super(g))
            continue;
        uint64_t block = ext4_group_start(v, g);
        mos_put_le16(s + 0x5a, (uint16_t)g);
        mos_put_le32(s + 0x3fc, mos_crc32c(~0u, s, 0x3fc));
        uint64_t at = g == 0 ? EXT4_SUPER_OFFSET : block * v->block_size;
        mos_volume_write(&v->base, s, EXT4_SUPER_SIZE, at);
        mos_volume_write(&v->base, descs, (size_t)v->desc_blocks * v->block_size,
                         (block + 1) * v->block_size);
    }
}

/* The journal's superblock (its "Layout": big-endian, version 2). */
static void write_journal(struct ext4 *v) {
    uint8_t *j = mos_alloc(v->base.ctx->arena, 1024);
    mos_put_be32(j + 0x0, 0xc03b3998);
    mos_put_be32(j + 0x4, 4);
    mos_put_be32(j + 0xc, v->block_size);
    mos_put_be32(j + 0x10, v->journal_blocks);
    mos_put_be32(j + 0x14, 1); /* first block of the log */
    mos_put_be32(j + 0x18, 1); /* first expected commit */
    memcpy(j + 0x30, v->base.wish.uuid, 16);
    mos_put_be32(j + 0x40, 1); /* one file system uses it */
    mos_volume_write(&v->base, j, 1024, (uint64_t)v->journal.extent.physical * v->block_size);
}

void ext4_write_bookkeeping(struct ext4 *v) {
    struct mos_arena *arena = v->base.ctx->arena;
    uint8_t *descs = mos_alloc(arena, (size_t)v->desc_blocks * v->block_size);
    uint8_t *map = mos_alloc(arena, v->block_size);
    uint8_t *super = mos_alloc(arena, EXT4_SUPER_SIZE);
    uint64_t free_blocks = 0;
    uint32_t free_inodes = 0;
    for (uint32_t g = 0; g < v->groups; g++) {
        uint8_t *d = descs + (size_t)g * EXT4_DESC_SIZE;
        put_desc(v, g, d, map);
        free_blocks += mos_le16(d + 0xc);
        free_inodes += mos_le16(d + 0xe);
    }
    if (v->journal_blocks)
        write_journal(v);
    put_super(v, super, free_blocks, free_inodes);
    write_supers(v, super, descs);
}

/* ---- which bytes matter ---- */

struct exception {
    uint64_t start, end; /* bytes */
    enum mos_span_kind kind;
};

static void except(struct mos_vec *list, uint64_t start, uint64_t end, enum mos_span_kind kind) {
    if (start < end)
        *(struct exception *)mos_vec_push(list) = (struct exception){start, end, kind};
}

static int by_start(const void *a, const void *b) {
    const struct exception *x = a, *y = b;
    return (x->start > y->start) - (x->start < y->start);
}

static void add_span(struct mos_vec *spans, uint64_t start, uint64_t end, enum mos_span_kind kind) {
    if (start < end)
        *(struct mos_span *)mos_vec_push(spans) = (struct mos_span){start, end - start, kind};
}

void ext4_describe_spans(const struct ext4 *v, struct mos_vec *spans) {
    uint64_t bs = v->block_size;
    struct mos_vec list = mos_vec_make(v->base.ctx->arena, sizeof(struct exception));
    const struct mos_extent *e = mos_inv_extents(&v->journal);
    for (uint32_t i = 0; i < v->journal.extent_count; i++)
        except(&list, (e[i].physical + (i == 0)) * bs, (e[i].physical + (uint64_t)e[i].length) * bs,
               MOS_SPAN_ZERO);
    for (size_t i = 0; i < v->gaps.count; i++) {
        const struct ext4_run *r = mos_vec_at(&v->gaps, i);
        except(&list, r->start * bs, (r->start + (uint64_t)r->count) * bs, MOS_SPAN_FREE);
    }
    for (uint32_t g = 0; g < v->groups; g++) {
        uint64_t table = v->inode_tables[g] * bs, start = ext4_group_start(v, g);
        except(&list, table + v->used_inodes[g] * (uint64_t)EXT4_INODE_SIZE,
               table + v->inodes_per_group * (uint64_t)EXT4_INODE_SIZE, MOS_SPAN_ZERO);
        uint64_t from = mos_max(v->next, start + ext4_group_reserved(v, g));
        except(&list, from * bs, mos_min(start + v->per_group, v->blocks) * bs, MOS_SPAN_FREE);
    }
    except(&list, v->blocks * bs, v->base.wish.size, MOS_SPAN_FREE);
    if (list.count)
        qsort(list.items, list.count, sizeof(struct exception), by_start);
    uint64_t at = 0;
    for (size_t i = 0; i < list.count; i++) {
        const struct exception *x = mos_vec_at(&list, i);
        add_span(spans, at, x->start, MOS_SPAN_DATA);
        add_span(spans, mos_max(at, x->start), x->end, x->kind);
        at = mos_max(at, x->end);
    }
    add_span(spans, at, v->base.wish.size, MOS_SPAN_DATA);
}
