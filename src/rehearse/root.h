/* What the kernel finds once it runs: shared by kernel.c, root.c and system.c. */
#ifndef MOS_REHEARSE_ROOT_H
#define MOS_REHEARSE_ROOT_H

#include "rehearse/sim.h"

/* arguments.c */
/* Something stops the boot; the first one is the reason of the end. */
void sim_wrong(struct sim *s, enum mos_rehearsal_end end, const char *format, ...)
    __attribute__((format(printf, 3, 4)));
/* The last value of an argument; NULL: it is not given. */
const char *sim_argument(struct sim *s, const char *name);
bool sim_flag(const struct sim *s, const char *name);
/* root.c: the root that the arguments name, and the first program; release NULL: not known. */
void sim_root(struct sim *s, const char *release);
/* named.c: the volume that a text names for the kernel; NULL with *why. */
struct sim_volume *sim_named_volume(struct sim *s, const char *name, bool by_user,
                                    const char **why);
/* system.c: mount table and log-in of a root. */
void sim_system(struct sim *s, struct sim_volume *root);

#endif
