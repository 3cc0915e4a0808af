/* A loader that starts only what is signed. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

/* ---- signatures ---- */

static bool is_signed(const struct mos_parcel_def *p) {
    return p && (mos_has(p->key) || p->sign_with.count);
}

/* What says that the loader is locked; NULL: nothing does. */
static const struct mos_value *lock_of(const struct mos_plan *plan) {
    const struct mos_facts *facts = plan->board->loader ? plan->board->loader->facts : NULL;
    const struct mos_parcel_def *p = plan->board->boot->parcel;
    if (facts && mos_has(facts->locked))
        return facts->locked->truth ? facts->locked : NULL;
    return p && mos_has(p->locks) ? p->locks : NULL;
}

static struct mos_finding *unsigned_thing(const struct mos_plan *plan, const struct mos_value *lock,
                                          struct mos_place place, const char *text) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_BOOT_UNSIGNED, "%s", text);
    mos_finding_at(list, f, place);
    mos_finding_at(list, f, lock->place);
    return f;
}

static void check_payload(const struct mos_plan *plan, const struct mos_value *lock) {
    const struct mos_boot *b = plan->board->boot;
    struct mos_findings *list = &plan->ctx->findings;
    bool parcel = mos_board_is_via(plan->board, MOS_VIA_PARCEL);
    struct mos_finding *f =
        unsigned_thing(plan, lock, b->via ? b->via->place : b->r.key_place,
                       parcel ? "The loader starts only what is signed, and the parcel is not."
                              : "The loader starts only what is signed, and is given plain files.");
    mos_finding_why(list, f, "It refuses them, on every board.");
    mos_finding_try(list, f, "%s",
                    parcel ? "Add parcel: {key: keys/….pem}."
                           : "Set via: parcel, with parcel: {key: keys/….pem}.");
}

/* Beside the lock: what anybody can change, and the loader runs. */
static void check_holes(const struct mos_plan *plan, const struct mos_value *lock) {
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            if (!r->environment)
                continue;
            struct mos_finding *f = unsigned_thing(
                plan, lock, r->def->r.key_place,
                mos_printf(plan->ctx->arena,
                           "The loader starts only what is signed, but takes its commands from "
                           "region %s, which is not.",
                           r->name));
            mos_finding_why(list, f, "Whoever writes to %s makes it run what they like.",
                            medium->name);
            mos_finding_try(list, f,
                            "Use a loader that keeps its variables inside, or add a waiver that "
                            "says who can write there.");
            return;
        }
    }
    if (!plan->script_file.length || !plan->boot_region)
        return;
    struct mos_finding *f =
        unsigned_thing(plan, lock, plan->boot_region->def->r.key_place,
                       mos_printf(plan->ctx->arena,
                                  "The loader starts only what is signed, but runs %s, which is "
                                  "not.",
                                  plan->dialect->script_file));
    mos_finding_why(list, f, "Whoever changes the script chooses the arguments of the kernel.");
    mos_finding_try(list, f,
                    "Use a loader whose compiled-in commands start the parcel themselves.");
}

void mos_rule_lock(const struct mos_plan *plan) {
    if (!plan->board->boot || plan->board->boot->r.broken)
        return;
    const struct mos_value *lock = lock_of(plan);
    if (lock &&
        (!mos_board_is_via(plan->board, MOS_VIA_PARCEL) || !is_signed(plan->board->boot->parcel)))
        check_payload(plan, lock);
    else if (lock)
        check_holes(plan, lock);
}
