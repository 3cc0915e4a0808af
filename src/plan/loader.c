/* The loader: its dialect and what that can do, how it was built, and its variables. */
#include "plan/steps.h"

#include "base/text.h"
#include "loaders/loaders.h"

#include <assert.h>
#include <string.h>

/* ---- its language ---- */

static void find_dialect(struct mos_plan *plan) {
    const struct mos_loader *l = plan->board->loader;
    if (!l || !mos_has(l->dialect))
        return;
    plan->dialect = mos_dialect_find(l->dialect->text);
    if (plan->dialect)
        return;
    struct mos_buf known = {.arena = plan->ctx->arena};
    for (size_t i = 0; mos_dialect_at(i); i++)
        mos_buf_printf(&known, "%s%s", i ? ", " : "", mos_dialect_at(i)->name);
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_BOARD_SCHEMA,
                                     "There is no loader dialect %s.", l->dialect->text);
    mos_finding_at(&plan->ctx->findings, f, l->dialect->place);
    mos_finding_try(&plan->ctx->findings, f, "Choose one of these: %s.", mos_buf_string(&known));
}

/* Something is asked for that the language has not. */
static void has_not(struct mos_plan *plan, const char *what, struct mos_place place) {
    struct mos_findings *list = &plan->ctx->findings;
    const struct mos_loader *l = plan->board->loader;
    bool stated = l && mos_has(l->dialect);
    struct mos_finding *f =
        stated ? mos_find(list, MOS_RULE_BOARD_SCHEMA, "A loader of dialect %s has no %s.",
                          plan->dialect->name, what)
               : mos_find(list, MOS_RULE_BOARD_SCHEMA, "Without a loader there are no %s.", what);
    mos_finding_at(list, f, place);
    mos_finding_at(list, f, stated ? l->dialect->place : plan->board->boot->r.key_place);
    mos_finding_try(list, f, "Choose another way, or another dialect.");
}

/* What is asked for has a form that only the dialect tells, and that is not stated. */
static void nobody_says(struct mos_plan *plan, const char *what, struct mos_place place) {
    assert(!plan->dialect);
    const struct mos_loader *l = plan->board->loader;
    if (l && mos_has(l->dialect))
        return; /* it is, but there is none of this name: that is said */
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_SCHEMA, "Nobody says %s.", what);
    mos_finding_at(list, f, place);
    mos_finding_why(list, f, "That is for the loader's dialect to say, which is not known.");
    mos_finding_try(list, f, "Add loader: {dialect: %s}.", mos_dialect_at(0)->name);
}

static const struct mos_overlay *overlay_at_boot(const struct mos_plan *plan) {
    const struct mos_trees *t = plan->board->tree;
    for (size_t i = 0; t && i < t->overlays.count; i++) {
        const struct mos_overlay *o = t->overlays.items[i];
        if (mos_moment_of(o->when) == MOS_MOMENT_BOOT)
            return o;
    }
    return NULL;
}

static void check_ways(struct mos_plan *plan, const struct mos_boot *b) {
    const struct mos_dialect *d = plan->dialect;
    struct mos_place via = b->via ? b->via->place : b->r.key_place;
    const struct mos_overlay *overlay = overlay_at_boot(plan);
    const struct {
        bool asked, had;
        const char *what;
        struct mos_place place;
    } rows[] = {
        {mos_board_is_via(plan->board, MOS_VIA_SCRIPT), d->write_script && d->wrap_script,
         "scripts", via},
        {mos_board_is_via(plan->board, MOS_VIA_MENU), d->write_menu, "menus", via},
        {mos_board_is_via(plan->board, MOS_VIA_ENVIRONMENT), d->write_variables,
         "variables that could start something", via},
        {mos_board_is_via(plan->board, MOS_VIA_PARCEL), d->parcels, "use for parcels", via},
        {mos_has(b->tries), d->ways.counted, "way to count starts",
         mos_has(b->tries) ? b->tries->place : via},
        {b->network, d->write_network, "way to boot from a server",
         b->network ? b->network->r.key_place : via},
        {b->trees, d->applies, "way to choose trees", b->trees ? b->trees->r.key_place : via},
        {overlay, d->applies, "way to apply overlays", overlay ? overlay->when->place : via},
        {b->parcel && mos_has(b->parcel->locks), d->lock, "way to be locked",
         b->parcel && mos_has(b->parcel->locks) ? b->parcel->locks->place : via}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (rows[i].asked && !rows[i].had) {
            has_not(plan, rows[i].what, rows[i].place);
            plan->lacks_way = true;
        }
}

/* What the system is told about the loader's variables is said in the dialect's form. */
static void check_access(struct mos_plan *plan, const struct mos_system *s) {
    const struct mos_value *access = mos_true(s->loader_access) ? s->loader_access : s->confirm;
    if (!mos_has(access) || (plan->dialect && plan->dialect->stored))
        return;
    if (plan->dialect) {
        has_not(plan, "stored variables that a system could reach", access->place);
        return;
    }
    nobody_says(plan, "how the system reaches the loader's variables", access->place);
}

/* What is put into a loader that is locked depends on the loader. */
static void check_lock(struct mos_plan *plan, const struct mos_boot *b) {
    const struct mos_value *locks = b->parcel ? b->parcel->locks : NULL;
    if (!plan->dialect && mos_has(locks))
        nobody_says(plan, mos_printf(plan->ctx->arena, "how loader %s is locked", locks->text),
                    locks->place);
}

/* What is done to a medium by commands of the loader, which this one has not. */
static void note_commands(struct mos_plan *plan) {
    const struct mos_dialect *d = plan->dialect;
    const struct mos_hardware *h = plan->board->hardware;
    for (size_t i = 0; d && h && i < h->media.count; i++) {
        const struct mos_medium *m = h->media.items[i];
        enum mos_medium_kind kind = mos_medium_kind_of(m->kind);
        bool flash = kind == MOS_MEDIUM_NOR || kind == MOS_MEDIUM_NAND;
        const char *what = m->settings && !d->write_emmc_setup ? "is ever set up"
                           : flash && !d->write_flash_program  ? "is ever programmed"
                                                               : NULL;
        if (what)
            mos_vec_push_pointer(
                &plan->ctx->not_proved,
                d == &mos_dialect_stage
                    ? mos_printf(plan->ctx->arena, "that medium %s %s: no loader runs that could",
                                 m->r.name, what)
                    : mos_printf(plan->ctx->arena,
                                 "that medium %s %s: a loader of dialect %s has no commands for it",
                                 m->r.name, what, d->name));
    }
}

void mos_plan_loader(struct mos_plan *plan) {
    find_dialect(plan);
    plan->starter = mos_board_is_direct(plan->board) ? &mos_dialect_stage : plan->dialect;
    if (!plan->dialect)
        plan->dialect = plan->starter;
    note_commands(plan);
    if (plan->board->boot)
        check_lock(plan, plan->board->boot);
    if (plan->board->system)
        check_access(plan, plan->board->system);
    if (plan->dialect && plan->board->boot && !mos_board_is_direct(plan->board))
        check_ways(plan, plan->board->boot);
}

const char *mos_plan_in_loader(const struct mos_plan *plan, const struct mos_medium *medium) {
    assert(plan->dialect);
    return mos_has(medium->loader)
               ? medium->loader->text
               : mos_dialect_medium(plan->dialect, plan->ctx->arena, mos_text_or(medium->kind, ""));
}

/* ---- how it was built ---- */

/* How the loader was built, as its own configuration file says. */
static void read_loader_config(struct mos_plan *plan) {
    const struct mos_facts *facts = plan->board->loader->facts;
    mos_plan_loader_config(plan);
    const struct mos_source *s = facts && mos_has(facts->config)
                                     ? mos_plan_source(plan, facts->config, "loader configuration")
                                     : NULL;
    struct mos_config_part *part = s ? mos_config_read(plan->ctx, "loader", s) : NULL;
    if (part)
        plan->loader_config = mos_config_merge(plan->ctx, &part, 1); /* that of what is there */
    for (size_t i = 0; facts && i < facts->symbols.count; i++) {     /* stated by hand */
        const struct mos_argument *a = facts->symbols.items[i];
        const struct mos_value *v = a->values.count ? a->values.items[0] : NULL;
        struct mos_setting *x = mos_alloc(plan->ctx->arena, sizeof *x);
        if (!mos_has(v))
            continue;
        *x = (struct mos_setting){.symbol = a->r.name,
                                  .value = v->text,
                                  .place = v->place,
                                  .replaced = mos_map_get(&plan->loader_config, a->r.name)};
        mos_map_set(&plan->loader_config, a->r.name, x);
    }
    if (!plan->loader_config.count)
        mos_vec_push_pointer(
            &plan->ctx->not_proved,
            "what the loader can do: facts: {config: FILE}, symbols, or config and "
            "source tell how it was built");
}

const struct mos_setting *mos_plan_loader_symbol(const struct mos_plan *plan, const char *symbol) {
    return symbol ? mos_map_get(&plan->loader_config, symbol) : NULL;
}

/* Variables out of a binary; where each stands is known only as that file. */
static bool find_compiled(struct mos_plan *plan, const struct mos_source *s,
                          const struct mos_value *path) {
    struct mos_map found;
    if (!plan->dialect->stored->find(plan->ctx->arena, (const uint8_t *)s->text, s->length,
                                     &found)) {
        struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_PIECE_FORMAT,
                                         "%s has no variables compiled into it.", path->text);
        mos_finding_at(&plan->ctx->findings, f, path->place);
        mos_finding_try(
            &plan->ctx->findings, f,
            "Name the loader's plain binary, or a file with its variables as name=value lines.");
        return false;
    }
    for (size_t i = 0; i < found.count; i++) {
        const struct mos_loader_variable *v = found.items[i].value;
        mos_variables_set(plan->ctx->arena, &plan->defaults, v->name, v->value, path->place);
    }
    return true;
}

static void read_defaults(struct mos_plan *plan) {
    const struct mos_loader *l = plan->board->loader;
    plan->defaults = mos_map_make(plan->ctx->arena);
    read_loader_config(plan);
    if (!l->facts || !mos_has(l->facts->defaults))
        return;
    const struct mos_source *s = mos_plan_source(plan, l->facts->defaults, "defaults");
    if (!s)
        return;
    if (memchr(s->text, 0, s->length)) { /* the loader's binary: they are compiled into it */
        const struct mos_value *file = l->facts->defaults;
        if (!plan->dialect)
            nobody_says(plan, mos_printf(plan->ctx->arena, "how variables stand in %s", file->text),
                        file->place);
        else if (!plan->dialect->stored)
            has_not(plan, "variables that are compiled into it", file->place);
        else
            plan->has_defaults = find_compiled(plan, s, file);
        return;
    }
    mos_variables_read_text(plan->ctx, s, &plan->defaults);
    plan->has_defaults = true; /* an empty text says that there are none */
}

static struct mos_environment_plan *settle_environment(struct mos_plan *plan,
                                                       const struct mos_environment *def) {
    assert(plan->dialect->stored);
    struct mos_environment_plan *e = mos_alloc(plan->ctx->arena, sizeof *e);
    e->def = def;
    e->variables = mos_map_make(plan->ctx->arena);
    e->flag_byte = mos_true(def->flag_byte);
    e->size = mos_has(def->size) ? def->size->number : 0;
    bool based = mos_base_of(def->base) == MOS_BASE_DEFAULTS;
    if (based && !plan->has_defaults &&
        !(plan->board->loader->facts && plan->board->loader->facts->defaults)) {
        struct mos_finding *f = mos_find(
            &plan->ctx->findings, MOS_RULE_BOARD_REFERENCE,
            "Environment %s is based on the loader's defaults, which are not known.", def->r.name);
        mos_finding_at(&plan->ctx->findings, f, def->base->place);
        mos_finding_why(&plan->ctx->findings, f,
                        "A stored environment replaces the compiled-in one as a whole.");
        mos_finding_try(&plan->ctx->findings, f,
                        "Add loader: {facts: {defaults: loader/defaults.txt}}, or set base: none.");
    }
    for (size_t i = 0; based && i < plan->defaults.count; i++) {
        const struct mos_loader_variable *v = plan->defaults.items[i].value;
        mos_variables_set(plan->ctx->arena, &e->variables, v->name, v->value, v->place);
    }
    for (size_t i = 0; i < def->values.count; i++) {
        const struct mos_variable *v = def->values.items[i];
        if (mos_has(v->value))
            mos_variables_set(plan->ctx->arena, &e->variables, v->r.name, v->value->text,
                              v->value->place);
    }
    e->needed = plan->dialect->stored->size(&e->variables, e->flag_byte);
    return e;
}

bool mos_plan_environments(struct mos_plan *plan) {
    const struct mos_loader *l = plan->board->loader;
    if (!l)
        return true;
    read_defaults(plan);
    const struct mos_environment *first = l->environments.count ? l->environments.items[0] : NULL;
    if (first && plan->dialect && !plan->dialect->stored)
        has_not(plan, "stored environments", first->r.key_place);
    if (first && !plan->dialect)
        nobody_says(
            plan,
            mos_printf(plan->ctx->arena, "in which form environment %s is stored", first->r.name),
            first->r.key_place);
    for (size_t i = 0; plan->dialect && plan->dialect->stored && i < l->environments.count; i++)
        mos_vec_push_pointer(&plan->environments,
                             settle_environment(plan, l->environments.items[i]));
    return plan->ctx->error->kind == MOS_ERROR_NONE;
}
