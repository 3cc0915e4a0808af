/* What the loader was built with: the commands and forms that the boot needs. */
#include "rules/rules.h"

#include <string.h>

/* The setting that leaves something out; NULL: it is built in, or nobody knows. */
static const struct mos_setting *left_out(const struct mos_plan *plan,
                                          const struct mos_loader_command *list, const char *name,
                                          const char **symbol) {
    while (list && list->name && strcmp(list->name, name) != 0)
        list++;
    *symbol = list ? list->symbol : NULL;
    const struct mos_setting *s = mos_plan_loader_symbol(plan, *symbol);
    return s && strcmp(s->value, "y") != 0 ? s : NULL; /* not mentioned: not known */
}

static void lacks(const struct mos_plan *plan, enum mos_rule_id rule, struct mos_place place,
                  const struct mos_setting *s, const char *symbol, const char *what,
                  const char *why) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, rule, "The loader was built without %s needs.", what);
    mos_finding_at(list, f, place);
    mos_finding_at(list, f, s->place);
    mos_finding_why(list, f, "%s", why);
    mos_finding_try(list, f, "Set %s=y in the loader's configuration, and build it again.", symbol);
}

static void check_command(const struct mos_plan *plan, const char *command,
                          struct mos_place place) {
    struct mos_arena *arena = plan->ctx->arena;
    const char *symbol;
    const struct mos_setting *s = left_out(plan, plan->dialect->commands, command, &symbol);
    if (s)
        lacks(plan, MOS_RULE_LOADER_COMMAND_MISSING, place, s, symbol,
              mos_printf(arena, "the command %s, which the boot", command),
              mos_printf(arena, "It would say \"%s%s%s\" and go on.", plan->dialect->unknown[0],
                         command, plan->dialect->unknown[1]));
}

static void check_command_list(const struct mos_plan *plan, const char *const *list,
                               struct mos_place place) {
    for (; list && *list; list++)
        check_command(plan, *list, place);
}

static void check_form(const struct mos_plan *plan, const char *form, const char *what,
                       struct mos_place place) {
    const char *symbol;
    const struct mos_setting *s = left_out(plan, plan->dialect->forms, form, &symbol);
    if (s)
        lacks(plan, MOS_RULE_LOADER_UNREADABLE, place, s, symbol,
              mos_printf(plan->ctx->arena, "%s, which %s", form, what),
              "It would find nothing there that it knows.");
}

static void check_commands(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    struct mos_place place = b->via ? b->via->place : b->r.key_place;
    bool menu = mos_board_is_via(plan->board, MOS_VIA_MENU),
         parcel = mos_board_is_via(plan->board, MOS_VIA_PARCEL);
    const struct mos_dialect *d = plan->dialect;
    const char *start =
        plan->entries.count && !parcel
            ? ((const struct mos_entry_plan *)mos_vec_pointer(&plan->entries, 0))->step.command
            : d->parcel_starts;
    check_command_list(plan, menu ? d->ways.menu : d->ways.file, place);
    if (start)
        check_command(plan, start, place);
    if (mos_board_is_via(plan->board, MOS_VIA_SCRIPT))
        check_command_list(plan, d->ways.script, place);
    if (parcel)
        check_command_list(plan, d->ways.parcel, place);
    if (mos_has(b->tries))
        check_command_list(plan, d->ways.counted, b->tries->place);
}

static void check_forms(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    struct mos_arena *arena = plan->ctx->arena;
    struct mos_place way = b->via ? b->via->place : b->r.key_place;
    if (plan->boot_medium && plan->boot_medium->table)
        check_form(plan, plan->boot_medium->table->name,
                   mos_printf(arena, "the table of %s", plan->boot_medium->name),
                   plan->boot_medium->def->table->r.key_place);
    if (mos_board_is_via(plan->board, MOS_VIA_PARCEL))
        check_form(plan, "parcels", "the boot", way);
    if (mos_board_is_via(plan->board, MOS_VIA_PARCEL) && b->parcel &&
        (mos_has(b->parcel->key) || b->parcel->sign_with.count))
        check_form(plan, "signatures", "the signed parcel", b->parcel->r.key_place);
    if (mos_board_is_via(plan->board, MOS_VIA_PARCEL) ||
        mos_board_is_via(plan->board, MOS_VIA_SCRIPT))
        check_form(plan, "scripts", "the boot script", way);
    if (mos_board_is_via(plan->board, MOS_VIA_SCRIPT) ||
        mos_board_is_via(plan->board, MOS_VIA_ENVIRONMENT))
        check_form(plan, "words", "the script's if and for", way);
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        if (!e->tree)
            continue;
        check_form(plan, "trees", mos_printf(arena, "entry %s", e->def->r.name),
                   e->def->tree->place);
        break;
    }
    if (plan->boot_overlays.count)
        check_form(plan, "overlays", "the boot",
                   ((struct mos_overlay_plan *)mos_vec_pointer(&plan->boot_overlays, 0))
                       ->def->r.key_place);
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        if (!e->kernel_known || !e->header.compression)
            continue;
        check_form(plan, e->header.compression,
                   mos_printf(arena, "kernel %s", e->kernel->def->r.name),
                   e->kernel->def->r.key_place);
        return;
    }
}

/* ---- storage, processor ---- */

static void check_driver(const struct mos_plan *plan, const struct mos_loader_command *drivers,
                         const struct mos_medium_plan *m, const char *who) {
    const struct mos_value *name = m->medium->loader;
    const char *symbol,
        *kind = mos_has(name) ? mos_strndup(plan->ctx->arena, name->text, strcspn(name->text, " "))
                              : NULL;
    const struct mos_setting *s = kind ? left_out(plan, drivers, kind, &symbol) : NULL;
    if (s)
        lacks(plan, MOS_RULE_LOADER_UNREADABLE, name->place, s, symbol,
              mos_printf(plan->ctx->arena, "a driver for %s, which %s of %s", kind, who, m->name),
              "It would not find the device.");
}

static bool holds_environment(const struct mos_medium_plan *m) {
    for (size_t i = 0; i < m->regions.count; i++)
        if (((const struct mos_region_plan *)mos_vec_pointer(&m->regions, i))->environment)
            return true;
    return false;
}

/* A stage that the first one reads from there. */
static bool holds_next_stage(const struct mos_medium_plan *m) {
    for (size_t i = 0; i < m->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&m->regions, i);
        const struct mos_stage *s = mos_has(r->def->stage) ? r->def->stage->target : NULL;
        if (s && mos_has(s->by) && !mos_stage_is_first(s))
            return true;
    }
    return false;
}

static void check_storage(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        if (m == plan->boot_medium || holds_environment(m))
            check_driver(plan, plan->dialect->storage, m, "the content");
        if (holds_next_stage(m))
            check_driver(plan, plan->dialect->first_storage, m, "the next stage");
    }
}

static void check_processor(const struct mos_plan *plan) {
    const struct mos_value *cpu = plan->board->hardware ? plan->board->hardware->cpu : NULL;
    const char *symbol;
    const struct mos_setting *s =
        mos_has(cpu) ? left_out(plan, plan->dialect->processors, cpu->text, &symbol) : NULL;
    if (!s)
        return;
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_LOADER_UNREADABLE,
                 "The loader was not built for %s, which the board is.", cpu->text);
    mos_finding_at(list, f, cpu->place);
    mos_finding_at(list, f, s->place);
    mos_finding_why(list, f, "Its first instruction would be another one.");
    mos_finding_try(list, f, "Set %s=y in the loader's configuration, and build it again.", symbol);
}

void mos_rule_loader_build(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    if (!b || b->r.broken || !plan->dialect || !plan->loader_config.count)
        return; /* not known: nothing is said */
    check_commands(plan);
    check_forms(plan);
    check_storage(plan);
    check_processor(plan);
}
