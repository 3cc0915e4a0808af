/* Superblocks, group descriptors, bitmaps and the journal's first block. */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <assert.h>
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
    assert(from <= to);
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
    assert(group < v->groups);
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
    assert(v->block_bitmaps[group] && v->inode_bitmaps[group] && v->inode_tables[group]);
    mos_put_le32(d + DESC_BLOCK_BITMAP, v->block_bitmaps[group]);
    mos_put_le32(d + DESC_INODE_BITMAP, v->inode_bitmaps[group]);
    mos_put_le32(d + DESC_INODE_TABLE, v->inode_tables[group]);
    mos_put_le16(d + DESC_FREE_BLOCKS, (uint16_t)block_bitmap(v, group, map));
    mos_volume_write(&v->base, map, v->block_size,
                     (uint64_t)v->block_bitmaps[group] * v->block_size);
    mos_put_le16(d + DESC_BLOCK_BITMAP_SUM,
                 (uint16_t)mos_crc32c(v->csum_seed, map, v->per_group / 8));
    uint32_t used = v->used_inodes[group];
    assert(used <= v->inodes_per_group);
    if (group == 0 && used < EXT4_FIRST_INODE - 1)
        used = EXT4_FIRST_INODE - 1;
    memset(map, 0, v->block_size);
    set_bits(map, 0, used);
    set_bits(map, v->inodes_per_group, v->block_size * 8);
    mos_volume_write(&v->base, map, v->block_size,
                     (uint64_t)v->inode_bitmaps[group] * v->block_size);
    mos_put_le16(d + DESC_INODE_BITMAP_SUM,
                 (uint16_t)mos_crc32c(v->csum_seed, map, v->inodes_per_group / 8));
    mos_put_le16(d + DESC_FREE_INODES, (uint16_t)(v->inodes_per_group - used));
    mos_put_le16(d + DESC_FOLDERS, (uint16_t)v->folders[group]);
    mos_put_le16(d + DESC_FLAGS, DESC_TABLE_ZEROED);
    mos_put_le16(d + DESC_UNUSED_INODES, (uint16_t)(v->inodes_per_group - used));
    uint8_t number[4];
    mos_put_le32(number, group);
    uint32_t sum = mos_crc32c(v->csum_seed, number, 4);
    mos_put_le16(d + DESC_SUM,
                 (uint16_t)mos_crc32c(sum, d, EXT4_DESC_SIZE)); /* its own field is 0 */
}

/* ---- the superblock ---- */

static void put_journal_copy(const struct ext4 *v, uint8_t *s) {
    uint32_t tree;
    mos_put_le32(s + SUPER_JOURNAL_INODE, EXT4_JOURNAL_INODE);
    s[SUPER_JOURNAL_COPY_KIND] = 1; /* a copy of the journal inode's block field follows */
    ext4_extent_field(v, &v->journal, 0, s + SUPER_JOURNAL_COPY, &tree);
    mos_put_le32(s + SUPER_JOURNAL_COPY_SIZE, (uint32_t)v->journal.size);
}

static void put_super(const struct ext4 *v, uint8_t *s, uint64_t free_blocks,
                      uint32_t free_inodes) {
    const struct mos_volume_wish *w = &v->base.wish;
    memset(s, 0, EXT4_SUPER_SIZE);
    mos_put_le32(s + SUPER_INODES, v->inodes_per_group * v->groups);
    mos_put_le32(s + SUPER_BLOCKS, v->blocks);
    mos_put_le32(s + SUPER_RESERVED, (uint32_t)(w->reserved / v->block_size));
    mos_put_le32(s + SUPER_FREE_BLOCKS, (uint32_t)free_blocks);
    mos_put_le32(s + SUPER_FREE_INODES, free_inodes);
    mos_put_le32(s + SUPER_FIRST_BLOCK, v->first_block);
    uint32_t log = v->block_size / 2048; /* 1024, 2048 or 4096 */
    mos_put_le32(s + SUPER_LOG_BLOCK, log);
    mos_put_le32(s + SUPER_LOG_CLUSTER, log);
    mos_put_le32(s + SUPER_PER_GROUP, v->per_group);
    mos_put_le32(s + SUPER_CLUSTERS_PER_GROUP, v->per_group);
    mos_put_le32(s + SUPER_INODES_PER_GROUP, v->inodes_per_group);
    mos_put_le32(s + SUPER_WRITTEN, (uint32_t)w->date); /* last written */
    mos_put_le16(s + SUPER_MOST_MOUNTS, 0xffff);        /* no check after so many mounts */
    mos_put_le16(s + SUPER_MAGIC, EXT4_MAGIC);
    mos_put_le16(s + SUPER_STATE, 1);                   /* clean */
    mos_put_le16(s + SUPER_ERRORS, 1);                  /* on errors go on */
    mos_put_le32(s + SUPER_CHECKED, (uint32_t)w->date); /* last checked */
    mos_put_le32(s + SUPER_REVISION, 1);                /* revision with dynamic inode sizes */
    mos_put_le32(s + SUPER_FIRST_INODE, EXT4_FIRST_INODE);
    mos_put_le16(s + SUPER_INODE_SIZE, EXT4_INODE_SIZE);
    mos_put_le32(s + SUPER_COMPAT,
                 v->journal_blocks ? EXT4_COMPAT : EXT4_COMPAT & ~EXT4_COMPAT_JOURNAL);
    mos_put_le32(s + SUPER_INCOMPAT, EXT4_INCOMPAT);
    mos_put_le32(s + SUPER_RO_COMPAT, EXT4_RO_COMPAT);
    memcpy(s + SUPER_UUID, w->uuid, 16);
    size_t label = strlen(w->label);
    memcpy(s + SUPER_LABEL, w->label, label < 16 ? label : 16);
    if (v->journal_blocks)
        put_journal_copy(v, s);
    memcpy(s + SUPER_HASH_SEED, w->hash_seed, 16);
    s[SUPER_HASH_VERSION] = 1;                  /* half MD4 for folders indexed later */
    mos_put_le32(s + SUPER_MOUNT_OPTIONS, 0xc); /* user attributes and ACLs when mounted */
    mos_put_le32(s + SUPER_MADE, (uint32_t)w->date);
    mos_put_le16(s + SUPER_LEAST_EXTRA, 32); /* room behind the first 128 bytes of an inode */
    mos_put_le16(s + SUPER_WANTED_EXTRA, 32);
    mos_put_le32(s + SUPER_FLAGS, 1); /* signed folder hash */
    s[SUPER_LOG_FLEX] = 4;            /* 16 groups share their bookkeeping */
    s[SUPER_SUM_KIND] = 1;            /* sums are CRC-32C */
}

static void write_supers(struct ext4 *v, uint8_t *s, const uint8_t *descs) {
    for (uint32_t g = 0; g < v->groups; g++) {
        if (!ext4_has_super(g))
            continue;
        uint64_t block = ext4_group_start(v, g);
        mos_put_le16(s + SUPER_GROUP, (uint16_t)g);
        mos_put_le32(s + SUPER_SUM, mos_crc32c(~0u, s, SUPER_SUM));
        uint64_t at = g == 0 ? EXT4_SUPER_OFFSET : block * v->block_size;
        mos_volume_write(&v->base, s, EXT4_SUPER_SIZE, at);
        mos_volume_write(&v->base, descs, (size_t)v->desc_blocks * v->block_size,
                         (block + 1) * v->block_size);
    }
}

/* The journal's superblock (its "Layout": big-endian, version 2). */
static void write_journal(struct ext4 *v) {
    uint8_t *j = mos_alloc(v->base.ctx->arena, 1024);
    mos_put_be32(j, JOURNAL_MAGIC);
    mos_put_be32(j + JOURNAL_KIND, 4);
    mos_put_be32(j + JOURNAL_BLOCK_SIZE, v->block_size);
    mos_put_be32(j + JOURNAL_BLOCKS, v->journal_blocks);
    mos_put_be32(j + JOURNAL_FIRST, 1);  /* first block of the log */
    mos_put_be32(j + JOURNAL_COMMIT, 1); /* first expected commit */
    memcpy(j + JOURNAL_UUID, v->base.wish.uuid, 16);
    mos_put_be32(j + JOURNAL_USERS, 1); /* one file system uses it */
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
        free_blocks += mos_le16(d + DESC_FREE_BLOCKS);
        free_inodes += mos_le16(d + DESC_FREE_INODES);
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
