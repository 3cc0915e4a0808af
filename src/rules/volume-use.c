/* Volumes against those who read and write them: loader, kernel, the running system. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

enum { WHOLE_CONFIG = 100 };

/* A kind that this loader can read, as far as its configuration says so. */
static const char *another_kind(const struct mos_plan *plan, const struct mos_fs_driver *than) {
    const struct mos_fs_driver *d, *usual = NULL;
    for (size_t i = 0; (d = mos_fs_at(i)); i++) {
        const struct mos_fs_loader *word = mos_dialect_reads(plan->dialect, d);
        const struct mos_setting *s = word ? mos_plan_loader_symbol(plan, word->symbol) : NULL;
        if (!word || word->optional || strcmp(d->family, than->family) == 0)
            continue;
        if (s && strcmp(s->value, "n") != 0)
            return d->name;
        usual = usual ? usual : d;
    }
    return usual ? usual->name : than->name;
}

static void loader_cannot_read(const struct mos_plan *plan) {
    const struct mos_region_plan *r = plan->boot_region;
    struct mos_findings *list = &plan->ctx->findings;
    if (!r || !r->fs || !plan->dialect)
        return;
    const struct mos_fs_loader *word = mos_dialect_reads(plan->dialect, r->fs);
    const struct mos_setting *s = word ? mos_plan_loader_symbol(plan, word->symbol) : NULL;
    if (s ? strcmp(s->value, "n") != 0 : word && plan->loader_config.count < WHOLE_CONFIG)
        return; /* a few lines do not say what the rest is */
    struct mos_finding *f =
        mos_find(list, MOS_RULE_VOLUME_LOADER_CANNOT_READ,
                 word ? "The loader cannot read %s, where its boot files are: it was built "
                        "without %s."
                      : "The loader cannot read %s, where its boot files are.",
                 r->name, word ? word->symbol : NULL);
    mos_finding_at(list, f, r->def->volume->kind->place);
    const struct mos_facts *facts = plan->board->loader->facts;
    mos_finding_at(list, f,
                   s                                         ? s->place
                   : word && facts && mos_has(facts->config) ? facts->config->place
                                                             : plan->board->loader->dialect->place);
    mos_finding_why(list, f, "%s is %s.", r->name, r->fs->name);
    mos_finding_try(list, f, word ? "Set kind: %s, or use a loader with %s=y." : "Set kind: %s.",
                    another_kind(plan, r->fs), word ? word->symbol : NULL);
}

static void kernel_cannot_mount(const struct mos_plan *plan, const struct mos_region_plan *r,
                                struct mos_place user, const char *as) {
    struct mos_findings *list = &plan->ctx->findings;
    const char *symbol = r && r->fs ? r->fs->symbol : NULL;
    const struct mos_setting *s =
        symbol && plan->has_config ? mos_map_get(&plan->config, symbol) : NULL;
    if (!s || strcmp(s->value, "n") != 0)
        return;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_VOLUME_KERNEL_CANNOT_MOUNT,
                 "The kernel cannot mount %s as %s: %s is not set.", r->name, as, symbol);
    mos_finding_at(list, f, r->def->volume->kind->place);
    mos_finding_at(list, f, s->place);
    mos_finding_at(list, f, user);
    mos_finding_why(list, f, "%s is %s.", r->name, r->fs->name);
    mos_finding_try(list, f, "Set %s=y in a fragment, or choose another kind for %s.", symbol,
                    r->name);
}

/* ---- little room ---- */

static bool has_option(const struct mos_list *list, const char *option) {
    for (size_t i = 0; i < list->count; i++)
        if (mos_has(list->items[i]) && strcmp(list->items[i]->text, option) == 0)
            return true;
    return false;
}

static void nearly_full(const struct mos_plan *plan, const struct mos_region_plan *r,
                        struct mos_place user) {
    const struct mos_value *limit = r->def->volume->nearly_full;
    uint64_t least = r->length / 100 * 5;
    struct mos_findings *list = &plan->ctx->findings;
    if (mos_has(limit))
        least = limit->percent ? r->length / 100 * limit->number : limit->number;
    if (!r->counted || !r->result.fits || r->result.free >= least || mos_has(r->def->volume->spare))
        return;
    struct mos_finding *f = mos_find(list, MOS_RULE_VOLUME_NEARLY_FULL,
                                     "Only %s of %s are free, and the system writes to it.",
                                     mos_size_about(plan->ctx->arena, r->result.free), r->name);
    mos_finding_at(list, f, r->def->size ? r->def->size->place : r->def->r.key_place);
    mos_finding_at(list, f, user);
    mos_finding_why(list, f, "Less than %s of it: logs and updates fill it within days.",
                    mos_size_about(plan->ctx->arena, least));
    mos_finding_try(list, f,
                    "Set a larger size, spare: to say how much it needs, or the mount option ro.");
}

void mos_rule_volume_use(const struct mos_plan *plan) {
    const struct mos_region_plan *root = mos_plan_root(plan);
    const struct mos_system *system = plan->board->system;
    loader_cannot_read(plan);
    if (root && plan->entries.count) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, 0);
        kernel_cannot_mount(plan, root, e->def->r.key_place, "its root");
    }
    for (size_t i = 0; system && i < system->mounts.count; i++) {
        const struct mos_mount *m = system->mounts.items[i];
        const struct mos_region_plan *r = mos_plan_region(plan, m->r.name);
        if (!r || !r->fs || !mos_has(m->at))
            continue;
        if (r != root)
            kernel_cannot_mount(plan, r, m->r.key_place, m->at->text);
        if (!r->fs->read_only && !has_option(&m->options, "ro"))
            nearly_full(plan, r, m->r.key_place);
    }
}
