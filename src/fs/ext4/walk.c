/* Goes through a volume from its root folder and streams what it finds. */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "base/map.h"
#include "content/content.h"

#include <string.h>

enum { DEEPEST = 256, NAME_HEADER = 8, TAIL = 12, FIELD = 0x28, FIELD_SIZE = 60 };

struct child {
    const char *name;
    uint32_t inode;
};

struct walk {
    struct ext4_reader r;
    const struct mos_read_request *request;
    uint8_t *seen;         /* a bit an inode: folders that were entered */
    struct mos_map linked; /* inode in text -> path of its first name */
    struct mos_buf path, target, attributes;
    struct mos_vec runs;
    uint64_t names; /* that may still come */
    unsigned depth;
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
    const struct mos_sink *sink = w->request->sink;
    struct mos_runs runs = {.sink = sink};
    uint64_t sum;
    bool sound = true;
    if (i->flags & EXT4_FLAG_ENCRYPTED)
        mos_volume_problem(w->request, "%s is encrypted; it is read as it lies.", e->path);
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
        mos_volume_lost(w->request, e->path, "The content of %s is damaged.", e->path);
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

static bool good_name(const char *name, size_t length) {
    return length && !memchr(name, '/', length) && !memchr(name, 0, length) &&
           !(length == 1 && name[0] == '.') && !(length == 2 && memcmp(name, "..", 2) == 0);
}

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
        if (!good_name(name, length) || !w->names) {
            sound = false;
            continue;
        }
        w->names--;
        struct child *c = mos_vec_push(out);
        *c = (struct child){mos_strndup(w->r.ctx->arena, name, length), inode};
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

static struct mos_vec list_folder(struct walk *w, const struct ext4_inode *i) {
    struct ext4_reader *r = &w->r;
    struct mos_vec children = mos_vec_make(r->ctx->arena, sizeof(struct child));
    bool sound = true;
    if (i->flags & EXT4_FLAG_INLINE) {
        size_t length;
        const uint8_t *rest = ext4_inline_rest(r, i, &length);
        sound = take_names(w, i->raw + FIELD + 4, FIELD_SIZE - 4, &children);
        if (rest && !take_names(w, rest, length, &children))
            sound = false;
    } else {
        sound = ext4_map(r, i, &w->runs, NULL);
        for (size_t k = 0; k < w->runs.count; k++) {
            const struct ext4_file_run *x = mos_vec_at(&w->runs, k);
            for (uint64_t b = 0; b < x->length && (x->logical + b) * r->block_size < i->size; b++)
                sound &= x->physical && ext4_read_block(r, x->physical + b, r->piece) &&
                         good_folder_block(w, i, r->piece, x->logical + b == 0) &&
                         take_names(w, r->piece, r->block_size, &children);
        }
    }
    if (!sound)
        mos_volume_lost(w->request, mos_buf_string(&w->path),
                        "Folder /%s is damaged: some of its names are lost.",
                        mos_buf_string(&w->path));
    return children;
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

static bool enter(struct walk *w, const struct ext4_inode *inode);

/* Seen before under another name: a hard link to that. */
static const char *first_name(struct walk *w, uint32_t inode) {
    const char *text = mos_printf(w->r.ctx->arena, "%u", inode);
    const char *first = mos_map_get(&w->linked, text);
    if (!first)
        mos_map_set(&w->linked, text, mos_strdup(w->r.ctx->arena, mos_buf_string(&w->path)));
    return first;
}

static bool stream_inode(struct walk *w, uint32_t number) {
    struct ext4_inode i;
    const struct mos_sink *sink = w->request->sink;
    struct mos_entry e = {.path = mos_buf_string(&w->path)};
    if (!ext4_read_inode(&w->r, number, &i) || !type_of(i.mode, &e.type)) {
        mos_volume_lost(w->request, e.path, "/%s: its inode %u is damaged.", e.path, number);
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
        mos_volume_lost(w->request, e.path, "/%s: this link's target cannot be read.", e.path);
        return true;
    }
    if (i.links > 1 && e.type != MOS_ENTRY_FOLDER && !w->request->whole_links &&
        (e.target = first_name(w, number))) {
        e.type = MOS_ENTRY_HARD_LINK;
        e.size = 0;
    }
    if (e.type == MOS_ENTRY_FOLDER && !i.links) {
        mos_volume_lost(w->request, e.path, "/%s: its inode %u is not in use.", e.path, number);
        return true;
    }
    if (!sink->entry(sink->self, &e))
        return false;
    if (e.type == MOS_ENTRY_FILE && (!w->request->wants || w->request->wants(w->request->self, &e)))
        return stream_content(w, &i, &e);
    if (!sink->end(sink->self, 0))
        return false;
    return e.type != MOS_ENTRY_FOLDER || enter(w, &i);
}

static bool enter(struct walk *w, const struct ext4_inode *inode) {
    uint8_t *bits = &w->seen[inode->number / 8], bit = (uint8_t)(1 << inode->number % 8);
    if (*bits & bit || w->depth >= DEEPEST) {
        mos_volume_lost(w->request, mos_buf_string(&w->path),
                        "Folder /%s lies inside itself, or too deep.", mos_buf_string(&w->path));
        return true;
    }
    *bits |= bit;
    w->depth++;
    struct mos_vec children = list_folder(w, inode);
    size_t length = w->path.length;
    for (size_t k = 0; k < children.count; k++) {
        const struct child *c = mos_vec_at(&children, k);
        w->path.length = length;
        if (length)
            mos_buf_char(&w->path, '/');
        mos_buf_text(&w->path, c->name);
        if (!stream_inode(w, c->inode))
            return false;
    }
    w->path.length = length;
    mos_buf_char(&w->path, 0);
    w->path.length = length;
    w->depth--;
    return true;
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
    w->request = w->r.request = request;
    w->seen = mos_alloc(ctx->arena, (size_t)w->r.inodes / 8 + 1);
    w->linked = mos_map_make(ctx->arena);
    w->path.arena = w->target.arena = w->attributes.arena = ctx->arena;
    w->runs = mos_vec_make(ctx->arena, sizeof(struct ext4_file_run));
    w->r.piece = mos_alloc(ctx->arena, EXT4_PENDING);
    w->names = io->size / NAME_HEADER;
    return stream_inode(w, EXT4_ROOT_INODE);
}
