/* Filling a volume: the same code counts and writes, so what `check` accepts is what fits. */
#include "plan/fills.h"

#include "plan/shared.h"
#include "plan/steps.h"

#include "base/bytes.h"
#include "store/store.h"

#include <assert.h>
#include <string.h>

/* ---- small texts ---- */

/* Stands between a fill and the volume and keeps what rules may want to read. */
struct witness {
    struct mos_plan *plan;
    struct mos_region_plan *region;
    const struct mos_fill *def;
    unsigned fill;
    struct mos_sink to;
    struct mos_text_file *current;
    enum mos_text_kind kind;
    struct mos_buf text;
    uint64_t size;
    struct mos_sha256 *hash; /* of all that the fill brings; NULL: it is not taken */
};

/* What a fill that expects something finds in its place. */
static void note_replacement(struct witness *w, const struct mos_entry *entry) {
    if (!w->def->expects || entry->type != MOS_ENTRY_FILE)
        return;
    struct mos_ctx *ctx = w->plan->ctx;
    struct mos_replacement *r = mos_vec_push(&w->plan->replacements);
    const struct mos_text_file *old = mos_plan_text(w->region, entry->path);
    uint32_t index;
    *r = (struct mos_replacement){
        .region = w->region, .fill = w->def, .path = mos_strdup(ctx->arena, entry->path)};
    r->met = mos_inv_find(w->region->volume->inventory, entry->path, &index) && index;
    r->known = old && old->hashed;
    if (r->known)
        memcpy(r->sha256, old->sha256, sizeof r->sha256);
}

static void hash_entry(struct witness *w, const struct mos_entry *e) {
    struct mos_buf b = {.arena = w->plan->ctx->arena};
    bool link = e->type == MOS_ENTRY_LINK || e->type == MOS_ENTRY_HARD_LINK;
    const char *target = link && e->target ? e->target : "";
    mos_buf_printf(&b, "%zu %s %d %o %llu %llu %lld %u %llu %u %u %zu %s %zu ", strlen(e->path),
                   e->path, (int)e->type, e->mode, (unsigned long long)e->uid,
                   (unsigned long long)e->gid, (long long)e->mtime, e->mtime_ns,
                   (unsigned long long)e->size, e->major, e->minor, strlen(target), target,
                   e->attributes_length);
    mos_sha256_update(w->hash, b.data, b.length);
    if (e->attributes_length)
        mos_sha256_update(w->hash, e->attributes, e->attributes_length);
}

static void hash_data(struct witness *w, uint64_t offset, const void *bytes, size_t length) {
    uint8_t head[16];
    assert(bytes); /* folders and what is made here always bring theirs */
    mos_put_le64(head, offset);
    mos_put_le64(head + 8, length);
    mos_sha256_update(w->hash, head, sizeof head);
    mos_sha256_update(w->hash, bytes, length);
}

static bool witness_entry(void *self, const struct mos_entry *entry) {
    struct witness *w = self;
    w->current = NULL;
    if (w->hash)
        hash_entry(w, entry);
    note_replacement(w, entry);
    w->kind = mos_text_kind(entry);
    if (w->kind) {
        w->current = mos_alloc(w->plan->ctx->arena, sizeof *w->current);
        w->current->length = (size_t)entry->size;
        w->current->hashed = entry->sha256 != NULL;
        if (entry->sha256)
            memcpy(w->current->sha256, entry->sha256, MOS_SHA256_SIZE);
        w->current->path = mos_strdup(w->plan->ctx->arena, entry->path);
        w->current->fill = w->fill;
        w->text = (struct mos_buf){.arena = w->plan->ctx->arena};
        w->size = entry->size;
    }
    return w->to.entry(w->to.self, entry);
}

static bool witness_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct witness *w = self;
    if (w->hash)
        hash_data(w, offset, bytes, length);
    if (w->current && !bytes && !w->current->hashed)
        w->current = NULL; /* nothing is known of it */
    if (w->current && bytes && offset >= w->text.length) {
        mos_buf_zeros(&w->text, (size_t)offset - w->text.length);
        mos_buf_add(&w->text, bytes, length);
    }
    return w->to.data(w->to.self, offset, bytes, length);
}

static bool witness_end(void *self, uint64_t sum) {
    struct witness *w = self;
    if (w->current) {
        if (w->text.length < w->size)
            mos_buf_zeros(&w->text, (size_t)w->size - w->text.length);
        if (!w->current->hashed)
            w->current->hashed = mos_sha256(w->text.data, w->text.length, w->current->sha256);
        if (w->kind != MOS_TEXT_HASH || mos_has(w->def->made)) /* what we made is in memory only */
            w->current->text = mos_buf_string(&w->text);
        if (w->region->texts.count < 4096)
            mos_map_set(&w->region->texts, w->current->path, w->current);
        w->current = NULL;
    }
    return w->to.end(w->to.self, sum);
}

/* ---- fills ---- */

bool mos_plan_stream_fill(struct mos_plan *plan, const struct mos_region_plan *region,
                          const struct mos_fill *f, bool counting, const struct mos_sink *sink) {
    if (mos_fill_makes(f, MOS_MADE_SYSTEM))
        return mos_plan_stream_system(plan, region, sink);
    if (mos_fill_makes(f, MOS_MADE_MODULE_INDEX))
        return mos_plan_stream_module_index(plan, region, f, sink);
    return mos_plan_stream_brought(plan, f, counting, sink);
}

bool mos_plan_unread(const struct mos_plan *plan, const struct mos_region_plan *region) {
    const struct mos_volume *v = region->def->volume;
    for (size_t i = 0; v && i < v->fills.count; i++) {
        const struct mos_fill *f = v->fills.items[i];
        const struct mos_piece_plan *p =
            mos_has(f->archive) ? mos_plan_piece(plan, f->archive->target) : NULL;
        if (mos_plan_is_there(p) && !p->index)
            return true;
    }
    return false;
}

/* Content that is missing, broken or not to be had: then nothing is said about the volume. */
static bool incomplete(const struct mos_plan *plan, const struct mos_region_plan *region) {
    const struct mos_volume *v = region->def->volume;
    if (v->r.broken)
        return true;
    for (size_t i = 0; i < v->fills.count; i++) {
        const struct mos_fill *f = v->fills.items[i];
        const struct mos_value *ref = f->archive ? f->archive : f->piece;
        const struct mos_piece_plan *p = mos_has(ref) ? mos_plan_piece(plan, ref->target) : NULL;
        if (f->r.broken || (ref != NULL && !mos_plan_is_there(p)))
            return true;
    }
    return false;
}

/* Are the bytes of a fill there whenever it is streamed? */
static bool brings_bytes(const struct mos_fill *f) {
    return mos_has(f->folder) || mos_has(f->environment) || mos_has(f->text) ||
           mos_fill_makes(f, MOS_MADE_SYSTEM) || mos_fill_makes(f, MOS_MADE_MODULE_INDEX);
}

static void keep_sum(struct mos_region_plan *region, size_t fill, struct mos_sha256 *hash) {
    assert(region->def->volume && fill < region->def->volume->fills.count);
    while (region->fill_sums.count <= fill)
        *(struct mos_fill_sum *)mos_vec_push(&region->fill_sums) =
            (struct mos_fill_sum){false, {0}};
    struct mos_fill_sum *s = mos_vec_at(&region->fill_sums, fill);
    s->known = hash != NULL;
    if (hash)
        mos_sha256_final(hash, s->sha256);
    mos_sha256_free(hash);
}

/* What such a fill brings hangs on what is there already: it cannot be asked a second time. */
static bool comes_once(const struct mos_fill *f) {
    return mos_fill_makes(f, MOS_MADE_SYSTEM) || mos_fill_makes(f, MOS_MADE_MODULE_INDEX);
}

/* The fills [from, to) into region->volume, which may turn out to be incomplete: NULL then. */
static bool stream_fills(struct mos_plan *plan, struct mos_region_plan *region, size_t from,
                         size_t to) {
    assert(from <= to && to <= region->def->volume->fills.count);
    struct mos_volume_base *v = region->volume;
    struct witness w = {.plan = plan, .region = region, .to = region->fs->sink(v)};
    struct mos_sink sink = {&w, witness_entry, witness_data, witness_end};
    const struct mos_named *fills = &region->def->volume->fills;
    for (size_t i = from; i < to; i++) {
        const struct mos_fill *f = fills->items[i];
        v->fill = (uint16_t)i;
        v->once = comes_once(f);
        v->replaces = mos_true(f->replaces) || mos_has(f->expects) || v->once;
        w.fill = (unsigned)i;
        w.def = f;
        w.hash = brings_bytes(f) ? mos_sha256_new() : NULL;
        bool ok = mos_plan_stream_fill(plan, region, f, v->io == NULL, &sink);
        keep_sum(region, i, w.hash);
        if (ok)
            continue;
        if (plan->ctx->error->kind || !incomplete(plan, region))
            return false;
        region->volume = NULL; /* an archive turned out to be damaged: that is a finding */
        return true;
    }
    return true;
}

/* ---- what is equal for many selections ---- */

/* How many of the first fills depend on nothing but what shared_key() has. */
static size_t shared_fills(const struct mos_plan *plan, const struct mos_region_plan *region) {
    const struct mos_named *fills = &region->def->volume->fills;
    size_t n = 0;
    for (; n < fills->count; n++) {
        const struct mos_fill *f = fills->items[n];
        const struct mos_piece_plan *p =
            mos_has(f->archive) ? mos_plan_piece(plan, f->archive->target) : NULL;
        struct mos_buf to = {.arena = plan->ctx->arena};
        const char *prefix = mos_has(f->to) ? mos_entry_path(&to, f->to->text) : "";
        if (!p || !p->index || !p->hashed || f->expects || !prefix || !fills_index_tells(prefix))
            break;
    }
    return n;
}

static void add_text(struct mos_buf *b, const char *text) {
    mos_buf_printf(b, "%zu %s ", strlen(text), text);
}

static void add_texts(struct mos_buf *b, struct mos_texts texts) {
    mos_buf_printf(b, "%zu ", texts.count);
    for (size_t i = 0; i < texts.count; i++)
        add_text(b, texts.items[i]);
}

static bool shared_key(const struct mos_plan *plan, const struct mos_region_plan *region,
                       size_t count, uint8_t key[MOS_SHA256_SIZE]) {
    assert(count && count <= region->def->volume->fills.count);
    const struct mos_volume_wish *w = &region->wish;
    struct mos_buf b = {.arena = plan->ctx->arena};
    add_text(&b, region->fs->name);
    add_text(&b, w->compress ? w->compress : "");
    mos_buf_printf(&b, "%llu %llu %u %lld %u %d ", (unsigned long long)w->size,
                   (unsigned long long)w->region_offset, w->sector, (long long)w->date, w->unit,
                   w->no_journal);
    for (size_t i = 0; i < count; i++) {
        const struct mos_fill *f = region->def->volume->fills.items[i];
        const struct mos_piece_plan *p = mos_plan_piece(plan, f->archive->target);
        mos_buf_add(&b, p->sha256, sizeof p->sha256);
        add_text(&b, mos_text_or(f->to, ""));
        add_texts(&b, fills_texts(plan, &f->only));
        add_texts(&b, fills_texts(plan, &f->except));
        mos_buf_printf(&b, "%d ", mos_true(f->replaces));
    }
    return mos_sha256(b.data, b.length, key);
}

/* Counts the first fills and keeps that.  NULL with an error, or what must not be kept. */
static const struct mos_shared_volume *share(struct mos_plan *plan, struct mos_region_plan *region,
                                             size_t count, const uint8_t key[MOS_SHA256_SIZE]) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_arena *own = ctx->arena;
    ctx->arena = ctx->shared->arena;
    region->volume = region->fs->begin(ctx, NULL, &region->wish);
    region->fill_sums = mos_vec_make(ctx->arena, sizeof(struct mos_fill_sum));
    region->texts = mos_map_make(ctx->arena);
    bool ok = stream_fills(plan, region, 0, count) && region->volume;
    if (ok)
        mos_shared_keep_volume(ctx->shared, key, region->volume, &region->texts);
    ctx->arena = own;
    return ok ? mos_shared_volume(ctx->shared, key) : NULL;
}

/* Begins to count a region where another selection has counted the same; *from: the first fill that
 * is yet to come. */
static bool begin_shared(struct mos_plan *plan, struct mos_region_plan *region, size_t *from) {
    struct mos_ctx *ctx = plan->ctx;
    uint8_t key[MOS_SHA256_SIZE];
    size_t count = ctx->shared && region->fs->copy ? shared_fills(plan, region) : 0;
    if (!count || !shared_key(plan, region, count, key))
        return false;
    const struct mos_shared_volume *x = mos_shared_volume(ctx->shared, key);
    if (!x && ctx->shared->entries < MOS_MOST_SHARED)
        x = share(plan, region, count, key);
    if (!x)
        return false;
    region->volume = region->fs->copy(ctx, x->volume, &region->wish);
    region->fill_sums = mos_vec_make(ctx->arena, sizeof(struct mos_fill_sum));
    region->texts = mos_map_make(ctx->arena);
    for (size_t i = 0; i < x->texts.count; i++)
        mos_map_set(&region->texts, x->texts.items[i].key, x->texts.items[i].value);
    *from = count;
    return true;
}

/* ---- what a volume is made of ---- */

static void settle_key(const struct mos_plan *plan, struct mos_region_plan *region) {
    assert(region->volume);
    const struct mos_volume_wish *w = &region->wish;
    const struct mos_named *fills = &region->def->volume->fills;
    struct mos_buf b = {.arena = plan->ctx->arena};
    add_text(&b, mos_revision); /* another program may write it otherwise */
    add_text(&b, region->fs->name);
    add_text(&b, w->label);
    add_text(&b, w->compress ? w->compress : "");
    mos_buf_add(&b, w->uuid, sizeof w->uuid);
    mos_buf_add(&b, w->hash_seed, sizeof w->hash_seed);
    mos_buf_printf(&b, "%llu %llu %llu %u %lld %u %llu %llu %d ", (unsigned long long)w->size,
                   (unsigned long long)w->spare, (unsigned long long)w->region_offset, w->sector,
                   (long long)w->date, w->unit, (unsigned long long)w->reserved,
                   (unsigned long long)w->inodes, w->no_journal);
    for (size_t i = 0; i < fills->count; i++) {
        const struct mos_fill *f = fills->items[i];
        const struct mos_piece_plan *p =
            mos_has(f->archive) ? mos_plan_piece(plan, f->archive->target) : NULL;
        const struct mos_fill_sum *s =
            i < region->fill_sums.count ? mos_vec_at(&region->fill_sums, i) : NULL;
        bool archive = p && p->hashed && !mos_has(f->made);
        if (!archive && (!s || !s->known))
            return;
        mos_buf_add(&b, archive ? p->sha256 : s->sha256, MOS_SHA256_SIZE);
        add_text(&b, mos_text_or(f->to, ""));
        add_texts(&b, fills_texts(plan, &f->only));
        add_texts(&b, fills_texts(plan, &f->except));
        mos_buf_printf(&b, "%d %d ", mos_true(f->replaces), mos_has(f->expects));
    }
    if (region->fs->digest) { /* also which library compresses it */
        uint8_t digest[MOS_SHA256_SIZE];
        if (!region->fs->digest(region->volume, digest))
            return;
        mos_buf_add(&b, digest, sizeof digest);
    }
    region->has_key = mos_sha256(b.data, b.length, region->key);
}

/* ---- file systems that want names first and bytes later ---- */

static const char *known_key(const struct mos_volume_base *v, struct mos_arena *arena) {
    uint8_t key[MOS_SHA256_SIZE];
    char hex[65];
    if (!v->driver->digest || !v->driver->digest(v, key))
        return NULL;
    mos_sha256_hex(key, hex);
    return mos_printf(arena, "volume-%s", hex);
}

/* What an equal volume came to before. */
static bool recall(struct mos_ctx *ctx, const char *key, struct mos_volume_base *v) {
    char *data;
    size_t length;
    if (!key || !mos_store_get(ctx, key, &data, &length) || length != 16)
        return false;
    v->known_bytes = mos_le64((const uint8_t *)data);
    v->known_content = mos_le64((const uint8_t *)data + 8);
    return v->known_bytes != 0;
}

static void keep(struct mos_ctx *ctx, const char *key, const struct mos_volume_base *v) {
    uint8_t data[16];
    mos_put_le64(data, v->known_bytes);
    mos_put_le64(data + 8, v->known_content);
    if (key)
        mos_store_put(ctx, key, data, sizeof data);
}

static bool stream_contents(struct mos_plan *plan, struct mos_region_plan *region) {
    struct mos_sink sink = region->fs->contents(region->volume);
    const struct mos_named *fills = &region->def->volume->fills;
    for (size_t i = 0; i < fills->count; i++) {
        region->volume->fill = (uint16_t)i;
        if (!comes_once(fills->items[i]) &&
            !mos_plan_stream_fill(plan, region, fills->items[i], false, &sink))
            return plan->ctx->error->kind ? false
                                          : mos_fail(plan->ctx->error, MOS_ERROR_SYSTEM, 0,
                                                     "Fill %s could not be read a second time",
                                                     mos_plan_fill_at(region, (unsigned)i)->r.name);
    }
    return true;
}

static bool finish_volume(struct mos_plan *plan, struct mos_region_plan *region) {
    struct mos_volume_base *v = region->volume;
    const char *key = NULL;
    if (region->fs->contents) {
        key = known_key(v, plan->ctx->arena);
        if ((v->io || !recall(plan->ctx, key, v)) && !stream_contents(plan, region))
            return false;
    }
    bool known = v->known_bytes != 0;
    if (!region->fs->finish(v, &region->result))
        return mos_while(plan->ctx->error, "writing volume %s", region->name);
    if (key && !known)
        keep(plan->ctx, key, v);
    return true;
}

bool mos_plan_fill(struct mos_plan *plan, const struct mos_medium_plan *medium,
                   struct mos_region_plan *region, const struct mos_plan_target *target) {
    if (!region->fs || !region->placed || incomplete(plan, region))
        return true;
    if (region->length < region->fs->smallest(medium->sector)) {
        region->result = (struct mos_volume_result){
            .missing = region->fs->smallest(medium->sector) - region->length};
        region->counted = true;
        return true;
    }
    struct mos_io *io = target ? target->open(target->self, medium, region) : NULL;
    if (target && !io)
        return false;
    size_t from = 0;
    if (io || !begin_shared(plan, region, &from)) {
        if (plan->ctx->error->kind)
            return false;
        region->volume = region->fs->begin(plan->ctx, io, &region->wish);
        region->fill_sums = mos_vec_make(plan->ctx->arena, sizeof(struct mos_fill_sum));
        region->texts = mos_map_make(plan->ctx->arena);
    }
    if (!stream_fills(plan, region, from, region->def->volume->fills.count))
        return false;
    if (!region->volume)
        return true;
    if (!finish_volume(plan, region))
        return false;
    settle_key(plan, region);
    region->counted = true;
    region->written = io != NULL;
    return true;
}
