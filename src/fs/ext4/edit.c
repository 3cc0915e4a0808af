/* Changes a volume in place: blocks of other files, and every table entry that need not change,
 * stay as they are. */
#include "fs/ext4/edit_internal.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <errno.h>
#include <string.h>

enum {
    TYPE_MASK = 0170000,
    FOLDER = 0040000,
    LINK = 0120000,
    REGULAR = 0100000,
    MOST_HOPS = 40,
    MOST_SHARING = 1024,
    FIELD = 0x28,
    /* what else is kept about files, and would be wrong then */
    RO_UNCHANGEABLE =
        0x100 /* quota */ | 0x200 /* bigalloc */ | 0x2000 /* project */ | 0x8000 /* verity */,
};

static bool refuse(struct ext4_editor *x, const char *path, const char *why) {
    return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0, "/%s %s", path, why);
}

static bool broken(struct ext4_editor *x, const char *path) {
    if (!x->errnum && !ext4_edit_free(x))
        return refuse(x, path, "does not fit: no block is free");
    return mos_fail(x->ctx->error, MOS_ERROR_SYSTEM, x->errnum ? x->errnum : EIO,
                    "Cannot change /%s: the volume is damaged there", path);
}

/* ---- giving up what is there ---- */

static bool has_blocks(const struct ext4_inode *i) {
    uint16_t type = i->mode & TYPE_MASK;
    if (i->flags & EXT4_FLAG_INLINE)
        return false;
    return type == REGULAR || type == FOLDER ||
           (type == LINK && (i->size >= 60 || i->flags & EXT4_FLAG_EXTENTS));
}

static bool give_content(struct ext4_editor *x, const struct ext4_inode *i) {
    struct mos_vec runs = mos_vec_make(x->ctx->arena, sizeof(struct ext4_file_run)),
                   nodes = mos_vec_make(x->ctx->arena, sizeof(uint64_t));
    if (!has_blocks(i))
        return true;
    if (!ext4_map(&x->r, i, &runs, &nodes))
        return false;
    for (size_t k = 0; k < runs.count; k++) {
        const struct ext4_file_run *r = mos_vec_at(&runs, k);
        if (r->physical)
            ext4_edit_give(x, r->physical, r->length);
    }
    for (size_t k = 0; k < nodes.count; k++)
        ext4_edit_give(x, *(uint64_t *)mos_vec_at(&nodes, k), 1);
    return true;
}

/* Writes a block of attributes that serves so many inodes. */
static void put_attributes(struct ext4_editor *x, uint64_t at, uint8_t *block, uint32_t users) {
    uint8_t number[8];
    mos_put_le32(block + ATTRIBUTES_USERS, users);
    if (x->r.ro_compat & EXT4_RO_CSUM) {
        mos_put_le32(block + ATTRIBUTES_SUM, 0);
        mos_put_le64(number, at);
        mos_put_le32(block + ATTRIBUTES_SUM,
                     mos_crc32c(mos_crc32c(x->r.csum_seed, number, 8), block, x->r.block_size));
    }
    ext4_edit_write(x, block, x->r.block_size, at * x->r.block_size);
}

/* One inode less has this one's block of attributes. */
static void leave_attributes(struct ext4_editor *x, const struct ext4_inode *i) {
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    if (!i->attributes_block || !ext4_edit_read(x, i->attributes_block, block))
        return;
    uint32_t users = mos_le32(block + ATTRIBUTES_USERS);
    if (users > 1)
        put_attributes(x, i->attributes_block, block, users - 1);
    else
        ext4_edit_give(x, i->attributes_block, 1);
}

/* Another inode has them, too: the same block, or a copy where that one serves as many as it may.
 */
static bool share_attributes(struct ext4_editor *x, const struct ext4_inode *from,
                             struct ext4_inode *to) {
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    uint64_t got, at = from->attributes_block;
    if (!at)
        return true;
    if (!ext4_edit_read(x, at, block))
        return false;
    uint32_t users = mos_le32(block + ATTRIBUTES_USERS);
    if (users >= MOST_SHARING)
        at = ext4_edit_take(x, 1, &got);
    if (!at)
        return false;
    put_attributes(x, at, block, at == from->attributes_block ? users + 1 : 1);
    to->attributes_block = at;
    mos_put_le32(to->raw + INODE_ATTRIBUTES, (uint32_t)at);
    mos_put_le16(to->raw + INODE_ATTRIBUTES_HIGH, (uint16_t)(at >> 32));
    return true;
}

/* Owner, mode's companions and extended attributes go over to an inode that takes a place. */
static bool inherit(struct ext4_editor *x, const struct ext4_inode *from, struct ext4_inode *to) {
    static const struct { uint8_t at, length; } owner[] = {{0x2, 2}, {0x18, 2}, {0x78, 4}};
    for (size_t i = 0; i < sizeof owner / sizeof *owner; i++)
        memcpy(to->raw + owner[i].at, from->raw + owner[i].at, owner[i].length);
    size_t tail = 128 + (size_t)mos_le16(from->raw + INODE_EXTRA_SIZE);
    if (x->r.inode_size > tail && tail == 128 + (size_t)mos_le16(to->raw + INODE_EXTRA_SIZE) &&
        !(from->flags & EXT4_FLAG_INLINE))
        memcpy(to->raw + tail, from->raw + tail, x->r.inode_size - tail);
    return share_attributes(x, from, to);
}

/* One name of an inode is gone; with the last one, all of it. */
static bool unlink(struct ext4_editor *x, struct ext4_inode *i) {
    if (i->links > 1) {
        i->links--;
        ext4_edit_write_inode(x, i);
        return true;
    }
    if (!give_content(x, i))
        return false;
    leave_attributes(x, i);
    ext4_edit_give_inode(x, i->number);
    memset(i->raw + FIELD, 0, 60);
    i->links = 0;
    i->size = 0;
    mos_put_le32(i->raw + INODE_SECTORS, 0);
    mos_put_le32(i->raw + INODE_ATTRIBUTES, 0);
    /* when it went; a number that an inode could have means the next orphan */
    mos_put_le32(i->raw + INODE_DTIME, (uint32_t)mos_max((uint64_t)x->date, x->r.inodes + 1ull));
    ext4_edit_write_inode(x, i);
    return true;
}

/* ---- walking ---- */

/* The text of a link, on the arena; NULL: damaged. */
static const char *link_text(struct ext4_editor *x, const struct ext4_inode *i) {
    if (i->size < 60)
        return mos_strndup(x->ctx->arena, (const char *)i->raw + FIELD, (size_t)i->size);
    struct mos_vec runs = mos_vec_make(x->ctx->arena, sizeof(struct ext4_file_run));
    uint8_t *block = mos_alloc(x->ctx->arena, x->r.block_size);
    if (i->size >= x->r.block_size || !ext4_map(&x->r, i, &runs, NULL) || !runs.count)
        return NULL;
    const struct ext4_file_run *r = mos_vec_at(&runs, 0);
    return ext4_edit_read(x, r->physical, block)
               ? mos_strndup(x->ctx->arena, (char *)block, (size_t)i->size)
               : NULL;
}

static void new_inode(struct ext4_editor *x, struct ext4_inode *i, uint32_t number, uint16_t mode) {
    memset(i, 0, sizeof *i);
    i->number = number;
    i->links = 1;
    i->mode = mode;
    i->flags = x->r.incompat & EXT4_INCOMPAT_EXTENTS ? EXT4_FLAG_EXTENTS : 0;
    mos_put_le16(i->raw + INODE_MODE, mode);
    for (size_t k = 0; k < 3; k++)
        mos_put_le32(i->raw + INODE_ATIME + 4 * k, (uint32_t)x->date);
    if (x->r.inode_size >= 128 + 32) {
        mos_put_le16(i->raw + INODE_EXTRA_SIZE, 32);
        mos_put_le32(i->raw + INODE_CRTIME, (uint32_t)x->date);
    }
}

static bool make_folder(struct ext4_editor *x, struct ext4_inode *parent, const char *path,
                        const char *name, size_t length, struct ext4_inode *out) {
    uint64_t count, block = ext4_edit_take(x, 1, &count);
    uint32_t number = block ? ext4_edit_take_inode(x, parent->number, true) : 0;
    uint8_t *bytes = mos_alloc(x->ctx->arena, x->r.block_size);
    struct mos_vec runs = mos_vec_make(x->ctx->arena, sizeof(struct ext4_file_run));
    if (!number)
        return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0, "No room for the folder of /%s", path);
    new_inode(x, out, number, FOLDER | 0755);
    out->links = 2;
    out->size = x->r.block_size;
    *(struct ext4_file_run *)mos_vec_push(&runs) = (struct ext4_file_run){0, block, 1};
    ext4_edit_set_map(x, out, &runs);
    ext4_edit_first_block(x, out, parent->number, bytes);
    ext4_edit_write(x, bytes, x->r.block_size, block * x->r.block_size);
    ext4_edit_write_inode(x, out);
    if (!ext4_edit_add_name(x, parent, name, length, number, 2))
        return broken(x, path);
    if (parent->links > 1)
        parent->links++;
    ext4_edit_write_inode(x, parent);
    return true;
}

/* Walks to the folder of a path, through links, making what is missing if asked.  *name: what is
 * left of the path, or of the link that its last part is. */
static bool to_folder(struct ext4_editor *x, const char *path, bool make, struct ext4_inode *folder,
                      const char **name) {
    const char *rest = path;
    if (!ext4_read_inode(&x->r, EXT4_ROOT_INODE, folder))
        return broken(x, path);
    for (unsigned hops = 0;;) {
        while (*rest == '/')
            rest++;
        size_t n = strcspn(rest, "/");
        bool last = rest[n] == 0;
        struct ext4_inode next;
        struct ext4_spot spot;
        if (n > 255)
            return refuse(x, path, "has a name of more than 255 bytes");
        if (!ext4_edit_find(x, folder, rest, n, &spot))
            return folder->flags & EXT4_FLAG_INLINE
                       ? refuse(x, path,
                                "lies in a folder whose names are kept in its inode; such "
                                "ones are read, not changed")
                       : broken(x, path);
        if (spot.inode && !ext4_read_inode(&x->r, spot.inode, &next))
            return broken(x, path);
        if (spot.inode && (next.mode & TYPE_MASK) == LINK) {
            const char *text = ++hops <= MOST_HOPS ? link_text(x, &next) : NULL;
            if (!text)
                return refuse(x, path, "leads through links that go round in circles");
            if (*text == '/' && !ext4_read_inode(&x->r, EXT4_ROOT_INODE, folder))
                return broken(x, path);
            rest = mos_printf(x->ctx->arena, "%s%s", text, rest + n);
            continue;
        }
        if (last) {
            *name = rest;
            return true;
        }
        if (!spot.inode && !make)
            return refuse(x, path, "is not there: a folder on its way is missing");
        if (!spot.inode) {
            if (!make_folder(x, folder, path, rest, n, &next))
                return false;
        } else if ((next.mode & TYPE_MASK) != FOLDER) {
            return refuse(x, path, "would lie below a file");
        }
        *folder = next;
        rest += n;
    }
}

/* ---- what is asked ---- */

static bool write_content(struct ext4_editor *x, struct ext4_inode *i, struct mos_io *content) {
    uint8_t *piece = mos_alloc(x->ctx->arena, EXT4_PENDING);
    uint64_t blocks = mos_div_up(content->size, x->r.block_size), logical = 0;
    struct mos_vec runs = mos_vec_make(x->ctx->arena, sizeof(struct ext4_file_run));
    i->size = content->size;
    while (logical < blocks) {
        uint64_t count, first = ext4_edit_take(x, blocks - logical, &count);
        if (!first)
            return false;
        *(struct ext4_file_run *)mos_vec_push(&runs) =
            (struct ext4_file_run){logical, first, count};
        uint64_t at = logical * x->r.block_size, end = at + count * x->r.block_size,
                 to = first * x->r.block_size;
        while (at < end) {
            size_t n = (size_t)mos_min(EXT4_PENDING, end - at),
                   have = (size_t)mos_min(n, content->size > at ? content->size - at : 0);
            memset(piece, 0, n);
            int e = have ? mos_io_read(content, piece, have, at) : 0;
            if (e) {
                x->errnum = e;
                return false;
            }
            ext4_edit_write(x, piece, n, to);
            at += n;
            to += n;
        }
        logical += count;
    }
    return ext4_edit_set_map(x, i, &runs);
}

static bool fits(struct ext4_editor *x, const char *path, uint64_t size) {
    uint64_t need = mos_div_up(size, x->r.block_size) + 8, room = ext4_edit_free(x);
    if (need <= room)
        return true;
    return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0,
                    "/%s does not fit: it needs %llu KiB, %llu KiB are free", path,
                    (unsigned long long)(need * x->r.block_size / 1024),
                    (unsigned long long)(room * x->r.block_size / 1024));
}

static bool edit_put(struct mos_editor *base, const char *path, struct mos_io *content,
                     uint16_t new_mode, uint64_t *before) {
    struct ext4_editor *x = (struct ext4_editor *)base;
    struct ext4_inode folder, file;
    struct ext4_spot spot;
    const char *name;
    *before = UINT64_MAX;
    if (!to_folder(x, path, true, &folder, &name))
        return false;
    size_t length = strlen(name);
    if (!ext4_edit_find(x, &folder, name, length, &spot) ||
        (spot.inode && !ext4_read_inode(&x->r, spot.inode, &file)))
        return broken(x, path);
    if (spot.inode && (file.mode & TYPE_MASK) != REGULAR)
        return refuse(x, path, "is no ordinary file");
    if (spot.inode)
        *before = file.size;
    if (spot.inode && file.links == 1 && !(file.flags & EXT4_FLAG_INLINE)) {
        if (!give_content(x, &file))
            return broken(x, path);
        if (!fits(x, path, content->size))
            return false;
        if (!write_content(x, &file, content))
            return broken(x, path);
        ext4_edit_write_inode(x, &file);
        return x->errnum ? broken(x, path) : true;
    }
    /* a new inode: it is new, or other names keep the old content */
    uint16_t mode = spot.inode ? file.mode : REGULAR | (new_mode & 07777);
    struct ext4_inode fresh;
    if (!fits(x, path, content->size))
        return false;
    uint32_t number = ext4_edit_take_inode(x, folder.number, false);
    if (!number)
        return refuse(x, path, "does not fit: no inode is free");
    new_inode(x, &fresh, number, mode);
    if (spot.inode && !inherit(x, &file, &fresh))
        return broken(x, path);
    if (!write_content(x, &fresh, content))
        return broken(x, path);
    ext4_edit_write_inode(x, &fresh);
    if (spot.inode) {
        ext4_edit_drop_name(x, &folder, &spot);
        if (!unlink(x, &file))
            return broken(x, path);
    }
    if (!ext4_edit_add_name(x, &folder, name, length, number, 1))
        return broken(x, path);
    ext4_edit_write_inode(x, &folder);
    return x->errnum ? broken(x, path) : true;
}

static bool edit_remove(struct mos_editor *base, const char *path, uint64_t *before) {
    struct ext4_editor *x = (struct ext4_editor *)base;
    struct ext4_inode folder, file;
    struct ext4_spot spot;
    const char *slash = strrchr(path, '/'), *name;
    /* the last part is meant itself, even when it is a link */
    const char *inside = mos_strndup(x->ctx->arena, path, slash ? (size_t)(slash - path) : 0);
    if (!to_folder(x, mos_printf(x->ctx->arena, "%s/.", inside), false, &folder, &name))
        return false;
    name = slash ? slash + 1 : path;
    if (!ext4_edit_find(x, &folder, name, strlen(name), &spot))
        return broken(x, path);
    if (!spot.inode)
        return refuse(x, path, "is not there");
    if (!ext4_read_inode(&x->r, spot.inode, &file))
        return broken(x, path);
    if ((file.mode & TYPE_MASK) == FOLDER)
        return refuse(x, path, "is a folder");
    *before = file.size;
    ext4_edit_drop_name(x, &folder, &spot);
    return unlink(x, &file) && !x->errnum ? true : broken(x, path);
}

static bool edit_finish(struct mos_editor *base) {
    struct ext4_editor *x = (struct ext4_editor *)base;
    ext4_edit_flush(x);
    return x->errnum
               ? mos_fail(x->ctx->error, MOS_ERROR_SYSTEM, x->errnum, "Cannot write the image")
               : true;
}

struct mos_editor *ext4_edit(struct mos_ctx *ctx, struct mos_io *io, int64_t date,
                             const char **why) {
    static const struct mos_editor functions = {edit_put, edit_remove, edit_finish};
    struct ext4_editor *x = mos_alloc(ctx->arena, sizeof *x);
    *x = (struct ext4_editor){.base = functions, .ctx = ctx, .io = io, .date = date};
    if (!ext4_open(&x->r, ctx, io, why))
        return NULL;
    x->r.budget = UINT64_MAX;
    *why = "The superblock cannot be read.";
    if (mos_io_read(io, x->super, sizeof x->super, EXT4_SUPER_OFFSET))
        return NULL;
    *why = "It was not unmounted: mount and unmount it once, then its journal is empty.";
    if ((x->r.incompat & EXT4_INCOMPAT_RECOVER) || !(mos_le16(x->super + SUPER_STATE) & 1))
        return NULL;
    *why = "It uses quotas, clusters or verity, which a change would not keep right.";
    if ((x->r.ro_compat & RO_UNCHANGEABLE) || x->r.desc_size > 64)
        return NULL;
    *why = "Its groups are larger than their bitmaps.";
    if (x->r.per_group > x->r.block_size * 8 || x->r.inodes_per_group > x->r.block_size * 8)
        return NULL;
    x->groups = mos_alloc_array(ctx->arena, x->r.groups, sizeof *x->groups);
    *why = NULL;
    return &x->base;
}
