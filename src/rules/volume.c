#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

struct volume_view {
    const struct mos_plan *plan;
    const struct mos_region_plan *r;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static uint64_t subtree_size(const struct mos_inventory *inv, uint32_t index) {
    const struct mos_inv_node *n = mos_inv_node(inv, index);
    uint64_t size = n->type == MOS_ENTRY_FILE ? n->size : 0;
    for (uint32_t i = n->first_child; i; i = mos_inv_node(inv, i)->next)
        size += subtree_size(inv, i);
    return size;
}

/* The largest things, going down where one folder holds most of its parent. */
static const char *largest(const struct volume_view *v) {
    enum { SHOWN = 3 };
    const struct mos_inventory *inv = v->r->volume->inventory;
    struct mos_buf b = {.arena = v->arena};
    uint64_t below = UINT64_MAX;
    for (int shown = 0; shown < SHOWN; shown++) {
        uint32_t best = 0;
        uint64_t most = 0;
        for (uint32_t i = mos_inv_node(inv, 0)->first_child; i; i = mos_inv_node(inv, i)->next) {
            uint64_t size = subtree_size(inv, i);
            if (size > most && size < below) {
                most = size;
                best = i;
            }
        }
        if (!best)
            break;
        mos_buf_printf(&b, "%s%s (%s)", shown ? ", " : "", mos_inv_path(v->arena, inv, best),
                       mos_size_about(v->arena, most));
        below = most;
    }
    return mos_buf_string(&b);
}

static void does_not_fit(const struct volume_view *v) {
    const struct mos_region_plan *r = v->r;
    const struct mos_volume_result *x = &r->result;
    const struct mos_volume *def = r->def->volume;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_VOLUME_DOES_NOT_FIT,
                 "The content of %s does not fit into %s: it needs %s more.", r->name,
                 mos_size_text(v->arena, r->length), mos_size_text(v->arena, x->missing));
    mos_finding_at(v->list, f, r->def->size ? r->def->size->place : r->def->r.key_place);
    if (!r->volume) {
        mos_finding_at(v->list, f, def->kind->place);
        mos_finding_why(v->list, f, "%s cannot be smaller than %s.", r->fs->name,
                        mos_size_text(v->arena, r->length + x->missing));
    } else {
        if (mos_has(def->spare))
            mos_finding_at(v->list, f, def->spare->place);
        mos_finding_why(v->list, f, "Content %s, file system %s, spare %s. Largest: %s.",
                        mos_size_about(v->arena, x->content),
                        mos_size_about(v->arena, x->structure), mos_size_about(v->arena, x->spare),
                        largest(v));
    }
    uint64_t unit = r->length < 8 << 20 ? 64 << 10 : 1 << 20;
    uint64_t enough = mos_round_up(r->length + x->missing + x->missing / 64, unit);
    if (r->def->size && r->def->size->rest)
        mos_finding_try(v->list, f, "State a medium that is larger by %s, or use less content.",
                        mos_size_about(v->arena, enough - r->length));
    else
        mos_finding_try(v->list, f, "Set size: %s, or use less content.",
                        mos_size_exact(v->arena, enough));
}

static struct mos_place fill_place(const struct volume_view *v, unsigned fill) {
    return mos_plan_fill_at(v->r, fill)->r.key_place;
}

static void cannot_hold(const struct volume_view *v) {
    const struct mos_inventory *inv = v->r->volume->inventory;
    const struct mos_inv_refusal *first = mos_vec_at(&inv->refusals, 0);
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_VOLUME_CANNOT_HOLD, "%s on %s cannot hold %s, which %s.",
                 v->r->fs->name, v->r->name, first->path, first->reason);
    mos_finding_at(v->list, f, fill_place(v, first->fill));
    mos_finding_at(v->list, f, v->r->def->volume->kind->place);
    struct mos_buf more = {.arena = v->arena};
    for (size_t i = 1; i < inv->refusals.count && i < 4; i++) {
        const struct mos_inv_refusal *x = mos_vec_at(&inv->refusals, i);
        mos_buf_printf(&more, "%s%s (%s)", i > 1 ? ", " : "", x->path, x->reason);
    }
    if (inv->refusal_count > 1)
        mos_finding_why(v->list, f, "The same is true of %llu more: %s%s.",
                        (unsigned long long)inv->refusal_count - 1, mos_buf_string(&more),
                        inv->refusal_count > 4 ? " …" : "");
    mos_finding_try(v->list, f, "Add except: [%s] to the fill, or choose another file system.",
                    first->path);
}

static void two_sources(const struct volume_view *v) {
    const struct mos_inventory *inv = v->r->volume->inventory;
    const struct mos_inv_clash *c = mos_vec_at(&inv->clashes, 0);
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_VOLUME_TWO_SOURCES,
                 "Fills %s and %s both bring /%s to %s, with different content.",
                 mos_plan_fill_at(v->r, c->first_fill)->r.name,
                 mos_plan_fill_at(v->r, c->second_fill)->r.name, c->path, v->r->name);
    mos_finding_at(v->list, f, fill_place(v, c->first_fill));
    mos_finding_at(v->list, f, fill_place(v, c->second_fill));
    if (inv->clash_count > 1) {
        struct mos_buf more = {.arena = v->arena};
        for (size_t i = 1; i < inv->clashes.count && i < 4; i++)
            mos_buf_printf(&more, "%s/%s", i > 1 ? ", " : "",
                           ((struct mos_inv_clash *)mos_vec_at(&inv->clashes, i))->path);
        mos_finding_why(v->list, f, "The same is true of %llu more: %s%s.",
                        (unsigned long long)inv->clash_count - 1, mos_buf_string(&more),
                        inv->clash_count > 4 ? " …" : "");
    }
    mos_finding_try(v->list, f, "Set replaces: true for %s if it is meant to win, or except: [%s].",
                    mos_plan_fill_at(v->r, c->second_fill)->r.name, c->path);
}

/* A piece or stage that is written as it is. */
static void check_raw(const struct volume_view *v) {
    const struct mos_region_plan *r = v->r;
    if (r->fs || r->environment || r->copy || !r->piece || r->content <= r->length || !r->length)
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_VOLUME_DOES_NOT_FIT,
                                     "The content of %s does not fit into %s: it needs %s more.",
                                     r->name, mos_size_text(v->arena, r->length),
                                     mos_size_text(v->arena, r->content - r->length));
    mos_finding_at(v->list, f, r->def->size ? r->def->size->place : r->def->r.key_place);
    mos_finding_at(v->list, f, r->piece->def->r.key_place);
    mos_finding_why(v->list, f, "%s %s has %s.", mos_has(r->def->tree) ? "Tree" : "Piece",
                    r->piece->def->r.name, mos_size_about(v->arena, r->content));
    mos_finding_try(v->list, f, "Set size: %s, or use a smaller file.",
                    mos_size_exact(v->arena, mos_round_up(r->content, 4096)));
}

/* ---- replacements ---- */

static void check_replacement(const struct mos_plan *plan, const struct mos_replacement *r) {
    char hex[65];
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f;
    mos_sha256_hex(r->sha256, hex);
    if (!r->met) {
        f = mos_find(list, MOS_RULE_VOLUME_REPLACES_NOTHING,
                     "Fill %s replaces /%s in %s, but no earlier fill brings that file.",
                     r->fill->r.name, r->path, r->region->name);
        mos_finding_why(list, f, "It may have moved, or has another name in this version.");
        mos_finding_try(list, f, "Correct the path, or remove expects.");
    } else if (r->known && strcmp(hex, r->fill->expects->text) != 0) {
        f = mos_find(list, MOS_RULE_VOLUME_REPLACES_NOTHING,
                     "Fill %s replaces /%s in %s, which is not the file that it expects.",
                     r->fill->r.name, r->path, r->region->name);
        mos_finding_why(list, f, "What is there has the SHA-256 %s.", hex);
        mos_finding_try(list, f, "Compare your file with the new one, then set expects: %s.", hex);
    } else {
        if (!r->known)
            mos_vec_push_pointer(&plan->ctx->not_proved,
                                 mos_printf(plan->ctx->arena,
                                            "/%s of %s: it is too large to be compared with what "
                                            "fill %s expects",
                                            r->path, r->region->name, r->fill->r.name));
        return;
    }
    mos_finding_at(list, f, r->fill->expects->place);
}

void mos_rule_volume(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->replacements.count; i++)
        if (mos_has(((struct mos_replacement *)mos_vec_at(&plan->replacements, i))->fill->expects))
            check_replacement(plan, mos_vec_at(&plan->replacements, i));
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            struct volume_view v = {plan, r, &plan->ctx->findings, plan->ctx->arena};
            check_raw(&v);
            if (!r->counted)
                continue;
            if (r->volume && r->volume->inventory->refusal_count)
                cannot_hold(&v);
            if (r->volume && r->volume->inventory->clash_count)
                two_sources(&v);
            if (!r->result.fits)
                does_not_fit(&v);
        }
    }
}

/* ---- what a fill is made of ---- */

static void odd_fill(const struct mos_plan *plan, const struct mos_fill *f, const char *text,
                     const char *remedy) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *x = mos_find(list, MOS_RULE_BOARD_SCHEMA, "Fill %s %s.", f->r.name, text);
    mos_finding_at(list, x, f->r.key_place);
    mos_finding_why(list, x, "A fill brings one thing, and says which.");
    mos_finding_try(list, x, "%s", remedy);
}

static void check_fill(const struct mos_plan *plan, const struct mos_fill *f) {
    const struct mos_value *const sources[] = {f->archive, f->folder,      f->piece,
                                               f->made,    f->environment, f->text};
    size_t count = 0;
    for (size_t i = 0; i < sizeof sources / sizeof *sources; i++)
        count += sources[i] != NULL;
    if (!count)
        odd_fill(plan, f, "brings nothing",
                 "Add archive:, folder:, piece:, made:, environment: or text:.");
    else if (count > 1)
        odd_fill(plan, f, "brings more than one thing",
                 "Keep one, and make another fill of the rest.");
    else if (f->settings && !f->text)
        odd_fill(plan, f, "says how its text is read, and has none", "Add text:, or remove lines.");
}

void mos_rule_fills(const struct mos_plan *plan) {
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            const struct mos_volume *v = r->copy ? NULL : r->def->volume;
            for (size_t k = 0; v && k < v->fills.count; k++)
                if (!((const struct mos_fill *)v->fills.items[k])->r.broken)
                    check_fill(plan, v->fills.items[k]);
        }
    }
}
