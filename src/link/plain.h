/* Text as it is meant, out of what a terminal would be given. */
#ifndef MOS_LINK_PLAIN_H
#define MOS_LINK_PLAIN_H

#include <stdbool.h>
#include <stdint.h>

/* Is this byte text?  Control sequences (ECMA-48: ESC [ … letter, ESC ] … BEL), carriage returns
 * and NULs say how it looks, and not what it is.  *within: what a sequence began with that has not
 * ended, 0 at first. */
bool mos_plain_is_text(char *within, uint8_t c);

#endif
