/* Goes through a squashfs volume from its root folder and streams what it finds. */
#include "fs/squashfs/squashfs_internal.h"

#include "base/bytes.h"
#include "content/content.h"
#include "fs/walk.h"

#include <string.h>

enum { LEAST_NAMES = 65536 };

struct walk {
    struct mos_walk at;
    struct sq_reader r;
    struct sq_inode folder; /* whose names are listed next */
    struct mos_attribute_set set;
    struct mos_buf target, attributes;
};

/* ---- content ---- */

/* The part of a file that lies in a fragment. */
static bool feed_tail(struct walk *w, const struct sq_inode *i, uint64_t offset,
                      struct mos_runs *runs, bool *sound) {
    size_t length = (size_t)(i->size - offset);
    const struct sq_cached *f = sq_fragment(&w->r, i->fragment);
    if (!f || i->offset > f->length || length > f->length - i->offset) {
        *sound = false;
        return true;
    }
    return mos_runs_add(runs, f->bytes + i->offset, length);
}

static bool feed_blocks(struct walk *w, const struct sq_inode *i, struct mos_runs *runs,
                        bool *sound) {
    struct sq_reader *r = &w->r;
    uint64_t block = i->after, at = i->start, offset = 0;
    uint32_t where = i->after_offset;
    uint64_t whole = i->fragment == SQ_NONE ? i->size : i->size / r->block_size * r->block_size;
    for (; offset < whole; offset += r->block_size) {
        size_t wanted = (size_t)mos_min(r->block_size, whole - offset);
        uint8_t size[4];
        if (!sq_metadata(r, &block, &where, size, sizeof size)) {
            *sound = false;
            return true;
        }
        if (!mos_le32(size)) { /* a hole; many of them must end, too */
            *sound = r->budget >= sizeof size;
            r->budget -= *sound ? sizeof size : 0;
            if (!*sound)
                return true;
            continue;
        }
        if (sq_data(r, at, mos_le32(size)) != wanted) {
            *sound = false;
            return true;
        }
        if (!mos_runs_seek(runs, offset) || !mos_runs_add(runs, r->block, wanted))
            return false;
        at += mos_le32(size) & (SQ_STORED_DATA - 1);
    }
    if (offset >= i->size)
        return true;
    return mos_runs_seek(runs, offset) && feed_tail(w, i, offset, runs, sound);
}

static bool stream_content(struct walk *w, const struct sq_inode *i, const struct mos_entry *e) {
    const struct mos_sink *sink = w->at.request->sink;
    struct mos_runs runs = {.sink = sink};
    uint64_t sum;
    bool sound = true;
    if (!feed_blocks(w, i, &runs, &sound))
        return false;
    if (!sound)
        mos_volume_lost(w->at.request, e->path, "The content of %s is damaged.", e->path);
    return mos_runs_seek(&runs, i->size) && mos_runs_end(&runs, &sum) && sink->end(sink->self, sum);
}

static const char *link_text(struct walk *w, const struct sq_inode *i) {
    uint64_t block = i->after;
    uint32_t offset = i->after_offset;
    struct mos_buf *b = &w->target;
    b->length = 0;
    if (!i->size)
        return NULL;
    mos_buf_zeros(b, (size_t)i->size);
    if (!sq_metadata(&w->r, &block, &offset, b->data, (size_t)i->size))
        return NULL;
    return strlen(mos_buf_string(b)) == b->length ? b->data : NULL;
}

/* ---- folders ---- */

/* The names behind one head; *left: bytes of the listing. */
static bool take_run(struct walk *w, uint64_t *block, uint32_t *offset, uint64_t *left,
                     struct mos_vec *out) {
    uint8_t head[SQ_HEAD_SIZE], e[SQ_ENTRY_SIZE];
    char name[SQ_LONGEST_NAME + 1];
    if (*left < sizeof head || !sq_metadata(&w->r, block, offset, head, sizeof head))
        return false;
    *left -= sizeof head;
    uint32_t count = mos_le32(head + SQ_HEAD_COUNT);
    if (count >= SQ_RUN)
        return false;
    for (uint32_t k = 0; k <= count; k++) {
        if (*left < sizeof e || !sq_metadata(&w->r, block, offset, e, sizeof e))
            return false;
        size_t length = (size_t)mos_le16(e + SQ_ENTRY_LENGTH) + 1;
        uint64_t reference =
            (uint64_t)mos_le32(head + SQ_HEAD_BLOCK) << 16 | mos_le16(e + SQ_ENTRY_OFFSET);
        if (length >= sizeof name || *left - sizeof e < length ||
            !sq_metadata(&w->r, block, offset, name, length) ||
            !mos_walk_child(&w->at, out, name, length, reference))
            return false;
        *left -= sizeof e + length;
    }
    return true;
}

static void list_folder(void *self, struct mos_vec *children) {
    struct walk *w = self;
    const struct sq_inode *i = &w->folder;
    uint64_t block = w->r.folder_table + i->start, left = i->size < 3 ? 0 : i->size - 3;
    uint32_t offset = i->offset;
    bool sound = i->size >= 3;
    while (left && sound)
        sound = take_run(w, &block, &offset, &left, children);
    if (!sound)
        mos_volume_lost(w->at.request, mos_walk_path(&w->at),
                        "Folder /%s is damaged: some of its names are lost.",
                        mos_walk_path(&w->at));
}

/* ---- entries ---- */

static void describe(struct walk *w, const struct sq_inode *i, struct mos_entry *e) {
    static const uint8_t types[] = {
        [SQ_FOLDER] = MOS_ENTRY_FOLDER, [SQ_FILE] = MOS_ENTRY_FILE, [SQ_LINK] = MOS_ENTRY_LINK,
        [SQ_BLOCK] = MOS_ENTRY_BLOCK,   [SQ_CHAR] = MOS_ENTRY_CHAR, [SQ_FIFO] = MOS_ENTRY_FIFO,
        [SQ_SOCKET] = MOS_ENTRY_SOCKET};
    e->type = (enum mos_entry_type)types[i->type];
    e->mode = i->mode;
    e->uid = i->uid;
    e->gid = i->gid;
    e->mtime = i->mtime;
    e->size = i->type == SQ_FILE ? i->size : 0;
    if (i->type == SQ_CHAR || i->type == SQ_BLOCK) {
        e->major = i->device >> 8 & 0xfff;
        e->minor = (i->device & 0xff) | (i->device >> 12 & 0xfff00);
    }
    if (!sq_attributes(&w->r, i->attributes, &w->set, &w->attributes)) {
        w->attributes.length = 0;
        mos_volume_lost(w->at.request, e->path, "/%s: its attributes cannot be read.", e->path);
    }
    e->attributes = (const uint8_t *)w->attributes.data;
    e->attributes_length = w->attributes.length;
}

static bool stream_inode(void *self, uint64_t reference) {
    struct walk *w = self;
    struct sq_inode i;
    const struct mos_sink *sink = w->at.request->sink;
    struct mos_entry e = {.path = mos_walk_path(&w->at)};
    if (!sq_inode(&w->r, reference, &i) || i.size > INT64_MAX) {
        mos_volume_lost(w->at.request, e.path, "/%s: its inode is damaged.", e.path);
        return true;
    }
    describe(w, &i, &e);
    if (e.type == MOS_ENTRY_LINK && !(e.target = link_text(w, &i))) {
        mos_volume_lost(w->at.request, e.path, "/%s: this link's target cannot be read.", e.path);
        return true;
    }
    if (i.links > 1 && e.type != MOS_ENTRY_FOLDER)
        mos_walk_link(&w->at, i.number, &e);
    if (!sink->entry(sink->self, &e))
        return false;
    if (e.type == MOS_ENTRY_FILE &&
        (!w->at.request->wants || w->at.request->wants(w->at.request->self, &e)))
        return stream_content(w, &i, &e);
    if (!sink->end(sink->self, 0))
        return false;
    w->folder = i;
    return e.type != MOS_ENTRY_FOLDER ||
           mos_walk_folder(&w->at, reference, list_folder, stream_inode, w);
}

bool sq_stream(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request) {
    struct walk *w = mos_alloc(ctx->arena, sizeof *w);
    const char *why;
    if (!sq_open(&w->r, ctx, io, &why)) {
        mos_volume_lost(request, NULL, "%s", why);
        return true;
    }
    w->at = mos_walk_make(ctx, request, w->r.used * 4 + LEAST_NAMES); /* no listing is smaller */
    w->set = mos_attribute_set_make(ctx->arena);
    w->target.arena = w->attributes.arena = ctx->arena;
    return stream_inode(w, w->r.root);
}
