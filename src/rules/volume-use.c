/* Volumes against those who read and write them: loader, kernel, the running system. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

/* Symbols without which a file system cannot be read, for each of its kinds. */
static const struct {
    const char *kind, *kernel;
} symbols[] = {{"ext4", "CONFIG_EXT4_FS"},
               {"fat32", "CONFIG_VFAT_FS"},
               {"fat16", "CONFIG_VFAT_FS"},
               {"fat12", "CONFIG_VFAT_FS"},
               {"swap", "CONFIG_SWAP"}};

static const char *kernel_symbol(const char *kind) {
    for (size_t i = 0; i < sizeof symbols / sizeof *symbols; i++)
        if (strcmp(symbols[i].kind, kind) == 0)
            return symbols[i].kernel;
    return NULL;
}

enum { WHOLE_CONFIG = 100 };

static void loader_cannot_read(const struct mos_plan *plan) {
    const struct mos_region_plan *r = plan->boot_region;
    struct mos_findings *list = &plan->ctx->findings;
    if (!r || !r->fs || !plan->dialect)
        return;
    bool fat = strncmp(r->fs->name, "fat", 3) == 0;
    const char *symbol = fat ? plan->dialect->symbols.reads_fat : plan->dialect->symbols.reads_ext4;
    const struct mos_setting *s = symbol ? mos_map_get(&plan->loader_config, symbol) : NULL;
    if (s ? strcmp(s->value, "n") != 0 : plan->loader_config.count < WHOLE_CONFIG)
        return; /* a few lines do not say what the rest is */
    struct mos_finding *f =
        mos_find(list, MOS_RULE_VOLUME_LOADER_CANNOT_READ,
                 "The loader cannot read %s, where its boot files are: it was built without %s.",
                 r->name, symbol);
    mos_finding_at(list, f, r->def->volume->kind->place);
    mos_finding_at(list, f, s ? s->place : plan->board->loader->facts->config->place);
    mos_finding_why(list, f, "%s is %s.", r->name, r->fs->name);
    mos_finding_try(list, f, "kind: %s, or a loader with %s=y.",
                    fat ? mos_fs_ext4.name : mos_fs_fat32.name, symbol);
}

static void kernel_cannot_mount(const struct mos_plan *plan, const struct mos_region_plan *r,
                                struct mos_place user, const char *as) {
    struct mos_findings *list = &plan->ctx->findings;
    const char *symbol = r && r->fs ? kernel_symbol(r->fs->name) : NULL;
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
    mos_finding_try(list, f, "%s=y, or another kind for %s.", symbol, r->name);
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
                    "A larger size, spare: to say how much it needs, or the mount option ro.");
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
        if (!has_option(&m->options, "ro"))
            nearly_full(plan, r, m->r.key_place);
    }
}
