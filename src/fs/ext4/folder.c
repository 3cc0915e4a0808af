/* Folders ("Directory Entries"): one block is linear, more are sorted by the hash of their names
 * under an index ("Hash Tree Directories"); every block ends in a checksum tail. */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

enum { TAIL = 12, HEADER = 8, MOST_LINKS = 65000, INDEX_TAIL = 8, ROOT_START = 32, HALF_MD4 = 1 };

struct name {
    const char *text;
    uint32_t inode, hash, minor;
    uint8_t type;
};

struct folder {
    struct ext4 *v;
    struct mos_buf blocks;
    size_t last; /* offset of the last entry of the block being filled */
    size_t room; /* left in it */
    uint32_t seed;
    struct mos_vec names;  /* of struct name: all but "." and ".." */
    struct mos_vec leaves; /* of uint32_t: the least hash of each block */
};

static uint8_t file_type(const struct ext4 *v, const struct mos_inv_node *n) {
    static const uint8_t types[] = {
        [MOS_ENTRY_FILE] = 1,  [MOS_ENTRY_FOLDER] = 2, [MOS_ENTRY_LINK] = 7,  [MOS_ENTRY_CHAR] = 3,
        [MOS_ENTRY_BLOCK] = 4, [MOS_ENTRY_FIFO] = 5,   [MOS_ENTRY_SOCKET] = 6};
    if (n->type == MOS_ENTRY_HARD_LINK)
        n = mos_inv_node(v->base.inventory, n->link_to);
    return types[n->type];
}

/* The last entry takes all that is left; the tail with the sum follows. */
static void close_block(struct folder *f) {
    assert(f->room <= f->v->block_size - TAIL);
    struct mos_buf *b = &f->blocks;
    if (!b->length)
        return;
    uint8_t *last = (uint8_t *)b->data + f->last;
    mos_put_le16(last + ENTRY_LENGTH, (uint16_t)(mos_le16(last + ENTRY_LENGTH) + f->room));
    mos_buf_zeros(b, f->room + TAIL);
    assert(b->length % f->v->block_size == 0);
    uint8_t *block = (uint8_t *)b->data + b->length - f->v->block_size;
    uint8_t *tail = block + f->v->block_size - TAIL;
    mos_put_le16(tail + ENTRY_LENGTH, TAIL);
    tail[7] = 0xde;
    if (f->v->base.io) /* who counts needs no sums */
        mos_put_le32(tail + ENTRY_TAIL_SUM, mos_crc32c(f->seed, block, f->v->block_size - TAIL));
    f->room = 0;
}

static void add_name(struct folder *f, const char *name, uint32_t inode, uint8_t type) {
    size_t length = strlen(name), need = (size_t)mos_round_up(HEADER + length, 4);
    assert(length && length <= 255 && need <= f->v->block_size - TAIL);
    if (need > f->room) {
        close_block(f);
        f->room = f->v->block_size - TAIL;
    }
    f->last = f->blocks.length;
    uint8_t h[HEADER];
    mos_put_le32(h, inode);
    mos_put_le16(h + ENTRY_LENGTH, (uint16_t)need);
    h[6] = (uint8_t)length;
    h[7] = type;
    mos_buf_add(&f->blocks, h, HEADER);
    mos_buf_add(&f->blocks, name, length);
    mos_buf_align(&f->blocks, 4);
    f->room -= need;
}

/* ---- the index ---- */

static int by_hash(const void *a, const void *b) {
    const struct name *x = a, *y = b;
    if (x->hash != y->hash)
        return x->hash < y->hash ? -1 : 1;
    if (x->minor != y->minor)
        return x->minor < y->minor ? -1 : 1;
    return strcmp(x->text, y->text);
}

/* Puts {hash, block} pairs behind the head of an index block, and the block's sum. */
static void put_index(struct folder *f, uint8_t *block, size_t start, const uint32_t *hashes,
                      uint32_t first_block, uint32_t count) {
    uint32_t size = f->v->block_size, limit = (size - (uint32_t)start - INDEX_TAIL) / 8;
    assert(count && count <= limit);
    uint8_t zero[4] = {0};
    for (uint32_t i = 0; i < count; i++) {
        mos_put_le32(block + start + (size_t)i * INDEX_SIZE + INDEX_HASH, hashes[i]);
        mos_put_le32(block + start + (size_t)i * INDEX_SIZE + INDEX_BLOCK, first_block + i);
    }
    mos_put_le16(block + start + INDEX_LIMIT, (uint16_t)limit);
    mos_put_le16(block + start + INDEX_COUNT, (uint16_t)count);
    uint8_t *tail = block + start + (size_t)limit * 8;
    uint32_t sum = mos_crc32c(f->seed, block, start + (size_t)count * 8);
    sum = mos_crc32c(mos_crc32c(sum, tail, 4), zero, 4);
    mos_put_le32(tail + INDEX_TAIL_SUM, sum);
}

/* The root of the index: "." and ".." as if they filled the block, then the pairs. */
static void put_root(struct folder *f, uint8_t *block, uint32_t inode, uint32_t parent,
                     uint8_t levels) {
    mos_put_le32(block, inode);
    mos_put_le16(block + ENTRY_LENGTH, 12);
    block[6] = 1;
    block[7] = 2;
    block[8] = '.';
    mos_put_le32(block + 12, parent);
    mos_put_le16(block + 12 + ENTRY_LENGTH, (uint16_t)(f->v->block_size - 12));
    block[18] = 2;
    block[19] = 2;
    memcpy(block + 20, "..", 2);
    block[28] = HALF_MD4;
    block[29] = 8; /* bytes of this description */
    block[30] = levels;
}

/* All names into leaves in order of their hashes; false: too many for an index of two levels. */
static bool fill_indexed(struct folder *f, uint32_t inode, uint32_t parent) {
    uint32_t size = f->v->block_size, in_root = (size - ROOT_START - INDEX_TAIL) / 8,
             in_node = (size - HEADER - INDEX_TAIL) / 8;
    const uint8_t *seed = f->v->base.wish.hash_seed;
    for (size_t i = 0; i < f->names.count; i++) {
        struct name *n = mos_vec_at(&f->names, i);
        n->hash = ext4_name_hash(seed, n->text, strlen(n->text), &n->minor);
    }
    qsort(f->names.items, f->names.count, sizeof(struct name), by_hash);
    f->blocks.length = 0;
    f->room = 0;
    f->leaves.count = 0;
    uint32_t before = 1; /* no hash has its last bit set */
    for (size_t i = 0; i < f->names.count; i++) {
        const struct name *n = mos_vec_at(&f->names, i);
        bool fresh = f->room < mos_round_up(HEADER + strlen(n->text), 4);
        add_name(f, n->text, n->inode, n->type);
        if (fresh) { /* the last bit tells that a hash goes on from the block before */
            uint32_t least = f->leaves.count ? n->hash | (n->hash == before) : 0;
            *(uint32_t *)mos_vec_push(&f->leaves) = least;
        }
        before = n->hash;
    }
    close_block(f);
    uint32_t leaves = (uint32_t)f->leaves.count, nodes = 0;
    const uint32_t *hashes = f->leaves.items;
    if (leaves > in_root)
        nodes = (uint32_t)mos_div_up(leaves, in_node);
    if (nodes > in_root)
        return false;
    size_t front = (size_t)(1 + nodes) * size;
    uint8_t *index = mos_alloc(f->blocks.arena, front);
    uint32_t *above = mos_alloc_array(f->blocks.arena, nodes, sizeof *above);
    put_root(f, index, inode, parent, nodes != 0);
    for (uint32_t i = 0; i < nodes; i++) {
        uint8_t *block = index + (size_t)(1 + i) * size;
        uint32_t at = i * in_node;
        mos_put_le16(block + ENTRY_LENGTH, (uint16_t)size);
        above[i] = hashes[at];
        put_index(f, block, HEADER, hashes + at, 1 + nodes + at,
                  (uint32_t)mos_min(in_node, leaves - at));
    }
    if (nodes)
        put_index(f, index, ROOT_START, above, 1, nodes);
    else
        put_index(f, index, ROOT_START, hashes, 1, leaves);
    mos_buf_add(&f->blocks, index, front); /* room at the end, then the index to the front */
    memmove(f->blocks.data + front, f->blocks.data, f->blocks.length - front);
    memcpy(f->blocks.data, index, front);
    return true;
}

static void fill_linear(struct folder *f, uint32_t inode, uint32_t parent) {
    f->blocks.length = 0;
    f->room = 0;
    add_name(f, ".", inode, 2);
    add_name(f, "..", parent, 2);
    for (size_t i = 0; i < f->names.count; i++) {
        const struct name *n = mos_vec_at(&f->names, i);
        add_name(f, n->text, n->inode, n->type);
    }
    close_block(f);
}

static void finish_folder(struct folder *f, struct mos_inv_node *node, uint32_t parent) {
    fill_linear(f, node->inode, parent);
    node->indexed = f->blocks.length > f->v->block_size && fill_indexed(f, node->inode, parent);
    if (f->blocks.length > f->v->block_size && !node->indexed)
        fill_linear(f, node->inode, parent);
    node->size = f->blocks.length;
    assert(node->size && node->size % f->v->block_size == 0);
    node->extent_count = 0;
    ext4_add_blocks(f->v, node, 0, (const uint8_t *)f->blocks.data, f->blocks.length);
}

static void start_folder(struct folder *f, uint32_t inode) {
    f->names.count = 0;
    f->seed = ext4_inode_seed(f->v, inode);
}

static void hold_name(struct folder *f, const char *text, uint32_t inode, uint8_t type) {
    *(struct name *)mos_vec_push(&f->names) = (struct name){text, inode, 0, 0, type};
}

static void number_inodes(struct ext4 *v, bool own_lost) {
    struct mos_inventory *inv = v->base.inventory;
    v->next_inode = EXT4_FIRST_INODE + !own_lost;
    mos_inv_node(inv, 0)->inode = EXT4_ROOT_INODE;
    for (uint32_t i = 1; i < inv->count; i++) {
        struct mos_inv_node *n = mos_inv_node(inv, i);
        if (n->type != MOS_ENTRY_HARD_LINK)
            n->inode = v->next_inode++;
        if (n->links > MOST_LINKS && n->type != MOS_ENTRY_FOLDER)
            mos_inv_refuse(inv, n->name, n->fill, "has more than 65,000 names");
    }
}

static void write_folder(struct folder *f, uint32_t index, uint32_t lost_links) {
    assert(index < f->v->base.inventory->count);
    struct mos_inventory *inv = f->v->base.inventory;
    struct mos_inv_node *node = mos_inv_node(inv, index);
    start_folder(f, node->inode);
    node->links = 2 + lost_links;
    if (lost_links)
        hold_name(f, "lost+found", EXT4_FIRST_INODE, 2);
    for (uint32_t i = node->first_child; i; i = mos_inv_node(inv, i)->next) {
        const struct mos_inv_node *c = mos_inv_node(inv, i);
        uint32_t inode =
            c->type == MOS_ENTRY_HARD_LINK ? mos_inv_node(inv, c->link_to)->inode : c->inode;
        hold_name(f, c->name, inode, file_type(f->v, c));
        node->links += c->type == MOS_ENTRY_FOLDER;
    }
    if (node->links > MOST_LINKS)
        node->links = 1; /* dir_nlink: not counted any more */
    finish_folder(f, node, mos_inv_node(inv, node->parent)->inode);
}

void ext4_write_folders(struct ext4 *v) {
    struct mos_inventory *inv = v->base.inventory;
    struct mos_arena *arena = v->base.ctx->arena;
    struct folder f = {.v = v,
                       .blocks = {.arena = arena},
                       .names = mos_vec_make(arena, sizeof(struct name)),
                       .leaves = mos_vec_make(arena, sizeof(uint32_t))};
    uint32_t found;
    bool own = mos_inv_find(inv, "lost+found", &found);
    number_inodes(v, own);
    write_folder(&f, 0, !own);
    for (uint32_t i = 1; i < inv->count; i++)
        if (mos_inv_node(inv, i)->type == MOS_ENTRY_FOLDER)
            write_folder(&f, i, 0);
    if (own)
        return;
    v->lost = (struct mos_inv_node){.name = "lost+found",
                                    .type = MOS_ENTRY_FOLDER,
                                    .mode = 0700,
                                    .mtime = v->base.wish.date,
                                    .inode = EXT4_FIRST_INODE,
                                    .links = 2};
    start_folder(&f, EXT4_FIRST_INODE);
    finish_folder(&f, &v->lost, EXT4_ROOT_INODE);
}
