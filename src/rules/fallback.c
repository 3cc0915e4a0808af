/* More than one entry: can the others be reached, and does anybody say that a start went well? */
#include "rules/rules.h"

#include <string.h>

enum { MOST_TRIES = 9 };

static const struct mos_boot_entry *entry_at(const struct mos_plan *plan, size_t i) {
    return ((const struct mos_entry_plan *)mos_vec_pointer(&plan->entries, i))->def;
}

/* Does a kernel that finds no root start the board again? */
static bool panics(const struct mos_boot_entry *e) {
    const struct mos_argument *a = mos_named_get(&e->arguments, "panic");
    for (size_t i = 0; a && i < a->values.count; i++)
        if (mos_has(a->values.items[i]) && strcmp(a->values.items[i]->text, "0") != 0)
            return true;
    for (size_t i = 0; i < e->flags.count; i++)
        if (mos_has(e->flags.items[i]) && strncmp(e->flags.items[i]->text, "panic=", 6) == 0)
            return true;
    return false;
}

static void check_reach(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    const struct mos_boot_entry *first = entry_at(plan, 0), *second = entry_at(plan, 1);
    struct mos_findings *list = &plan->ctx->findings;
    bool panic = panics(first);
    if (first->r.broken || second->r.broken || (panic && b->tries))
        return;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOOT_FALLBACK_UNREACHABLE,
                                     "Entry %s is only reached when the loader cannot load %s.",
                                     second->r.name, first->r.name);
    mos_finding_at(list, f, first->r.key_place);
    mos_finding_at(list, f, second->r.key_place);
    mos_finding_why(list, f, "%s",
                    panic ? "A kernel that dies starts the board again, and with it the same entry."
                          : "A kernel that finds no root or no init stops, and stays so.");
    mos_finding_try(list, f, "%s%s%s", b->tries ? "" : "tries: 3 in boot",
                    !b->tries && !panic ? ", and " : "",
                    panic ? "" : "panic: 10 among the arguments.");
}

static void check_confirm(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    const struct mos_system *s = plan->board->system;
    struct mos_findings *list = &plan->ctx->findings;
    if (!mos_has(b->tries) || (s && s->confirm))
        return;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOOT_CONFIRM_MISSING,
                                     "Starts are counted, and nothing sets the count back.");
    mos_finding_at(list, f, b->tries->place);
    mos_finding_why(list, f, "After %s good starts the loader takes another entry, on every board.",
                    b->tries->text);
    mos_finding_try(list, f, "system: {confirm: systemd}, or inittab");
}

static void check_tries(const struct mos_plan *plan) {
    const struct mos_value *tries = plan->board->boot->tries;
    if (!mos_has(tries) || (tries->number >= 1 && tries->number <= MOST_TRIES))
        return;
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_BOARD_SCHEMA,
                                     "Starts cannot be counted up to %s.", tries->text);
    mos_finding_at(&plan->ctx->findings, f, tries->place);
    mos_finding_why(&plan->ctx->findings, f,
                    "The loader counts with one hexadecimal digit and compares decimal ones.");
    mos_finding_try(&plan->ctx->findings, f, "1 to 9");
}

/* ---- what the loader must have been built with ---- */

static void check_command(const struct mos_plan *plan, const char *command,
                          struct mos_place place) {
    const struct mos_loader_command *c = plan->dialect->commands;
    while (c->name && strcmp(c->name, command) != 0)
        c++;
    const struct mos_setting *s = c->name ? mos_plan_loader_symbol(plan, c->symbol) : NULL;
    if (!s || strcmp(s->value, "y") == 0)
        return; /* a symbol that is not mentioned is not known */
    struct mos_finding *f =
        mos_find(&plan->ctx->findings, MOS_RULE_LOADER_COMMAND_MISSING,
                 "The loader was built without the command %s, which the boot needs.", command);
    mos_finding_at(&plan->ctx->findings, f, place);
    mos_finding_at(&plan->ctx->findings, f, s->place);
    mos_finding_why(&plan->ctx->findings, f, "It would say \"Unknown command '%s'\" and go on.",
                    command);
    mos_finding_try(&plan->ctx->findings, f, "%s=y in the loader's configuration.", c->symbol);
}

static void check_commands(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    if (!plan->dialect || !plan->loader_config.count)
        return; /* not known: nothing is said */
    const char *via = mos_text_or(b->via, "script");
    struct mos_place place = b->via ? b->via->place : b->r.key_place;
    bool menu = strcmp(via, "menu") == 0, parcel = strcmp(via, "parcel") == 0;
    const char *start =
        plan->entries.count && !parcel
            ? ((const struct mos_entry_plan *)mos_vec_pointer(&plan->entries, 0))->step.command
            : "bootm";
    check_command(plan, menu ? "sysboot" : "load", place);
    check_command(plan, start, place);
    if (strcmp(via, "script") == 0 || parcel)
        check_command(plan, "source", place);
    if (mos_has(b->tries)) {
        check_command(plan, "saveenv", b->tries->place);
        check_command(plan, "setexpr", b->tries->place);
    }
}

void mos_rule_fallback(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    if (!b)
        return;
    check_tries(plan);
    check_confirm(plan);
    check_commands(plan);
    if (plan->entries.count > 1)
        check_reach(plan);
}
