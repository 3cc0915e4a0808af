/* mosaicum/platform.h - the host of this computer, ready made. */
#ifndef MOSAICUM_PLATFORM_H
#define MOSAICUM_PLATFORM_H

#include "mosaicum/host.h"

/* The functions of this system, for struct mosaicum_options; one for the process, never freed. */
const struct mos_host *mos_platform_host(void);

#endif
