/* Finding the speed of a serial line: what comes at a wrong one is no text.  A state machine: bytes
 * are given to it, and it says at which speed to listen next. */
#ifndef MOS_LINK_SPEED_H
#define MOS_LINK_SPEED_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { MOS_SPEEDS = 10, MOS_SPEED_LEAST = 64 /* bytes that are judged together */ };

struct mos_speed_search {
    unsigned first;   /* the speed that was meant */
    size_t next;      /* of the speeds that are tried */
    unsigned current; /* that is listened at */
    size_t bytes, text, odd;
    size_t rounds; /* through all of them */
    bool found;    /* current is the board's */
};

/* At the speed that is meant. */
void mos_speed_begin(struct mos_speed_search *s, unsigned speed);
/* Bytes have come at the current speed: true when that changes, or is found. */
bool mos_speed_take(struct mos_speed_search *s, const uint8_t *bytes, size_t length);
/* Is this text, as far as so many bytes can tell? */
bool mos_speed_is_text(const uint8_t *bytes, size_t length);

#endif
