/* The rig of a plan: what is soldered on, how its loader was built, and its media. */
#include "trial/trial.h"

#include "base/bytes.h"
#include "base/text.h"
#include "plan/bytes.h"

#include <stdlib.h>
#include <string.h>

enum { LEAST_LOADER = 64 << 10 };

/* ---- what no image can tell ---- */

static void take_lacks(const struct mos_plan *plan, struct mos_rig *rig) {
    struct mos_vec lacks = mos_vec_make(plan->ctx->arena, sizeof(char *));
    struct mos_vec has = mos_vec_make(plan->ctx->arena, sizeof(char *));
    bool told = plan->dialect && plan->loader_config.count;
    for (const struct mos_loader_command *c = told ? plan->dialect->commands : NULL; c && c->name;
         c++) {
        const struct mos_setting *s = mos_plan_loader_symbol(plan, c->symbol);
        if (s && strcmp(s->value, "y") != 0)
            mos_vec_push_pointer(&lacks, c->name);
    }
    for (const struct mos_loader_command *c = told ? plan->dialect->forms : NULL; c && c->name;
         c++) {
        const struct mos_setting *s = mos_plan_loader_symbol(plan, c->symbol);
        if (strcmp(c->name, "overlays") == 0 && s && strcmp(s->value, "y") != 0)
            mos_vec_push_pointer(&lacks, c->name);
    }
    const struct mos_fs_driver *fs;
    for (size_t i = 0; told && (fs = mos_fs_at(i)); i++) {
        const struct mos_fs_loader *l = mos_dialect_reads(plan->dialect, fs);
        const struct mos_setting *s = l ? mos_plan_loader_symbol(plan, l->symbol) : NULL;
        if (s)
            mos_vec_push_pointer(strcmp(s->value, "y") == 0 ? &has : &lacks, l->word);
    }
    mos_vec_push_pointer(&has, NULL);
    mos_vec_push_pointer(&lacks, NULL);
    rig->has = has.items;
    rig->lacks = lacks.items;
}

static uint64_t number_of(const struct mos_plan *plan, const char *symbol) {
    const struct mos_setting *s = symbol ? mos_plan_loader_symbol(plan, symbol) : NULL;
    return s ? strtoull(s->value, NULL, 0) : 0;
}

static void take_limits(const struct mos_plan *plan, struct mos_rig *rig) {
    const struct mos_loader_symbols *n = plan->dialect ? &plan->dialect->symbols : NULL;
    const struct mos_setting *starts = n ? mos_plan_loader_symbol(plan, n->starts_by_itself) : NULL;
    if (!n)
        return;
    rig->waits = starts && strcmp(starts->value, "y") != 0;
    rig->most_words = number_of(plan, n->most_words);
    rig->most_kernel = number_of(plan, n->most_kernel);
    rig->most_line = number_of(plan, n->most_line);
    rig->boot_map = number_of(plan, n->bound_map_symbol);
    const struct mos_setting *picks = mos_plan_loader_symbol(plan, n->picks_by_tree);
    if (picks)
        rig->picks = strcmp(picks->value, "y") == 0 ? MOS_PICKS_BY_TREE : MOS_PICKS_USUAL;
}

static const struct mos_rig_direct *direct_of(const struct mos_plan *plan) {
    const struct mos_entry_plan *e =
        plan->boots_raw && plan->entries.count ? mos_vec_pointer(&plan->entries, 0) : NULL;
    if (!e || !e->kernel || !e->tree)
        return NULL;
    const struct mos_boot_step *s = &e->step;
    struct mos_rig_direct *d = mos_alloc(plan->ctx->arena, sizeof *d);
    *d = (struct mos_rig_direct){.entry = s->name,
                                 .medium = plan->boot_medium->name,
                                 .kernel = {s->kernel_raw.start, s->kernel_raw.length},
                                 .tree = {s->tree_raw.start, s->tree_raw.length},
                                 .kernel_to = s->kernel.ranges[MOS_RANGE_LOADED].start,
                                 .tree_to = s->tree.ranges[MOS_RANGE_LOADED].start};
    return d;
}

void mos_trial_facts(const struct mos_plan *plan, struct mos_rig *rig) {
    rig->dialect = plan->starter;
    if (mos_board_is_direct(plan->board))
        rig->direct = direct_of(plan);
    const struct mos_hardware *h = plan->board->hardware;
    const struct mos_facts *facts = plan->board->loader ? plan->board->loader->facts : NULL;
    rig->cpu = h ? mos_text_or(h->cpu, NULL) : NULL;
    if (plan->has_ram) {
        rig->ram = (struct mos_ram_span){plan->ram.start, plan->ram.length};
        if (plan->ram.top < plan->ram.start + plan->ram.length)
            rig->loader_from = plan->ram.top;
    }
    struct mos_vec held = mos_vec_make(plan->ctx->arena, sizeof(struct mos_ram_span));
    for (size_t i = 0; h && i < h->held.count; i++) {
        const struct mos_held *x = h->held.items[i];
        if (mos_has(x->start) && mos_has(x->size))
            *(struct mos_ram_span *)mos_vec_push(&held) =
                (struct mos_ram_span){x->start->number, x->size->number};
    }
    rig->held = held.items;
    rig->held_count = held.count;
    if (plan->has_defaults)
        rig->compiled = &plan->defaults;
    rig->watchdog = facts && mos_has(facts->watchdog) ? facts->watchdog->number : 0;
    take_lacks(plan, rig);
    take_limits(plan, rig);
}

/* ---- media ---- */

struct making {
    struct mos_plan *plan;
    struct mos_rig *rig;
    struct mos_vec media, environments, volumes;
    struct mos_vec numbers; /* of size_t: which medium an environment or volume lies on */
};

/* Which medium that is gets known once all are there: until then it is its number. */
static const struct mos_rig_medium *numbered(size_t medium) {
    return (const void *)(uintptr_t)medium;
}

/* The loader's file with its variables, in the first FAT partition. */
static bool take_file(struct making *m, size_t medium, const struct mos_region_plan *r) {
    uint32_t index;
    const struct mos_inventory *inv = r->volume->inventory;
    if (!r->fs->firmware_reads || !m->plan->dialect->stored ||
        !mos_inv_find(inv, m->plan->dialect->stored->file, &index) ||
        mos_inv_node(inv, index)->type != MOS_ENTRY_FILE)
        return false;
    mos_rig_add_file(m->plan->ctx->arena, &m->environments, m->plan->dialect->stored->file,
                     numbered(medium), r->number, mos_inv_node(inv, index)->size);
    return true;
}

/* The variables that are compiled into a loader that lies in a region. */
static void take_loader(struct making *m, const struct mos_region_plan *r) {
    const uint8_t *bytes;
    size_t length;
    struct mos_map *compiled = mos_alloc(m->plan->ctx->arena, sizeof *compiled);
    if (!m->plan->dialect->stored || m->rig->compiled || r->environment || !r->piece ||
        r->length < LEAST_LOADER || !mos_plan_region_bytes(m->plan, r, &bytes, &length))
        return;
    if (m->plan->dialect->stored->find(m->plan->ctx->arena, bytes, length, compiled))
        m->rig->compiled = compiled;
}

static bool take_regions(struct making *m, size_t number, const struct mos_medium_plan *medium,
                         const char **why) {
    bool file = false;
    struct mos_vec regions = mos_plan_by_place(m->plan, medium);
    for (size_t i = 0; i < regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&regions, i);
        *why = mos_printf(m->plan->ctx->arena, "what region %s of %s will hold", r->name,
                          medium->name);
        if (r->strange_fs || (r->fs && (!r->counted || !r->volume)) ||
            (r->piece && !mos_plan_is_there(r->piece)))
            return false;
        if (r->fs) {
            *(size_t *)mos_vec_push(&m->numbers) = number;
            *(struct mos_rig_volume *)mos_vec_push(&m->volumes) =
                mos_trial_volume(m->plan, NULL, r);
            file = file || take_file(m, number, r);
        } else if (r->environment) {
            mos_rig_add_block(m->plan->ctx->arena, &m->environments, numbered(number), r->start,
                              r->environment->size, r->environment->flag_byte);
        } else {
            take_loader(m, r);
        }
    }
    return true;
}

static bool take_medium(struct making *m, const struct mos_medium_plan *x, const char **why) {
    size_t number = m->media.count;
    struct mos_io *io = mos_trial_medium(m->plan, x);
    *why = mos_printf(m->plan->ctx->arena, "what the table of %s will say", x->name);
    if (!io)
        return false;
    *(struct mos_rig_medium *)mos_vec_push(&m->media) = (struct mos_rig_medium){
        x->name, mos_plan_in_loader(m->plan, x->medium), mos_text_or(x->medium->kernel, NULL), io};
    return take_regions(m, number, x, why);
}

bool mos_trial_rig(struct mos_plan *plan, struct mos_rig *rig, const char **why) {
    struct mos_arena *arena = plan->ctx->arena;
    struct making m = {.plan = plan,
                       .rig = rig,
                       .media = mos_vec_make(arena, sizeof(struct mos_rig_medium)),
                       .environments = mos_vec_make(arena, sizeof(struct mos_rig_environment)),
                       .volumes = mos_vec_make(arena, sizeof(struct mos_rig_volume)),
                       .numbers = mos_vec_make(arena, sizeof(size_t))};
    *rig = (struct mos_rig){0};
    *why = plan->dialect
               ? mos_printf(arena, "how a loader of dialect %s works", plan->dialect->name)
               : "which language the loader speaks";
    if (!plan->dialect || !plan->dialect->simulated)
        return false;
    mos_trial_facts(plan, rig);
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *x = mos_vec_pointer(&plan->media, i);
        if (!x->area && !take_medium(&m, x, why))
            return false;
    }
    rig->media = m.media.items;
    rig->media_count = m.media.count;
    for (size_t i = 0; i < m.environments.count; i++) {
        struct mos_rig_environment *e = mos_vec_at(&m.environments, i);
        e->medium = &rig->media[(uintptr_t)e->medium];
    }
    for (size_t i = 0; i < m.volumes.count; i++)
        ((struct mos_rig_volume *)mos_vec_at(&m.volumes, i))->medium =
            &rig->media[*(size_t *)mos_vec_at(&m.numbers, i)];
    rig->environments = m.environments.items;
    rig->environment_count = m.environments.count;
    rig->volumes = m.volumes.items;
    rig->volume_count = m.volumes.count;
    return true;
}
