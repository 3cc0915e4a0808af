/* Where the loader was built to keep its environment, and where the layout has it. */
#include "rules/layout-view.h"
#include "rules/loader-facts.h"

#include "base/text.h"
#include "boot/unit.h"

#include <stdlib.h>
#include <string.h>

/* Its whole configuration is there: what it does not mention is off. */
static bool has_config(const struct mos_plan *plan) {
    const struct mos_loader *l = plan->board->loader;
    return l && l->facts && mos_has(l->facts->config) && plan->loader_config.count;
}

static struct mos_finding *tell(const struct layout_view *v, struct mos_place here,
                                struct mos_place there, const char *text) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_LOADER_ENV_PLACE, "%s", text);
    mos_finding_at(v->list, f, here);
    if (there.source || there.thing)
        mos_finding_at(v->list, f, there);
    return f;
}

/* ---- where the layout has it ---- */

struct home {
    const struct mos_environment_plan *e;
    const struct mos_medium_plan *m;
    const struct mos_region_plan *copies[2];
    size_t count; /* raw copies on that medium */
};

static struct home home_on(const struct layout_view *v, const struct mos_environment_plan *e) {
    struct home h = {.e = e, .m = v->m};
    for (size_t i = 0; i < v->m->regions.count && h.count < 2; i++)
        if (region(v, i)->environment == e && region(v, i)->placed)
            h.copies[h.count++] = region(v, i);
    return h;
}

/* The fill that puts it into a volume as a file. */
static const struct mos_fill *file_of(const struct mos_plan *plan,
                                      const struct mos_environment *def,
                                      const struct mos_region_plan **in) {
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        for (size_t k = 0; k < m->regions.count; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
            const struct mos_volume *v = r->def->volume;
            for (size_t n = 0; v && n < v->fills.count; n++) {
                const struct mos_fill *f = v->fills.items[n];
                *in = r;
                if (mos_has(f->environment) && f->environment->target == def)
                    return f;
            }
        }
    }
    return NULL;
}

/* ---- rules ---- */

/* The ways that the loader was built with, and whether one of them is `kind`. */
static const struct mos_setting *kept_elsewhere(const struct layout_view *v, enum mos_keeping kind,
                                                const char *files, const char **where) {
    const struct mos_setting *other = NULL;
    for (const struct mos_loader_keeping *k = v->plan->dialect->keepings; k && k->symbol; k++) {
        const struct mos_setting *s = loader_fact(v->plan, k->symbol);
        if (!loader_is_on(s))
            continue;
        if (k->kind == kind && (!files || strcmp(k->files, files) == 0))
            return NULL;
        if (!other || k->kind != MOS_KEEPS_NOWHERE) {
            other = s;
            *where = k->where;
        }
    }
    return other;
}

static void elsewhere(const struct layout_view *v, const struct mos_environment_plan *e,
                      const char *has_it, struct mos_place here, enum mos_keeping kind,
                      const char *files) {
    const char *where;
    const struct mos_setting *s = kept_elsewhere(v, kind, files, &where);
    if (!s)
        return;
    struct mos_finding *f =
        tell(v, here, s->place,
             mos_printf(v->arena, "The loader was built to keep its environment %s; %s %s.", where,
                        e->def->r.name, has_it));
    mos_finding_why(v->list, f, "It never reads what lies here, and starts with its defaults.");
    mos_finding_try(v->list, f, "Build the loader for this place, or put the environment there.");
}

static enum mos_keeping keeping_of(const struct mos_medium_plan *m) {
    switch (mos_medium_kind_of(m->medium->kind)) {
    case MOS_MEDIUM_NOR:
        return MOS_KEEPS_NOR;
    case MOS_MEDIUM_NAND:
        return MOS_KEEPS_NAND;
    case MOS_MEDIUM_SD:
    case MOS_MEDIUM_EMMC:
        return MOS_KEEPS_MMC;
    default:
        return MOS_KEEPS_OTHER;
    }
}

static void check_size(const struct layout_view *v, const struct home *h) {
    const struct mos_setting *s = loader_fact(v->plan, v->plan->dialect->symbols.environment_size);
    const struct mos_environment_plan *e = h->e;
    uint64_t size;
    if (!loader_number(s, &size) || !e->size || size == e->size)
        return;
    struct mos_finding *f = tell(
        v, e->def->size->place, s->place,
        mos_printf(v->arena, "Environment %s has %s; the loader was built for %s.", e->def->r.name,
                   mos_size_text(v->arena, e->size), mos_size_text(v->arena, size)));
    mos_finding_why(v->list, f,
                    "The sum is taken over the whole block, so the loader would call it damaged.");
    mos_finding_try(v->list, f, "Set size: %s.", mos_size_exact(v->arena, size));
}

static void check_places(const struct layout_view *v, const struct home *h) {
    const struct mos_loader_symbols *n = &v->plan->dialect->symbols;
    const struct mos_setting *at[] = {loader_fact(v->plan, n->environment_at),
                                      loader_fact(v->plan, n->environment_copy_at)};
    for (size_t k = 0; k < h->count; k++) {
        const struct mos_region_plan *r = h->copies[k];
        uint64_t there;
        if (!loader_number(at[k], &there) || r->start == there)
            continue;
        struct mos_finding *f = tell(
            v, stated_place(r), at[k]->place,
            mos_printf(v->arena, "The loader was built to find %s at %s of %s; region %s is at %s.",
                       k ? "the copy of its environment" : "its environment",
                       mos_size_text(v->arena, there), v->m->name, r->name,
                       mos_size_text(v->arena, r->start)));
        mos_finding_why(v->list, f, "It goes there without looking at any table.");
        mos_finding_try(v->list, f, "Set at: %s for %s, or build the loader for the other place.",
                        mos_size_exact(v->arena, there), r->name);
    }
}

/* Which device, and which part of it: 0 is the main part, then the boot areas. */
static void check_device(const struct layout_view *v, const struct home *h) {
    const struct mos_loader_symbols *n = &v->plan->dialect->symbols;
    const struct mos_setting *device = loader_fact(v->plan, n->environment_device),
                             *area = loader_fact(v->plan, n->environment_area);
    const char *loader = mos_text_or(v->m->medium->loader, NULL), *blank;
    uint64_t there, here = 0;
    struct mos_place place = stated_place(h->copies[0]);
    if (loader && (blank = strchr(loader, ' ')) && loader_number(device, &there) &&
        there != strtoull(blank + 1, NULL, 16)) {
        struct mos_finding *f =
            tell(v, v->m->medium->loader->place, device->place,
                 mos_printf(v->arena,
                            "The loader was built to keep its environment on mmc %llu; %s is %s.",
                            (unsigned long long)there, v->m->name, loader));
        mos_finding_why(v->list, f, "It never reads what lies here, and starts with its defaults.");
        mos_finding_try(v->list, f, "Set %s=%s in the loader's configuration, and build it again.",
                        n->environment_device, blank + 1);
    }
    if (v->m->area)
        here = strcmp(v->m->area->r.name, "boot1") == 0 ? 2 : 1;
    if (!loader_number(area, &there) || there == here)
        return;
    struct mos_finding *f =
        tell(v, place, area->place,
             mos_printf(v->arena,
                        "The loader was built to keep its environment in %s of the eMMC; "
                        "region %s lies in %s.",
                        there ? mos_printf(v->arena, "boot area %llu", (unsigned long long)there)
                              : "the main part",
                        h->copies[0]->name, v->m->area ? v->m->area->r.name : "the main part"));
    mos_finding_why(v->list, f, "It never reads what lies here, and starts with its defaults.");
    mos_finding_try(v->list, f, "Set %s=%llu in the loader's configuration, and build it again.",
                    n->environment_area, (unsigned long long)here);
}

/* Two copies have a flag byte that says which is newer, and a single one has none. */
static void check_flag(const struct layout_view *v, const struct home *h) {
    const struct mos_setting *s = loader_fact(v->plan, v->plan->dialect->symbols.flag_byte);
    const struct mos_environment_plan *e = h->e;
    struct mos_place flag = e->def->flag_byte ? e->def->flag_byte->place : e->def->r.key_place;
    struct mos_place here = stated_place(h->copies[0]);
    if (s ? loader_is_on(s) != e->flag_byte : has_config(v->plan) && e->flag_byte) {
        const char *symbol = v->plan->dialect->symbols.flag_byte;
        struct mos_finding *f = tell(
            v, flag, s ? s->place : mos_place_thing(NULL),
            loader_is_on(s) ? "The loader was built for two copies of its environment, each with a "
                              "flag byte; here it has none."
                            : "The environment has a flag byte, and the loader was built for one "
                              "copy without.");
        mos_finding_why(v->list, f,
                        "The sum begins one byte further on, so the loader would call it damaged.");
        mos_finding_try(v->list, f, "Set flag-byte: %s, or build the loader with %s%s",
                        loader_is_on(s) ? "yes" : "no", symbol, loader_is_on(s) ? " off." : "=y.");
    } else if (h->count == 1 && e->flag_byte) {
        struct mos_finding *f =
            tell(v, flag, here, "The environment has a flag byte, and only one copy.");
        mos_finding_why(v->list, f,
                        "A loader that knows the flag keeps two copies: it writes the "
                        "other one over whatever lies there.");
        mos_finding_try(v->list, f,
                        "Add a second region with the same environment, or set flag-byte: no.");
    } else if (h->count == 2 && !e->flag_byte) {
        struct mos_finding *f =
            tell(v, here, stated_place(h->copies[1]),
                 mos_printf(v->arena, "Regions %s and %s hold one environment without a flag byte.",
                            h->copies[0]->name, h->copies[1]->name));
        mos_finding_why(
            v->list, f,
            "Without it the loader knows no second copy; with two, it calls both damaged.");
        mos_finding_try(v->list, f, "Set flag-byte: yes, or keep one region.");
    }
}

/* What each board has of its own must have a place in a block that a writer finds. */
static void check_units(const struct mos_plan *plan, const struct mos_environment_plan *e) {
    struct mos_findings *list = &plan->ctx->findings;
    const struct mos_region_plan *in = NULL;
    const struct mos_fill *file = file_of(plan, e->def, &in);
    for (size_t i = 0; i < e->def->per_unit.count; i++) {
        const struct mos_variable *v = e->def->per_unit.items[i];
        const char *why = NULL;
        if (!mos_has(v->value) || (mos_unit_is_pattern(v->value->text, &why) && !file))
            continue;
        struct mos_finding *f =
            mos_find(list, MOS_RULE_LOADER_ENV_UNIT, "Variable %s cannot differ by unit: %s.",
                     v->r.name, why ? why : "its environment is a file of a volume");
        mos_finding_at(list, f, v->value->place);
        if (!why)
            mos_finding_at(list, f, file->r.key_place);
        if (why)
            mos_finding_try(list, f,
                            "Write it as in \"02:00:00:<UNIT:3>\" or \"<UNIT>\", or put it below "
                            "values.");
        else
            mos_finding_try(list, f, "Give the environment a region of its own.");
    }
}

static void check_nowhere(const struct mos_plan *plan, const struct mos_environment_plan *e) {
    struct mos_findings *list = &plan->ctx->findings;
    const struct mos_region_plan *in;
    if (!plan->board->boot || !plan->media.count || e->def->r.broken || file_of(plan, e->def, &in))
        return;
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct layout_view v = view_of(plan, i);
        for (size_t k = 0; k < v.m->regions.count; k++)
            if (region(&v, k)->environment == e || region(&v, k)->def->r.broken)
                return;
    }
    struct mos_finding *f =
        mos_find(list, MOS_RULE_LOADER_ENV_PLACE, "Environment %s lies nowhere.", e->def->r.name);
    mos_finding_at(list, f, e->def->r.key_place);
    mos_finding_why(list, f, "The board never sees its variables: the loader starts with its own.");
    mos_finding_try(list, f, "Add a region with environment: %s, or remove the environment.",
                    e->def->r.name);
}

static void check_file(const struct mos_plan *plan, const struct mos_environment_plan *e) {
    const struct mos_region_plan *in = NULL;
    const struct mos_fill *f = file_of(plan, e->def, &in);
    struct layout_view v = view_of(plan, 0);
    const struct mos_fs_loader *word = in ? mos_dialect_reads(plan->dialect, in->fs) : NULL;
    if (f && word)
        elsewhere(&v, e, mos_printf(v.arena, "is a file of volume %s", in->name), f->r.key_place,
                  MOS_KEEPS_FILE, word->word);
}

void mos_rule_loader_env(const struct mos_plan *plan) {
    if (!plan->dialect)
        return;
    for (size_t i = 0; i < plan->environments.count; i++) {
        const struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        check_nowhere(plan, e);
        check_units(plan, e);
        if (plan->media.count)
            check_file(plan, e);
        for (size_t k = 0; k < plan->media.count; k++) {
            const struct layout_view v = view_of(plan, k);
            const struct home h = home_on(&v, e);
            if (!h.count || e->def->r.broken)
                continue;
            elsewhere(&v, e,
                      mos_printf(v.arena, "lies in region %s of %s", h.copies[0]->name, v.m->name),
                      stated_place(h.copies[0]), keeping_of(v.m), NULL);
            check_size(&v, &h);
            check_places(&v, &h);
            check_flag(&v, &h);
            if (keeping_of(v.m) == MOS_KEEPS_MMC)
                check_device(&v, &h);
        }
    }
}
