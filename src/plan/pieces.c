/* Step 3, first part: are the pieces there, how large are they, and what are their first bytes?
 * Archives that contain other pieces are read here (once: their index is kept by hash). */
#include "plan/made/made.h"
#include "plan/pieces_internal.h"
#include "plan/shared.h"

#include "base/bytes.h"
#include "base/text.h"
#include "store/store.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

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
    return mos_true(p->def->follow) && !plan->board->field;
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
    bool follows = mos_true(def->follow);
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

static void no_archive(struct mos_plan *plan, const struct mos_piece_plan *p,
                       const struct mos_piece_plan *outer) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_REFERENCE,
                                     outer->made ? "Piece %s lies in %s, which is made here."
                                                 : "Piece %s lies in %s again.",
                                     p->def->r.name, outer->def->r.name);
    mos_finding_at(list, f, p->def->in->place);
    mos_finding_at(list, f, outer->made ? outer->def->r.key_place : outer->def->in->place);
    mos_finding_why(list, f, "Only files of the workspace and what lies in them are looked into.");
    mos_finding_try(list, f, "Set in: to a piece that has file:.");
}

/* The file of the workspace that a piece lies in, through archives in archives; NULL: it is not
 * there, or that was said. */
static struct mos_piece_plan *outermost(struct mos_plan *plan, const struct mos_piece_plan *p) {
    struct mos_piece_plan *at = mos_plan_piece(plan, p->def->in->target);
    for (size_t steps = 0; at; steps++) {
        if (at == p || (at->made && !steps)) /* the others lie in one that is told about */
            no_archive(plan, p, at);
        if (at == p || at->made || steps > plan->pieces.count)
            return NULL;
        if (!at->def->in)
            return at->found ? at : NULL;
        at = mos_has(at->def->in) && mos_has(at->def->path) && !at->def->file
                 ? mos_plan_piece(plan, at->def->in->target)
                 : NULL;
    }
    return NULL;
}

static void settle_member(struct mos_plan *plan, struct mos_piece_plan *p, struct mos_buf *path) {
    if (!mos_has(p->def->in) || !mos_has(p->def->path) || p->def->file)
        return;
    const char *inside = mos_entry_path(path, p->def->path->text);
    const struct mos_piece_plan *file = inside ? outermost(plan, p) : NULL;
    if (!file)
        return;
    p->outer = mos_plan_piece(plan, p->def->in->target);
    p->path = file->path;
    p->file = file->file;
    p->member = mos_strdup(plan->ctx->arena, inside);
    p->outer->member_of = true;
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
    for (size_t i = 0; i < plan->pieces.count; i++)
        settle_member(plan, mos_vec_pointer(&plan->pieces, i), &path);
    mark_unpacked(plan);
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if ((mos_has(p->def->sha256) || p->pin) && !may_follow(plan, p) && !mos_plan_hash(plan, p))
            return false;
        if (!pieces_settle_archive(plan, p))
            return false;
    }
    for (size_t i = 0; i < plan->pieces.count; i++) {
        compare_pin(plan, mos_vec_pointer(&plan->pieces, i));
        compare_size(plan, mos_vec_pointer(&plan->pieces, i));
    }
    return true;
}
