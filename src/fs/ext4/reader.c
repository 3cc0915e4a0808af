/* Volumes that are there, whoever made them: ext2 and ext3 as well ("The Super Block", "Index
 * Nodes", "Extent Tree", indirect blocks).  Nothing that is read is trusted. */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <string.h>

enum {
    DEEPEST = 5,
    FIELD = 0x28,
    FIELD_SIZE = 60,
    POINTERS = 15,
    DIRECT = 12,
    SHORT_INODE = 128,
};

static bool has_csum(const struct ext4_reader *r) {
    return r->ro_compat & EXT4_RO_CSUM;
}

/* ---- the superblock ---- */

static const char *take_super(struct ext4_reader *r, const uint8_t *s) {
    uint32_t log = mos_le32(s + SUPER_LOG_BLOCK), revision = mos_le32(s + SUPER_REVISION);
    if (log > 6)
        return "The superblock states an impossible block size.";
    r->block_size = 1024u << log;
    r->compat = mos_le32(s + SUPER_COMPAT);
    r->incompat = mos_le32(s + SUPER_INCOMPAT);
    r->ro_compat = mos_le32(s + SUPER_RO_COMPAT);
    bool wide = r->incompat & EXT4_INCOMPAT_64BIT;
    r->blocks =
        mos_le32(s + SUPER_BLOCKS) | (wide ? (uint64_t)mos_le32(s + SUPER_BLOCKS_HIGH) << 32 : 0);
    r->inodes = mos_le32(s + SUPER_INODES);
    r->first_block = mos_le32(s + SUPER_FIRST_BLOCK);
    r->per_group = mos_le32(s + SUPER_PER_GROUP);
    r->inodes_per_group = mos_le32(s + SUPER_INODES_PER_GROUP);
    r->inode_size = revision ? mos_le16(s + SUPER_INODE_SIZE) : SHORT_INODE;
    r->desc_size = wide ? mos_le16(s + SUPER_DESC_SIZE) : EXT4_DESC_SIZE;
    r->first_meta = mos_le32(s + SUPER_FIRST_META);
    memcpy(r->uuid, s + SUPER_UUID, 16);
    memcpy(r->hash_seed, s + SUPER_HASH_SEED, 16);
    r->csum_seed = r->incompat & EXT4_INCOMPAT_CSUM_SEED ? mos_le32(s + SUPER_SUM_SEED)
                                                         : mos_crc32c(~0u, s + SUPER_UUID, 16);
    uint64_t bytes;
    if (!mos_mul(r->blocks, r->block_size, &bytes) || bytes > r->io->size)
        return "The file system is larger than its region.";
    if ((r->ro_compat & EXT4_RO_CSUM) && mos_crc32c(~0u, s, SUPER_SUM) != mos_le32(s + SUPER_SUM))
        return "The sum of the superblock is wrong.";
    if (!r->per_group || !r->inodes_per_group || r->per_group > r->block_size * 8 * 16 ||
        r->first_block > 1 || r->blocks <= r->first_block || !mos_is_power_of_two(r->inode_size) ||
        r->inode_size < SHORT_INODE || r->inode_size > 4096 || r->inode_size > r->block_size ||
        !mos_is_power_of_two(r->desc_size) || r->desc_size < EXT4_DESC_SIZE || r->desc_size > 1024)
        return "The superblock states impossible sizes.";
    uint64_t groups = mos_div_up(r->blocks - r->first_block, r->per_group);
    if (groups > UINT32_MAX || (uint64_t)r->inodes > r->io->size / r->inode_size ||
        (uint64_t)r->inodes > groups * r->inodes_per_group)
        return "The superblock states more inodes than there is room for.";
    r->groups = (uint32_t)groups;
    return r->incompat & EXT4_INCOMPAT_UNREADABLE ? "It uses a feature that cannot be read." : NULL;
}

bool ext4_open(struct ext4_reader *r, struct mos_ctx *ctx, struct mos_io *io, const char **why) {
    uint8_t s[EXT4_SUPER_SIZE];
    *r = (struct ext4_reader){.ctx = ctx, .io = io, .budget = 2 * io->size};
    *why = "The superblock cannot be read.";
    if (io->size < 4096 || mos_io_read(io, s, sizeof s, EXT4_SUPER_OFFSET))
        return false;
    *why = "There is no superblock.";
    if (mos_le16(s + SUPER_MAGIC) != EXT4_MAGIC)
        return false;
    *why = take_super(r, s);
    return *why == NULL;
}

bool ext4_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out) {
    uint8_t s[EXT4_SUPER_SIZE];
    struct ext4_reader r = {.io = io};
    if (io->size < 4096 || mos_io_read(io, s, sizeof s, EXT4_SUPER_OFFSET) ||
        mos_le16(s + SUPER_MAGIC) != EXT4_MAGIC)
        return false;
    const char *problem = take_super(&r, s);
    bool extents = r.incompat & 0x40, journal = r.compat & EXT4_COMPAT_JOURNAL;
    *out = (struct mos_volume_info){.kind = extents   ? "ext4"
                                            : journal ? "ext3"
                                                      : "ext2",
                                    .label = "",
                                    .id = "",
                                    .names = mos_vec_make(arena, sizeof(char *)),
                                    .damaged = problem != NULL,
                                    .problem = problem,
                                    .block_size = r.block_size};
    if (!r.block_size)
        return true;
    char id[37], label[17] = {0};
    uint64_t free_blocks = mos_le32(s + SUPER_FREE_BLOCKS);
    if (r.incompat & EXT4_INCOMPAT_64BIT)
        free_blocks |= (uint64_t)mos_le32(s + SUPER_FREE_BLOCKS_HIGH) << 32;
    mos_uuid_text(s + SUPER_UUID, id);
    memcpy(label, s + SUPER_LABEL, 16);
    out->label = mos_strdup(arena, label);
    out->id = mos_strdup(arena, id);
    out->files = mos_le32(s + SUPER_INODES) - (uint64_t)mos_le32(s + SUPER_FREE_INODES);
    out->pending = r.incompat & EXT4_INCOMPAT_RECOVER;
    if (!mos_mul(r.blocks, r.block_size, &out->size) || free_blocks > r.blocks)
        out->size = 0;
    else
        out->free = free_blocks * r.block_size;
    return true;
}

bool ext4_read_block(struct ext4_reader *r, uint64_t block, void *to) {
    return block && block < r->blocks && r->budget >= r->block_size &&
           (r->budget -= r->block_size, true) &&
           mos_io_read(r->io, to, r->block_size, block * r->block_size) == 0;
}

/* ---- inodes ---- */

uint64_t ext4_desc_offset(const struct ext4_reader *r, uint32_t group) {
    uint32_t in_block = r->block_size / r->desc_size, number = group / in_block;
    /* behind the superblock: with blocks of 1 KiB that is block 1, whatever the first block is */
    uint64_t block = (r->block_size == 1024) + 1 + (uint64_t)number;
    if ((r->incompat & EXT4_INCOMPAT_META_BG) && number >= r->first_meta) {
        uint32_t first = number * in_block;
        block = r->first_block + (uint64_t)first * r->per_group;
        block += !(r->ro_compat & 1) || ext4_has_super(first);
        block += r->block_size == 1024 && !number && !r->first_block;
    }
    return block * r->block_size + (uint64_t)(group % in_block) * r->desc_size;
}

uint64_t ext4_inode_offset(struct ext4_reader *r, uint32_t number) {
    uint8_t d[64] = {0};
    if (!number || number > r->inodes)
        return 0;
    uint32_t group = (number - 1) / r->inodes_per_group;
    size_t n = r->desc_size < sizeof d ? r->desc_size : sizeof d;
    if (group >= r->groups || mos_io_read(r->io, d, n, ext4_desc_offset(r, group)))
        return 0;
    uint64_t table = mos_le32(d + DESC_INODE_TABLE) |
                     (n >= 64 ? (uint64_t)mos_le32(d + DESC_HIGH + DESC_INODE_TABLE) << 32 : 0);
    uint64_t at = (uint64_t)((number - 1) % r->inodes_per_group) * r->inode_size;
    return table && table < r->blocks ? table * r->block_size + at : 0;
}

static bool good_sum(const struct ext4_reader *r, struct ext4_inode *i) {
    uint8_t number[8];
    uint8_t *raw = i->raw;
    if (!has_csum(r))
        return true;
    bool wide = r->inode_size > SHORT_INODE && mos_le16(raw + INODE_EXTRA_SIZE) >= 4;
    uint32_t stated =
        mos_le16(raw + INODE_SUM) | (wide ? (uint32_t)mos_le16(raw + INODE_SUM_HIGH) << 16 : 0);
    mos_put_le32(number, i->number);
    mos_put_le32(number + 4, i->generation);
    mos_put_le16(raw + INODE_SUM, 0);
    uint16_t high = wide ? mos_le16(raw + INODE_SUM_HIGH) : 0;
    if (wide)
        mos_put_le16(raw + INODE_SUM_HIGH, 0);
    uint32_t sum = mos_crc32c(mos_crc32c(r->csum_seed, number, 8), raw, r->inode_size);
    mos_put_le16(raw + INODE_SUM, (uint16_t)stated);
    if (wide)
        mos_put_le16(raw + INODE_SUM_HIGH, high);
    return (wide ? sum : sum & 0xffff) == stated;
}

bool ext4_read_inode(struct ext4_reader *r, uint32_t number, struct ext4_inode *i) {
    uint64_t at = ext4_inode_offset(r, number);
    uint8_t *raw = i->raw;
    if (!at || mos_io_read(r->io, raw, r->inode_size, at))
        return false;
    i->number = number;
    i->mode = mos_le16(raw + INODE_MODE);
    i->uid = mos_le16(raw + INODE_UID) | (uint32_t)mos_le16(raw + INODE_UID_HIGH) << 16;
    i->gid = mos_le16(raw + INODE_GID) | (uint32_t)mos_le16(raw + INODE_GID_HIGH) << 16;
    i->size = mos_le32(raw + INODE_SIZE) | (uint64_t)mos_le32(raw + INODE_SIZE_HIGH) << 32;
    i->links = mos_le16(raw + INODE_LINKS);
    i->flags = mos_le32(raw + INODE_FLAGS);
    i->generation = mos_le32(raw + INODE_GENERATION);
    i->attributes_block =
        mos_le32(raw + INODE_ATTRIBUTES) | (uint64_t)mos_le16(raw + INODE_ATTRIBUTES_HIGH) << 32;
    i->mtime = (int32_t)mos_le32(raw + INODE_MTIME);
    i->mtime_ns = 0;
    if (r->inode_size > SHORT_INODE && mos_le16(raw + INODE_EXTRA_SIZE) >= 12) {
        uint32_t extra = mos_le32(raw + INODE_MTIME_EXTRA);
        i->mtime += (int64_t)(extra & 3) << 32;
        i->mtime_ns = extra >> 2 < 1000000000 ? extra >> 2 : 0;
    }
    return good_sum(r, i);
}

/* ---- where content lies ---- */

struct mapping {
    struct ext4_reader *r;
    const struct ext4_inode *inode;
    struct mos_vec *out, *nodes;
    uint64_t next, last; /* logical blocks: the next that may come, and the file's end */
};

static bool add_run(struct mapping *m, uint64_t logical, uint64_t physical, uint64_t length) {
    if (logical < m->next || length > m->r->blocks)
        return false;
    if (physical && (physical >= m->r->blocks || length > m->r->blocks - physical))
        return false;
    m->next = logical + length;
    struct ext4_file_run *before = m->out->count ? mos_vec_at(m->out, m->out->count - 1) : NULL;
    if (before && before->logical + before->length == logical && physical && before->physical &&
        before->physical + before->length == physical)
        before->length += length;
    else
        *(struct ext4_file_run *)mos_vec_push(m->out) =
            (struct ext4_file_run){logical, physical, length};
    return true;
}

static bool good_extent_block(const struct mapping *m, const uint8_t *node) {
    const struct ext4_reader *r = m->r;
    uint8_t number[8];
    if (!has_csum(r))
        return true;
    size_t tail = EXTENT_SIZE + (size_t)mos_le16(node + EXTENT_ROOM) * EXTENT_SIZE;
    if (tail + 4 > r->block_size)
        return false;
    mos_put_le32(number, m->inode->number);
    mos_put_le32(number + 4, m->inode->generation);
    uint32_t sum = mos_crc32c(r->csum_seed, number, 8);
    return mos_crc32c(sum, node, tail) == mos_le32(node + tail);
}

static bool map_extents(struct mapping *m, const uint8_t *node, size_t size, unsigned depth) {
    uint32_t count = mos_le16(node + EXTENT_COUNT);
    if (mos_le16(node) != EXTENT_MAGIC || mos_le16(node + EXTENT_DEPTH) != depth ||
        depth > DEEPEST || count > (size - EXTENT_SIZE) / EXTENT_SIZE)
        return false;
    uint8_t *block = depth ? mos_alloc(m->r->ctx->arena, m->r->block_size) : NULL;
    for (uint32_t i = 0; i < count; i++) {
        const uint8_t *e = node + EXTENT_SIZE + (size_t)i * EXTENT_SIZE;
        if (!depth) {
            uint32_t length = mos_le16(e + EXTENT_LENGTH);
            uint64_t physical =
                mos_le32(e + EXTENT_START) | (uint64_t)mos_le16(e + EXTENT_START_HIGH) << 32;
            bool unwritten = length > EXT4_LONGEST_EXTENT;
            if (unwritten)
                length -= EXT4_LONGEST_EXTENT;
            if (!length || (!unwritten && !physical) ||
                !add_run(m, mos_le32(e + EXTENT_LOGICAL), unwritten ? 0 : physical, length))
                return false;
            continue;
        }
        uint64_t below = mos_le32(e + EXTENT_BELOW) | (uint64_t)mos_le16(e + EXTENT_BELOW_HIGH)
                                                          << 32;
        if (!ext4_read_block(m->r, below, block) || mos_le16(block + EXTENT_DEPTH) != depth - 1 ||
            !good_extent_block(m, block))
            return false;
        if (m->nodes)
            *(uint64_t *)mos_vec_push(m->nodes) = below;
        if (!map_extents(m, block, m->r->block_size, depth - 1))
            return false;
    }
    return true;
}

/* The block map of ext2 and ext3: direct blocks, then trees of one to three levels. */
static bool map_pointers(struct mapping *m, uint64_t pointer, unsigned level, uint64_t *logical) {
    uint64_t span = 1, in_block = m->r->block_size / 4;
    for (unsigned i = 0; i < level; i++)
        span *= in_block;
    if (!pointer || *logical >= m->last) {
        *logical += span;
        return true;
    }
    if (!level)
        return add_run(m, (*logical)++, pointer, 1);
    uint8_t *block = mos_alloc(m->r->ctx->arena, m->r->block_size);
    if (!ext4_read_block(m->r, pointer, block))
        return false;
    if (m->nodes)
        *(uint64_t *)mos_vec_push(m->nodes) = pointer;
    for (uint64_t i = 0; i < in_block && *logical < m->last; i++)
        if (!map_pointers(m, mos_le32(block + 4 * i), level - 1, logical))
            return false;
    return true;
}

bool ext4_map(struct ext4_reader *r, const struct ext4_inode *inode, struct mos_vec *out,
              struct mos_vec *nodes) {
    struct mapping m = {r, inode, out, nodes, 0, mos_div_up(inode->size, r->block_size)};
    const uint8_t *field = inode->raw + FIELD;
    out->count = 0;
    if (inode->flags & EXT4_FLAG_EXTENTS)
        return map_extents(&m, field, FIELD_SIZE, mos_le16(field + EXTENT_DEPTH));
    uint64_t logical = 0;
    for (unsigned i = 0; i < POINTERS && logical < m.last; i++)
        if (!map_pointers(&m, mos_le32(field + 4 * (size_t)i), i < DIRECT ? 0 : i - DIRECT + 1,
                          &logical))
            return false;
    return true;
}
