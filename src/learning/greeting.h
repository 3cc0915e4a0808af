/* Who is there at the other end of a serial line: a loader that counts down or waits at its prompt,
 * a log-in, a shell, or nobody yet.  A state machine without port and clock. */
#ifndef MOS_LEARNING_GREETING_H
#define MOS_LEARNING_GREETING_H

#include "base/buf.h"

#include <stdint.h>

enum mos_greeting_state {
    MOS_GREETING_LISTENS,
    MOS_GREETING_PROMPT, /* somebody waits for a command: greeting.prompt */
    MOS_GREETING_LOG_IN, /* a name is asked for */
    MOS_GREETING_SILENT, /* nothing came in that time */
    MOS_GREETING_NOISE   /* something came, and nobody who waits for a word */
};

struct mos_greeting {
    enum mos_greeting_state state;
    char prompt[64];       /* the line that it ends with, a blank at its end */
    struct mos_buf heard;  /* text without carriage returns and control sequences */
    const char *interrupt; /* keys that stop a countdown, and give up a line */
    /* inside */
    char escape;
    size_t looked; /* of heard: what was typed behind it */
    bool started;  /* the kernel has spoken */
    unsigned asked;
    int64_t until, heard_at, typed_at;
};

/* It gives up `within` ns. */
void mos_greeting_begin(struct mos_greeting *g, struct mos_arena *arena, const char *interrupt,
                        int64_t within, int64_t now);
void mos_greeting_hear(struct mos_greeting *g, const uint8_t *bytes, size_t length, int64_t now);
/* What to type now (static text); "": nothing.  Time alone can change the state. */
const char *mos_greeting_next(struct mos_greeting *g, int64_t now);
/* When to ask again at the latest. */
int64_t mos_greeting_due(const struct mos_greeting *g, int64_t now);

#endif
