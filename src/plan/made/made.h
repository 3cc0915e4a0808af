/* What planning does besides thinking, in a folder of its own: it runs the commands that make
 * pieces, and it signs. */
#ifndef MOS_PLAN_MADE_MADE_H
#define MOS_PLAN_MADE_MADE_H

#include "plan/steps.h"

/* made.c: a piece that a command makes.  Runs it where that is allowed and needed; *current: its
 * file is what the inputs give. */
bool mos_plan_make_piece(struct mos_plan *plan, struct mos_piece_plan *piece, bool *current);
/* Commands run one after another, in this run and in others: two may write the same file, and what
 * one board had to wait for another one may have needed, too.  So look again once it is taken.
 * false with ctx->error. */
bool mos_plan_commands_begin(struct mos_plan *plan);
void mos_plan_commands_end(struct mos_plan *plan);
/* sign.c: who signs (NULL: nobody); false after a finding or an error.  mos_signer_free it. */
bool mos_plan_signer(struct mos_plan *plan, const struct mos_parcel_def *def,
                     struct mos_signer **out);
/* The public key goes into the loader that the parcel locks. */
bool mos_plan_lock(struct mos_plan *plan);

#endif
