/* Who may touch which file.
 *
 * A guard is a host that stands before the real one: whoever works through it reads and writes only
 * below places that were named to it, links followed.  Every reader and writer of a run goes
 * through one, so that no name in a definition, an archive or a link can lead anywhere else.  What
 * is refused ends in MOS_OUT_OF_REACH, before the real host is asked. */
#ifndef MOS_BASE_GUARD_H
#define MOS_BASE_GUARD_H

#include "base/arena.h"
#include "mosaicum/host.h"

struct mos_guard;

enum mos_reach {
    MOS_REACH_READ = 1,
    MOS_REACH_WRITE = 2, /* to make, change, rename and remove */
};

/* Nothing may be touched yet.  The guard and its host live in the arena; `real` is kept by
 * reference. */
struct mos_guard *mos_guard_new(struct mos_arena *arena, const struct mos_host *real);
const struct mos_host *mos_guard_host(const struct mos_guard *guard);
/* The place itself, all below it, and its names while it is made (PLACE.….part).  It need not be
 * there yet; links on the way to it are followed now, since it is the user who names it.  reach:
 * bits of enum mos_reach.  Not while other threads use the host.  guard NULL: nothing to do. */
void mos_guard_allow(struct mos_guard *guard, const char *path, unsigned reach);

#endif
