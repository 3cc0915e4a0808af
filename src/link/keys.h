/* What somebody types, on its way to a board.  Keys pass as they are, but for two: F12 leaves, F9
 * sends a break.  What comes all at once was pasted: it goes a little at a time, each piece once
 * the one before it has come back, because loaders read without a buffer.  A state machine without
 * keyboard and clock. */
#ifndef MOS_LINK_KEYS_H
#define MOS_LINK_KEYS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { MOS_KEYS_ROOM = 64 << 10, MOS_KEYS_PIECE = 8 };

struct mos_keys {
    uint8_t queue[MOS_KEYS_ROOM]; /* a ring */
    size_t head, count;
    size_t slow; /* so many of them, from the first on, were pasted */
    uint8_t sequence[8];
    size_t sequence_length;
    int64_t sequence_due;         /* an escape by itself passes then */
    uint8_t sent[MOS_KEYS_PIECE]; /* pasted, and not come back yet … */
    size_t awaited, sent_length;
    int64_t latest;   /* … or, behind a line's end, until the board is quiet or this has come */
    int64_t give_up;  /* … when that is no longer waited for */
    bool leaves;      /* somebody wants to leave */
    bool breaks;      /* … a break; who sends it sets it back */
    uint64_t dropped; /* more was pasted at once than there is room for */
};

/* Keys have come; how many bytes of them at once says whether they were typed. */
void mos_keys_take(struct mos_keys *k, const uint8_t *bytes, size_t length, int64_t now);
/* The board has said something: it may be what was pasted. */
void mos_keys_hear(struct mos_keys *k, const uint8_t *bytes, size_t length, int64_t now);
/* What goes to the board at this time, at most `room` bytes; 0: nothing. */
size_t mos_keys_next(struct mos_keys *k, int64_t now, uint8_t *out, size_t room);
/* When it wants to be asked again at the latest; INT64_MAX: when something has come. */
int64_t mos_keys_due(const struct mos_keys *k);

#endif
