/* Blocks and inodes of a volume that is changed in place ("Block Group Descriptors"). */
#include "fs/ext4/edit_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <errno.h>
#include <string.h>

enum { LONG_RUN = 2048 };

void ext4_edit_write(struct ext4_editor *x, const void *bytes, size_t length, uint64_t offset) {
    if (!x->errnum)
        x->errnum = mos_io_write(x->io, bytes, length, offset);
}

bool ext4_edit_read(struct ext4_editor *x, uint64_t block, void *to) {
    if (!block || block >= x->r.blocks)
        return false;
    int e = mos_io_read(x->io, to, x->r.block_size, block * x->r.block_size);
    if (e && !x->errnum)
        x->errnum = e;
    return !e;
}

/* ---- descriptors ---- */

static bool wide(const struct ext4_editor *x) {
    return x->r.desc_size >= 64;
}

static uint64_t block_at(const struct ext4_editor *x, const uint8_t *d, size_t field) {
    return mos_le32(d + field) | (wide(x) ? (uint64_t)mos_le32(d + DESC_HIGH + field) << 32 : 0);
}

/* The high halves of the 16-bit fields lie at other distances. */
static size_t high_of(size_t field) {
    switch (field) {
    case DESC_UNUSED_INODES:
        return DESC_UNUSED_INODES_HIGH;
    case DESC_BLOCK_BITMAP_SUM:
        return DESC_BLOCK_BITMAP_SUM_HIGH;
    case DESC_INODE_BITMAP_SUM:
        return DESC_INODE_BITMAP_SUM_HIGH;
    default: /* free blocks, free inodes, folders */
        return field + DESC_HIGH;
    }
}

static uint32_t get16(const struct ext4_editor *x, const uint8_t *d, size_t field) {
    return mos_le16(d + field) | (wide(x) ? (uint32_t)mos_le16(d + high_of(field)) << 16 : 0);
}

static void set16(const struct ext4_editor *x, uint8_t *d, size_t field, uint32_t value) {
    mos_put_le16(d + field, (uint16_t)value);
    if (wide(x))
        mos_put_le16(d + high_of(field), (uint16_t)(value >> 16));
}

static struct ext4_edit_group *group_at(struct ext4_editor *x, uint32_t number) {
    struct ext4_edit_group *g = &x->groups[number];
    size_t n = x->r.desc_size < sizeof g->desc ? x->r.desc_size : sizeof g->desc;
    if (!g->read) {
        int e = mos_io_read(x->io, g->desc, n, ext4_desc_offset(&x->r, number));
        if (e && !x->errnum)
            x->errnum = e;
        g->read = true;
    }
    return g;
}

static uint64_t group_start(const struct ext4_editor *x, uint32_t number) {
    return x->r.first_block + (uint64_t)number * x->r.per_group;
}

static uint32_t group_size(const struct ext4_editor *x, uint32_t number) {
    return (uint32_t)mos_min(x->r.per_group, x->r.blocks - group_start(x, number));
}

static bool get_bit(const uint8_t *map, uint32_t bit) {
    return map[bit / 8] >> bit % 8 & 1;
}
static void set_bit(uint8_t *map, uint32_t bit) {
    map[bit / 8] |= (uint8_t)(1 << bit % 8);
}
static void clear_bit(uint8_t *map, uint32_t bit) {
    map[bit / 8] &= (uint8_t) ~(1 << bit % 8);
}

static bool has_super(const struct ext4_editor *x, uint32_t number) {
    if (x->r.compat & 0x200) /* sparse_super2 names two groups */
        return !number || number == mos_le32(x->super + SUPER_SPARSE_FIRST) ||
               number == mos_le32(x->super + SUPER_SPARSE_SECOND);
    return !(x->r.ro_compat & 1) || ext4_has_super(number);
}

/* The bitmap that a group would have if it had been written: superblock, descriptors, and its own
 * bitmaps and inode table where they lie in it. */
static void make_block_bitmap(struct ext4_editor *x, uint32_t number, uint8_t *map) {
    struct ext4_edit_group *g = group_at(x, number);
    uint64_t start = group_start(x, number);
    uint32_t size = group_size(x, number), front = 0;
    uint32_t desc_blocks =
        (uint32_t)mos_div_up((uint64_t)x->r.groups * x->r.desc_size, x->r.block_size);
    memset(map, 0, x->r.block_size);
    if (has_super(x, number))
        front = 1 + desc_blocks + mos_le16(x->super + SUPER_RESERVED_DESCS);
    for (uint32_t i = 0; i < front && i < size; i++)
        set_bit(map, i);
    uint64_t own[] = {block_at(x, g->desc, DESC_BLOCK_BITMAP),
                      block_at(x, g->desc, DESC_INODE_BITMAP),
                      block_at(x, g->desc, DESC_INODE_TABLE)};
    uint64_t table = mos_div_up((uint64_t)x->r.inodes_per_group * x->r.inode_size, x->r.block_size);
    for (size_t k = 0; k < 3; k++)
        for (uint64_t i = 0; i < (k == 2 ? table : 1); i++)
            if (own[k] + i >= start && own[k] + i < start + size)
                set_bit(map, (uint32_t)(own[k] + i - start));
    for (uint32_t i = size; i < x->r.block_size * 8; i++)
        set_bit(map, i);
}

static uint32_t count_free(const uint8_t *map, uint32_t bits) {
    uint32_t n = 0;
    for (uint32_t i = 0; i < bits; i++)
        n += !get_bit(map, i);
    return n;
}

/* The block bitmap of a group; NULL: it cannot be used. */
static uint8_t *blocks_of(struct ext4_editor *x, uint32_t number) {
    struct ext4_edit_group *g = group_at(x, number);
    if (g->blocks)
        return g->blocks;
    uint8_t *map = mos_alloc(x->ctx->arena, x->r.block_size);
    if (mos_le16(g->desc + DESC_FLAGS) & DESC_BLOCKS_UNMADE) {
        if (x->r.incompat & EXT4_INCOMPAT_META_BG)
            return NULL;
        make_block_bitmap(x, number, map);
        if (count_free(map, group_size(x, number)) != get16(x, g->desc, DESC_FREE_BLOCKS))
            return NULL;
    } else if (!ext4_edit_read(x, block_at(x, g->desc, DESC_BLOCK_BITMAP), map)) {
        return NULL;
    }
    return g->blocks = map;
}

static uint8_t *inodes_of(struct ext4_editor *x, uint32_t number) {
    struct ext4_edit_group *g = group_at(x, number);
    if (g->inodes)
        return g->inodes;
    uint8_t *map = mos_alloc(x->ctx->arena, x->r.block_size);
    if (mos_le16(g->desc + DESC_FLAGS) & DESC_INODES_UNMADE)
        for (uint32_t i = x->r.inodes_per_group; i < x->r.block_size * 8; i++)
            set_bit(map, i);
    else if (!ext4_edit_read(x, block_at(x, g->desc, DESC_INODE_BITMAP), map))
        return NULL;
    return g->inodes = map;
}

/* ---- blocks ---- */

uint64_t ext4_edit_free(struct ext4_editor *x) {
    uint64_t n = 0;
    for (uint32_t g = 0; g < x->r.groups; g++)
        n += get16(x, group_at(x, g)->desc, DESC_FREE_BLOCKS);
    return n;
}

/* A run of at least `least` free blocks in a group; its start within the group, or UINT32_MAX. */
static uint32_t find_run(const uint8_t *map, uint32_t size, uint32_t least, uint64_t wanted,
                         uint32_t *count) {
    for (uint32_t i = 0; i < size; i++) {
        if (map[i / 8] == 0xff && i % 8 == 0) {
            i += 7;
            continue;
        }
        if (get_bit(map, i))
            continue;
        uint32_t n = 1;
        while (n < wanted && i + n < size && !get_bit(map, i + n))
            n++;
        if (n >= least) {
            *count = n;
            return i;
        }
        i += n;
    }
    return UINT32_MAX;
}

uint64_t ext4_edit_take(struct ext4_editor *x, uint64_t wanted, uint64_t *count) {
    for (unsigned pass = 0; pass < 2; pass++)
        for (uint32_t number = 0; number < x->r.groups; number++) {
            struct ext4_edit_group *g = group_at(x, number);
            uint32_t free_here = get16(x, g->desc, DESC_FREE_BLOCKS), n;
            uint32_t least = pass ? 1 : (uint32_t)mos_min(wanted, LONG_RUN);
            uint8_t *map = free_here >= least ? blocks_of(x, number) : NULL;
            uint32_t at =
                map ? find_run(map, group_size(x, number), least, wanted, &n) : UINT32_MAX;
            if (at == UINT32_MAX)
                continue;
            for (uint32_t i = 0; i < n; i++)
                set_bit(map, at + i);
            set16(x, g->desc, DESC_FREE_BLOCKS, free_here - n);
            mos_put_le16(g->desc + DESC_FLAGS,
                         (uint16_t)(mos_le16(g->desc + DESC_FLAGS) & ~DESC_BLOCKS_UNMADE));
            g->dirty = g->blocks_dirty = true;
            x->free_blocks -= n;
            *count = n;
            return group_start(x, number) + at;
        }
    return 0;
}

void ext4_edit_give(struct ext4_editor *x, uint64_t start, uint64_t count) {
    uint8_t *zeros = mos_alloc(x->ctx->arena, x->r.block_size);
    for (uint64_t i = 0; i < count; i++) {
        uint32_t number = (uint32_t)((start + i - x->r.first_block) / x->r.per_group);
        struct ext4_edit_group *g = group_at(x, number);
        uint8_t *map = blocks_of(x, number);
        uint32_t bit = (uint32_t)(start + i - group_start(x, number));
        if (!map || !get_bit(map, bit))
            continue;
        clear_bit(map, bit);
        set16(x, g->desc, DESC_FREE_BLOCKS, get16(x, g->desc, DESC_FREE_BLOCKS) + 1);
        g->dirty = g->blocks_dirty = true;
        x->free_blocks++;
        ext4_edit_write(x, zeros, x->r.block_size, (start + i) * x->r.block_size);
    }
}

/* ---- inodes ---- */

static void note_used(struct ext4_editor *x, struct ext4_edit_group *g, uint32_t index) {
    uint32_t unused = get16(x, g->desc, DESC_UNUSED_INODES),
             left = x->r.inodes_per_group - index - 1;
    if ((x->r.ro_compat & (EXT4_RO_CSUM | EXT4_RO_GDT_CSUM)) && unused > left)
        set16(x, g->desc, DESC_UNUSED_INODES, left);
    mos_put_le16(g->desc + DESC_FLAGS,
                 (uint16_t)(mos_le16(g->desc + DESC_FLAGS) & ~DESC_INODES_UNMADE));
}

uint32_t ext4_edit_take_inode(struct ext4_editor *x, uint32_t near, bool folder) {
    uint32_t first = (near - 1) / x->r.inodes_per_group;
    for (uint32_t k = 0; k < x->r.groups; k++) {
        uint32_t number = (first + k) % x->r.groups;
        struct ext4_edit_group *g = group_at(x, number);
        uint32_t left = get16(x, g->desc, DESC_FREE_INODES), from = 0;
        uint8_t *map = left ? inodes_of(x, number) : NULL;
        uint32_t reserved =
            mos_le32(x->super + SUPER_REVISION) ? mos_le32(x->super + SUPER_FIRST_INODE) : 11;
        if (!number)
            from = reserved - 1;
        for (uint32_t i = from; map && i < x->r.inodes_per_group; i++) {
            if (get_bit(map, i))
                continue;
            set_bit(map, i);
            note_used(x, g, i);
            set16(x, g->desc, DESC_FREE_INODES, left - 1);
            if (folder)
                set16(x, g->desc, DESC_FOLDERS, get16(x, g->desc, DESC_FOLDERS) + 1);
            g->dirty = g->inodes_dirty = true;
            x->free_inodes--;
            return number * x->r.inodes_per_group + i + 1;
        }
    }
    return 0;
}

void ext4_edit_give_inode(struct ext4_editor *x, uint32_t inode) {
    uint32_t number = (inode - 1) / x->r.inodes_per_group;
    struct ext4_edit_group *g = group_at(x, number);
    uint8_t *map = inodes_of(x, number);
    if (!map)
        return;
    clear_bit(map, (inode - 1) % x->r.inodes_per_group);
    set16(x, g->desc, DESC_FREE_INODES, get16(x, g->desc, DESC_FREE_INODES) + 1);
    g->dirty = g->inodes_dirty = true;
    x->free_inodes++;
}

uint32_t ext4_edit_seed(const struct ext4_editor *x, const struct ext4_inode *inode) {
    uint8_t number[8];
    mos_put_le32(number, inode->number);
    mos_put_le32(number + 4, inode->generation);
    return mos_crc32c(x->r.csum_seed, number, sizeof number);
}

void ext4_edit_write_inode(struct ext4_editor *x, struct ext4_inode *i) {
    uint8_t *raw = i->raw;
    mos_put_le16(raw + INODE_LINKS, (uint16_t)i->links);
    mos_put_le32(raw + INODE_SIZE, (uint32_t)i->size);
    mos_put_le32(raw + INODE_SIZE_HIGH, (uint32_t)(i->size >> 32));
    mos_put_le32(raw + INODE_FLAGS, i->flags);
    if (x->r.ro_compat & EXT4_RO_CSUM) {
        bool long_form = x->r.inode_size > 128 && mos_le16(raw + INODE_EXTRA_SIZE) >= 4;
        mos_put_le16(raw + INODE_SUM, 0);
        if (long_form)
            mos_put_le16(raw + INODE_SUM_HIGH, 0);
        uint32_t sum = mos_crc32c(ext4_edit_seed(x, i), raw, x->r.inode_size);
        mos_put_le16(raw + INODE_SUM, (uint16_t)sum);
        if (long_form)
            mos_put_le16(raw + INODE_SUM_HIGH, (uint16_t)(sum >> 16));
    }
    uint64_t at = ext4_inode_offset(&x->r, i->number);
    if (!at && !x->errnum)
        x->errnum = EIO;
    ext4_edit_write(x, raw, x->r.inode_size, at);
}

/* ---- the end ---- */

/* CRC-16 (reflected 0xa001), of descriptors before metadata had sums. */
static uint16_t crc16(uint16_t crc, const uint8_t *p, size_t length) {
    while (length--) {
        crc ^= *p++;
        for (int k = 0; k < 8; k++)
            crc = (uint16_t)(crc >> 1 ^ (crc & 1 ? 0xa001 : 0));
    }
    return crc;
}

static void sum_desc(struct ext4_editor *x, uint32_t number, uint8_t *d) {
    uint8_t text[4], zero[2] = {0};
    size_t n = x->r.desc_size;
    mos_put_le32(text, number);
    if (x->r.ro_compat & EXT4_RO_CSUM) {
        uint32_t sum = mos_crc32c(mos_crc32c(x->r.csum_seed, text, 4), d, DESC_SUM);
        sum = mos_crc32c(sum, zero, 2);
        if (n > DESC_SUM + 2)
            sum = mos_crc32c(sum, d + DESC_SUM + 2, n - DESC_SUM - 2);
        mos_put_le16(d + DESC_SUM, (uint16_t)sum);
    } else if (x->r.ro_compat & EXT4_RO_GDT_CSUM) {
        uint16_t sum = crc16(crc16(crc16(0xffff, x->r.uuid, 16), text, 4), d, DESC_SUM);
        if (n > DESC_SUM + 2)
            sum = crc16(sum, d + DESC_SUM + 2, n - DESC_SUM - 2);
        mos_put_le16(d + DESC_SUM, sum);
    }
}

static void write_bitmap(struct ext4_editor *x, uint8_t *d, const uint8_t *map, size_t place,
                         size_t sum_field, uint32_t bits) {
    ext4_edit_write(x, map, x->r.block_size, block_at(x, d, place) * x->r.block_size);
    if (x->r.ro_compat & EXT4_RO_CSUM)
        set16(x, d, sum_field, mos_crc32c(x->r.csum_seed, map, bits / 8));
}

static void add_to_super(struct ext4_editor *x, size_t low, size_t high, int64_t change) {
    bool long_form = high && (x->r.incompat & EXT4_INCOMPAT_64BIT);
    uint64_t v =
        mos_le32(x->super + low) | (long_form ? (uint64_t)mos_le32(x->super + high) << 32 : 0);
    v += (uint64_t)change;
    mos_put_le32(x->super + low, (uint32_t)v);
    if (long_form)
        mos_put_le32(x->super + high, (uint32_t)(v >> 32));
}

void ext4_edit_flush(struct ext4_editor *x) {
    for (uint32_t number = 0; number < x->r.groups; number++) {
        struct ext4_edit_group *g = &x->groups[number];
        if (!g->dirty)
            continue;
        if (g->blocks_dirty)
            write_bitmap(x, g->desc, g->blocks, DESC_BLOCK_BITMAP, DESC_BLOCK_BITMAP_SUM,
                         x->r.per_group);
        if (g->inodes_dirty)
            write_bitmap(x, g->desc, g->inodes, DESC_INODE_BITMAP, DESC_INODE_BITMAP_SUM,
                         x->r.inodes_per_group);
        sum_desc(x, number, g->desc);
        ext4_edit_write(x, g->desc, x->r.desc_size, ext4_desc_offset(&x->r, number));
    }
    add_to_super(x, 0xc, 0x158, x->free_blocks);
    add_to_super(x, 0x10, 0, x->free_inodes);
    if (x->r.ro_compat & EXT4_RO_CSUM)
        mos_put_le32(x->super + SUPER_SUM, mos_crc32c(~0u, x->super, SUPER_SUM));
    ext4_edit_write(x, x->super, EXT4_SUPER_SIZE, EXT4_SUPER_OFFSET);
}
