/* What a board prints, as lines of text: control sequences, backspaces and what is no text are
 * taken out.  A state machine: bytes and the time are given to it. */
#ifndef MOS_WATCH_LINES_H
#define MOS_WATCH_LINES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { MOS_LINE_MOST = 4096 }; /* what is longer comes as several */

struct mos_line {
    const char *text; /* NUL-terminated */
    size_t length;    /* bytes */
    int64_t at;       /* when its first byte came, ns */
    bool whole;       /* its end has come */
};

struct mos_lines {
    char text[MOS_LINE_MOST + 1];
    size_t length;
    int64_t at;
    unsigned state;      /* within a control sequence */
    unsigned wants;      /* bytes of a character in UTF-8 that are to come */
    bool returned;       /* a carriage return stands at the end */
    uint64_t bytes, odd; /* in all; of these, no text */
};

/* Takes bytes that came at one time; each line that has its end is given to `each`, whose text is
 * good until it returns. */
void mos_lines_take(struct mos_lines *l, const uint8_t *bytes, size_t length, int64_t at,
                    void (*each)(void *self, const struct mos_line *line), void *self);
/* What has come of a line that has no end yet; false: nothing. */
bool mos_lines_open(struct mos_lines *l, struct mos_line *out);
/* A kernel's line without the time and the words in brackets before it; *seconds (may be NULL): the
 * kernel's own time, or -1. */
const char *mos_line_message(const char *text, double *seconds);

#endif
