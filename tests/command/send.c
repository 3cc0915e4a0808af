/* Files over a serial line: the built program at both ends of one. */
#define _GNU_SOURCE
#include "support.h"

#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <termios.h>
#include <unistd.h>

/* Two lines whose boards' ends are joined by a process of the test's own. */
struct cable {
    char ports[2][64];
    int ends[2], held[2];
    pid_t joins;
};

static void join(const struct cable *c) {
    struct pollfd p[2] = {{c->ends[0], POLLIN, 0}, {c->ends[1], POLLIN, 0}};
    while (poll(p, 2, -1) > 0)
        for (int i = 0; i < 2; i++) {
            char bytes[512];
            ssize_t n = p[i].revents & POLLIN ? read(c->ends[i], bytes, sizeof bytes) : 0;
            for (ssize_t at = 0, put; at < n; at += put)
                if ((put = write(c->ends[!i], bytes + at, (size_t)(n - at))) < 0)
                    return;
        }
}

static void plug(struct cable *c) {
    for (int i = 0; i < 2; i++) {
        struct termios t;
        CU_ASSERT_EQUAL_FATAL(openpty(&c->ends[i], &c->held[i], c->ports[i], NULL, NULL), 0);
        tcgetattr(c->held[i], &t);
        cfmakeraw(&t);
        tcsetattr(c->held[i], TCSANOW, &t);
    }
    c->joins = fork();
    if (c->joins == 0) {
        join(c);
        _exit(0);
    }
}

static void unplug(struct cable *c) {
    kill(c->joins, SIGKILL);
    waitpid(c->joins, NULL, 0);
    for (int i = 0; i < 2; i++) {
        close(c->ends[i]);
        close(c->held[i]);
    }
}

static void files_arrive(void) {
    static const struct {
        const char *by, *files, *output;
        bool padded; /* the last block is filled up: nobody tells the size */
    } rows[] = {
        {"ymodem", "a.bin b.bin c.bin", "got", false},
        {"ymodem", "a.bin", "one.bin", false},
        {"xmodem", "a.bin", "one.bin", true},
        {"xmodem-1k", "b.bin", "one.bin", true},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct cable c;
        const char *f = keep(test_folder("sent"));
        plug(&c);
        CU_ASSERT_TRUE(runs(0,
                            "cd '%s' && mkdir got && head -c 20001 /dev/urandom > a.bin && head -c "
                            "1024 /dev/urandom > b.bin && : > "
                            "c.bin && ('%s' --no-cache send -o %s %s --by %s --bench none > "
                            "taken.txt; echo $? > status) & "
                            "cd '%s' && sleep 0.3 && '%s' --no-cache send %s %s --by %s --bench "
                            "none > sent.txt && wait && "
                            "test $(cat status) = 0",
                            f, MOSAICUM_PROGRAM, rows[i].output, c.ports[0], rows[i].by, f,
                            MOSAICUM_PROGRAM, rows[i].files, c.ports[1], rows[i].by));
        bool folder = strcmp(rows[i].output, "got") == 0;
        CU_ASSERT_TRUE(
            !folder ||
            runs(0, "cd '%s' && for n in %s; do cmp $n got/$n || exit 1; done", f, rows[i].files));
        CU_ASSERT_TRUE(folder || runs(0, "cd '%s' && cmp -n $(stat -c %%s %s) %s one.bin", f,
                                      rows[i].files, rows[i].files));
        CU_ASSERT_TRUE(folder || rows[i].padded ||
                       runs(0, "cd '%s' && cmp %s one.bin", f, rows[i].files));
        unplug(&c);
    }
}

/* A loader at its prompt: it is told to receive, and whoever answers there gets the file. */
static void a_loader_is_told(void) {
    struct cable c;
    const char *f = keep(test_folder("told"));
    plug(&c);
    kill(c.joins, SIGKILL);
    write_text(path_in(f, "piece"), "what is sent\n");
    pid_t loader = fork();
    if (loader == 0) {
        char line[200];
        size_t n = 0;
        for (char b; read(c.ends[0], &b, 1) == 1;) {
            line[n < sizeof line - 1 ? n++ : n] = b;
            if (b == '\r') {
                line[n] = 0;
                ssize_t put = write(c.ends[0], "\r\n=> ", 5);
                if (n > 1)
                    write_text(path_in(f, "typed"), line);
                if (n > 1 || put < 0)
                    break;
                n = 0;
            }
        }
        _exit(0);
    }
    struct outcome o = run_shell("cd '%s' && timeout --preserve-status -s INT 6 '%s' --no-cache "
                                 "send piece %s --to 0x40200000 --bench none",
                                 f, MOSAICUM_PROGRAM, c.ports[0]);
    CU_ASSERT_EQUAL(o.status, 3);
    if (o.status != 3)
        fprintf(stderr, "\nstatus %d: %s%s\n", o.status, o.out, o.err);
    outcome_free(&o);
    kill(loader, SIGKILL);
    waitpid(loader, NULL, 0);
    char *typed = read_whole(path_in(f, "typed"), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(typed);
    CU_ASSERT_STRING_EQUAL(typed, "loady 0x40200000\r");
    free(typed);
    unplug(&c);
}

static void what_is_wrong_is_said(void) {
    static const struct {
        const char *words, *error;
        int status;
    } rows[] = {
        {"send none.bin /dev/null", "/dev/null is no serial port", 2},
        {"send a.bin --by zmodem /dev/null", "There is no way zmodem", 2},
        {"send a.bin b.bin --by xmodem /dev/null", "XMODEM sends one file", 2},
        {"send a.bin --bench none", "Name the port", 2},
        {"send a.bin --speed fast /dev/null", "fast is no speed", 2},
    };
    const char *f = keep(test_folder("wrong-send"));
    write_text(path_in(f, "a.bin"), "a");
    write_text(path_in(f, "b.bin"), "b");
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct outcome o =
            run_shell("cd '%s' && '%s' --no-cache %s", f, MOSAICUM_PROGRAM, rows[i].words);
        CU_ASSERT_EQUAL(o.status, rows[i].status);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.err, rows[i].error));
        outcome_free(&o);
    }
    struct outcome o =
        run_shell("'%s' send; '%s' send -o x a.bin /dev/null", MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 2);
    outcome_free(&o);
}

SUITE(send_suite, {"files arrive", files_arrive}, {"a loader is told", a_loader_is_told},
      {"what is wrong is said", what_is_wrong_is_said});
