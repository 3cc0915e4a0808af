/* What all that works with pieces asks: which it is, its hash, and the finding that it lacks
 * something. */
#include "plan/pieces_internal.h"
#include "plan/shared.h"
#include "plan/steps.h"

#include "store/store.h"

#include <errno.h>
#include <string.h>

struct mos_piece_plan *mos_plan_piece(const struct mos_plan *plan, const struct mos_piece *def) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->def == def)
            return p;
    }
    return NULL;
}

void pieces_missing(struct mos_plan *plan, const char *message, struct mos_place place,
                    const char *remedy) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_PIECE_MISSING, "%s", message);
    mos_finding_at(list, f, place);
    if (remedy)
        mos_finding_try(list, f, "%s", remedy);
}

bool pieces_known_hash(const struct mos_plan *plan, struct mos_piece_plan *p) {
    return mos_store_known_hash(plan->ctx, p->path, p->sha256) ||
           mos_shared_known_hash(plan->ctx, p->path, p->sha256);
}

void pieces_keep_hash(struct mos_plan *plan, const struct mos_piece_plan *p,
                      const struct mos_file_info *before) {
    mos_store_keep_hash(plan->ctx, p->path, before, p->sha256);
    mos_shared_keep_hash(plan->ctx, p->path, before, p->sha256);
}

bool mos_plan_hash(struct mos_plan *plan, struct mos_piece_plan *p) {
    struct mos_file_info info;
    if (p->hashed || !p->found || p->member)
        return true;
    if (pieces_known_hash(plan, p)) {
        p->hashed = true;
        return true;
    }
    if (plan->ctx->host->info(plan->ctx->host, p->path, true, &info) ||
        !mos_hash_file(plan->ctx->host, p->path, p->sha256, plan->ctx->error))
        return mos_fail(plan->ctx->error, MOS_ERROR_SYSTEM, 0, "Cannot read %s", p->path);
    pieces_keep_hash(plan, p, &info);
    p->hashed = true;
    return true;
}
