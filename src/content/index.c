/* The index of an archive, kept between runs: 85 bytes and the name for most entries.
 *
 * File form: "mosindx4", count (le32), then per entry: type, mode (le16), uid, gid, mtime (le64),
 * mtime_ns, size (le64), major, minor, sum (le64), path length (le32), target length (le32),
 * number of runs (le32), length of the kept text (le32), length of its extended attributes (le32),
 * length of its hash (le32: 0 or 32), path, NUL, target, NUL, runs of {offset le64, length le64},
 * the text, the attributes, the hash; at the end the SHA-256 of all that.  Small files below etc/
 * keep their hash, and those that rules read their text, with tokens for passwords (texts.c).  A
 * load that does not fit in every detail gives NULL and the archive is read again.
 */
#include "content/content.h"

#include "base/bytes.h"

#include <assert.h>
#include <string.h>

enum { ENTRY_BYTES = 71, MOST_TEXTS = 4 << 20, CHUNK = 256 << 10, HEAD = 12 };

struct run {
    uint64_t offset, length;
};

struct mos_index {
    struct mos_ctx *ctx;
    struct mos_vec chunks; /* of struct mos_buf: the file form of entries, which do not move */
    size_t count;
    /* the entry being recorded */
    struct mos_sink through;
    bool has_through;
    struct mos_buf path, target, runs, text, attributes;
    enum mos_text_kind kind;
    size_t texts; /* bytes of all texts */
    struct run last;
    uint32_t run_count;
    struct mos_entry entry;
};

static const char magic[8] = "mosindx4";

struct mos_index *mos_index_new(struct mos_ctx *ctx) {
    struct mos_index *x = mos_alloc(ctx->arena, sizeof *x);
    x->ctx = ctx;
    struct mos_buf *buffers[] = {&x->path, &x->target, &x->runs, &x->text, &x->attributes};
    for (size_t i = 0; i < sizeof buffers / sizeof *buffers; i++)
        buffers[i]->arena = ctx->arena;
    x->chunks = mos_vec_make(ctx->arena, sizeof(struct mos_buf));
    return x;
}

size_t mos_index_count(const struct mos_index *index) {
    return index->count;
}

static void put_run(struct mos_index *x) {
    assert(x->last.offset <= UINT64_MAX - x->last.length);
    uint8_t raw[16];
    if (!x->last.length)
        return;
    mos_put_le64(raw, x->last.offset);
    mos_put_le64(raw + 8, x->last.length);
    mos_buf_add(&x->runs, raw, sizeof raw);
    x->run_count++;
}

static bool record_entry(void *self, const struct mos_entry *entry) {
    struct mos_index *x = self;
    x->entry = *entry;
    x->path.length = x->target.length = x->runs.length = x->attributes.length = 0;
    mos_buf_text(&x->path, entry->path);
    if ((entry->type == MOS_ENTRY_LINK || entry->type == MOS_ENTRY_HARD_LINK) && entry->target)
        mos_buf_text(&x->target, entry->target);
    if (entry->attributes_length)
        mos_buf_add(&x->attributes, entry->attributes, entry->attributes_length);
    x->last = (struct run){0};
    x->run_count = 0;
    x->text.length = 0;
    x->kind = x->texts + entry->size <= MOST_TEXTS ? mos_text_kind(entry) : MOS_TEXT_NONE;
    return !x->has_through || x->through.entry(x->through.self, entry);
}

static bool record_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    assert(length);
    struct mos_index *x = self;
    if (x->last.length && x->last.offset + x->last.length == offset) {
        x->last.length += length;
    } else {
        put_run(x);
        x->last = (struct run){offset, length};
    }
    if (x->kind && bytes && offset >= x->text.length) {
        mos_buf_zeros(&x->text, (size_t)offset - x->text.length);
        mos_buf_add(&x->text, bytes, length);
    }
    return !x->has_through || x->through.data(x->through.self, offset, bytes, length);
}

/* Where the next entry goes: the last chunk while there is room, else a new one. */
static struct mos_buf *chunk_for(struct mos_index *x, size_t need) {
    assert(need >= ENTRY_BYTES);
    struct mos_buf *last = x->chunks.count ? mos_vec_at(&x->chunks, x->chunks.count - 1) : NULL;
    if (last && last->capacity - last->length > need)
        return last;
    size_t capacity = need < CHUNK ? CHUNK : need;
    struct mos_buf *b = mos_vec_push(&x->chunks);
    *b = (struct mos_buf){x->ctx->arena, mos_alloc(x->ctx->arena, capacity + 2), 0, capacity + 2};
    return b;
}

/* What is kept of a small text: its hash, and of those that are read the text without passwords. */
static bool settle_text(struct mos_index *x, uint8_t hash[MOS_SHA256_SIZE]) {
    assert(x->texts <= MOST_TEXTS);
    uint64_t size = x->entry.size;
    if (x->kind && x->text.length < size)
        mos_buf_zeros(&x->text, (size_t)size - x->text.length);
    bool whole = x->kind && x->text.length == size && mos_sha256(x->text.data, (size_t)size, hash);
    if (!whole || x->kind == MOS_TEXT_HASH)
        x->text.length = 0;
    else if (x->kind == MOS_TEXT_USERS)
        mos_text_redact(x->text.data, x->text.length);
    x->texts += x->text.length;
    return whole;
}

static bool record_end(void *self, uint64_t sum) {
    struct mos_index *x = self;
    put_run(x);
    const struct mos_entry *e = &x->entry;
    uint8_t hash[MOS_SHA256_SIZE];
    size_t hash_length = settle_text(x, hash) ? sizeof hash : 0;
    uint8_t h[ENTRY_BYTES] = {(uint8_t)e->type};
    mos_put_le16(h + 1, e->mode);
    mos_put_le32(h + 3, (uint32_t)mos_min(e->uid, UINT32_MAX));
    mos_put_le32(h + 7, (uint32_t)mos_min(e->gid, UINT32_MAX));
    mos_put_le64(h + 11, (uint64_t)e->mtime);
    mos_put_le32(h + 19, e->mtime_ns);
    mos_put_le64(h + 23, e->size);
    mos_put_le32(h + 31, e->major);
    mos_put_le32(h + 35, e->minor);
    mos_put_le64(h + 39, sum);
    mos_put_le32(h + 47, (uint32_t)x->path.length);
    mos_put_le32(h + 51, (uint32_t)x->target.length);
    mos_put_le32(h + 55, x->run_count);
    mos_put_le32(h + 59, (uint32_t)x->text.length);
    mos_put_le32(h + 63, (uint32_t)x->attributes.length);
    mos_put_le32(h + 67, (uint32_t)hash_length);
    struct mos_buf *to =
        chunk_for(x, sizeof h + x->path.length + 1 + x->target.length + 1 + x->runs.length +
                         x->text.length + x->attributes.length + hash_length);
    mos_buf_add(to, h, sizeof h);
    mos_buf_add(to, mos_buf_string(&x->path), x->path.length + 1);
    mos_buf_add(to, mos_buf_string(&x->target), x->target.length + 1);
    mos_buf_add(to, mos_buf_string(&x->runs), x->runs.length);
    mos_buf_add(to, mos_buf_string(&x->text), x->text.length);
    mos_buf_add(to, mos_buf_string(&x->attributes), x->attributes.length);
    mos_buf_add(to, hash, hash_length);
    x->count++;
    return !x->has_through || x->through.end(x->through.self, sum);
}

struct mos_sink mos_index_recorder(struct mos_index *index, const struct mos_sink *through) {
    index->has_through = through != NULL;
    if (through)
        index->through = *through;
    return (struct mos_sink){index, record_entry, record_data, record_end};
}

/* Runs of data follow each other and stay within the file. */
static bool runs_fit(const uint8_t *runs, uint32_t count, uint64_t size) {
    uint64_t end = 0;
    for (uint32_t k = 0; k < count; k++) {
        uint64_t offset = mos_le64(runs + 16 * (size_t)k),
                 length = mos_le64(runs + 16 * (size_t)k + 8);
        if (offset < end || offset > size || length > size - offset)
            return false;
        end = offset + length;
    }
    return true;
}

/* One entry of the file form at *at; false when it does not fit into what is left. */
static bool parse_entry(const struct mos_buf *data, size_t *at, struct mos_entry *entry,
                        uint64_t *sum, const uint8_t **runs, uint32_t *run_count,
                        const uint8_t **text) {
    assert(*at <= data->length);
    size_t left = data->length - *at;
    if (left < ENTRY_BYTES)
        return false;
    const uint8_t *h = (const uint8_t *)data->data + *at;
    uint64_t path = mos_le32(h + 47), target = mos_le32(h + 51);
    *run_count = mos_le32(h + 55);
    uint64_t kept = mos_le32(h + 59), attributes = mos_le32(h + 63), hash = mos_le32(h + 67);
    uint64_t need =
        ENTRY_BYTES + path + 1 + target + 1 + 16 * (uint64_t)*run_count + kept + attributes + hash;
    if (need > left || h[0] > MOS_ENTRY_SOCKET || (kept && kept != mos_le64(h + 23)) ||
        (hash && hash != MOS_SHA256_SIZE))
        return false;
    *text = kept ? h + need - hash - attributes - kept : NULL;
    *entry = (struct mos_entry){
        .type = (enum mos_entry_type)h[0],
        .mode = mos_le16(h + 1),
        .uid = mos_le32(h + 3),
        .gid = mos_le32(h + 7),
        .mtime = (int64_t)mos_le64(h + 11),
        .mtime_ns = mos_le32(h + 19),
        .size = mos_le64(h + 23),
        .major = mos_le32(h + 31),
        .minor = mos_le32(h + 35),
        .path = (const char *)h + ENTRY_BYTES,
        .target = (const char *)h + ENTRY_BYTES + path + 1,
        .attributes = h + need - hash - attributes,
        .attributes_length = attributes,
        .sha256 = hash ? h + need - hash : NULL,
    };
    *sum = mos_le64(h + 39);
    *runs = h + ENTRY_BYTES + path + 1 + target + 1;
    *at += (size_t)need;
    return entry->path[path] == 0 && entry->target[target] == 0 &&
           runs_fit(*runs, *run_count, entry->size);
}

/* One entry with its runs; advances *at. */
static bool replay_entry(struct mos_ctx *ctx, const struct mos_buf *chunk, size_t *at,
                         const struct mos_sink *sink) {
    struct mos_entry entry;
    uint64_t sum;
    const uint8_t *runs, *text;
    uint32_t count;
    if (!parse_entry(chunk, at, &entry, &sum, &runs, &count, &text))
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "A stored index is damaged");
    if (!sink->entry(sink->self, &entry))
        return false;
    for (uint32_t k = 0; k < count; k++) {
        uint64_t offset = mos_le64(runs + 16 * (size_t)k);
        size_t length = (size_t)mos_le64(runs + 16 * (size_t)k + 8);
        bool inside = text && offset <= entry.size && length <= entry.size - offset;
        if (!sink->data(sink->self, offset, inside ? text + offset : NULL, length))
            return false;
    }
    return sink->end(sink->self, sum);
}

bool mos_index_replay(struct mos_ctx *ctx, const struct mos_index *index,
                      const struct mos_sink *sink) {
    for (size_t c = 0; c < index->chunks.count; c++) {
        const struct mos_buf *chunk = mos_vec_at(&index->chunks, c);
        for (size_t at = 0; at < chunk->length;)
            if (!replay_entry(ctx, chunk, &at, sink))
                return false;
    }
    return true;
}

void mos_index_save(const struct mos_index *index, struct mos_buf *out) {
    assert(index->count <= UINT32_MAX);
    uint8_t hash[MOS_SHA256_SIZE], count[4];
    size_t start = out->length, size = HEAD + sizeof hash + 2;
    for (size_t c = 0; c < index->chunks.count; c++)
        size += ((struct mos_buf *)mos_vec_at(&index->chunks, c))->length;
    if (!out->length) /* all of it at once: growing would leave copies behind */
        *out = (struct mos_buf){out->arena, mos_alloc(out->arena, size), 0, size};
    mos_put_le32(count, (uint32_t)index->count);
    mos_buf_add(out, magic, sizeof magic);
    mos_buf_add(out, count, sizeof count);
    for (size_t c = 0; c < index->chunks.count; c++) {
        const struct mos_buf *chunk = mos_vec_at(&index->chunks, c);
        mos_buf_add(out, chunk->data, chunk->length);
    }
    mos_sha256(out->data + start, out->length - start, hash);
    mos_buf_add(out, hash, sizeof hash);
}

struct mos_index *mos_index_load(struct mos_ctx *ctx, void *data, size_t length) {
    uint8_t hash[MOS_SHA256_SIZE];
    if (length < HEAD + sizeof hash || memcmp(data, magic, sizeof magic) != 0)
        return NULL;
    size_t body = length - sizeof hash;
    if (!mos_sha256(data, body, hash) ||
        memcmp(hash, (const uint8_t *)data + body, sizeof hash) != 0)
        return NULL;
    struct mos_index *x = mos_alloc(ctx->arena, sizeof *x);
    x->ctx = ctx;
    x->chunks = mos_vec_make(ctx->arena, sizeof(struct mos_buf));
    struct mos_buf *all = mos_vec_push(&x->chunks);
    char *entries = (char *)data + HEAD;
    *all = (struct mos_buf){ctx->arena, entries, body - HEAD, body - HEAD};
    x->count = mos_le32((const uint8_t *)data + sizeof magic);
    struct mos_entry entry;
    uint64_t sum;
    const uint8_t *runs, *text;
    uint32_t count;
    size_t at = 0, found = 0;
    while (at < all->length) {
        if (!parse_entry(all, &at, &entry, &sum, &runs, &count, &text))
            return NULL;
        found++;
    }
    return found == x->count ? x : NULL;
}
