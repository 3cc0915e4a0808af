#define _GNU_SOURCE
#include "cable.h"

#include "support.h"

#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

enum { AT_ONCE = 512 };

void cable_end_open(struct cable_end *end) {
    struct termios t;
    CU_ASSERT_EQUAL_FATAL(openpty(&end->board, &end->held, end->port, NULL, NULL), 0);
    tcgetattr(end->held, &t);
    cfmakeraw(&t);
    tcsetattr(end->held, TCSANOW, &t);
}

void cable_end_close(struct cable_end *end) {
    close(end->board);
    close(end->held);
}

void cable_run(int a, int b, size_t (*change)(void *self, const char *in, size_t length, char *out),
               void *self) {
    struct pollfd p[2] = {{a, POLLIN, 0}, {b, POLLIN, 0}};
    while (poll(p, 2, -1) > 0)
        for (int i = 0; i < 2; i++) {
            char in[AT_ONCE], out[2 * AT_ONCE];
            ssize_t got = p[i].revents ? read(p[i].fd, in, sizeof in) : 0;
            if (p[i].revents && got <= 0)
                return;
            size_t n = (size_t)got;
            if (change)
                n = change(self, in, n, out);
            else
                memcpy(out, in, n);
            for (size_t at = 0; at < n;) {
                ssize_t put = write(p[!i].fd, out + at, n - at);
                if (put < 0)
                    return;
                at += (size_t)put;
            }
        }
}

pid_t cable_plug(int a, int b,
                 size_t (*change)(void *self, const char *in, size_t length, char *out),
                 void *self) {
    pid_t pid = fork();
    if (pid == 0) {
        prctl(PR_SET_PDEATHSIG, SIGKILL);
        cable_run(a, b, change, self);
        _exit(0);
    }
    return pid;
}

size_t cable_noise(void *self, const char *in, size_t length, char *out) {
    struct cable_noise *c = self;
    size_t n = 0;
    for (size_t k = 0; k < length; k++) {
        uint64_t fate = random_below(&c->seed, c->one_in) ? 0 : 1 + random_below(&c->seed, 4);
        if (fate == 4) /* late */
            nanosleep(&(struct timespec){0, 200000000}, NULL);
        if (fate != 1) /* lost */
            out[n++] = (char)(fate == 3 ? in[k] ^ (1 << random_below(&c->seed, 8)) : in[k]);
        if (fate == 2) /* twice */
            out[n++] = in[k];
    }
    return n;
}

void cable_unplug(pid_t cable) {
    kill(cable, SIGKILL);
    waitpid(cable, NULL, 0);
}

pid_t cable_shell(int board, const char *path) {
    pid_t pid = fork();
    if (pid)
        return pid;
    int shell;
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (forkpty(&shell, NULL, NULL, NULL) == 0) {
        sigset_t none;
        signal(SIGINT, SIG_DFL); /* whoever started the tests may leave them alone */
        signal(SIGQUIT, SIG_DFL);
        sigemptyset(&none);
        sigprocmask(SIG_SETMASK, &none, NULL);
        setenv("PS1", "board# ", 1);
        setenv("TERM", "dumb", 1);
        setenv("PATH", path, 1);
        execl("/bin/sh", "sh", (char *)NULL);
        _exit(127);
    }
    /* An interrupt ends a shell that has not yet said that it takes them: a board's would be
     * started again, this one is plugged in when it prompts. */
    struct pollfd prompt = {shell, POLLIN, 0};
    while (poll(&prompt, 1, -1) < 0)
        ;
    cable_run(board, shell, NULL, NULL);
    _exit(0);
}
