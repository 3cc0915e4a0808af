/* Goes through a squashfs volume from its root folder and streams what it finds. */
#include "fs/squashfs/squashfs_internal.h"

#include "base/bytes.h"
#include "base/map.h"
#include "content/content.h"

#include <string.h>

enum { DEEPEST = 256, LEAST_NAMES = 65536 };

struct child {
    const char *name;
    uint64_t reference;
};

struct walk {
    struct sq_reader r;
    const struct mos_read_request *request;
    struct mos_map linked;  /* inode number in text -> path of its first name */
    struct mos_map entered; /* reference of a folder in text -> itself */
    struct mos_attribute_set set;
    struct mos_buf path, target, attributes;
    uint64_t names; /* that may still come */
    unsigned depth;
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
    const struct mos_sink *sink = w->request->sink;
    struct mos_runs runs = {.sink = sink};
    uint64_t sum;
    bool sound = true;
    if (!feed_blocks(w, i, &runs, &sound))
        return false;
    if (!sound)
        mos_volume_lost(w->request, e->path, "The content of %s is damaged.", e->path);
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

static bool good_name(const char *name, size_t length) {
    return length && !memchr(name, '/', length) && !memchr(name, 0, length) &&
           !(length == 1 && name[0] == '.') && !(length == 2 && memcmp(name, "..", 2) == 0);
}

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
        if (length >= sizeof name || *left - sizeof e < length || !w->names ||
            !sq_metadata(&w->r, block, offset, name, length) || !good_name(name, length))
            return false;
        *left -= sizeof e + length;
        w->names--;
        *(struct child *)mos_vec_push(out) = (struct child){
            mos_strndup(w->r.ctx->arena, name, length),
            (uint64_t)mos_le32(head + SQ_HEAD_BLOCK) << 16 | mos_le16(e + SQ_ENTRY_OFFSET)};
    }
    return true;
}

static struct mos_vec list_folder(struct walk *w, const struct sq_inode *i) {
    struct mos_vec children = mos_vec_make(w->r.ctx->arena, sizeof(struct child));
    uint64_t block = w->r.folder_table + i->start, left = i->size < 3 ? 0 : i->size - 3;
    uint32_t offset = i->offset;
    bool sound = i->size >= 3;
    while (left && sound)
        sound = take_run(w, &block, &offset, &left, &children);
    if (!sound)
        mos_volume_lost(w->request, mos_buf_string(&w->path),
                        "Folder /%s is damaged: some of its names are lost.",
                        mos_buf_string(&w->path));
    return children;
}

/* ---- entries ---- */

static bool enter(struct walk *w, uint64_t reference, const struct sq_inode *inode);

/* Seen before under another name: a hard link to that. */
static const char *first_name(struct walk *w, uint32_t inode) {
    const char *text = mos_printf(w->r.ctx->arena, "%u", inode);
    const char *first = mos_map_get(&w->linked, text);
    if (!first)
        mos_map_set(&w->linked, text, mos_strdup(w->r.ctx->arena, mos_buf_string(&w->path)));
    return first;
}

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
        mos_volume_lost(w->request, e->path, "/%s: its attributes cannot be read.", e->path);
    }
    e->attributes = (const uint8_t *)w->attributes.data;
    e->attributes_length = w->attributes.length;
}

static bool stream_inode(struct walk *w, uint64_t reference) {
    struct sq_inode i;
    const struct mos_sink *sink = w->request->sink;
    struct mos_entry e = {.path = mos_buf_string(&w->path)};
    if (!sq_inode(&w->r, reference, &i) || i.size > INT64_MAX) {
        mos_volume_lost(w->request, e.path, "/%s: its inode is damaged.", e.path);
        return true;
    }
    describe(w, &i, &e);
    if (e.type == MOS_ENTRY_LINK && !(e.target = link_text(w, &i))) {
        mos_volume_lost(w->request, e.path, "/%s: this link's target cannot be read.", e.path);
        return true;
    }
    if (i.links > 1 && e.type != MOS_ENTRY_FOLDER && !w->request->whole_links &&
        (e.target = first_name(w, i.number))) {
        e.type = MOS_ENTRY_HARD_LINK;
        e.size = 0;
    } else if (e.type == MOS_ENTRY_LINK) {
        e.target = w->target.data;
    }
    if (!sink->entry(sink->self, &e))
        return false;
    if (e.type == MOS_ENTRY_FILE && (!w->request->wants || w->request->wants(w->request->self, &e)))
        return stream_content(w, &i, &e);
    if (!sink->end(sink->self, 0))
        return false;
    return e.type != MOS_ENTRY_FOLDER || enter(w, reference, &i);
}

static bool enter(struct walk *w, uint64_t reference, const struct sq_inode *inode) {
    const char *key = mos_printf(w->r.ctx->arena, "%llx", (unsigned long long)reference);
    if (mos_map_get(&w->entered, key) || w->depth >= DEEPEST) {
        mos_volume_lost(w->request, mos_buf_string(&w->path),
                        "Folder /%s lies inside itself, or too deep.", mos_buf_string(&w->path));
        return true;
    }
    mos_map_set(&w->entered, key, w);
    w->depth++;
    struct mos_vec children = list_folder(w, inode);
    size_t length = w->path.length;
    for (size_t k = 0; k < children.count; k++) {
        const struct child *c = mos_vec_at(&children, k);
        w->path.length = length;
        if (length)
            mos_buf_char(&w->path, '/');
        mos_buf_text(&w->path, c->name);
        if (!stream_inode(w, c->reference))
            return false;
    }
    w->path.length = length;
    mos_buf_char(&w->path, 0);
    w->path.length = length;
    w->depth--;
    return true;
}

bool sq_stream(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request) {
    struct walk *w = mos_alloc(ctx->arena, sizeof *w);
    const char *why;
    if (!sq_open(&w->r, ctx, io, &why)) {
        mos_volume_lost(request, NULL, "%s", why);
        return true;
    }
    w->request = request;
    w->linked = mos_map_make(ctx->arena);
    w->entered = mos_map_make(ctx->arena);
    w->set = mos_attribute_set_make(ctx->arena);
    w->path.arena = w->target.arena = w->attributes.arena = ctx->arena;
    w->names = w->r.used * 4 + LEAST_NAMES; /* no listing gets smaller than that */
    return stream_inode(w, w->r.root);
}
