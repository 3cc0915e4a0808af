/* Inodes ("Index Nodes"), 256 bytes each. */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <string.h>

enum { FLAG_EXTENTS = 0x80000, EXTRA_SIZE = 32, TABLE_PIECE = 65536 };

static uint32_t extra_time(int64_t seconds, uint32_t ns) {
    uint32_t epoch = (uint32_t)((uint64_t)(seconds - (int32_t)(uint32_t)seconds) >> 32) & 3;
    return ns << 2 | epoch;
}

static void put_times(uint8_t *i, int64_t seconds, uint32_t ns, int64_t made) {
    static const uint8_t low[] = {INODE_ATIME, INODE_CTIME, INODE_MTIME};
    static const uint8_t high[] = {INODE_ATIME_EXTRA, INODE_CTIME_EXTRA, INODE_MTIME_EXTRA};
    for (size_t k = 0; k < 3; k++) {
        mos_put_le32(i + low[k], (uint32_t)seconds);
        mos_put_le32(i + high[k], extra_time(seconds, ns));
    }
    mos_put_le32(i + INODE_CRTIME, (uint32_t)made);
    mos_put_le32(i + INODE_CRTIME_EXTRA, extra_time(made, 0));
}

/* The block field of a device: the old form for small numbers, else the new one behind it. */
static void put_device(uint8_t *field, uint32_t device) {
    uint32_t major = device >> 20, minor = device & 0xfffff;
    if (major < 256 && minor < 256)
        mos_put_le32(field, major << 8 | minor);
    else
        mos_put_le32(field + 4, (minor & 0xff) | major << 8 | (minor & ~0xffu) << 12);
}

static uint16_t type_bits(uint8_t type) {
    static const uint16_t bits[] = {
        [MOS_ENTRY_FILE] = 0100000,  [MOS_ENTRY_FOLDER] = 0040000, [MOS_ENTRY_LINK] = 0120000,
        [MOS_ENTRY_CHAR] = 0020000,  [MOS_ENTRY_BLOCK] = 0060000,  [MOS_ENTRY_FIFO] = 0010000,
        [MOS_ENTRY_SOCKET] = 0140000};
    return bits[type];
}

static void put_content(const struct ext4 *v, uint8_t *i, const struct mos_inv_node *n,
                        uint32_t index) {
    uint64_t blocks = 0, size = n->size;
    uint32_t tree = 0;
    const struct mos_extent *e = n->type == MOS_ENTRY_LINK ? &n->extent : mos_inv_extents(n);
    for (uint32_t k = 0; k < n->extent_count; k++)
        blocks += e[k].length;
    if (n->type == MOS_ENTRY_CHAR || n->type == MOS_ENTRY_BLOCK) {
        put_device(i + INODE_FIELD, n->device);
    } else if (n->type == MOS_ENTRY_LINK && !n->extent_count) {
        memcpy(i + INODE_FIELD, n->more.text, strlen(n->more.text));
    } else if (n->type == MOS_ENTRY_FILE || n->type == MOS_ENTRY_FOLDER ||
               n->type == MOS_ENTRY_LINK) {
        ext4_extent_field(v, n, index, i + INODE_FIELD, &tree);
        mos_put_le32(i + INODE_FLAGS, FLAG_EXTENTS | (n->indexed ? EXT4_FLAG_INDEXED : 0));
    }
    if (n->type == MOS_ENTRY_LINK)
        size = strlen(n->more.text);
    uint32_t attributes = ext4_put_attributes(v, n, i);
    mos_put_le32(i + INODE_ATTRIBUTES, attributes);
    tree += attributes != 0;
    uint64_t sectors = (blocks + tree) * (v->block_size / 512);
    mos_put_le32(i + INODE_SECTORS, (uint32_t)sectors);
    mos_put_le16(i + INODE_SECTORS_HIGH, (uint16_t)(sectors >> 32));
    mos_put_le32(i + INODE_SIZE, (uint32_t)size);
    mos_put_le32(i + INODE_SIZE_HIGH, (uint32_t)(size >> 32));
}

static void put_inode(const struct ext4 *v, uint8_t *i, const struct mos_inv_node *n,
                      uint32_t inode, uint32_t index) {
    memset(i, 0, EXT4_INODE_SIZE);
    mos_put_le16(i + INODE_MODE, (uint16_t)(type_bits(n->type) | n->mode));
    mos_put_le16(i + INODE_UID, (uint16_t)n->uid);
    mos_put_le16(i + INODE_UID_HIGH, (uint16_t)(n->uid >> 16));
    mos_put_le16(i + INODE_GID, (uint16_t)n->gid);
    mos_put_le16(i + INODE_GID_HIGH, (uint16_t)(n->gid >> 16));
    mos_put_le16(i + INODE_LINKS, (uint16_t)n->links);
    mos_put_le16(i + INODE_EXTRA_SIZE, EXTRA_SIZE);
    put_times(i, n->mtime, n->mtime_ns, v->base.wish.date);
    put_content(v, i, n, index);
    uint32_t sum = mos_crc32c(ext4_inode_seed(v, inode), i, EXT4_INODE_SIZE); /* sums are 0 */
    mos_put_le16(i + INODE_SUM, (uint16_t)sum);
    mos_put_le16(i + INODE_SUM_HIGH, (uint16_t)(sum >> 16));
}

/* Inodes in a row go out together. */
struct table {
    struct ext4 *v;
    uint8_t *piece;
    size_t length;
    uint64_t offset;
};

static void flush(struct table *t) {
    if (t->length)
        mos_volume_write(&t->v->base, t->piece, t->length, t->offset);
    t->length = 0;
}

static void write_inode(struct table *t, const struct mos_inv_node *n, uint32_t inode,
                        uint32_t index) {
    struct ext4 *v = t->v;
    uint32_t group = (inode - 1) / v->inodes_per_group, at = (inode - 1) % v->inodes_per_group;
    uint64_t offset =
        (uint64_t)v->inode_tables[group] * v->block_size + (uint64_t)at * EXT4_INODE_SIZE;
    v->used_inodes[group] = at + 1;
    v->folders[group] += n->type == MOS_ENTRY_FOLDER;
    if (!v->base.io)
        return;
    if (offset != t->offset + t->length || t->length == TABLE_PIECE)
        flush(t);
    if (!t->length)
        t->offset = offset;
    put_inode(v, t->piece + t->length, n, inode, index);
    t->length += EXT4_INODE_SIZE;
}

void ext4_write_inodes(struct ext4 *v) {
    struct table t = {.v = v, .piece = mos_alloc(v->base.ctx->arena, TABLE_PIECE)};
    struct mos_inventory *inv = v->base.inventory;
    write_inode(&t, mos_inv_node(inv, 0), EXT4_ROOT_INODE, 0);
    if (v->journal_blocks)
        write_inode(&t, &v->journal, EXT4_JOURNAL_INODE, 0);
    if (v->lost.inode)
        write_inode(&t, &v->lost, EXT4_FIRST_INODE, 0);
    for (uint32_t i = 1; i < inv->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(inv, i);
        if (n->type != MOS_ENTRY_HARD_LINK)
            write_inode(&t, n, n->inode, i);
    }
    flush(&t);
}
