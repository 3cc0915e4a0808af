/* Talking to a loader at its prompt, over a serial line: a command is typed, its echo is compared
 * before it is entered, and the answer is what comes until the prompt stands there again.  Files
 * are served meanwhile. */
#ifndef MOS_PROGRAMMING_TALK_H
#define MOS_PROGRAMMING_TALK_H

#include "base/buf.h"
#include "base/ctx.h"
#include "boot/dialect.h"
#include "link/server.h"

enum mos_talk_end {
    MOS_TALK_ANSWERED,
    MOS_TALK_SILENT, /* nothing came in time */
    MOS_TALK_NOISE,  /* what was typed did not come back as it was, however often */
    MOS_TALK_GONE,   /* the line failed: talk.errnum */
    MOS_TALK_STOPPED /* by a signal */
};

struct mos_talk {
    struct mos_ctx *ctx;
    const struct mos_wires *wires;
    int line;
    const char *prompt, *interrupt;
    struct mos_server *server; /* NULL: nothing is served */
    struct mos_buf heard;      /* since the last command was entered; CR taken out */
    int errnum;
    unsigned retyped; /* commands that had to be typed again */
};

/* Opens the line and listens; the members from `prompt` on are the caller's.  An errno value. */
int mos_talk_open(struct mos_talk *t, struct mos_ctx *ctx, const char *port, unsigned speed);
void mos_talk_close(struct mos_talk *t);
/* Lets time pass until `text` has come, since a command was entered or this was called the last
 * time, or `ns` are over. */
enum mos_talk_end mos_talk_await(struct mos_talk *t, const char *text, int64_t ns);
/* Gives the keys that stop a countdown, over and over, until the prompt stands there. */
enum mos_talk_end mos_talk_reach_prompt(struct mos_talk *t, int64_t ns);
/* Types a command and enters it; what then comes is heard by whoever waits next. */
enum mos_talk_end mos_talk_enter(struct mos_talk *t, const char *command);
/* Types a command; *answer: what came until the prompt, in t->heard, NUL-terminated. */
enum mos_talk_end mos_talk_ask(struct mos_talk *t, const char *command, int64_t ns,
                               const char **answer);
/* The same for a command that then takes `length` bytes of `from` by YMODEM, once its answer ends
 * with `calls`.  *why: where the transfer failed, in a few words. */
enum mos_talk_end mos_talk_send(struct mos_talk *t, const char *command, const char *calls,
                                const char *name, const void *from, size_t length, int64_t ns,
                                const char **answer, const char **why);
/* "the board no longer answers" …, for people. */
const char *mos_talk_end_text(const struct mos_talk *t, enum mos_talk_end end);

#endif
