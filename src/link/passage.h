/* What a board prints, on its way to the terminal of whoever looks.  Text, colours and the moves of
 * a cursor pass, so that editors on the board work; what would set a title or the clipboard, make
 * the terminal answer, or leave it in a state of its own does not (ECMA-48; xterm's control
 * sequences).  A state machine without a terminal. */
#ifndef MOS_LINK_PASSAGE_H
#define MOS_LINK_PASSAGE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { MOS_PASSAGE_SEQUENCE = 40, MOS_PASSAGE_MORE = MOS_PASSAGE_SEQUENCE + 8 };

struct mos_passage {
    bool ascii; /* the terminal takes no UTF-8 */
    unsigned state;
    char sequence[MOS_PASSAGE_SEQUENCE]; /* so far, the escape first */
    size_t length;
    uint8_t character[4]; /* of UTF-8, so far */
    size_t got, wants;
    uint64_t held; /* sequences that did not pass */
    /* what the terminal is to be freed of at the end */
    bool coloured, hidden, elsewhere, drawing, unwrapped, keypad, margins, inserting;
};

/* Bytes that came, `length` of them; what of them passes goes to `out`, which has room for
 * 3 * length + MOS_PASSAGE_MORE.  Its length. */
size_t mos_passage_take(struct mos_passage *p, const uint8_t *bytes, size_t length, char *out);
/* The terminal as it was before: bytes for it, at most `room` (64 are enough). */
size_t mos_passage_end(struct mos_passage *p, char *out, size_t room);

#endif
