/* Starting a kernel: what the boot commands share. */
#ifndef MOS_LOADERS_U_BOOT_BOOT_H
#define MOS_LOADERS_U_BOOT_BOOT_H

#include "boot/parcel.h"
#include "loaders/u-boot/inside.h"
#include "loaders/u-boot/legacy.h"

/* The parcel at an address; NULL: there is none that can be read. */
struct mos_parcel *ub_parcel(struct sim *s, uint64_t at);
/* booti, bootz: a kernel as it is, with "-" or "ADDRESS:SIZE" and the address of a tree. */
int ub_boot_plain(struct sim *s, uint64_t at, const char *ramdisk, const char *tree, bool zimage);
/* bootm: a kernel in a legacy file or a parcel; `choice` names a choice, or with `part` a part. */
int ub_boot_container(struct sim *s, uint64_t at, const char *choice, bool part,
                      const char *ramdisk, const char *tree, const char *command);
/* Its first step alone: what is to be started is found, and checked; nonzero: the loader gives up.
 */
int ub_bootm_start(struct sim *s, uint64_t at, const char *choice, bool part, const char *ramdisk,
                   const char *tree, const char *command);
/* The n-th part of a legacy image of several, once its sums are right; nonzero: they are not. */
int ub_legacy_part(struct sim *s, uint64_t at, unsigned n, uint64_t *from, uint64_t *length);
/* One of the others by its name; *known false: there is none, or its turn is over. */
int ub_bootm_step(struct sim *s, const char *name, bool *known);

/* The rest of the way, once s->boot says where kernel, tree and ramdisk lie: they are moved to
 * their last places, and the kernel is started. */
int ub_boot_go(struct sim *s);
/* The same where they have been moved. */
int ub_boot_hand(struct sim *s);
/* A ramdisk "ADDRESS:SIZE", "-" or NULL, and a tree's address or NULL, into s->boot; nonzero: the
 * loader gives up. */
int ub_boot_ramdisk(struct sim *s, const char *ramdisk);
int ub_boot_tree(struct sim *s, const char *tree);
/* Says which tree it will be. */
void ub_boot_tree_found(struct sim *s);
/* What lies in RAM is the kernel: its header, and where it will run. */
void ub_boot_kernel_at(struct sim *s, uint64_t at, uint64_t length);
int ub_place_ramdisk(struct sim *s);
int ub_place_tree(struct sim *s);

/* listing.c: what the loader prints about an image at an address.  The last also checks the sums;
 * nonzero: one is wrong. */
void ub_list_legacy(struct sim *s, uint64_t at, const struct mos_legacy *header);
void ub_list_part(struct sim *s, const struct mos_parcel_part *part, uint64_t data_at);
int ub_list_parcel(struct sim *s, const struct mos_parcel *parcel, uint64_t at);

#endif
