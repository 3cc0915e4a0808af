/* The bytes of XMODEM and YMODEM that are no content, and times, for both sides. */
#ifndef MOS_LINK_XMODEM_SIGNS_H
#define MOS_LINK_XMODEM_SIGNS_H

#include <stdint.h>

enum { SOH = 1, STX = 2, EOT = 4, ACK = 6, NAK = 0x15, CAN = 0x18, FILLED = 0x1a, CALL = 'C' };
enum { MOST_TRIES = 20 };
#define SECOND INT64_C(1000000000)

#endif
