/* Step 3, first part: are the pieces there, how large are they, and what are their first bytes?
 * Archives that contain other pieces are read here (once: their index is kept by hash). */
#include "plan/made/made.h"
#include "plan/shared.h"

#include "base/bytes.h"
#include "base/text.h"
#include "store/store.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

struct mos_piece_plan *mos_plan_piece(const struct mos_plan *plan, const struct mos_piece *def) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->def == def)
            return p;
    }
    return NULL;
}

static void missing(struct mos_plan *plan, const char *message, struct mos_place place,
                    const char *remedy) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_PIECE_MISSING, "%s", message);
    mos_finding_at(list, f, place);
    if (remedy)
        mos_finding_try(list, f, "%s", remedy);
}

/* A piece that a command makes: is its file what its inputs give?  false after an error. */
static bool settle_made(struct mos_plan *plan, struct mos_piece_plan *p) {
    bool current = false;
    if (!p->def->made_by)
        return true;
    if (p->def->made_by->r.broken) {
        p->unmade = true;
        return true;
    }
    size_t before = plan->ctx->findings.items.count;
    if (!mos_plan_make_piece(plan, p, &current))
        return false;
    p->unmade = !current;
    if (p->unmade && plan->ctx->findings.items.count == before)
        mos_vec_push_pointer(&plan->ctx->not_proved,
                             mos_printf(plan->ctx->arena,
                                        "piece %s: build makes it with %s; it is not made yet",
                                        p->def->r.name, p->def->made_by->run.items[0]->text));
    return true;
}

static void compare_size(struct mos_plan *plan, const struct mos_piece_plan *p) {
    const struct mos_value *size = p->def->size;
    if (!p->found || !mos_has(size) || size->number == p->size)
        return;
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_PIECE_HASH, "Piece %s has %s, not %s.",
                                     p->def->r.name, mos_size_exact(plan->ctx->arena, p->size),
                                     mos_size_exact(plan->ctx->arena, size->number));
    mos_finding_at(list, f, size->place);
    mos_finding_try(list, f, "Get the right file back, or set size: %llu B.",
                    (unsigned long long)p->size);
}

/* The hash of the file that another program made it from. */
static void look_at_source(struct mos_plan *plan, struct mos_piece_plan *p) {
    const struct mos_value *from = p->def->derived_from;
    const char *what =
                   mos_printf(plan->ctx->arena, "Piece %s is derived from this", p->def->r.name),
               *path;
    struct mos_file_info info;
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    if (!mos_has(from) ||
        !mos_plan_reach(plan, from->text, MOS_FILE_REGULAR, what, from->place, &path, &info))
        return;
    if (!mos_store_known_hash(plan->ctx, path, hash)) {
        if (!mos_hash_file(plan->ctx->host, path, hash, plan->ctx->error))
            return;
        mos_store_keep_hash(plan->ctx, path, &info, hash);
    }
    mos_sha256_hex(hash, hex);
    p->source = mos_strdup(plan->ctx->arena, hex);
}

static void look_at_file(struct mos_plan *plan, struct mos_piece_plan *p) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_file_info info;
    const struct mos_value *file = p->def->file;
    const char *what = mos_printf(ctx->arena, "Piece %s", p->def->r.name);
    p->file = file ? file->text : mos_printf(ctx->arena, "made/%s", p->def->r.name);
    p->path = mos_workspace_path(ctx, plan->board->root, p->file);
    if (p->path && (!settle_made(plan, p) || p->unmade))
        return;
    if (!mos_plan_reach(plan, p->file, MOS_FILE_REGULAR, what,
                        file ? file->place : p->def->r.key_place, &p->path, &info))
        return;
    int handle;
    look_at_source(plan, p);
    p->size = info.size;
    p->found = true;
    if (ctx->host->open(ctx->host, p->path, MOS_OPEN_READ, &handle) == 0) {
        ctx->host->pread(ctx->host, handle, p->head, sizeof p->head, 0, &p->head_length);
        ctx->host->close(ctx->host, handle);
    }
}

/* ---- hashing ---- */

static bool known_hash(const struct mos_plan *plan, struct mos_piece_plan *p) {
    return mos_store_known_hash(plan->ctx, p->path, p->sha256) ||
           mos_shared_known_hash(plan->ctx, p->path, p->sha256);
}

static void keep_hash(struct mos_plan *plan, const struct mos_piece_plan *p,
                      const struct mos_file_info *before) {
    mos_store_keep_hash(plan->ctx, p->path, before, p->sha256);
    mos_shared_keep_hash(plan->ctx, p->path, before, p->sha256);
}

bool mos_plan_hash(struct mos_plan *plan, struct mos_piece_plan *p) {
    struct mos_file_info info;
    if (p->hashed || !p->found || p->member)
        return true;
    if (known_hash(plan, p)) {
        p->hashed = true;
        return true;
    }
    if (plan->ctx->host->info(plan->ctx->host, p->path, true, &info) ||
        !mos_hash_file(plan->ctx->host, p->path, p->sha256, plan->ctx->error))
        return mos_fail(plan->ctx->error, MOS_ERROR_SYSTEM, 0, "Cannot read %s", p->path);
    keep_hash(plan, p, &info);
    p->hashed = true;
    return true;
}

static void not_pinned_one(struct mos_plan *plan, const struct mos_piece_plan *p,
                           struct mos_place place, const char *hex) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_PIECE_HASH,
                                     "Piece %s is not the file that was pinned.", p->def->r.name);
    mos_finding_at(list, f, place);
    mos_finding_at(list, f, p->def->r.key_place);
    mos_finding_why(list, f, "%s has the SHA-256 %s.", p->member ? p->member : p->file, hex);
    mos_finding_try(list, f,
                    "Get the pinned file back, or pin the new one on purpose: run mosaicum pin.");
}

static bool may_follow(const struct mos_plan *plan, const struct mos_piece_plan *p) {
    return mos_has(p->def->follow) && p->def->follow->truth && !plan->board->field;
}

static void compare_pin(struct mos_plan *plan, const struct mos_piece_plan *p) {
    char hex[65];
    if (!p->hashed || may_follow(plan, p))
        return;
    mos_sha256_hex(p->sha256, hex);
    if (mos_has(p->def->sha256)) {
        if (strcmp(hex, p->def->sha256->text) != 0)
            not_pinned_one(plan, p, p->def->sha256->place, hex);
    } else if (p->pin && !p->member && mos_has(p->pin->sha256) &&
               strcmp(hex, p->pin->sha256->text) != 0) {
        not_pinned_one(plan, p, p->pin->sha256->place, hex);
    }
}

/* ---- members of archives ---- */

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

static void hash_zeros(struct collector *c, uint64_t until) {
    static const uint8_t zeros[4096];
    while (c->hash && c->at < until) {
        size_t n = (size_t)mos_min(sizeof zeros, until - c->at);
        mos_sha256_update(c->hash, zeros, n);
        c->at += n;
    }
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

bool mos_plan_read_archive(struct mos_plan *plan, struct mos_piece_plan *p,
                           const struct mos_sink *sink) {
    struct mos_archive_result r = {.wanted = !p->hashed || plan->ctx->may_make};
    size_t before = plan->ctx->findings.items.count;
    bool ok = mos_archive_stream(plan->ctx, p->path, p->def->r.key_place, sink, &r);
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
    keep_hash(plan, p, &r.info);
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

static void members_missing(struct mos_plan *plan, const struct mos_piece_plan *archive) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->outer == archive && !p->found)
            missing(plan,
                    mos_printf(plan->ctx->arena, "Piece %s: there is no file %s in %s.",
                               p->def->r.name, p->def->path->text, archive->def->r.name),
                    p->def->path->place, "Correct the path; it starts at the root of the archive.");
    }
}

static bool settle_archive(struct mos_plan *plan, struct mos_piece_plan *p) {
    if (!p->found || !(p->member_of || p->unpacked))
        return true;
    if (p->member_of && !mos_plan_hash(plan, p))
        return false;
    if (!p->hashed && known_hash(plan, p))
        p->hashed = true;
    if (p->hashed)
        load_index(plan, p);
    if (!p->member_of)
        return true;
    if (!known_members(plan, p) && !read_members(plan, p))
        return false;
    if (!p->damaged) /* of one that cannot be read nobody knows what it lacks */
        members_missing(plan, p);
    return true;
}

/* ---- the step ---- */

static void mark_unpacked(struct mos_plan *plan) {
    for (size_t m = 0; m < plan->board->layout.count; m++) {
        const struct mos_layout *l = plan->board->layout.items[m];
        for (size_t i = 0; i < l->regions.count; i++) {
            const struct mos_region *r = l->regions.items[i];
            for (size_t k = 0; r->volume && k < r->volume->fills.count; k++) {
                const struct mos_fill *f = r->volume->fills.items[k];
                struct mos_piece_plan *p =
                    mos_has(f->archive) ? mos_plan_piece(plan, f->archive->target) : NULL;
                if (p)
                    p->unpacked = true;
            }
        }
    }
}

/* Only what mosaicum.pins keeps can be compared with its source. */
static void check_derived(struct mos_plan *plan, const struct mos_piece *def) {
    bool follows = mos_has(def->follow) && def->follow->truth;
    if (!def->derived_from || (def->file && !def->made_by && !def->sha256 && !follows))
        return;
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_SCHEMA,
                                     "Piece %s: derived-from does nothing here.", def->r.name);
    mos_finding_at(list, f, def->derived_from->place);
    mos_finding_why(list, f, "It is for files whose hash mosaicum.pins keeps.");
    mos_finding_try(list, f, "Remove it, or name the piece by file: without sha256 and follow.");
}

static void check_form(struct mos_plan *plan, const struct mos_piece *def) {
    bool inside = def->in || def->path;
    int sources =
        inside + (def->file || def->made_by) + (def->ramdisk != NULL) + (def->packed != NULL);
    if (def->r.broken || (def->in && !mos_has(def->in)) ||
        (sources == 1 && (!inside || (def->in && def->path))))
        return;
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOARD_SCHEMA,
                 "Piece %s needs either a file, or an archive (in) and a path.", def->r.name);
    mos_finding_at(list, f, def->r.key_place);
    mos_finding_try(list, f,
                    "Write {file: pieces/…}, or {in: other-piece, path: boot/…}, or {ramdisk: …}, "
                    "or {packed: …}.");
}

static void too_deep(struct mos_plan *plan, const struct mos_piece_plan *p,
                     const struct mos_piece_plan *outer) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_REFERENCE,
                                     outer->made ? "Piece %s lies in %s, which is made here."
                                                 : "Piece %s lies in %s, which lies in an archive "
                                                   "itself.",
                                     p->def->r.name, outer->def->r.name);
    mos_finding_at(list, f, p->def->in->place);
    mos_finding_at(list, f, outer->made ? outer->def->r.key_place : outer->def->in->place);
    mos_finding_why(list, f, "Only archives that are files of the workspace are looked into.");
    mos_finding_try(list, f, "Unpack %s into the workspace and name it as a file.",
                    outer->def->r.name);
}

bool mos_plan_pieces(struct mos_plan *plan) {
    struct mos_buf path = {.arena = plan->ctx->arena};
    for (size_t i = 0; i < plan->board->pieces.count; i++) {
        struct mos_piece_plan *p = mos_alloc(plan->ctx->arena, sizeof *p);
        p->def = plan->board->pieces.items[i];
        p->made = p->def->ramdisk || p->def->packed;
        p->file = p->made ? p->def->r.name : NULL;
        check_form(plan, p->def);
        check_derived(plan, p->def);
        mos_vec_push_pointer(&plan->pieces, p);
        if ((mos_has(p->def->file) || (p->def->made_by && !p->def->file)) && !p->def->in)
            look_at_file(plan, p);
        if (plan->ctx->error->kind)
            return false;
        if (p->file && plan->board->pins && !p->def->made_by && !p->made)
            p->pin = mos_named_get(&plan->board->pins->pins, p->file);
    }
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (!mos_has(p->def->in) || !mos_has(p->def->path) || p->def->file)
            continue;
        struct mos_piece_plan *outer = mos_plan_piece(plan, p->def->in->target);
        const char *inside = mos_entry_path(&path, p->def->path->text);
        if (outer && (outer->def->in || outer->made) && inside) {
            too_deep(plan, p, outer);
            continue;
        }
        if (!outer || outer == p || !inside || !outer->found)
            continue;
        p->outer = outer;
        p->path = outer->path;
        p->file = outer->file;
        p->member = mos_strdup(plan->ctx->arena, inside);
        outer->member_of = true;
    }
    mark_unpacked(plan);
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if ((mos_has(p->def->sha256) || p->pin) && !may_follow(plan, p) && !mos_plan_hash(plan, p))
            return false;
        if (!settle_archive(plan, p))
            return false;
    }
    for (size_t i = 0; i < plan->pieces.count; i++) {
        compare_pin(plan, mos_vec_pointer(&plan->pieces, i));
        compare_size(plan, mos_vec_pointer(&plan->pieces, i));
    }
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
    if (!mos_archive_stream(plan->ctx, piece->path, piece->def->r.key_place, &pick, &r))
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
