/* Goes through a volume from its root folder and streams what it finds. */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "content/content.h"
#include "fs/walk.h"

#include <string.h>

enum { NAME_HEADER = 8, TAIL = 12, FIELD = 0x28, FIELD_SIZE = 60 };

struct walk {
    struct mos_walk at;
    struct ext4_reader r;
    struct ext4_inode folder; /* whose names are listed next */
    struct mos_buf target, attributes;
    struct mos_vec runs;
};

/* ---- content ---- */

static bool feed_run(struct walk *w, struct mos_runs *runs, const struct ext4_file_run *x,
                     uint64_t size, bool *sound) {
    struct ext4_reader *r = &w->r;
    uint64_t offset = x->logical * r->block_size;
    if (!x->physical || offset >= size)
        return true;
    uint64_t left = mos_min(x->length * r->block_size, size - offset),
             at = x->physical * r->block_size;
    if (!mos_runs_seek(runs, offset))
        return false;
    while (left) {
        size_t n = (size_t)mos_min(left, EXT4_PENDING);
        if (n > r->budget || mos_io_read(r->io, r->piece, n, at)) {
            *sound = false;
            return true;
        }
        r->budget -= n;
        if (!mos_runs_add(runs, r->piece, n))
            return false;
        at += n;
        left -= n;
    }
    return true;
}

/* Content that lies in the inode itself. */
static bool feed_inline(struct walk *w, const struct ext4_inode *i, struct mos_runs *runs) {
    size_t length;
    const uint8_t *rest = ext4_inline_rest(&w->r, i, &length);
    size_t first = (size_t)mos_min(i->size, FIELD_SIZE);
    return mos_runs_add(runs, i->raw + FIELD, first) &&
           (i->size <= first || !length ||
            mos_runs_add(runs, rest, (size_t)mos_min(length, i->size - first)));
}

static bool stream_content(struct walk *w, const struct ext4_inode *i, const struct mos_entry *e) {
    const struct mos_sink *sink = w->at.request->sink;
    struct mos_runs runs = {.sink = sink};
    uint64_t sum;
    bool sound = true;
    if (i->flags & EXT4_FLAG_ENCRYPTED)
        mos_volume_problem(w->at.request, "%s is encrypted; it is read as it lies.", e->path);
    if (i->flags & EXT4_FLAG_INLINE) {
        if (!feed_inline(w, i, &runs))
            return false;
    } else {
        sound = ext4_map(&w->r, i, &w->runs, NULL);
        for (size_t k = 0; k < w->runs.count && sound; k++)
            if (!feed_run(w, &runs, mos_vec_at(&w->runs, k), i->size, &sound))
                return false;
    }
    if (!sound)
        mos_volume_lost(w->at.request, e->path, "The content of %s is damaged.", e->path);
    return mos_runs_seek(&runs, i->size) && mos_runs_end(&runs, &sum) && sink->end(sink->self, sum);
}

/* The text of a symbolic link: in the inode, or in one block. */
static const char *link_text(struct walk *w, const struct ext4_inode *i) {
    struct mos_buf *b = &w->target;
    b->length = 0;
    if (i->size >= w->r.block_size)
        return NULL;
    if (i->flags & EXT4_FLAG_INLINE || i->size < FIELD_SIZE) {
        mos_buf_add(b, i->raw + FIELD, (size_t)mos_min(i->size, FIELD_SIZE));
        return strlen(mos_buf_string(b)) == b->length ? b->data : NULL;
    }
    if (!ext4_map(&w->r, i, &w->runs, NULL) || !w->runs.count)
        return NULL;
    const struct ext4_file_run *x = mos_vec_at(&w->runs, 0);
    if (!x->physical || !ext4_read_block(&w->r, x->physical, w->r.piece))
        return NULL;
    mos_buf_add(b, w->r.piece, (size_t)i->size);
    return strlen(mos_buf_string(b)) == b->length ? b->data : NULL;
}

/* ---- folders ---- */

/* The names in one block, or in what an inode holds itself.  False where it is damaged. */
static bool take_names(struct walk *w, const uint8_t *p, size_t size, struct mos_vec *out) {
    bool sound = true;
    for (size_t at = 0; at + NAME_HEADER <= size;) {
        size_t step = mos_le16(p + at + ENTRY_LENGTH), length = p[at + ENTRY_NAME_LENGTH];
        if (size == 65536 && (step == 0 || step == 65535))
            step = size;
        if (step < NAME_HEADER || step % 4 || step > size - at || length > step - NAME_HEADER)
            return false;
        const char *name = (const char *)p + at + NAME_HEADER;
        uint32_t inode = mos_le32(p + at);
        bool self = (length == 1 && name[0] == '.') || (length == 2 && memcmp(name, "..", 2) == 0);
        at += step;
        if (!inode || !length || self)
            continue;
        sound &= mos_walk_child(&w->at, out, name, length, inode);
    }
    return sound;
}

static bool good_folder_block(const struct walk *w, const struct ext4_inode *i,
                              const uint8_t *block, bool first) {
    const struct ext4_reader *r = &w->r;
    bool node = !mos_le32(block) && mos_le16(block + ENTRY_LENGTH) == r->block_size;
    if ((i->flags & EXT4_FLAG_INDEXED) && (first || node))
        return true; /* an index block: the end of what it was before may still stand there */
    const uint8_t *tail = block + r->block_size - TAIL;
    uint8_t number[8];
    if (!(r->ro_compat & EXT4_RO_CSUM) || mos_le32(tail) || mos_le16(tail + ENTRY_LENGTH) != TAIL ||
        tail[7] != 0xde)
        return true; /* a volume without sums */
    mos_put_le32(number, i->number);
    mos_put_le32(number + 4, i->generation);
    uint32_t sum = mos_crc32c(r->csum_seed, number, 8);
    return mos_crc32c(sum, block, r->block_size - TAIL) == mos_le32(tail + ENTRY_TAIL_SUM);
}

static void list_folder(void *self, struct mos_vec *children) {
    struct walk *w = self;
    struct ext4_reader *r = &w->r;
    const struct ext4_inode *i = &w->folder;
    bool sound = true;
    if (i->flags & EXT4_FLAG_INLINE) {
        size_t length;
        const uint8_t *rest = ext4_inline_rest(r, i, &length);
        sound = take_names(w, i->raw + FIELD + 4, FIELD_SIZE - 4, children);
        if (rest && !take_names(w, rest, length, children))
            sound = false;
    } else {
        sound = ext4_map(r, i, &w->runs, NULL);
        for (size_t k = 0; k < w->runs.count; k++) {
            const struct ext4_file_run *x = mos_vec_at(&w->runs, k);
            for (uint64_t b = 0; b < x->length && (x->logical + b) * r->block_size < i->size; b++)
                sound &= x->physical && ext4_read_block(r, x->physical + b, r->piece) &&
                         good_folder_block(w, i, r->piece, x->logical + b == 0) &&
                         take_names(w, r->piece, r->block_size, children);
        }
    }
    if (!sound)
        mos_volume_lost(w->at.request, mos_walk_path(&w->at),
                        "Folder /%s is damaged: some of its names are lost.",
                        mos_walk_path(&w->at));
}

/* ---- entries ---- */

static bool type_of(uint16_t mode, enum mos_entry_type *type) {
    static const struct {
        uint16_t bits;
        enum mos_entry_type type;
    } types[] = {{0100000, MOS_ENTRY_FILE},  {0040000, MOS_ENTRY_FOLDER}, {0120000, MOS_ENTRY_LINK},
                 {0020000, MOS_ENTRY_CHAR},  {0060000, MOS_ENTRY_BLOCK},  {0010000, MOS_ENTRY_FIFO},
                 {0140000, MOS_ENTRY_SOCKET}};
    for (size_t i = 0; i < sizeof types / sizeof *types; i++)
        if (types[i].bits == (mode & 0170000)) {
            *type = types[i].type;
            return true;
        }
    return false;
}

static void take_device(const uint8_t *field, struct mos_entry *e) {
    uint32_t old = mos_le32(field), wide = mos_le32(field + 4);
    e->major = old ? old >> 8 & 0xff : wide >> 8 & 0xfff;
    e->minor = old ? old & 0xff : (wide & 0xff) | (wide >> 12 & 0xfff00);
}

static bool stream_inode(void *self, uint64_t reference) {
    struct walk *w = self;
    uint32_t number = (uint32_t)reference;
    struct ext4_inode i;
    const struct mos_sink *sink = w->at.request->sink;
    struct mos_entry e = {.path = mos_walk_path(&w->at)};
    if (!ext4_read_inode(&w->r, number, &i) || !type_of(i.mode, &e.type)) {
        mos_volume_lost(w->at.request, e.path, "/%s: its inode %u is damaged.", e.path, number);
        return true;
    }
    e.mode = i.mode & 07777;
    e.uid = i.uid;
    e.gid = i.gid;
    e.mtime = i.mtime;
    e.mtime_ns = i.mtime_ns;
    e.size = e.type == MOS_ENTRY_FILE ? i.size : 0;
    ext4_read_attributes(&w->r, &i, &w->attributes);
    e.attributes = (const uint8_t *)w->attributes.data;
    e.attributes_length = w->attributes.length;
    if (e.type == MOS_ENTRY_CHAR || e.type == MOS_ENTRY_BLOCK)
        take_device(i.raw + FIELD, &e);
    if (e.type == MOS_ENTRY_LINK && !(e.target = link_text(w, &i))) {
        mos_volume_lost(w->at.request, e.path, "/%s: this link's target cannot be read.", e.path);
        return true;
    }
    if (i.links > 1 && e.type != MOS_ENTRY_FOLDER)
        mos_walk_link(&w->at, number, &e);
    if (e.type == MOS_ENTRY_FOLDER && !i.links) {
        mos_volume_lost(w->at.request, e.path, "/%s: its inode %u is not in use.", e.path, number);
        return true;
    }
    if (!sink->entry(sink->self, &e))
        return false;
    if (e.type == MOS_ENTRY_FILE &&
        (!w->at.request->wants || w->at.request->wants(w->at.request->self, &e)))
        return stream_content(w, &i, &e);
    if (!sink->end(sink->self, 0))
        return false;
    w->folder = i;
    return e.type != MOS_ENTRY_FOLDER ||
           mos_walk_folder(&w->at, number, list_folder, stream_inode, w);
}

bool ext4_stream(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request) {
    struct walk *w = mos_alloc(ctx->arena, sizeof *w);
    const char *why;
    if (!ext4_open(&w->r, ctx, io, &why)) {
        mos_volume_lost(request, NULL, "%s", why);
        return true;
    }
    if (w->r.incompat & EXT4_INCOMPAT_RECOVER)
        mos_volume_problem(request, "It was not unmounted: its journal holds changes that are not "
                                    "in what is shown here.");
    w->r.request = request;
    w->at = mos_walk_make(ctx, request, io->size / NAME_HEADER);
    w->target.arena = w->attributes.arena = ctx->arena;
    w->runs = mos_vec_make(ctx->arena, sizeof(struct ext4_file_run));
    w->r.piece = mos_alloc(ctx->arena, EXT4_PENDING);
    return stream_inode(w, EXT4_ROOT_INODE);
}
