/* Folders ("Directory Entries", linear form with checksum tails). */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <string.h>

enum { TAIL = 12, HEADER = 8, MOST_LINKS = 65000 };

struct folder {
    struct ext4 *v;
    struct mos_buf blocks;
    size_t last; /* offset of the last entry of the block being filled */
    size_t room; /* left in it */
    uint32_t seed;
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
    struct mos_buf *b = &f->blocks;
    if (!b->length)
        return;
    uint8_t *last = (uint8_t *)b->data + f->last;
    mos_put_le16(last + 4, (uint16_t)(mos_le16(last + 4) + f->room));
    mos_buf_zeros(b, f->room + TAIL);
    uint8_t *block = (uint8_t *)b->data + b->length - f->v->block_size;
    uint8_t *tail = block + f->v->block_size - TAIL;
    mos_put_le16(tail + 4, TAIL);
    tail[7] = 0xde;
    mos_put_le32(tail + 8, mos_crc32c(f->seed, block, f->v->block_size - TAIL));
    f->room = 0;
}

static void add_name(struct folder *f, const char *name, uint32_t inode, uint8_t type) {
    size_t length = strlen(name), need = (size_t)mos_round_up(HEADER + length, 4);
    if (need > f->room) {
        close_block(f);
        f->room = f->v->block_size - TAIL;
    }
    f->last = f->blocks.length;
    uint8_t h[HEADER];
    mos_put_le32(h, inode);
    mos_put_le16(h + 4, (uint16_t)need);
    h[6] = (uint8_t)length;
    h[7] = type;
    mos_buf_add(&f->blocks, h, HEADER);
    mos_buf_add(&f->blocks, name, length);
    mos_buf_align(&f->blocks, 4);
    f->room -= need;
}

static void finish_folder(struct folder *f, struct mos_inv_node *node) {
    close_block(f);
    node->size = f->blocks.length;
    node->extent_count = 0;
    ext4_add_blocks(f->v, node, 0, (const uint8_t *)f->blocks.data, f->blocks.length);
}

static void start_folder(struct folder *f, uint32_t inode, uint32_t parent) {
    f->blocks.length = 0;
    f->room = 0;
    f->seed = ext4_inode_seed(f->v, inode);
    add_name(f, ".", inode, 2);
    add_name(f, "..", parent, 2);
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
    struct mos_inventory *inv = f->v->base.inventory;
    struct mos_inv_node *node = mos_inv_node(inv, index);
    start_folder(f, node->inode, mos_inv_node(inv, node->parent)->inode);
    node->links = 2 + lost_links;
    if (lost_links)
        add_name(f, "lost+found", EXT4_FIRST_INODE, 2);
    for (uint32_t i = node->first_child; i; i = mos_inv_node(inv, i)->next) {
        const struct mos_inv_node *c = mos_inv_node(inv, i);
        uint32_t inode =
            c->type == MOS_ENTRY_HARD_LINK ? mos_inv_node(inv, c->link_to)->inode : c->inode;
        add_name(f, c->name, inode, file_type(f->v, c));
        node->links += c->type == MOS_ENTRY_FOLDER;
    }
    if (node->links > MOST_LINKS)
        node->links = 1; /* dir_nlink: not counted any more */
    finish_folder(f, node);
}

void ext4_write_folders(struct ext4 *v) {
    struct mos_inventory *inv = v->base.inventory;
    struct folder f = {.v = v, .blocks = {.arena = v->base.ctx->arena}};
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
    start_folder(&f, EXT4_FIRST_INODE, EXT4_ROOT_INODE);
    finish_folder(&f, &v->lost);
}
