/* Starting a kernel: what the boot commands share. */
#ifndef MOS_REHEARSE_BOOT_H
#define MOS_REHEARSE_BOOT_H

#include "boot/parcel.h"
#include "rehearse/sim.h"

/* The parcel at an address; NULL: there is none that can be read. */
struct mos_parcel *sim_parcel(struct sim *s, uint64_t at);
/* booti, bootz: a kernel as it is, with "-" or "ADDRESS:SIZE" and the address of a tree. */
int sim_boot_plain(struct sim *s, uint64_t at, const char *ramdisk, const char *tree, bool zimage);
/* bootm: a kernel in a legacy file or a parcel; `choice` names a choice, or with `part` a part. */
int sim_boot_container(struct sim *s, uint64_t at, const char *choice, bool part,
                       const char *ramdisk, const char *tree, const char *command);
/* The rest of the way, once s->boot says where kernel, tree and ramdisk lie: they are moved to
 * their last places, and the kernel is started. */
int sim_boot_go(struct sim *s);
/* ramdisk "ADDRESS:SIZE" and tree into s->boot; nonzero: the loader gives up. */
int sim_boot_find(struct sim *s, const char *ramdisk, const char *tree);

#endif
