/* The host of this computer: POSIX.1-2008 with Linux where it is better. */
#ifndef MOS_PLATFORM_PLATFORM_H
#define MOS_PLATFORM_PLATFORM_H

#include "mosaicum/host.h"

const struct mos_host *mos_platform_host(void);
void mos_platform_workers(struct mos_host *host);  /* workers.c fills its functions in */
void mos_platform_programs(struct mos_host *host); /* programs.c */
void mos_platform_folders(struct mos_host *host);  /* folders.c */

#endif
