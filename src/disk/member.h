/* Devices that are part of something larger: a RAID, a volume group. */
#ifndef MOS_DISK_MEMBER_H
#define MOS_DISK_MEMBER_H

#include "io/io.h"

/* What a device or partition says it is a part of ("a RAID array", "a volume group"), whether or
 * not that runs now; NULL: of nothing.  *errnum: what could not be read (0: all was). */
const char *mos_member_of(struct mos_io *io, int *errnum);

#endif
