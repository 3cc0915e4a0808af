/* Names in folders of a volume that is changed in place, and the map of an inode's blocks. */
#include "fs/ext4/edit_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <errno.h>
#include <string.h>

enum {
    NAME_HEADER = 8,
    HALF_MD4 = 1,
    ROOT_START = 32,
    EXTENT = 12,
    FIELD = 0x28,
    FIELD_SIZE = 60,
    IN_INODE = 4, /* extents */
};

static bool has_tail(const struct ext4_editor *x) {
    return x->r.ro_compat & EXT4_RO_CSUM;
}

/* Bytes of a block that names may take. */
static size_t room_of(const struct ext4_editor *x) {
    return x->r.block_size - (has_tail(x) ? EXT4_DIR_TAIL : 0);
}

static void write_block(struct ext4_editor *x, const struct ext4_inode *folder, uint8_t *block,
                        uint64_t at) {
    if (has_tail(x)) {
        uint8_t *tail = block + room_of(x);
        memset(tail, 0, EXT4_DIR_TAIL);
        mos_put_le16(tail + ENTRY_LENGTH, EXT4_DIR_TAIL);
        tail[7] = 0xde;
        mos_put_le32(tail + ENTRY_TAIL_SUM,
                     mos_crc32c(ext4_edit_seed(x, folder), block, room_of(x)));
    }
    ext4_edit_write(x, block, x->r.block_size, at * x->r.block_size);
}

/* The physical blocks of a folder in order. */
static bool folder_blocks(struct ext4_editor *x, const struct ext4_inode *folder,
                          struct mos_vec *out) {
    struct mos_vec runs = mos_vec_make(x->ctx->arena, sizeof(struct ext4_file_run));
    *out = mos_vec_make(x->ctx->arena, sizeof(uint64_t));
    if ((folder->flags & EXT4_FLAG_INLINE) || !ext4_map(&x->r, folder, &runs, NULL))
        return false;
    for (size_t k = 0; k < runs.count; k++) {
        const struct ext4_file_run *run = mos_vec_at(&runs, k);
        for (uint64_t i = 0; i < run->length; i++) {
            if (!run->physical || (run->logical + i) * x->r.block_size >= folder->size)
                return false;
            *(uint64_t *)mos_vec_push(out) = run->physical + i;
        }
    }
    return true;
}

static size_t step_at(const struct ext4_editor *x, const uint8_t *block, size_t at) {
    size_t step = mos_le16(block + at + ENTRY_LENGTH);
    if (step < NAME_HEADER || step % 4 || step > x->r.block_size - at ||
        (size_t)block[at + 6] + NAME_HEADER > step)
        return 0;
    return step;
}

bool ext4_edit_find(struct ext4_editor *x, const struct ext4_inode *folder, const char *name,
                    size_t length, struct ext4_spot *spot) {
    struct mos_vec blocks;
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    *spot = (struct ext4_spot){0};
    if (!folder_blocks(x, folder, &blocks))
        return false;
    for (size_t k = 0; k < blocks.count; k++) {
        uint64_t number = *(uint64_t *)mos_vec_at(&blocks, k);
        size_t before = SIZE_MAX;
        if (!ext4_edit_read(x, number, block))
            return false;
        for (size_t at = 0, step; at + NAME_HEADER <= x->r.block_size; before = at, at += step) {
            step = step_at(x, block, at);
            if (!step)
                return false;
            if (!mos_le32(block + at) || block[at + ENTRY_NAME_LENGTH] != length ||
                memcmp(block + at + NAME_HEADER, name, length) != 0)
                continue;
            *spot = (struct ext4_spot){number, at, before, mos_le32(block + at)};
            return true;
        }
    }
    return true;
}

/* ---- adding ---- */

static void put_entry(uint8_t *e, size_t step, const char *name, size_t length, uint32_t inode,
                      uint8_t type) {
    mos_put_le32(e, inode);
    mos_put_le16(e + ENTRY_LENGTH, (uint16_t)step);
    e[6] = (uint8_t)length;
    e[7] = type;
    memcpy(e + NAME_HEADER, name, length);
}

/* Puts a name where an entry leaves room behind it; false: none does. */
static bool squeeze_in(struct ext4_editor *x, uint8_t *block, const char *name, size_t length,
                       uint32_t inode, uint8_t type) {
    size_t need = (size_t)mos_round_up(NAME_HEADER + length, 4), end = room_of(x);
    for (size_t at = 0, step; at + NAME_HEADER <= end; at += step) {
        step = step_at(x, block, at);
        if (!step || step > end - at)
            return false;
        bool used = mos_le32(block + at) != 0;
        size_t own = used ? (size_t)mos_round_up(NAME_HEADER + (size_t)block[at + 6], 4) : 0;
        if (step - own < need)
            continue;
        if (used)
            mos_put_le16(block + at + ENTRY_LENGTH, (uint16_t)own);
        put_entry(block + at + own, step - own, name, length, inode, type);
        return true;
    }
    return false;
}

/* The leaf of an indexed folder that a name belongs to; 0: the index cannot be followed. */
static uint64_t leaf_for(struct ext4_editor *x, const struct mos_vec *blocks, const char *name,
                         size_t length, uint8_t *block) {
    uint32_t minor, hash = ext4_name_hash(x->r.hash_seed, name, length, &minor);
    bool plain = true;
    for (size_t i = 0; i < length; i++)
        plain &= (unsigned char)name[i] < 0x80; /* else it matters whether characters are signed */
    const uint64_t *list = blocks->items;
    if (!plain || !ext4_edit_read(x, list[0], block) || block[28] != HALF_MD4 || block[30] > 1)
        return 0;
    size_t start = ROOT_START;
    for (unsigned level = 0; level <= 1; level++) {
        unsigned levels = level ? 0 : block[30];
        size_t count = mos_le16(block + start + INDEX_COUNT), chosen = 0;
        if (!count || start + count * 8 > x->r.block_size)
            return 0;
        for (size_t i = 1;
             i < count && mos_le32(block + start + i * INDEX_SIZE + INDEX_HASH) <= hash; i++)
            chosen = i;
        uint32_t next = mos_le32(block + start + chosen * INDEX_SIZE + INDEX_BLOCK);
        if (next >= blocks->count)
            return 0;
        if (!ext4_edit_read(x, list[next], block))
            return 0;
        if (!levels)
            return list[next];
        start = NAME_HEADER;
    }
    return 0;
}

/* Turns index blocks into ordinary ones: then names may lie anywhere. */
static bool drop_index(struct ext4_editor *x, struct ext4_inode *folder,
                       const struct mos_vec *blocks) {
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    const uint64_t *list = blocks->items;
    folder->flags &= ~(uint32_t)EXT4_FLAG_INDEXED;
    for (size_t k = 0; k < blocks->count; k++) {
        if (!ext4_edit_read(x, list[k], block))
            return false;
        bool node = k && !mos_le32(block) && mos_le16(block + ENTRY_LENGTH) == x->r.block_size;
        if (k && !node)
            continue;
        size_t at = k ? 0 : 12; /* in the root, behind "." */
        size_t used = k ? NAME_HEADER : 24;
        memset(block + used, 0, x->r.block_size - used);
        mos_put_le16(block + at + ENTRY_LENGTH, (uint16_t)(room_of(x) - at));
        write_block(x, folder, block, list[k]);
    }
    return true;
}

/* A new block at the folder's end. */
static bool grow(struct ext4_editor *x, struct ext4_inode *folder, const struct mos_vec *blocks,
                 const char *name, size_t length, uint32_t inode, uint8_t type) {
    struct mos_vec runs = mos_vec_make(x->ctx->arena, sizeof(struct ext4_file_run)),
                   nodes = mos_vec_make(x->ctx->arena, sizeof(uint64_t));
    uint64_t count, number;
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    if (!ext4_map(&x->r, folder, &runs, &nodes) || !(number = ext4_edit_take(x, 1, &count)))
        return false;
    put_entry(block, room_of(x), name, length, inode, type);
    write_block(x, folder, block, number);
    *(struct ext4_file_run *)mos_vec_push(&runs) = (struct ext4_file_run){blocks->count, number, 1};
    for (size_t i = 0; i < nodes.count; i++)
        ext4_edit_give(x, *(uint64_t *)mos_vec_at(&nodes, i), 1);
    folder->size += x->r.block_size;
    return ext4_edit_set_map(x, folder, &runs);
}

bool ext4_edit_add_name(struct ext4_editor *x, struct ext4_inode *folder, const char *name,
                        size_t length, uint32_t inode, uint8_t type) {
    struct mos_vec blocks;
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    if (!(x->r.incompat & EXT4_INCOMPAT_FILETYPE))
        type = 0;
    if (!folder_blocks(x, folder, &blocks) || !blocks.count)
        return false;
    const uint64_t *list = blocks.items;
    if (folder->flags & EXT4_FLAG_INDEXED) {
        uint64_t leaf = leaf_for(x, &blocks, name, length, block);
        if (leaf && squeeze_in(x, block, name, length, inode, type)) {
            write_block(x, folder, block, leaf);
            return true;
        }
        if (!drop_index(x, folder, &blocks))
            return false;
    }
    for (size_t k = 0; k < blocks.count; k++)
        if (!ext4_edit_read(x, list[k], block)) {
            return false;
        } else if (squeeze_in(x, block, name, length, inode, type)) {
            write_block(x, folder, block, list[k]);
            return true;
        }
    return grow(x, folder, &blocks, name, length, inode, type);
}

void ext4_edit_drop_name(struct ext4_editor *x, const struct ext4_inode *folder,
                         const struct ext4_spot *spot) {
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    if (!ext4_edit_read(x, spot->block, block))
        return;
    size_t step = step_at(x, block, spot->offset);
    bool follows = spot->previous == SIZE_MAX ||
                   spot->previous + step_at(x, block, spot->previous) == spot->offset;
    if (!step || !follows) { /* something else was written over it: blocks are used twice */
        x->errnum = x->errnum ? x->errnum : EIO;
        return;
    }
    memset(block + spot->offset + NAME_HEADER, 0, step - NAME_HEADER);
    mos_put_le32(block + spot->offset, 0);
    block[spot->offset + 6] = block[spot->offset + 7] = 0;
    if (spot->previous != SIZE_MAX) {
        memset(block + spot->offset, 0, NAME_HEADER);
        mos_put_le16(block + spot->previous + ENTRY_LENGTH,
                     (uint16_t)(mos_le16(block + spot->previous + ENTRY_LENGTH) + step));
    }
    write_block(x, folder, block, spot->block);
}

void ext4_edit_first_block(struct ext4_editor *x, const struct ext4_inode *folder, uint32_t parent,
                           uint8_t *block) {
    uint8_t type = x->r.incompat & EXT4_INCOMPAT_FILETYPE ? 2 : 0;
    memset(block, 0, x->r.block_size);
    put_entry(block, 12, ".", 1, folder->number, type);
    put_entry(block + 12, room_of(x) - 12, "..", 2, parent, type);
    if (has_tail(x)) {
        uint8_t *tail = block + room_of(x);
        mos_put_le16(tail + ENTRY_LENGTH, EXT4_DIR_TAIL);
        tail[7] = 0xde;
        mos_put_le32(tail + ENTRY_TAIL_SUM,
                     mos_crc32c(ext4_edit_seed(x, folder), block, room_of(x)));
    }
}

/* ---- maps ---- */

/* A header and its entries of 12 bytes each: extents (depth 0), or what lies below. */
static void put_entries(uint8_t *to, const uint8_t *entries, size_t count, size_t room,
                        unsigned depth) {
    mos_put_le16(to, EXTENT_MAGIC);
    mos_put_le16(to + EXTENT_COUNT, (uint16_t)count);
    mos_put_le16(to + EXTENT_ROOM, (uint16_t)room);
    mos_put_le16(to + EXTENT_DEPTH, (uint16_t)depth);
    memcpy(to + EXTENT, entries, count * EXTENT);
}

/* Extents in the inode, or blocks of them below it, as many levels as they need. */
static bool set_extents(struct ext4_editor *x, struct ext4_inode *inode,
                        const struct ext4_file_run *runs, size_t count, uint64_t *extra) {
    size_t room = (x->r.block_size - EXTENT - 4) / EXTENT;
    uint8_t *entries = mos_alloc(x->ctx->arena, (count + 1) * EXTENT), *block = NULL;
    for (size_t i = 0; i < count; i++) {
        uint8_t *e = entries + i * EXTENT;
        mos_put_le32(e + EXTENT_LOGICAL, (uint32_t)runs[i].logical);
        mos_put_le16(e + EXTENT_LENGTH, (uint16_t)runs[i].length);
        mos_put_le16(e + EXTENT_START_HIGH, (uint16_t)(runs[i].physical >> 32));
        mos_put_le32(e + EXTENT_START, (uint32_t)runs[i].physical);
    }
    unsigned depth = 0;
    for (; count > IN_INODE; depth++) {
        size_t blocks = (count + room - 1) / room;
        block = block ? block : mos_alloc(x->ctx->arena, x->r.block_size);
        for (size_t i = 0; i < blocks; i++) {
            uint64_t got, number = ext4_edit_take(x, 1, &got);
            size_t from = i * room, tail = EXTENT + room * EXTENT;
            if (!number)
                return false;
            memset(block, 0, x->r.block_size);
            put_entries(block, entries + from * EXTENT, mos_min(room, count - from), room, depth);
            if (has_tail(x))
                mos_put_le32(block + tail, mos_crc32c(ext4_edit_seed(x, inode), block, tail));
            ext4_edit_write(x, block, x->r.block_size, number * x->r.block_size);
            uint8_t *e = entries + i * EXTENT; /* what it stands for has been written */
            memmove(e, entries + from * EXTENT, 4);
            mos_put_le32(e + EXTENT_BELOW, (uint32_t)number);
            mos_put_le16(e + EXTENT_BELOW_HIGH, (uint16_t)(number >> 32));
            mos_put_le16(e + EXTENT_UNUSED, 0);
            ++*extra;
        }
        count = blocks;
    }
    put_entries(inode->raw + FIELD, entries, count, IN_INODE, depth);
    return true;
}

/* Block pointers of ext2 and ext3, one at a time. */
struct pointers {
    const struct ext4_file_run *runs;
    size_t count, run;
    uint64_t logical, end;
};

static uint32_t next_pointer(struct pointers *p) {
    while (p->run < p->count && p->logical >= p->runs[p->run].logical + p->runs[p->run].length)
        p->run++;
    const struct ext4_file_run *r = p->run < p->count ? &p->runs[p->run] : NULL;
    uint64_t at = p->logical++;
    return r && at >= r->logical && r->physical ? (uint32_t)(r->physical + at - r->logical) : 0;
}

static uint32_t put_pointers(struct ext4_editor *x, struct pointers *p, unsigned level,
                             uint64_t *extra) {
    if (!level)
        return next_pointer(p);
    uint64_t got, number = ext4_edit_take(x, 1, &got);
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    for (size_t i = 0; number && i < x->r.block_size / 4 && p->logical < p->end; i++)
        mos_put_le32(block + 4 * i, put_pointers(x, p, level - 1, extra));
    if (number)
        ext4_edit_write(x, block, x->r.block_size, number * x->r.block_size);
    else
        x->errnum = x->errnum ? x->errnum : ENOSPC;
    ++*extra;
    return (uint32_t)number;
}

static bool set_pointers(struct ext4_editor *x, struct ext4_inode *inode,
                         const struct ext4_file_run *runs, size_t count, uint64_t *extra) {
    struct pointers p = {.runs = runs, .count = count};
    uint8_t *field = inode->raw + FIELD;
    p.end = mos_div_up(inode->size, x->r.block_size);
    for (unsigned i = 0; i < 15 && p.logical < p.end; i++)
        mos_put_le32(field + 4 * (size_t)i, put_pointers(x, &p, i < 12 ? 0 : i - 11, extra));
    return p.logical >= p.end;
}

bool ext4_edit_set_map(struct ext4_editor *x, struct ext4_inode *inode,
                       const struct mos_vec *runs) {
    struct mos_vec cut = mos_vec_make(x->ctx->arena, sizeof(struct ext4_file_run));
    uint64_t blocks = 0, extra = 0;
    bool extents = inode->flags & EXT4_FLAG_EXTENTS;
    for (size_t i = 0; i < runs->count; i++) {
        struct ext4_file_run r = *(struct ext4_file_run *)mos_vec_at(runs, i);
        blocks += r.physical ? r.length : 0;
        while (r.length && r.physical) {
            uint64_t n = extents ? mos_min(r.length, EXT4_LONGEST_EXTENT) : r.length;
            *(struct ext4_file_run *)mos_vec_push(&cut) =
                (struct ext4_file_run){r.logical, r.physical, n};
            r.logical += n;
            r.physical += n;
            r.length -= n;
        }
    }
    memset(inode->raw + FIELD, 0, FIELD_SIZE);
    bool ok = extents ? set_extents(x, inode, cut.items, cut.count, &extra)
                      : set_pointers(x, inode, cut.items, cut.count, &extra);
    if (inode->attributes_block)
        extra++;
    uint64_t sectors = (blocks + extra) * (x->r.block_size / 512);
    mos_put_le32(inode->raw + INODE_SECTORS, (uint32_t)sectors);
    mos_put_le16(inode->raw + INODE_SECTORS_HIGH, (uint16_t)(sectors >> 32));
    return ok;
}
