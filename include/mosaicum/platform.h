/* mosaicum/platform.h - the host of this computer, ready made. */
#ifndef MOSAICUM_PLATFORM_H
#define MOSAICUM_PLATFORM_H

#include "mosaicum/host.h"

/* The functions of this system, for struct mosaicum_options; one for the process, never freed. */
const struct mos_host *mos_platform_host(void);
/* Whoever waits for a board gives up once (EINTR).  A signal's handler may call it. */
void mos_platform_stop_waiting(void);

#endif
