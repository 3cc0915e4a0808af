/* Between pieces.c and members.c. */
#ifndef MOS_PLAN_PIECES_INTERNAL_H
#define MOS_PLAN_PIECES_INTERNAL_H

#include "plan/plan.h"

/* The finding piece.missing; remedy may be NULL. */
void pieces_missing(struct mos_plan *plan, const char *message, struct mos_place place,
                    const char *remedy);
/* A file's hash, as the store or another selection of this run knows it; and the other way. */
bool pieces_known_hash(const struct mos_plan *plan, struct mos_piece_plan *p);
void pieces_keep_hash(struct mos_plan *plan, const struct mos_piece_plan *p,
                      const struct mos_file_info *before);
/* member-paths.c: members that are not found under their paths get those that the archive's own
 * links lead to.  true: there was one. */
bool pieces_follow_links(struct mos_plan *plan, const struct mos_piece_plan *archive);
/* What other pieces and fills need of an archive; of one that lies in another one, that first.
 * false with ctx->error. */
bool pieces_settle_archive(struct mos_plan *plan, struct mos_piece_plan *p);

#endif
