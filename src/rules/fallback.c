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

/* A watchdog that the loader starts, and nobody takes over before the system runs. */
static bool watched(const struct mos_plan *plan) {
    const struct mos_facts *facts = plan->board->loader ? plan->board->loader->facts : NULL;
    return facts && mos_has(facts->watchdog) && facts->watchdog->number;
}

static bool same_piece(const struct mos_piece_plan *a, const struct mos_piece_plan *b) {
    return a == b || (a && b && a->hashed && b->hashed &&
                      memcmp(a->sha256, b->sha256, sizeof a->sha256) == 0);
}

static const char *argument_of(const struct mos_boot_entry *e, const char *name) {
    const struct mos_argument *a = mos_named_get(&e->arguments, name);
    return a && a->values.count && mos_has(a->values.items[0]) ? a->values.items[0]->text : "";
}

/* What breaks the default breaks a fallback that is the same. */
static void check_same(const struct mos_plan *plan, size_t index) {
    const struct mos_entry_plan *a = mos_vec_pointer(&plan->entries, 0);
    const struct mos_entry_plan *b = mos_vec_pointer(&plan->entries, index);
    struct mos_findings *list = &plan->ctx->findings;
    if (a->def->r.broken || b->def->r.broken || !a->kernel || !same_piece(a->kernel, b->kernel) ||
        !same_piece(a->ramdisk, b->ramdisk) || a->tree != b->tree ||
        strcmp(argument_of(a->def, "root"), argument_of(b->def, "root")) != 0 ||
        strcmp(argument_of(a->def, "init"), argument_of(b->def, "init")) != 0)
        return;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_FALLBACK_SAME,
                 "Entry %s starts the same kernel, tree, ramdisk and root as %s.", b->def->r.name,
                 a->def->r.name);
    mos_finding_at(list, f, b->def->r.key_place);
    mos_finding_at(list, f, a->def->r.key_place);
    mos_finding_why(list, f, "What keeps the one from starting keeps the other.");
    mos_finding_try(list, f, "Choose another kernel, root or ramdisk for %s.", b->def->r.name);
}

static void check_reach(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    const struct mos_boot_entry *first = entry_at(plan, 0), *second = entry_at(plan, 1);
    struct mos_findings *list = &plan->ctx->findings;
    bool panic = panics(first) || watched(plan);
    bool by_hand =
        mos_board_is_via(plan->board, MOS_VIA_MENU) && mos_has(b->timeout) && b->timeout->number;
    if (first->r.broken || second->r.broken || (panic && b->tries) || by_hand)
        return;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOOT_FALLBACK_UNREACHABLE,
                                     "Entry %s is only reached when the loader cannot load %s.",
                                     second->r.name, first->r.name);
    mos_finding_at(list, f, first->r.key_place);
    mos_finding_at(list, f, second->r.key_place);
    mos_finding_why(list, f, "%s",
                    panic ? "A kernel that dies starts the board again, and with it the same entry."
                          : "A kernel that finds no root or no init stops, and stays so.");
    mos_finding_try(list, f, "%s%s%s",
                    b->tries ? ""
                    : mos_board_is_via(plan->board, MOS_VIA_MENU)
                        ? "Set via: script with tries: 3 in boot"
                        : "Set tries: 3 in boot",
                    !b->tries && !panic ? ", and add "
                    : panic             ? "."
                                        : "Add ",
                    panic ? "" : "panic: 10 to the arguments.");
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
    mos_finding_try(list, f, "Set system: {confirm: systemd}, or confirm: inittab.");
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
    mos_finding_try(&plan->ctx->findings, f, "Choose 1 to 9.");
}

/* What a program of the system sets, the loader's script must go by. */
static void check_other_slot(const struct mos_plan *plan) {
    const struct mos_system *s = plan->board->system;
    const struct mos_boot *b = plan->board->boot;
    const struct mos_value *other = s ? s->other_slot : NULL;
    struct mos_findings *list = &plan->ctx->findings;
    const char *why, *remedy;
    if (!mos_true(other) || !b || b->r.broken)
        return;
    const struct mos_entry_plan *x =
        plan->entries.count == 2 ? mos_vec_pointer(&plan->entries, 0) : NULL;
    const struct mos_entry_plan *y = x ? mos_vec_pointer(&plan->entries, 1) : NULL;
    if (!x) {
        why = "It goes between two entries.";
        remedy = "Give boot two entries, one for each slot.";
    } else if (!x->root || !y->root || x->root == y->root) {
        why = "It tells by the root which entry runs.";
        remedy = "Set root: <root-a> for one entry and root: <root-b> for the other.";
    } else if (!b->tries) {
        why = "Without a count the loader's script looks at no variable.";
        remedy = "Set boot: {tries: 3}.";
    } else if (!s->loader_access) {
        why = "The program that sets the variable reads where it lies from a file.";
        remedy = "Set system: {loader-access: yes}.";
    } else {
        return;
    }
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_COUNT_LOST, "The slots of board %s cannot be swapped.",
                 plan->board->r.name);
    mos_finding_at(list, f, other->place);
    mos_finding_at(list, f, b->r.key_place);
    mos_finding_why(list, f, "%s", why);
    mos_finding_try(list, f, "%s", remedy);
}

/* ---- counted starts ---- */

static void check_kept(const struct mos_plan *plan) {
    const struct mos_value *tries = plan->board->boot->tries;
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        for (size_t k = 0; k < m->regions.count; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
            const struct mos_value *owner = r->def->owner;
            if (!r->environment || r->def->r.broken || !mos_has(owner) ||
                mos_owner_of(owner) == MOS_OWNER_DEVICE)
                continue;
            struct mos_finding *f =
                mos_find(list, MOS_RULE_BOOT_COUNT_LOST,
                         "Starts are counted in region %s, which belongs to %s.", r->name,
                         mos_owner_of(owner) == MOS_OWNER_BUILD ? "the build" : owner->text);
            mos_finding_at(list, f, owner->place);
            mos_finding_at(list, f, tries->place);
            mos_finding_why(list, f, "The board writes it at each start.");
            mos_finding_try(list, f, "Set owner: device.");
            return;
        }
    }
}

/* Does the definition's own part of a system go there? */
static bool makes_system(const struct mos_region_plan *root) {
    const struct mos_named *fills = &root->def->volume->fills;
    for (size_t i = 0; i < fills->count; i++)
        if (mos_fill_makes(fills->items[i], MOS_MADE_SYSTEM))
            return true;
    return false;
}

/* Whoever sets the count back must reach the loader's variables. */
static void check_access(const struct mos_plan *plan) {
    const struct mos_system *s = plan->board->system;
    const struct mos_region_plan *root = mos_plan_root(plan);
    struct mos_findings *list = &plan->ctx->findings;
    uint32_t index;
    if (!s || !mos_has(s->confirm) || mos_true(s->loader_access) || !plan->environments.count ||
        !root || !root->volume || !root->counted || !makes_system(root) ||
        mos_inv_find(root->volume->inventory, plan->dialect->stored->system_file, &index))
        return;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOOT_COUNT_LOST,
                                     "What confirms a start does not know where the loader keeps "
                                     "its count.");
    mos_finding_at(list, f, s->confirm->place);
    mos_finding_at(list, f, plan->board->boot->tries->place);
    mos_finding_why(list, f,
                    "The count is never set back: after %s good starts another entry comes.",
                    plan->board->boot->tries->text);
    mos_finding_try(list, f, "Set system: {loader-access: yes}.");
}

/* With counted starts something must start the board again: a kernel that dies, a loader that finds
 * nothing. */
static void check_again(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    struct mos_findings *list = &plan->ctx->findings;
    const struct mos_boot_entry *last = entry_at(plan, plan->entries.count - 1);
    struct mos_finding *f = NULL;
    if (mos_otherwise_of(b->otherwise) == MOS_OTHERWISE_PROMPT) {
        f = mos_find(
            list, MOS_RULE_BOOT_STAYS_DEAD,
            "Starts are counted, and a loader that can start nothing waits at its prompt.");
        mos_finding_at(list, f, b->otherwise->place);
        mos_finding_try(list, f, "Set otherwise: reset in boot.");
    } else if (plan->entries.count > 1 && !panics(last) && !watched(plan) && !last->r.broken) {
        f = mos_find(list, MOS_RULE_BOOT_STAYS_DEAD,
                     "Starts are counted, and a kernel of entry %s that dies stays so.",
                     last->r.name);
        mos_finding_at(list, f, last->r.key_place);
        mos_finding_try(
            list, f, "Add panic: 10 to its arguments, or state a watchdog in the loader's facts.");
    } else if (plan->entries.count == 1) {
        f = mos_find(list, MOS_RULE_BOOT_STAYS_DEAD,
                     "Starts are counted, and there is only one entry: what fails comes again.");
        mos_finding_at(list, f, last->r.key_place);
        mos_finding_try(list, f, "Add a second entry, or remove tries.");
    }
    if (!f)
        return;
    mos_finding_at(list, f, b->tries->place);
    mos_finding_why(list, f, "Nobody is there to start it again by hand.");
}

void mos_rule_fallback_files(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    if (b && !b->r.broken && mos_has(b->tries))
        check_access(plan);
}

void mos_rule_fallback(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    if (!b)
        return;
    if (b->r.broken)
        return;
    check_tries(plan);
    check_other_slot(plan);
    check_confirm(plan);
    if (mos_has(b->tries) && plan->entries.count) {
        check_kept(plan);
        check_again(plan);
    }
    if (plan->entries.count > 1)
        check_reach(plan);
    for (size_t i = 1; i < plan->entries.count; i++)
        check_same(plan, i);
}
