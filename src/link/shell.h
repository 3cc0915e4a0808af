/* Somebody at a log-in: gives name and password where they are asked for, and types commands at the
 * shell's prompt, one after the other.  A state machine without port and clock: bytes and the time
 * are given to it, and it is asked for what to type.  Any POSIX shell with printf will do; it types
 * slowly enough for lines without flow control. */
#ifndef MOS_LINK_SHELL_H
#define MOS_LINK_SHELL_H

#include "base/buf.h"

#include <stdint.h>

enum { MOS_SHELL_COMMAND = 900, MOS_SHELL_AT_ONCE = 16 };

enum mos_shell_state {
    MOS_SHELL_LOGS_IN,
    MOS_SHELL_READY,  /* it waits for a command */
    MOS_SHELL_RUNS,   /* one runs */
    MOS_SHELL_FAILED, /* `why`, in a few words: it is no use to go on */
};

struct mos_shell {
    const char *user, *password; /* NULL: there is none */
    enum mos_shell_state state;
    const char *why;
    /* the command that ran last */
    bool timed_out;     /* it was interrupted */
    int status;         /* its exit status */
    const char *output; /* what it printed, without carriage returns and the last line's end */
    /* inside */
    char escape; /* within a control sequence: what it began with; 0: not */
    struct mos_buf heard;
    size_t looked; /* of heard: what an answer was given to */
    char typed[MOS_SHELL_COMMAND + 200];
    size_t length, at;
    unsigned number; /* of the command */
    unsigned refused, breaks;
    bool probes;    /* it was interrupted, and is to be asked whether it is back */
    unsigned asked; /* how often the log-in asked for a name, or it was asked for an answer */
    bool named;     /* the name was given, and the password may be asked for */
    int64_t next, heard_at, until;
};

/* Somebody is at a log-in, or at a shell already.  It gives up `within` ns. */
void mos_shell_begin(struct mos_shell *s, struct mos_arena *arena, const char *user,
                     const char *password, int64_t within, int64_t now);
/* Starts a command (one line, of MOS_SHELL_COMMAND bytes at most); READY only. */
void mos_shell_run(struct mos_shell *s, const char *command, int64_t within, int64_t now);
/* Bytes have come. */
void mos_shell_hear(struct mos_shell *s, const uint8_t *bytes, size_t length, int64_t now);
/* What to type now, at most `room` bytes; 0: nothing.  Time alone can change the state. */
size_t mos_shell_next(struct mos_shell *s, int64_t now, uint8_t *out, size_t room);
/* When to ask again at the latest. */
int64_t mos_shell_due(const struct mos_shell *s, int64_t now);

#endif
