#define _GNU_SOURCE
#include "platform/platform.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

/* One captured stream. */
struct stream {
    int fd;
    char *data;
    size_t length, capacity, limit;
};

static int capture(struct stream *s) {
    if (s->length + 4097 > s->capacity) {
        size_t capacity = s->capacity ? s->capacity * 2 : 16384;
        char *data = realloc(s->data, capacity);
        if (!data)
            return ENOMEM;
        s->data = data;
        s->capacity = capacity;
        s->data[s->length] = 0;
    }
    ssize_t n = read(s->fd, s->data + s->length, 4096);
    if (n < 0)
        return errno == EINTR ? 0 : errno;
    if (n == 0) {
        close(s->fd);
        s->fd = -1;
        return 0;
    }
    s->length += (size_t)n;
    s->data[s->length] = 0;
    return s->length > s->limit ? EFBIG : 0;
}

static void child(const struct mos_program *p, int in, int out, int err) {
    static char path[] = "PATH=/usr/local/bin:/usr/bin:/bin", locale[] = "LC_ALL=C";
    char *env[32] = {path, locale};
    for (size_t i = 0; p->environment && p->environment[i] && i < 28; i++)
        memcpy(&env[2 + i], &p->environment[i], sizeof *env); /* execvpe wants no const */
    setpgid(0, 0);
    if (dup2(in, 0) < 0 || dup2(out, 1) < 0 || dup2(err, 2) < 0)
        _exit(126);
    if (p->folder && chdir(p->folder))
        _exit(126);
    char **arguments = NULL;
    memcpy(&arguments, &p->arguments, sizeof arguments);
    execvpe(arguments[0], arguments, env);
    _exit(errno == ENOENT ? 127 : 126);
}

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

/* Moves bytes until both outputs are closed.  Returns an errno value, ETIMEDOUT included. */
static int pump(const struct mos_program *p, int in, struct stream *out, struct stream *err) {
    int64_t end = milliseconds() + (int64_t)p->seconds * 1000;
    size_t sent = 0;
    int e = 0;
    while (!e && (out->fd >= 0 || err->fd >= 0)) {
        if (in >= 0 && sent == p->input_length) {
            close(in);
            in = -1;
        }
        int64_t left = end - milliseconds();
        if (left <= 0) {
            e = ETIMEDOUT;
            break;
        }
        struct pollfd fds[3] = {{out->fd, POLLIN, 0}, {err->fd, POLLIN, 0}, {in, POLLOUT, 0}};
        if (poll(fds, 3, (int)left) < 0 && errno != EINTR)
            e = errno;
        if (!e && fds[0].revents)
            e = capture(out);
        if (!e && fds[1].revents)
            e = capture(err);
        if (!e && in >= 0 && fds[2].revents) {
            ssize_t n = write(in, (const char *)p->input + sent, p->input_length - sent);
            sent = n < 0 ? p->input_length : sent + (size_t)n; /* it may not want all of it */
        }
    }
    if (in >= 0)
        close(in);
    return e;
}

static int finish(pid_t pid, int e, struct stream *out, struct stream *err,
                  struct mos_program_result *result) {
    int status;
    if (e)
        kill(-pid, SIGKILL);
    while (waitpid(pid, &status, 0) < 0 && errno == EINTR)
        ;
    if (e && e != ETIMEDOUT) {
        free(out->data);
        free(err->data);
        return e;
    }
    *result = (struct mos_program_result){
        .status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status),
        .timeout = e == ETIMEDOUT,
        .output = out->data ? out->data : calloc(1, 1),
        .errors = err->data ? err->data : calloc(1, 1),
        .output_length = out->length,
        .errors_length = err->length,
    };
    return 0;
}

static int run(const struct mos_host *h, const struct mos_program *p,
               struct mos_program_result *result) {
    (void)h;
    int fds[6] = {-1, -1, -1, -1, -1, -1};
    if (pipe2(fds, O_CLOEXEC) || pipe2(fds + 2, O_CLOEXEC) || pipe2(fds + 4, O_CLOEXEC)) {
        int e = errno;
        close_all(fds);
        return e;
    }
    pid_t pid = fork();
    if (pid < 0) {
        int e = errno;
        close_all(fds);
        return e;
    }
    if (pid == 0)
        child(p, fds[0], fds[3], fds[5]);
    close(fds[0]);
    close(fds[3]);
    close(fds[5]);
    struct stream out = {.fd = fds[2], .limit = p->output_limit};
    struct stream err = {.fd = fds[4], .limit = p->output_limit};
    int e = pump(p, fds[1], &out, &err);
    if (out.fd >= 0)
        close(out.fd);
    if (err.fd >= 0)
        close(err.fd);
    return finish(pid, e, &out, &err, result);
}

void mos_platform_programs(struct mos_host *host) {
    host->run = run;
}
