/* The ROM: the media and areas that it looks at, and what the layout and an eMMC's settings have
 * there. */
#include "rules/layout-view.h"

#include "base/text.h"

#include <string.h>

static struct mos_finding *tell(const struct mos_plan *plan, struct mos_place here,
                                struct mos_place there, const char *text) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_LAYOUT_ROM_PLACE, "%s", text);
    mos_finding_at(list, f, here);
    mos_finding_at(list, f, there);
    mos_finding_why(list, f, "The board would stay silent from the first moment.");
    return f;
}

static bool reads(const struct mos_rom *rom, const char *medium) {
    if (!rom->order.node) /* nobody said */
        return true;
    for (size_t i = 0; i < rom->order.count; i++)
        if (!mos_has(rom->order.items[i]) || strcmp(rom->order.items[i]->text, medium) == 0)
            return true;
    return false;
}

static const char *area_text(const struct mos_plan *plan, const struct mos_area *area) {
    return area ? mos_printf(plan->ctx->arena, "area %s", area->r.name) : "the main part";
}

/* Does the stage lie on a medium and area that the ROM looks at?  *lies: where it does lie. */
static bool is_found(const struct mos_plan *plan, const struct mos_rom *rom,
                     const struct mos_stage *s, const struct mos_region_plan **lies,
                     const struct mos_medium_plan **on) {
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct layout_view v = view_of(plan, i);
        const struct mos_first_place *p = mos_named_get(&rom->first_stage, v.m->def->r.name);
        const struct mos_area *wanted = p && mos_has(p->area) ? p->area->target : NULL;
        for (size_t k = 0; k < v.m->regions.count; k++) {
            const struct mos_region_plan *r = region(&v, k);
            if (!mos_has(r->def->stage) || r->def->stage->target != s)
                continue;
            if (p && reads(rom, v.m->def->r.name) && v.m->area == wanted)
                return true;
            *lies = r;
            *on = v.m;
        }
    }
    return false;
}

/* A first stage as a file lies in a volume, whose rules see to it. */
static bool as_file(const struct mos_rom *rom) {
    for (size_t i = 0; i < rom->first_stage.count; i++)
        if (((const struct mos_first_place *)rom->first_stage.items[i])->file)
            return true;
    return false;
}

/* A region that could not be read may be the one. */
static bool any_broken(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->board->layout.count; i++) {
        const struct mos_layout *l = plan->board->layout.items[i];
        for (size_t k = 0; k < l->regions.count; k++)
            if (((const struct mos_region *)l->regions.items[k])->r.broken)
                return true;
    }
    return false;
}

static void check_found(const struct mos_plan *plan, const struct mos_rom *rom,
                        const struct mos_stage *s) {
    struct mos_findings *list = &plan->ctx->findings;
    const struct mos_region_plan *lies = NULL;
    const struct mos_medium_plan *on = NULL;
    const struct mos_first_place *p = rom->first_stage.count ? rom->first_stage.items[0] : NULL;
    if (!p || p->r.broken || as_file(rom) || any_broken(plan) || is_found(plan, rom, s, &lies, &on))
        return;
    struct mos_finding *f;
    const struct mos_area *area = mos_has(p->area) ? p->area->target : NULL;
    if (!lies) {
        f = tell(plan, s->r.key_place, p->r.key_place,
                 mos_printf(plan->ctx->arena, "Stage %s lies in no region.", s->r.name));
        mos_finding_try(list, f, "Add a region with stage: %s on %s.", s->r.name, p->r.name);
    } else if (!reads(rom, on->def->r.name)) {
        f = tell(plan, lies->def->r.key_place, rom->r.key_place,
                 mos_printf(plan->ctx->arena,
                            "The ROM does not look at %s, where the first stage lies.", on->name));
        mos_finding_try(list, f, "Set order: [%s] in rom, or choose another medium for %s.",
                        on->def->r.name, lies->name);
    } else {
        f = tell(plan, lies->def->r.key_place, mos_has(p->area) ? p->area->place : p->r.key_place,
                 mos_printf(plan->ctx->arena, "The ROM reads %s of %s; the first stage lies in %s.",
                            area_text(plan, area), p->r.name, area_text(plan, on->area)));
        mos_finding_try(list, f, "Set area: %s for region %s.", area ? area->r.name : "none",
                        lies->name);
    }
}

/* What an eMMC is set to give the ROM, and what the ROM is said to read. */
static void check_settings(const struct mos_plan *plan, const struct mos_rom *rom) {
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t i = 0; i < rom->first_stage.count; i++) {
        const struct mos_first_place *p = rom->first_stage.items[i];
        const struct mos_medium *m = mos_named_get(&plan->board->hardware->media, p->r.name);
        const struct mos_value *from = m && m->settings ? m->settings->boots_from : NULL;
        const struct mos_area *area = mos_has(p->area) ? p->area->target : NULL;
        if (!mos_has(from) || p->r.broken || from->target == area || !from->target)
            continue;
        struct mos_finding *f =
            tell(plan, from->place, mos_has(p->area) ? p->area->place : p->r.key_place,
                 mos_printf(plan->ctx->arena,
                            "%s is set to start from %s; the ROM is said to "
                            "read %s.",
                            p->r.name, from->text, area_text(plan, area)));
        mos_finding_try(list, f, "Set boots-from: %s, or the other area in rom.",
                        area ? area->r.name : "…");
    }
}

/* A copy of the first stage in the other area lies as far in as the ROM looks. */
static void check_copies(const struct mos_plan *plan, const struct mos_rom *rom,
                         const struct mos_stage *s) {
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct layout_view v = view_of(plan, i);
        const struct mos_first_place *p = mos_named_get(&rom->first_stage, v.m->def->r.name);
        for (size_t k = 0; v.m->area && p && mos_has(p->at) && k < v.m->regions.count; k++) {
            const struct mos_region_plan *r = region(&v, k);
            if (!r->placed || !r->piece || !mos_has(s->piece) ||
                r->piece->def != s->piece->target || r->start == p->at->number ||
                mos_has(r->def->stage))
                continue;
            struct mos_finding *f =
                tell(plan, stated_place(r), p->at->place,
                     mos_printf(plan->ctx->arena,
                                "Region %s holds the first stage at %s of %s; the ROM looks at %s.",
                                r->name, mos_size_text(v.arena, r->start), v.m->area->r.name,
                                mos_size_text(v.arena, p->at->number)));
            mos_finding_try(list, f, "Set at: %s.", mos_size_exact(v.arena, p->at->number));
        }
    }
}

void mos_rule_rom(const struct mos_plan *plan) {
    const struct mos_rom *rom = plan->board->rom;
    const struct mos_stage *s = mos_board_first_stage(plan->board);
    if (!rom || rom->r.broken || !plan->board->hardware)
        return;
    check_settings(plan, rom);
    if (!s || s->r.broken || !plan->media.count)
        return;
    check_found(plan, rom, s);
    check_copies(plan, rom, s);
}
