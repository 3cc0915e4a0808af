/* What is stated about the boot and does nothing, or contradicts itself. */
#include "rules/rules.h"

#include <string.h>

static void idle(const struct mos_plan *plan, struct mos_place place, const char *what,
                 const char *why, const char *remedy) {
    const struct mos_value *via = plan->board->boot->via;
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_SCHEMA, "%s does nothing here.", what);
    mos_finding_at(list, f, place);
    if (via)
        mos_finding_at(list, f, via->place);
    mos_finding_why(list, f, "%s", why);
    mos_finding_try(list, f, "%s", remedy);
}

/* Where no loader runs, nothing is counted, chosen, waited for or applied. */
static void check_direct(const struct mos_plan *plan) {
    static const char *const why = "A stage starts the kernel: no loader runs.",
                             *const remedy = "Remove it, or boot by a loader: via: script.";
    const struct mos_boot *b = plan->board->boot;
    const struct {
        const char *what;
        bool stated;
        struct mos_place place;
    } rows[] = {
        {"boot.tries", b->tries, b->tries ? b->tries->place : b->r.key_place},
        {"boot.otherwise", b->otherwise, b->otherwise ? b->otherwise->place : b->r.key_place},
        {"boot.timeout", b->timeout, b->timeout ? b->timeout->place : b->r.key_place},
        {"boot.trees", b->trees, b->trees ? b->trees->r.key_place : b->r.key_place},
        {"boot.network", b->network, b->network ? b->network->r.key_place : b->r.key_place},
        {"boot.parcel", b->parcel, b->parcel ? b->parcel->r.key_place : b->r.key_place}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (rows[i].stated)
            idle(plan, rows[i].place, rows[i].what, why, remedy);
    for (size_t i = 0; i < plan->boot_overlays.count; i++)
        idle(
            plan,
            ((struct mos_overlay_plan *)mos_vec_pointer(&plan->boot_overlays, i))->def->when->place,
            "when: boot", why, "Set when: build.");
}

static void check_idle(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    const struct mos_system *s = plan->board->system;
    bool script = mos_board_is_via(plan->board, MOS_VIA_SCRIPT),
         parcel = mos_board_is_via(plan->board, MOS_VIA_PARCEL);
    if (mos_has(b->tries) && !script && !parcel)
        idle(plan, b->tries->place, "boot.tries", "Only a script can count.", "Set via: script.");
    if (mos_otherwise_of(b->otherwise) == MOS_OTHERWISE_RESET &&
        mos_board_is_via(plan->board, MOS_VIA_MENU))
        idle(plan, b->otherwise->place, "otherwise: reset",
             "A menu ends where its last entry fails.", "Set via: script.");
    if (mos_has(b->timeout) && !mos_board_is_via(plan->board, MOS_VIA_MENU))
        idle(plan, b->timeout->place, "boot.timeout", "Only a menu waits.",
             plan->dialect && plan->dialect->symbols.waits
                 ? mos_printf(plan->ctx->arena, "Set %s among the values of the environment.",
                              plan->dialect->symbols.waits)
                 : "Set via: menu.");
    if (b->trees && (mos_board_is_via(plan->board, MOS_VIA_MENU) || parcel))
        idle(plan, b->trees->r.key_place, "boot.trees",
             "A menu and a parcel name one tree for each entry.", "Set via: script.");
    if (b->parcel && !parcel)
        idle(plan, b->parcel->r.key_place, "boot.parcel", "No parcel is made.", "Set via: parcel.");
    if (s && mos_has(s->confirm) && !b->tries)
        idle(plan, s->confirm->place, "system.confirm", "Starts are not counted.",
             "Set tries: 3 in boot.");
    for (size_t i = 0; i < plan->boot_overlays.count && !script &&
                       !mos_board_is_via(plan->board, MOS_VIA_ENVIRONMENT);
         i++) {
        const struct mos_overlay *o =
            ((struct mos_overlay_plan *)mos_vec_pointer(&plan->boot_overlays, i))->def;
        if (mos_has(o->one_of)) {
            idle(plan, o->one_of->place, "one-of",
                 "A menu and a parcel apply every overlay that they name.", "Set via: script.");
            return;
        }
    }
}

static void check_keys(const struct mos_plan *plan) {
    const struct mos_parcel_def *p = plan->board->boot->parcel;
    struct mos_findings *list = &plan->ctx->findings;
    if (!p || p->r.broken)
        return;
    const struct mos_value *first = p->sign_with.count ? p->sign_with.items[0] : NULL;
    const char *text = NULL, *remedy = "Add public-key: keys/….pem.";
    struct mos_place place = p->r.key_place;
    if (first && p->key) {
        text = "The parcel is signed by a key and by a program that holds one.";
        remedy = "Keep one of the two.";
        place = p->key->place;
    } else if (first && !p->public_key) {
        text = "Nobody knows which key the signatures of the program must fit.";
        place = first->place;
    } else if (p->public_key && !first) {
        text = "The public key does nothing here: the parcel is signed by a key of the workspace.";
        remedy =
            "Add sign-with: with the program that holds the private one, or remove public-key.";
        place = p->public_key->place;
    } else if (p->locks && !p->key && !p->public_key) {
        text = "The loader is to be locked, and there is no key for that.";
        remedy = "Add key: keys/….pem, or public-key with sign-with.";
        place = p->locks->place;
    }
    if (!text)
        return;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_SCHEMA, "%s", text);
    mos_finding_at(list, f, place);
    mos_finding_try(list, f, "%s", remedy);
}

/* Only a raw NAND is corrected by the loader. */
static void check_media(const struct mos_plan *plan) {
    const struct mos_hardware *h = plan->board->hardware;
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t i = 0; h && i < h->media.count; i++) {
        const struct mos_medium *m = h->media.items[i];
        if (!mos_has(m->correction) || !mos_has(m->kind) ||
            mos_medium_kind_of(m->kind) == MOS_MEDIUM_NAND)
            continue;
        struct mos_finding *f =
            mos_find(list, MOS_RULE_BOARD_SCHEMA, "correction does nothing here.");
        mos_finding_at(list, f, m->correction->place);
        mos_finding_at(list, f, m->kind->place);
        mos_finding_try(list, f, "Set kind: nand.");
    }
}

void mos_rule_idle(const struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    check_media(plan);
    if (!b || b->r.broken)
        return;
    if (mos_board_is_direct(plan->board))
        check_direct(plan);
    else
        check_idle(plan);
    check_keys(plan);
}
