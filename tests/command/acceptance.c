/* A board that runs is asked: this computer's own shell stands in for it, at the other end of a
 * line. */
#define _GNU_SOURCE
#include "cable.h"
#include "support.h"

#include <arpa/inet.h>
#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

struct board {
    struct cable_end line;
    pid_t pid;
};

static const char *levels;   /* what the board's dmesg was told, a line each */
static const char *programs; /* where the board has its own: nothing here is to be changed */

static void have_programs(void) {
    if (!programs) {
        const char *folder = keep(test_folder("programs"));
        write_text(path_in(folder, "dmesg"), "#!/bin/sh\necho \"$*\" >> \"${0%/*}/levels\"\n");
        /* the first answer of each is another one than all that follow */
        static const char second[] =
            "#!/bin/sh\n[ -e \"$0.1\" ] && { : >> \"$0.2\"; exit 0; }\n: > \"$0.1\"; exit 9\n";
        write_text(path_in(folder, "ping"), second);
        write_text(path_in(folder, "own"), second);
        CU_ASSERT_TRUE(runs(0, "cd '%s' && chmod 755 dmesg ping own", folder));
        static char path[400];
        snprintf(path, sizeof path, "%s:/usr/bin:/bin", folder);
        programs = path;
        levels = keep(path_in(folder, "levels"));
    }
}

static void power_on(struct board *b) {
    have_programs();
    cable_end_open(&b->line);
    b->pid = cable_shell(b->line.board, programs);
}

static void power_off(struct board *b) {
    cable_unplug(b->pid);
    cable_end_close(&b->line);
}

/* The kernel is told to be silent, and then to speak as before: by its last words. */
static void speaks_again(void) {
    char *text = NULL;
    for (int i = 0; i < 200; i++) { /* the last command is not waited for */
        free(text);
        text = read_whole(levels, NULL);
        if (text && strlen(text) > 5 && strcmp(text + strlen(text) - 5, "-n 1\n") != 0)
            break;
        usleep(100000);
    }
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    CU_ASSERT(strncmp(text, "-n 1\n", 5) == 0 && strcmp(text + strlen(text) - 5, "-n 1\n") != 0);
    free(text);
    unlink(levels);
}

/* The row of a check, of --json; NULL. */
static const char *cell(const json_t *document, const char *check, const char *key) {
    size_t i, k;
    const json_t *table, *row;
    json_array_foreach(json_object_get(document, "report"), i, table)
        json_array_foreach(json_object_get(table, "rows"), k, row) {
        const char *name = json_string_value(json_object_get(row, "check"));
        if (name && strcmp(name, check) == 0)
            return json_string_value(json_object_get(row, key));
    }
    return NULL;
}

static const struct {
    const char *check, *result, *found; /* what is found begins so */
} rows[] = {
    {"processor", NULL, NULL}, /* whatever this computer is */
    {"arguments", "fails", NULL},
    {"date", "passes", NULL},
    {"device /dev/null", "passes", ""},
    {"device /dev/no such'one", "fails", "status 1"},
    {"module tide_gauge", "fails", "status "},
    {"reply of 192.0.2.99", "passes", ""},
    {"own", "fails", "status 9"},
    {"words", "passes", "level 12 cm"},
    {"other", "fails", "level 12 cm"},
    {"fails", "passes", ""},
    {"slow", "fails", "nothing within 1 s"},
    {"after-it", "passes", ""},
};

static void a_board_is_asked(void) {
    const char *w = keep(test_folder("asked"));
    copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), w);
    write_text(
        path_in(w, "more"),
        "acceptance:\n  devices: [/dev/null, \"/dev/no such'one\"]\n  modules: [tide-gauge]\n"
        "  without: [cores]\n  replies: [192.0.2.99]\n  checks:\n"
        "    own: {type: own}\n"
        "    words: {type: \"echo a; echo level 12 cm; echo b\", sees: \"level {} cm\"}\n"
        "    other: {type: echo level 12 cm, sees: \"level {} mm\"}\n"
        "    fails: {type: \"(exit 3)\", status: 3}\n"
        "    slow: {type: sleep 100, within: 1}\n"
        "    after-it: {type: \"true\"}\n");
    write_text(path_in(w, "bench.yaml"), "mosaicum: 1\nunits: {left: {board: curlew}}\n");
    CU_ASSERT_TRUE(
        runs(0, "cd '%s' && cat more >> boards/curlew.yaml && '%s' --no-cache -q build curlew", w,
             MOSAICUM_PROGRAM));
    int status;
    struct board b;
    power_on(&b);
    json_t *d = run_json(&status,
                         "-w '%s' listen curlew %s --acceptance --running --unit left --bench "
                         "'%s/bench.yaml' </dev/null",
                         w, b.line.port, w);
    CU_ASSERT_EQUAL(status, 1);
    /* noise is asked again, and what may do more than ask is not */
    CU_ASSERT_TRUE(
        runs(0, "p='%s' && cd \"${p%%%%:*}\" && test -e ping.2 && test ! -e own.2", programs));
    speaks_again();
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *result = cell(d, rows[i].check, "result"),
                   *found = cell(d, rows[i].check, "found");
        CU_ASSERT_PTR_NOT_NULL_FATAL(result);
        if (rows[i].result && strcmp(result, rows[i].result) != 0)
            fprintf(stderr, "\n%s: %s, %s\n", rows[i].check, result, found);
        CU_ASSERT(!rows[i].result || strcmp(result, rows[i].result) == 0);
        CU_ASSERT(!rows[i].found || strncmp(found, rows[i].found, strlen(rows[i].found)) == 0);
    }
    CU_ASSERT_PTR_NULL(cell(d, "cores", "result"));
    size_t i, others = 0;
    const json_t *finding;
    json_array_foreach(json_object_get(d, "findings"), i, finding) {
        const json_t *place = json_array_get(json_object_get(finding, "places"), 0);
        CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(finding, "rule")),
                               "board.acceptance");
        CU_ASSERT_PTR_NOT_NULL(json_object_get(place, "file")); /* the definition's, first */
        others++;
    }
    CU_ASSERT(others >= 5);
    char *first = json_dumps(d, JSON_INDENT(1));
    write_text(path_in(w, "first.json"), first);
    free(first);
    json_decref(d);
    /* it is kept of the unit, beside what was written for it */
    struct outcome o = run_shell("cd '%s' && '%s' list --written", w, MOSAICUM_PROGRAM);
    CU_ASSERT(o.status == 0 && strstr(o.out, "left") && strstr(o.out, "running") &&
              strstr(o.out, "checks passed"));
    outcome_free(&o);
    /* the same board as another definition has it, and both side by side */
    CU_ASSERT_TRUE(runs(
        0, "cd '%s' && sed -i 's/{} mm/{} cm/; s/status: 3/status: 4/' boards/curlew.yaml", w));
    CU_ASSERT_TRUE(runs(1,
                        "cd '%s' && '%s' --no-cache --json listen curlew %s --acceptance --running "
                        "--bench none </dev/null > second.json",
                        w, MOSAICUM_PROGRAM, b.line.port));
    o = run_shell(
        "cd '%s' && '%s' compare first.json second.json; '%s' compare first.json first.json", w,
        MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "passes: level 12 cm"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "fails: level 12 cm"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "fails"));
    CU_ASSERT_PTR_NULL(strstr(o.out, "words"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "Nothing differs."));
    outcome_free(&o);
    unlink(levels);
    /* somebody breaks it off while a command hangs; and what was found, for a server that builds */
    CU_ASSERT_TRUE(runs(0, "cd '%s' && sed -i 's/within: 1}/within: 90}/' boards/curlew.yaml", w));
    o = run_shell("timeout --foreground -s INT 7 '%s' --no-cache -w '%s' listen curlew %s "
                  "--acceptance --running "
                  "--bench none </dev/null",
                  MOSAICUM_PROGRAM, w, b.line.port);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "interrupted"));
    outcome_free(&o);
    speaks_again();
    CU_ASSERT_TRUE(runs(0, "cd '%s' && sed -i 's/within: 90}/within: 1}/' boards/curlew.yaml", w));
    CU_ASSERT_TRUE(
        runs(1,
             "cd '%s' && '%s' --no-cache listen curlew %s --acceptance --running --bench "
             "none --junit a.xml </dev/null >/dev/null",
             w, MOSAICUM_PROGRAM, b.line.port));
    char *xml = read_whole(path_in(w, "a.xml"), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(xml);
    CU_ASSERT_PTR_NOT_NULL(strstr(xml, "classname=\"acceptance\" name=\"words\"></testcase>"));
    CU_ASSERT_PTR_NOT_NULL(strstr(xml, "name=\"slow\"><failure type=\"board.acceptance\""));
    CU_ASSERT_PTR_NULL(strstr(xml, "classname=\"kernel\""));
    free(xml);
    power_off(&b);
}

/* A line at which nobody answers is no board that passes. */
static void silence_does_not_pass(void) {
    const char *w = keep(test_folder("silence"));
    copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), w);
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && printf 'acceptance: {within: 3}\\n' >> boards/curlew.yaml && '%s' "
             "--no-cache -q build curlew",
             w, MOSAICUM_PROGRAM));
    struct board b;
    int status;
    power_on(&b);
    kill(b.pid, SIGSTOP);
    json_t *d =
        run_json(&status, "-w '%s' listen curlew %s --acceptance --running --bench none </dev/null",
                 w, b.line.port);
    CU_ASSERT_EQUAL(status, 1);
    CU_ASSERT_STRING_EQUAL(cell(d, "arguments", "result"), "not asked");
    const json_t *finding = json_array_get(json_object_get(d, "findings"), 0);
    CU_ASSERT_PTR_NOT_NULL(
        strstr(json_string_value(json_object_get(finding, "message")), "cannot be asked"));
    json_decref(d);
    power_off(&b);
    static const char *const wrong[] = {"--running", "--acceptance --stored x",
                                        "--acceptance --running --cycle"};
    CU_ASSERT_TRUE(runs(2, "'%s' -w '%s' listen curlew %s", MOSAICUM_PROGRAM, w, wrong[0]));
    CU_ASSERT_TRUE(runs(2, "'%s' -w '%s' listen curlew %s", MOSAICUM_PROGRAM, w, wrong[1]));
    CU_ASSERT_TRUE(runs(2, "'%s' -w '%s' listen curlew %s", MOSAICUM_PROGRAM, w, wrong[2]));
    CU_ASSERT_TRUE(runs(2, "'%s' listen --acceptance /dev/null", MOSAICUM_PROGRAM));
    /* a password that cannot be read is none that is empty */
    CU_ASSERT_TRUE(runs(0,
                        "sed -i 's/^acceptance: .*/acceptance: {password-file: nowhere}/' "
                        "'%s/boards/curlew.yaml'",
                        w));
    power_on(&b);
    struct outcome o =
        run_shell("'%s' --no-cache -w '%s' listen curlew %s --acceptance --running --bench "
                  "none </dev/null",
                  MOSAICUM_PROGRAM, w, b.line.port);
    CU_ASSERT(o.status == 2 && strstr(o.err, "cannot be read from nowhere"));
    outcome_free(&o);
    power_off(&b);
}

/* ---- who logged in is out again ---- */

/* A shell behind a log-in, until it ends. */
static void be_logged_in(void) {
    setenv("PATH", programs, 1);
    setenv("TERM", "dumb", 1);
    execl("/bin/sh", "sh", "-c",
          "while [ \"$user\" != root ]; do printf 'curlew login: '; read -r user; done; "
          "PS1='board# ' "
          "exec sh -i",
          (char *)NULL);
    _exit(127);
}

/* A board behind a slow line: what it has not taken when the line is closed, it never takes.  Its
 * exit status: is somebody still logged in? */
static pid_t slow_board(int listener) {
    pid_t pid = fork();
    if (pid)
        return pid;
    int shell, line;
    char bytes[4096];
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (forkpty(&shell, NULL, NULL, NULL) == 0)
        be_logged_in();
    alarm(300); /* nobody came, or never left */
    line = accept(listener, NULL, NULL);
    for (;;) {
        struct pollfd p[] = {{shell, POLLIN, 0}, {line, POLLIN | POLLRDHUP, 0}};
        int ready = poll(p, 2, line < 0 ? 2000 : -1);
        ssize_t n = p[0].revents ? read(shell, bytes, sizeof bytes) : 1;
        if (ready <= 0 || n <= 0)
            _exit(ready <= 0);
        if (p[0].revents && line >= 0 && send(line, bytes, (size_t)n, MSG_NOSIGNAL) != n)
            p[1].revents |= POLLRDHUP;
        if (p[1].revents & (POLLRDHUP | POLLHUP))
            line = close(line) - 1;
        else if (p[1].revents && read(line, bytes, 1) == 1)
            usleep(write(shell, bytes, 1) == 1 ? 2000 : 0);
    }
}

static void who_logged_in_is_out_again(void) {
    const char *w = keep(test_folder("slow"));
    struct sockaddr_in a = {.sin_family = AF_INET, .sin_addr = {htonl(INADDR_LOOPBACK)}};
    socklen_t length = sizeof a;
    int listener = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0), status;
    CU_ASSERT_TRUE_FATAL(bind(listener, (struct sockaddr *)&a, sizeof a) == 0 &&
                         listen(listener, 1) == 0 &&
                         getsockname(listener, (struct sockaddr *)&a, &length) == 0);
    copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), w);
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && printf 'acceptance: {within: 20}\\n' >> boards/curlew.yaml && "
                        "'%s' --no-cache -q build curlew",
                        w, MOSAICUM_PROGRAM));
    have_programs();
    pid_t pid = slow_board(listener);
    json_t *d = run_json(
        &status,
        "-w '%s' listen curlew tcp:127.0.0.1:%u --acceptance --running --bench none </dev/null", w,
        ntohs(a.sin_port));
    CU_ASSERT_PTR_NOT_NULL(cell(d, "arguments", "found"));
    json_decref(d);
    CU_ASSERT(waitpid(pid, &status, 0) == pid && WIFEXITED(status) && WEXITSTATUS(status) == 0);
    close(listener);
    unlink(levels);
}

SUITE(acceptance_suite, {"a board is asked", a_board_is_asked},
      {"silence does not pass", silence_does_not_pass},
      {"who logged in is out again", who_logged_in_is_out_again});
