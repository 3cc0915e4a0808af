/* Pieces that lie in archives: what others need of an archive is read once and kept by its hash. */
#include "plan/pieces_internal.h"
#include "plan/shared.h"
#include "plan/steps.h"

#include "base/bytes.h"
#include "base/text.h"
#include "store/store.h"

#include <string.h>

/* Watches an archive go by and keeps what pieces inside it need. */
struct collector {
    struct mos_plan *plan;
    struct mos_piece_plan *archive, *current;
    struct mos_sha256 *hash;
    uint64_t at;
};

static bool collect_entry(void *self, const struct mos_entry *entry) {
    struct collector *c = self;
    c->current = NULL;
    for (size_t i = 0; i < c->plan->pieces.count && entry->type == MOS_ENTRY_FILE; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&c->plan->pieces, i);
        if (p->outer != c->archive || strcmp(p->member, entry->path) != 0)
            continue;
        c->current = p;
        p->found = true;
        p->size = entry->size;
        p->head_length = (size_t)mos_min(sizeof p->head, entry->size);
        c->hash = mos_sha256_new();
        c->at = 0;
    }
    return true;
}

/* What no data came for is zero. */
static void hash_zeros(struct collector *c, uint64_t until) {
    if (c->hash && c->at < until)
        mos_sha256_zeros(c->hash, until - c->at);
}

static bool collect_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct collector *c = self;
    struct mos_piece_plan *p = c->current;
    if (!p)
        return true;
    hash_zeros(c, offset);
    if (c->hash)
        mos_sha256_update(c->hash, bytes, length);
    if (offset < sizeof p->head)
        memcpy(p->head + offset, bytes, (size_t)mos_min(length, sizeof p->head - offset));
    c->at = offset + length;
    return true;
}

static bool collect_end(void *self, uint64_t sum) {
    struct collector *c = self;
    (void)sum;
    if (c->current && c->hash) {
        hash_zeros(c, c->current->size);
        mos_sha256_final(c->hash, c->current->sha256);
        c->current->hashed = true;
    }
    mos_sha256_free(c->hash);
    c->hash = NULL;
    return true;
}

static const char *stored_key(struct mos_plan *plan, const char *kind,
                              const struct mos_piece_plan *p) {
    char hex[65];
    mos_sha256_hex(p->sha256, hex);
    return mos_printf(plan->ctx->arena, "%s-%s", kind, hex);
}

/* What was kept of a member: size (8), hash (32), the head. */
static const char *member_key(struct mos_plan *plan, const struct mos_piece_plan *p) {
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    mos_sha256(p->member, strlen(p->member), hash);
    mos_sha256_hex(hash, hex);
    hex[16] = 0;
    return mos_printf(plan->ctx->arena, "%s-%s", stored_key(plan, "member", p->outer), hex);
}

static bool load_member(struct mos_plan *plan, struct mos_piece_plan *p) {
    char *data;
    size_t length;
    if (!mos_store_get(plan->ctx, member_key(plan, p), &data, &length) || length < 40 ||
        length - 40 > sizeof p->head)
        return false;
    p->size = mos_le64(data);
    memcpy(p->sha256, data + 8, MOS_SHA256_SIZE);
    p->head_length = length - 40;
    memcpy(p->head, data + 40, p->head_length);
    p->found = p->hashed = true;
    return true;
}

static void keep_member(struct mos_plan *plan, const struct mos_piece_plan *p) {
    uint8_t data[40 + MOS_KERNEL_HEAD];
    mos_put_le64(data, p->size);
    memcpy(data + 8, p->sha256, MOS_SHA256_SIZE);
    memcpy(data + 40, p->head, p->head_length);
    mos_store_put(plan->ctx, member_key(plan, p), data, 40 + p->head_length);
}

static bool known_members(struct mos_plan *plan, const struct mos_piece_plan *archive) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->outer == archive && !load_member(plan, p))
            return false;
    }
    return true;
}

static void load_index(struct mos_plan *plan, struct mos_piece_plan *p) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_arena *own = ctx->arena;
    char *data;
    size_t length;
    const struct mos_shared_index *known =
        ctx->shared ? mos_shared_index(ctx->shared, p->sha256) : NULL;
    if (known) {
        p->index = known->index;
        return;
    }
    const char *key = stored_key(plan, "index", p);
    ctx->arena = ctx->shared ? ctx->shared->arena : own;
    if (mos_store_get(ctx, key, &data, &length)) {
        p->index = mos_index_load(ctx, data, length);
        if (ctx->shared)
            mos_shared_keep_index(ctx->shared, p->sha256, p->index);
    }
    ctx->arena = own;
}

void mos_plan_keep_index(struct mos_plan *plan, const struct mos_piece_plan *p) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_shared *shared = ctx->shared;
    bool alone = !ctx->cache_folder; /* then it is for this run's other selections only */
    if (!p->hashed ||
        (alone && (!shared || !shared->several || mos_shared_index(shared, p->sha256))))
        return;
    struct mos_arena *own = ctx->arena;
    ctx->arena = alone ? shared->arena : own;
    struct mos_buf b = {.arena = ctx->arena};
    mos_index_save(p->index, &b);
    if (alone)
        mos_shared_keep_index(shared, p->sha256, mos_index_load(ctx, b.data, b.length));
    else
        mos_store_put(ctx, stored_key(plan, "index", p), b.data, b.length);
    ctx->arena = own;
}

/* Are these the bytes that everything else is about?  The first time they become that. */
static bool same_bytes(const struct mos_plan *plan, const struct mos_piece_plan *p,
                       const uint8_t hash[MOS_SHA256_SIZE]) {
    if (!p->hashed || memcmp(hash, p->sha256, MOS_SHA256_SIZE) == 0)
        return true;
    mos_store_forget_hash(plan->ctx, p->path);
    return mos_fail(plan->ctx->error, MOS_ERROR_SYSTEM, 0,
                    "Piece %s: %s changed while it was used; do it again once it stays",
                    p->def->r.name, p->file);
}

/* Has a rule said already that its file is not what its name says?  One cause, one finding. */
static bool format_is_told(const struct mos_plan *plan, const struct mos_piece_plan *p,
                           size_t count) {
    const struct mos_value *file = p->def->file;
    for (size_t i = 0; i < count && file; i++) {
        const struct mos_finding *f = mos_vec_pointer(&plan->ctx->findings.items, i);
        const struct mos_place *at = f->places.count ? mos_vec_at(&f->places, 0) : NULL;
        if (f->rule == MOS_RULE_PIECE_FORMAT && at && at->source == file->place.source &&
            at->offset == file->place.offset)
            return true;
    }
    return false;
}

enum { MOST_INSIDE = 256 << 20 };

bool mos_plan_stream_archive(const struct mos_plan *plan, const struct mos_piece_plan *archive,
                             struct mos_place place, const struct mos_sink *sink,
                             struct mos_archive_result *result) {
    struct mos_ctx *ctx = plan->ctx;
    if (!archive->member)
        return mos_archive_stream(ctx, archive->path, place, sink, result);
    if (archive->size > MOST_INSIDE)
        return mos_fail(ctx->error, MOS_ERROR_USAGE, 0,
                        "Archive %s in %s has more than %s, the most that is unpacked in memory; "
                        "take it out into the workspace and name it by file:",
                        archive->member, archive->outer->def->r.name,
                        mos_size_text(ctx->arena, MOST_INSIDE));
    struct mos_piece_plan *kept = mos_plan_piece(plan, archive->def);
    kept->bytes = kept->bytes ? kept->bytes : mos_plan_piece_bytes(plan->self, archive);
    if (kept->bytes)
        return mos_archive_stream_bytes(ctx, archive->member, kept->bytes, (size_t)kept->size,
                                        place, sink, result);
    if (result && !ctx->error->kind) /* the one that it lies in is damaged, which was said */
        *result = (struct mos_archive_result){.damaged = true};
    return false;
}

bool mos_plan_read_archive(struct mos_plan *plan, struct mos_piece_plan *p,
                           const struct mos_sink *sink) {
    struct mos_archive_result r = {.wanted = !p->hashed || plan->ctx->may_make};
    size_t before = plan->ctx->findings.items.count;
    bool ok = mos_plan_stream_archive(plan, p, p->def->r.key_place, sink, &r);
    if (r.damaged) {
        p->damaged = true;
        p->found = false;
        if (format_is_told(plan, p, before))
            plan->ctx->findings.items.count = before;
    }
    if (!ok)
        return plan->ctx->error->kind
                   ? mos_while(plan->ctx->error, "reading piece %s", p->def->r.name)
                   : false;
    if (!r.hashed)
        return true;
    if (p->hashed)
        return same_bytes(plan, p, r.sha256);
    memcpy(p->sha256, r.sha256, MOS_SHA256_SIZE);
    p->hashed = true;
    pieces_keep_hash(plan, p, &r.info);
    return true;
}

/* Reads an archive for its members; its index comes with it. */
static bool read_members(struct mos_plan *plan, struct mos_piece_plan *archive) {
    struct collector c = {.plan = plan, .archive = archive};
    struct mos_sink collect = {&c, collect_entry, collect_data, collect_end};
    struct mos_index *index = mos_index_new(plan->ctx);
    struct mos_sink sink = mos_index_recorder(index, &collect);
    bool ok = mos_plan_read_archive(plan, archive, &sink);
    mos_sha256_free(c.hash);
    if (!ok)
        return archive->damaged;
    archive->index = index;
    mos_plan_keep_index(plan, archive);
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->outer == archive && p->found && p->hashed)
            keep_member(plan, p);
    }
    return true;
}

bool mos_plan_index(struct mos_plan *plan, struct mos_piece_plan *archive) {
    if (!archive->index && archive->hashed)
        load_index(plan, archive);
    if (archive->index || archive->damaged)
        return true;
    struct mos_index *index = mos_index_new(plan->ctx);
    struct mos_sink sink = mos_index_recorder(index, NULL);
    if (!mos_plan_read_archive(plan, archive, &sink))
        return archive->damaged;
    archive->index = index;
    mos_plan_keep_index(plan, archive);
    return true;
}

static void members_missing(struct mos_plan *plan, const struct mos_piece_plan *archive) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->outer != archive || p->found)
            continue;
        const char *near;
        mos_plan_member_path(plan, archive, p->member, &near);
        pieces_missing(plan,
                       mos_printf(plan->ctx->arena, "Piece %s: there is no file %s in %s.",
                                  p->def->r.name, p->def->path->text, archive->def->r.name),
                       p->def->path->place,
                       near ? mos_printf(plan->ctx->arena, "Write path: %s.", near)
                            : "Correct the path; it starts at the root of the archive.");
    }
}

bool pieces_settle_archive(struct mos_plan *plan, struct mos_piece_plan *p) {
    if (p->outer && !pieces_settle_archive(plan, p->outer))
        return false;
    if (p->settled || !p->found || !(p->member_of || p->unpacked))
        return true;
    p->settled = true;
    if (p->member_of && !mos_plan_hash(plan, p))
        return false;
    if (!p->hashed && !p->member && pieces_known_hash(plan, p))
        p->hashed = true;
    if (p->hashed)
        load_index(plan, p);
    if (!p->member_of)
        return true;
    bool known = known_members(plan, p);
    if (!known && p->index && pieces_follow_links(plan, p))
        known = known_members(plan, p);
    if (!known && !read_members(plan, p))
        return false;
    if (!known && pieces_follow_links(plan, p) && !read_members(plan, p))
        return false;
    if (!p->damaged) /* of one that cannot be read nobody knows what it lacks */
        members_missing(plan, p);
    return true;
}

/* ---- streaming one ---- */

/* Lets one member of an archive through, under another description. */
struct picker {
    const char *member;
    const struct mos_entry *as;
    const struct mos_sink *to;
    bool passing;
};

static bool pick_entry(void *self, const struct mos_entry *entry) {
    struct picker *p = self;
    p->passing = entry->type == MOS_ENTRY_FILE && strcmp(entry->path, p->member) == 0;
    if (!p->passing)
        return true;
    struct mos_entry as = *p->as;
    as.size = entry->size;
    return p->to->entry(p->to->self, &as);
}

static bool pick_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct picker *p = self;
    return !p->passing || p->to->data(p->to->self, offset, bytes, length);
}

static bool pick_end(void *self, uint64_t sum) {
    struct picker *p = self;
    return !p->passing || p->to->end(p->to->self, sum);
}

bool mos_plan_stream_piece(const struct mos_plan *plan, const struct mos_piece_plan *piece,
                           const struct mos_entry *as, const struct mos_sink *sink) {
    if (piece->bytes)
        return mos_bytes_stream(as, piece->bytes, (size_t)piece->size, sink);
    uint8_t hash[MOS_SHA256_SIZE];
    bool checks = plan->ctx->may_make; /* what a ledger will speak of */
    if (!piece->member)
        return mos_file_stream(plan->ctx, piece->path, as, sink, checks ? hash : NULL) &&
               (!checks || same_bytes(plan, piece, hash));
    struct picker p = {piece->member, as, sink, false};
    struct mos_sink pick = {&p, pick_entry, pick_data, pick_end};
    struct mos_archive_result r = {.wanted = checks};
    if (!mos_plan_stream_archive(plan, piece->outer, piece->def->r.key_place, &pick, &r))
        return r.damaged ? same_bytes(plan, piece->outer, r.sha256) : false;
    return !r.hashed || same_bytes(plan, piece->outer, r.sha256);
}

bool mos_plan_count_piece(struct mos_plan *plan, const struct mos_piece_plan *piece,
                          const struct mos_entry *as, const struct mos_sink *sink) {
    if (piece->bytes || !piece->member || !piece->outer->index)
        return mos_plan_stream_piece(plan, piece, as, sink);
    struct picker p = {piece->member, as, sink, false};
    struct mos_sink pick = {&p, pick_entry, pick_data, pick_end};
    return mos_index_replay(plan->ctx, piece->outer->index, &pick);
}

/* ---- in memory ---- */

void mos_plan_take_bytes(struct mos_piece_plan *p, const void *bytes, size_t length) {
    p->file_size = p->made ? 0 : p->size;
    p->bytes = bytes;
    p->size = length;
    p->found = true;
    p->head_length = (size_t)mos_min(length, sizeof p->head);
    memcpy(p->head, bytes, p->head_length);
    if (p->made)
        p->hashed = mos_sha256(bytes, length, p->sha256);
}

struct memory {
    uint8_t *bytes;
    uint64_t size;
};

static bool remember(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct memory *m = self;
    if (offset < m->size && bytes)
        memcpy(m->bytes + offset, bytes, (size_t)mos_min(length, m->size - offset));
    return true;
}

static bool any_entry(void *self, const struct mos_entry *entry) {
    (void)self, (void)entry;
    return true;
}

const uint8_t *mos_plan_piece_bytes(struct mos_plan *plan, const struct mos_piece_plan *p) {
    enum { MOST = 256 << 20 };
    if (p->bytes || p->size > MOST)
        return p->bytes;
    const struct mos_kept_bytes *kept = mos_shared_piece(plan->ctx->shared, p);
    if (kept)
        return kept->bytes;
    bool shares = mos_shared_wants_piece(plan->ctx->shared, p);
    struct mos_arena *arena = shares ? plan->ctx->shared->arena : plan->ctx->arena;
    struct memory m = {mos_alloc(arena, (size_t)p->size + 1), p->size};
    struct mos_sink sink = {&m, any_entry, remember, mos_ignore_end};
    struct mos_entry as = {.path = "piece", .mode = 0644, .size = p->size};
    if (!mos_plan_stream_piece(plan, p, &as, &sink))
        return NULL;
    if (shares)
        mos_shared_keep_piece(plan->ctx->shared, p, m.bytes);
    return m.bytes;
}

bool mos_plan_compressed_size(const struct mos_plan *plan, const struct mos_piece_plan *piece,
                              const char *kind, uint64_t *size) {
    struct mos_sink sink;
    struct mos_entry as = {.path = piece->def->r.name};
    char hex[65], *kept;
    size_t length;
    uint8_t raw[8];
    mos_sha256_hex(piece->sha256, hex);
    const char *key = mos_printf(plan->ctx->arena, "size-%s-%s", kind, hex);
    if (piece->hashed && mos_store_get(plan->ctx, key, &kept, &length) && length == sizeof raw) {
        *size = mos_le64(kept);
        return true;
    }
    struct mos_error ignored = {0}, *saved = plan->ctx->error;
    struct mos_compressor *c = mos_compressor_new(plan->ctx, kind, &sink);
    if (!c)
        return false;
    plan->ctx->error = &ignored;
    bool ok = mos_plan_stream_piece(plan, piece, &as, &sink);
    plan->ctx->error = saved;
    ok = mos_compressor_end(c, size) && ok;
    if (!ok || !piece->hashed)
        return ok;
    mos_put_le64(raw, *size);
    mos_store_put(plan->ctx, key, raw, sizeof raw);
    return true;
}
