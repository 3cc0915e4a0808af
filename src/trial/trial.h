/* Where plan and rehearsal meet: the board is started on the media that its plan describes, before
 * anything is written. */
#ifndef MOS_TRIAL_TRIAL_H
#define MOS_TRIAL_TRIAL_H

#include "plan/plan.h"
#include "rehearse/rehearse.h"

/* media.c: the bytes of a medium as a build would write them, made when they are asked for.  What
 * lies in a volume is not there: reads of it fail with ENODATA.  NULL: the table cannot be
 * written. */
struct mos_io *mos_trial_medium(struct mos_plan *plan, const struct mos_medium_plan *medium);

/* volumes.c: what a volume will hold, from its inventory. */
struct mos_rig_volume mos_trial_volume(struct mos_plan *plan, const struct mos_rig_medium *medium,
                                       const struct mos_region_plan *region);

/* rig.c: what the definition says of the rig: RAM, processor, how the loader was built. */
void mos_trial_facts(const struct mos_plan *plan, struct mos_rig *rig);
/* The same with the plan's own media, once volumes are counted; everything in the plan's arena.
 * false: a volume or a region is not known, *why says which. */
bool mos_trial_rig(struct mos_plan *plan, struct mos_rig *rig, const char **why);

/* trial.c: starts every entry, every choice and the way to the fallback.  What does not reach a
 * log-in becomes a finding of the family `start`; what cannot be told is noted as not proved.
 * Asked for a board without errors only: what a rule has found is not found again.  accepted: there
 * are errors, and the user lives with them; what may well come of those is noted, not found. */
void mos_trial(struct mos_plan *plan, bool accepted);

#endif
