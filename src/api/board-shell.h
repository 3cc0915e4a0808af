/* A board's shell at the end of an open serial line, for the jobs that ask it something. */
#ifndef MOS_API_BOARD_SHELL_H
#define MOS_API_BOARD_SHELL_H

#include "api/run.h"
#include "link/shell.h"

struct board_shell {
    mosaicum *m;
    int line;
    struct mos_shell shell;
    int e;      /* why the line is gone, or nobody wants to go on; 0: it goes on */
    char level; /* how much the kernel said */
    /* What came; an errno value.  NULL: nobody wants it. */
    int (*heard)(void *self, const uint8_t *bytes, size_t length);
    void *self;
};

/* Logs in; false: shell.why, or `e`. */
bool board_shell_log_in(struct board_shell *s, const char *user, const char *password,
                        unsigned seconds);
/* Types a command, and waits for its end: shell.output …  false: it is no use to go on. */
bool board_shell_ask(struct board_shell *s, const char *command, unsigned seconds);
/* What the kernel says in between would be in what commands say: until `leave` it is silent. */
bool board_shell_silence(struct board_shell *s);
/* However it ended: the kernel speaks again, and who had to log in is out again; where the board
 * does not show that it took that, it is counted as not known. */
void board_shell_leave(struct board_shell *s);

#endif
