/* Files over a serial line: the built program at both ends of one. */
#define _GNU_SOURCE
#include "cable.h"
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
    struct cable_end ends[2];
    pid_t joins;
};

static void plug(struct cable *c) {
    cable_end_open(&c->ends[0]);
    cable_end_open(&c->ends[1]);
    c->joins = cable_plug(c->ends[0].board, c->ends[1].board, NULL, NULL);
}

static void unplug(struct cable *c) {
    cable_unplug(c->joins);
    cable_end_close(&c->ends[0]);
    cable_end_close(&c->ends[1]);
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
                            f, MOSAICUM_PROGRAM, rows[i].output, c.ends[0].port, rows[i].by, f,
                            MOSAICUM_PROGRAM, rows[i].files, c.ends[1].port, rows[i].by));
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
        for (char b; read(c.ends[0].board, &b, 1) == 1;) {
            line[n < sizeof line - 1 ? n++ : n] = b;
            if (b == '\r') {
                line[n] = 0;
                ssize_t put = write(c.ends[0].board, "\r\n=> ", 5);
                if (n > 1)
                    write_text(path_in(f, "typed"), line);
                if (n > 1 || put < 0)
                    break;
                n = 0;
            }
        }
        _exit(0);
    }
    struct outcome o =
        run_shell("cd '%s' && timeout --foreground --preserve-status -s INT 6 '%s' --no-cache "
                  "send piece %s --to 0x40200000 --bench none",
                  f, MOSAICUM_PROGRAM, c.ends[0].port);
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
