/* The index of an archive, kept between runs.
 *
 * File form: "mosindx5", count (le32), the entries as index-form.c has them, and at the end the
 * SHA-256 of all that.  Small files below etc/ keep their hash, and those that rules read their
 * text, with tokens for passwords (texts.c).  A load that does not fit in every detail gives NULL
 * and the archive is read again.
 */
#include "content/content.h"

#include "base/bytes.h"
#include "content/index-form.h"

#include <assert.h>
#include <string.h>

enum { MOST_TEXTS = 4 << 20, CHUNK = 256 << 10, HEAD = 12 };

struct mos_index {
    struct mos_ctx *ctx;
    struct mos_vec chunks; /* of struct mos_buf: entries in that form; they do not move */
    size_t count;
    /* the entry being recorded */
    struct mos_sink through;
    bool has_through;
    struct mos_buf path, target, text, attributes;
    enum mos_text_kind kind;
    size_t texts; /* bytes of all texts */
    struct index_run last;
    struct index_record record;
    struct index_state before;
};

static const char magic[8] = "mosindx5";

struct mos_index *mos_index_new(struct mos_ctx *ctx) {
    struct mos_index *x = mos_alloc(ctx->arena, sizeof *x);
    x->ctx = ctx;
    struct mos_buf *buffers[] = {&x->path, &x->target, &x->text, &x->attributes, &x->before.path};
    for (size_t i = 0; i < sizeof buffers / sizeof *buffers; i++)
        buffers[i]->arena = ctx->arena;
    x->chunks = mos_vec_make(ctx->arena, sizeof(struct mos_buf));
    x->record.runs = mos_vec_make(ctx->arena, sizeof(struct index_run));
    return x;
}

size_t mos_index_count(const struct mos_index *index) {
    return index->count;
}

static void end_run(struct mos_index *x) {
    assert(x->last.offset <= UINT64_MAX - x->last.length);
    if (x->last.length)
        *(struct index_run *)mos_vec_push(&x->record.runs) = x->last;
}

static bool record_entry(void *self, const struct mos_entry *entry) {
    struct mos_index *x = self;
    x->record.entry = *entry;
    x->path.length = x->target.length = x->attributes.length = 0;
    mos_buf_text(&x->path, entry->path);
    if (entry->target)
        mos_buf_text(&x->target, entry->target);
    if (entry->attributes_length)
        mos_buf_add(&x->attributes, entry->attributes, entry->attributes_length);
    x->last = (struct index_run){0};
    x->record.runs.count = 0;
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
        end_run(x);
        x->last = (struct index_run){offset, length};
    }
    if (x->kind && bytes && offset >= x->text.length) {
        mos_buf_zeros(&x->text, (size_t)offset - x->text.length);
        mos_buf_add(&x->text, bytes, length);
    }
    return !x->has_through || x->through.data(x->through.self, offset, bytes, length);
}

/* Where the next entry goes: the last chunk while there is room, else a new one. */
static struct mos_buf *chunk_for(struct mos_index *x, size_t need) {
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
    uint64_t size = x->record.entry.size;
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
    struct mos_entry *e = &x->record.entry;
    uint8_t hash[MOS_SHA256_SIZE];
    end_run(x);
    e->path = mos_buf_string(&x->path);
    e->target = mos_buf_string(&x->target);
    e->attributes = (const uint8_t *)x->attributes.data;
    e->sha256 = settle_text(x, hash) ? hash : NULL;
    e->uid = mos_min(e->uid, UINT32_MAX);
    e->gid = mos_min(e->gid, UINT32_MAX);
    x->record.text = x->text.length ? (const uint8_t *)x->text.data : NULL;
    x->record.sum = sum;
    index_put(chunk_for(x, index_most(&x->record)), &x->before, &x->record);
    x->count++;
    return !x->has_through || x->through.end(x->through.self, sum);
}

struct mos_sink mos_index_recorder(struct mos_index *index, const struct mos_sink *through) {
    index->has_through = through != NULL;
    if (through)
        index->through = *through;
    return (struct mos_sink){index, record_entry, record_data, record_end};
}

/* Empty, for going through an index. */
static void start_reading(struct mos_arena *arena, struct index_state *s, struct index_record *r) {
    *s = (struct index_state){.path = {.arena = arena}};
    *r = (struct index_record){.runs = mos_vec_make(arena, sizeof(struct index_run))};
}

static bool replay_record(const struct index_record *r, const struct mos_sink *sink) {
    if (!sink->entry(sink->self, &r->entry))
        return false;
    for (size_t k = 0; k < r->runs.count; k++) {
        const struct index_run *run = mos_vec_at(&r->runs, k);
        if (!sink->data(sink->self, run->offset, r->text ? r->text + run->offset : NULL,
                        (size_t)run->length))
            return false;
    }
    return sink->end(sink->self, r->sum);
}

bool mos_index_replay(struct mos_ctx *ctx, const struct mos_index *index,
                      const struct mos_sink *sink) {
    struct index_state state;
    struct index_record record;
    start_reading(ctx->arena, &state, &record);
    for (size_t c = 0; c < index->chunks.count; c++) {
        const struct mos_buf *chunk = mos_vec_at(&index->chunks, c);
        for (size_t at = 0; at < chunk->length;) {
            if (!index_get(chunk, &at, &state, &record))
                return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "A stored index is damaged");
            if (!replay_record(&record, sink))
                return false;
        }
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
    struct index_state state;
    struct index_record record;
    start_reading(ctx->arena, &state, &record);
    size_t found = 0;
    for (size_t at = 0; at < all->length; found++)
        if (!index_get(all, &at, &state, &record))
            return NULL;
    return found == x->count ? x : NULL;
}
