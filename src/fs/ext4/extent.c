/* Extents ("Extent Tree"): up to four in the inode, else a tree of blocks with checksum tails. */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <assert.h>
#include <string.h>

enum { IN_INODE = 4 };

/* What one level of the tree points to. */
struct item {
    uint32_t logical, block, length; /* length 0: an index */
};

static void put_node(uint8_t *to, const struct item *items, uint32_t count, uint32_t room,
                     uint16_t depth) {
    assert(count <= room && depth <= 5);
    mos_put_le16(to, EXTENT_MAGIC);
    mos_put_le16(to + EXTENT_COUNT, (uint16_t)count);
    mos_put_le16(to + EXTENT_ROOM, (uint16_t)room);
    mos_put_le16(to + EXTENT_DEPTH, depth);
    for (uint32_t i = 0; i < count; i++) {
        uint8_t *e = to + EXTENT_SIZE + (size_t)i * EXTENT_SIZE;
        mos_put_le32(e + EXTENT_LOGICAL, items[i].logical);
        if (depth == 0) {
            mos_put_le16(e + EXTENT_LENGTH, (uint16_t)items[i].length);
            mos_put_le32(e + EXTENT_START, items[i].block);
        } else {
            mos_put_le32(e + EXTENT_BELOW, items[i].block);
        }
    }
}

/* Puts one level into blocks of their own; *items becomes the level above. */
static uint32_t write_level(struct ext4 *v, struct item *items, uint32_t *count, uint16_t depth,
                            uint32_t seed, uint8_t *block) {
    assert(*count > IN_INODE);
    uint32_t room = (v->block_size - EXTENT_SIZE - 4) / EXTENT_SIZE, blocks = 0;
    for (uint32_t at = 0; at < *count; at += room, blocks++) {
        uint32_t n = (uint32_t)mos_min(room, *count - at), taken;
        memset(block, 0, v->block_size);
        put_node(block, items + at, n, room, depth);
        size_t tail = EXTENT_SIZE + (size_t)room * EXTENT_SIZE;
        mos_put_le32(block + tail, mos_crc32c(seed, block, tail));
        struct item above = {items[at].logical, ext4_take(v, 1, &taken), 0};
        mos_volume_write(&v->base, block, v->block_size, (uint64_t)above.block * v->block_size);
        items[blocks] = above;
    }
    *count = blocks;
    assert(*count);
    return blocks;
}

static void build_tree(struct ext4 *v, const struct mos_inv_node *node, struct ext4_tree *tree) {
    struct mos_arena *arena = v->base.ctx->arena;
    const struct mos_extent *extents = mos_inv_extents(node);
    uint32_t count = node->extent_count;
    struct item *items = mos_alloc_array(arena, count, sizeof *items);
    for (uint32_t i = 0; i < count; i++)
        items[i] = (struct item){extents[i].logical, extents[i].physical, extents[i].length};
    uint8_t *block = mos_alloc(arena, v->block_size);
    uint16_t depth = 0;
    uint32_t seed = ext4_inode_seed(v, node->inode);
    while (count > IN_INODE)
        tree->blocks += write_level(v, items, &count, depth++, seed, block);
    put_node(tree->field, items, count, IN_INODE, depth);
}

static bool has_tree(const struct mos_inv_node *n) {
    return n->extent_count > IN_INODE && (n->type == MOS_ENTRY_FILE || n->type == MOS_ENTRY_FOLDER);
}

void ext4_write_trees(struct ext4 *v) {
    for (uint32_t i = 0; i < v->base.inventory->count; i++) {
        struct mos_inv_node *n = mos_inv_node(v->base.inventory, i);
        if (!has_tree(n))
            continue;
        struct ext4_tree *t = mos_vec_push(&v->trees);
        t->node = i;
        build_tree(v, n, t);
    }
}

void ext4_extent_field(const struct ext4 *v, const struct mos_inv_node *node, uint32_t index,
                       uint8_t field[60], uint32_t *tree_blocks) {
    assert(has_tree(node) || node->extent_count <= IN_INODE);
    *tree_blocks = 0;
    if (has_tree(node)) {
        size_t low = 0, high = v->trees.count; /* they are in order of nodes */
        while (high - low > 1) {
            size_t middle = low + (high - low) / 2;
            const struct ext4_tree *t = mos_vec_at(&v->trees, middle);
            if (t->node <= index)
                low = middle;
            else
                high = middle;
        }
        const struct ext4_tree *t = mos_vec_at(&v->trees, low);
        assert(t->node == index);
        memcpy(field, t->field, 60);
        *tree_blocks = t->blocks;
        return;
    }
    struct item items[IN_INODE];
    const struct mos_extent *e =
        node->type == MOS_ENTRY_LINK ? &node->extent : mos_inv_extents(node);
    for (uint32_t i = 0; i < node->extent_count; i++)
        items[i] = (struct item){e[i].logical, e[i].physical, e[i].length};
    put_node(field, items, node->extent_count, IN_INODE, 0);
}
