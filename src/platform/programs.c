/* Outside programs, with limits that hold.
 *
 * Between us and the program stands a process of its own that adopts every child the program leaves
 * behind (a subreaper): when the program has ended, or its time is up, that process ends all of
 * them, those with a session of their own too, before it tells how it went. */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <pthread.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

enum { READ_SIZE = 4096, TICK_MS = 20, MOST_ROUNDS = 1000, MOST_VARIABLES = 200 };

/* One captured stream. */
struct stream {
    int fd;
    char *data;
    size_t length, capacity, limit;
};

static int capture(struct stream *s) {
    if (s->length + READ_SIZE + 1 > s->capacity) {
        size_t capacity = s->capacity ? s->capacity * 2 : 4 * READ_SIZE;
        char *data = realloc(s->data, capacity);
        if (!data)
            return ENOMEM;
        s->data = data;
        s->capacity = capacity;
        s->data[s->length] = 0;
    }
    ssize_t n = read(s->fd, s->data + s->length, READ_SIZE);
    if (n < 0)
        return errno == EINTR || errno == EAGAIN ? 0 : errno;
    if (n == 0) {
        close(s->fd);
        s->fd = -1;
        return 0;
    }
    s->length += (size_t)n;
    s->data[s->length] = 0;
    return s->length > s->limit ? EFBIG : 0;
}

/* ---- in the new processes: nothing but calls that are safe after fork ---- */

static void child(const struct mos_program *p, int in, int out, int err) {
    static char path[] = "PATH=/usr/local/bin:/usr/bin:/bin", locale[] = "LC_ALL=C";
    char *env[MOST_VARIABLES + 3] = {locale, path};
    size_t count = 2;
    for (size_t i = 0; p->environment && p->environment[i]; i++) {
        bool own_path = strncmp(p->environment[i], "PATH=", 5) == 0;
        char **to = own_path ? &env[1] : &env[count++];
        memcpy(to, &p->environment[i], sizeof *env); /* execvpe wants no const */
    }
    sigset_t none;
    sigemptyset(&none);
    sigprocmask(SIG_SETMASK, &none, NULL);
    setpgid(0, 0);
    signal(SIGTERM, SIG_DFL);
    signal(SIGPIPE, SIG_DFL);
    if (dup2(in, 0) < 0 || dup2(out, 1) < 0 || dup2(err, 2) < 0)
        _exit(126);
    if (p->folder && chdir(p->folder))
        _exit(126);
    char **arguments = NULL;
    memcpy(&arguments, &p->arguments, sizeof arguments);
    execvpe(arguments[0], arguments, env);
    _exit(errno == ENOENT ? 127 : 126);
}

static volatile sig_atomic_t told_to_stop; /* in the watching process only */

static void stop(int signal_number) {
    (void)signal_number;
    told_to_stop = 1;
}

/* Ends every child of this process; those of theirs become ours and are next. */
static void end_children(void) {
    char list[4096];
    for (int round = 0; round < MOST_ROUNDS; round++) {
        int fd = open("/proc/thread-self/children", O_RDONLY | O_CLOEXEC);
        ssize_t n = fd < 0 ? 0 : read(fd, list, sizeof list - 1);
        if (fd < 0) /* nobody tells who they are: those of its group have been ended */
            return;
        close(fd);
        list[n > 0 ? n : 0] = 0;
        for (char *p = list; *p;) {
            long pid = strtol(p, &p, 10);
            if (pid > 1)
                kill((pid_t)pid, SIGKILL);
            while (*p == ' ')
                p++;
        }
        int status;
        if (waitpid(-1, &status, 0) < 0 && errno == ECHILD)
            return;
    }
}

static void watch(const struct mos_program *p, int in, int out, int err) {
    struct sigaction act = {.sa_handler = stop};
    int status = 0;
    sigaction(SIGTERM, &act, NULL);
    prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0);
    prctl(PR_SET_PDEATHSIG, SIGTERM, 0, 0, 0); /* nothing goes on when we are killed */
    pid_t pid = fork();
    if (pid == 0)
        child(p, in, out, err);
    close(in); /* so that it ends when the program does not read it, and the outputs when it does */
    close(out);
    close(err);
    pid_t ended = -1;
    while (pid > 0 && !told_to_stop && (ended = waitpid(pid, &status, 0)) < 0 && errno == EINTR)
        ;
    if (pid > 0)
        kill(-pid, SIGKILL);
    end_children();
    _exit(pid < 0             ? 126
          : ended != pid      ? 128 + SIGKILL
          : WIFEXITED(status) ? WEXITSTATUS(status)
                              : 128 + WTERMSIG(status));
}

/* ---- in ours ---- */

static void close_all(int fds[6]) {
    for (int i = 0; i < 6; i++)
        if (fds[i] >= 0)
            close(fds[i]);
}

static int64_t milliseconds(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000 + t.tv_nsec / 1000000;
}

/* As much of the input as the program takes now; *in becomes -1 once it has all, or wants no more.
 */
static void feed(const struct mos_program *p, int *in, size_t *sent) {
    ssize_t n = *sent < p->input_length
                    ? write(*in, (const char *)p->input + *sent, p->input_length - *sent)
                    : 0;
    if (n > 0)
        *sent += (size_t)n;
    if (*sent == p->input_length || (n < 0 && errno != EAGAIN && errno != EINTR)) {
        close(*in);
        *in = -1;
    }
}

/* Moves bytes until the watching process has ended and everything it left is read.  An errno value;
 * ETIMEDOUT and EFBIG are its limits. */
static int pump(const struct mos_program *p, pid_t watcher, int *in, struct stream *out,
                struct stream *err, int *status, bool *reaped) {
    int64_t end = milliseconds() + (int64_t)p->seconds * 1000;
    size_t sent = 0;
    int e = 0;
    *reaped = false;
    while (!e && !(*reaped && out->fd < 0 && err->fd < 0)) {
        if (*in >= 0 && !p->input_length)
            feed(p, in, &sent);
        bool ended = *reaped; /* what it wrote last may come after poll gave up, and before this */
        struct pollfd fds[3] = {{out->fd, POLLIN, 0}, {err->fd, POLLIN, 0}, {*in, POLLOUT, 0}};
        int ready = poll(fds, 3, out->fd < 0 && err->fd < 0 ? 1 : TICK_MS);
        if (ready < 0 && errno != EINTR)
            return errno;
        if (fds[0].revents)
            e = capture(out);
        if (!e && fds[1].revents)
            e = capture(err);
        if (*in >= 0 && fds[2].revents)
            feed(p, in, &sent);
        if (!*reaped && waitpid(watcher, status, WNOHANG) == watcher)
            *reaped = true;
        else if (!e && !*reaped && milliseconds() >= end)
            e = ETIMEDOUT;
        if (ended && !ready)
            break; /* all that was written has been read */
    }
    return e;
}

/* Told again and again, since it may just be about to wait; and not told for ever. */
static void end_watcher(pid_t watcher, int *status) {
    for (int round = 0; round < MOST_ROUNDS; round++) {
        kill(watcher, round + 1 < MOST_ROUNDS ? SIGTERM : SIGKILL);
        if (waitpid(watcher, status, WNOHANG) == watcher)
            return;
        poll(NULL, 0, 5);
    }
    while (waitpid(watcher, status, 0) < 0 && errno == EINTR)
        ;
}

/* A program that does not read its input must not end us: the signal stays blocked, and is gone
 * when the mask comes back. */
static void block_sigpipe(sigset_t *before) {
    sigset_t set;
    sigemptyset(&set);
    sigaddset(&set, SIGPIPE);
    pthread_sigmask(SIG_BLOCK, &set, before);
}

static void unblock_sigpipe(const sigset_t *before) {
    sigset_t set;
    const struct timespec now = {0, 0};
    sigemptyset(&set);
    sigaddset(&set, SIGPIPE);
    if (!sigismember(before, SIGPIPE))
        while (sigtimedwait(&set, NULL, &now) < 0 && errno == EINTR)
            ;
    pthread_sigmask(SIG_SETMASK, before, NULL);
}

static int run_guarded(const struct mos_program *p, struct mos_program_result *result) {
    int fds[6] = {-1, -1, -1, -1, -1, -1};
    if (pipe2(fds, O_CLOEXEC) || pipe2(fds + 2, O_CLOEXEC) || pipe2(fds + 4, O_CLOEXEC)) {
        int e = errno;
        close_all(fds);
        return e;
    }
    pid_t watcher = fork();
    if (watcher < 0) {
        int e = errno;
        close_all(fds);
        return e;
    }
    if (watcher == 0) {
        close(fds[1]);
        watch(p, fds[0], fds[3], fds[5]);
    }
    close(fds[0]);
    close(fds[3]);
    close(fds[5]);
    fcntl(fds[1], F_SETFL, O_NONBLOCK); /* a program that answers must not wait for us */
    struct stream out = {.fd = fds[2], .limit = p->output_limit};
    struct stream err = {.fd = fds[4], .limit = p->output_limit};
    int status = 0, in = fds[1];
    bool reaped;
    int e = pump(p, watcher, &in, &out, &err, &status, &reaped);
    const int left[] = {in, out.fd, err.fd};
    for (size_t i = 0; i < 3; i++)
        if (left[i] >= 0)
            close(left[i]);
    if (!reaped)
        end_watcher(watcher, &status);
    if (e && e != ETIMEDOUT && e != EFBIG) {
        free(out.data);
        free(err.data);
        return e;
    }
    *result = (struct mos_program_result){
        .status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status),
        .timeout = e == ETIMEDOUT,
        .overflow = e == EFBIG,
        .output = out.data ? out.data : calloc(1, 1),
        .errors = err.data ? err.data : calloc(1, 1),
        .output_length = out.length,
        .errors_length = err.length,
    };
    return 0;
}

static int run(const struct mos_host *h, const struct mos_program *p,
               struct mos_program_result *result) {
    (void)h;
    sigset_t before;
    size_t variables = 0;
    while (p->environment && p->environment[variables])
        variables++;
    if (variables > MOST_VARIABLES)
        return E2BIG; /* none is left out */
    block_sigpipe(&before);
    int e = run_guarded(p, result);
    unblock_sigpipe(&before);
    return e;
}

void mos_platform_programs(struct mos_host *host) {
    host->run = run;
}
