/* What the first start of a board does, for who makes it and who checks it. */
#ifndef MOS_PLAN_FIRST_START_H
#define MOS_PLAN_FIRST_START_H

#include "plan/plan.h"

/* Paths of the root, without a leading slash. */
#define MOS_FIRST_START_SCRIPT "usr/sbin/first-start"
#define MOS_FIRST_START_STATE "etc/first-start"

/* Are they made by our own script?  false: somebody else does, or there is no first start (NULL).
 */
bool mos_first_start_host_keys(const struct mos_first_start *f);
bool mos_first_start_machine_id(const struct mos_first_start *f);
/* Has a root a program that makes host keys? */
bool mos_first_start_makes_keys(const struct mos_inventory *inv, struct mos_arena *arena);

#endif
