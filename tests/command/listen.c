/* The built program beside a board: a line and a terminal of the test's own, logs, the bench file.
 */
#define _GNU_SOURCE
#include "support.h"

#include "watch/symptoms.h"

#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <termios.h>
#include <unistd.h>

/* ---- a line, and a terminal ---- */

struct scene {
    int line, terminal; /* the board's end; what somebody sees and types */
    int port_fd;        /* keeps the line alive while nobody listens */
    char port[64];
    pid_t program;
    char seen[64 << 10], heard[4096];
    size_t seen_length, heard_length;
};

static void begin(struct scene *s) {
    memset(s, 0, sizeof *s);
    CU_ASSERT_EQUAL_FATAL(openpty(&s->line, &s->port_fd, s->port, NULL, NULL), 0);
    struct termios t;
    tcgetattr(s->port_fd, &t);
    cfmakeraw(&t);
    tcsetattr(s->port_fd, TCSANOW, &t);
    s->terminal = -1;
}

/* Starts the program at a terminal. */
__attribute__((format(printf, 2, 3))) static void sit_down(struct scene *s, const char *format,
                                                           ...) {
    struct winsize size = {.ws_row = 40, .ws_col = 100};
    char words[2048], all[4096];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(words, sizeof words, format, arguments);
    va_end(arguments);
    snprintf(all, sizeof all, "exec '%s' --no-cache %s", MOSAICUM_PROGRAM, words);
    s->program = forkpty(&s->terminal, NULL, NULL, &size);
    if (s->program == 0) {
        setenv("TERM", "xterm", 1);
        setenv("LC_ALL", "C.UTF-8", 1);
        execl("/bin/sh", "sh", "-c", all, (char *)NULL);
        _exit(127);
    }
}

static void say(struct scene *s, const char *text) {
    CU_ASSERT_EQUAL(write(s->line, text, strlen(text)), (ssize_t)strlen(text));
}

static void press(struct scene *s, const char *keys) {
    CU_ASSERT_EQUAL(write(s->terminal, keys, strlen(keys)), (ssize_t)strlen(keys));
}

static void drain(int fd, char *to, size_t room, size_t *length) {
    struct pollfd p = {fd, POLLIN, 0};
    while (poll(&p, 1, 20) == 1 && p.revents & POLLIN && *length + 1 < room) {
        ssize_t n = read(fd, to + *length, room - 1 - *length);
        if (n <= 0)
            return;
        *length += (size_t)n;
        to[*length] = 0;
    }
}

/* Waits for a text on the terminal (or what the board hears); behind it, what came is forgotten. */
static bool waits(struct scene *s, bool board, const char *text) {
    char *all = board ? s->heard : s->seen;
    size_t *length = board ? &s->heard_length : &s->seen_length;
    for (int i = 0; i < 500; i++) {
        drain(board ? s->line : s->terminal, all, board ? sizeof s->heard : sizeof s->seen, length);
        if (strstr(all, text))
            return true;
    }
    fprintf(stderr, "\nno \"%s\" in:\n%s\n", text, all);
    return false;
}

static int leaves(struct scene *s) {
    int status = 0;
    for (int i = 0; i < 500; i++) {
        drain(s->terminal, s->seen, sizeof s->seen, &s->seen_length);
        if (waitpid(s->program, &status, WNOHANG) == s->program)
            return WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
        usleep(10000);
    }
    kill(s->program, SIGKILL);
    waitpid(s->program, &status, 0);
    return -1;
}

/* It ends with that status; else what was seen is shown. */
static void leaves_with(struct scene *s, int expected) {
    int status = leaves(s);
    CU_ASSERT_EQUAL(status, expected);
    if (status != expected)
        fprintf(stderr, "\nstatus %d:\n%s\n", status, s->seen);
}

static void end(struct scene *s) {
    close(s->line);
    close(s->port_fd);
    if (s->terminal >= 0)
        close(s->terminal);
}

static const char boot[] =
    "\r\nU-Boot 2023.01 (Aug 09 2023 - 12:00:00 +0000)\r\n\r\nStarting kernel ...\r\n\r\n"
    "[    0.000000] Linux version 6.1.0-50-arm64 (a@b) #1\r\n"
    "[    0.000000] Kernel command line: console=ttyS0\r\n"
    "[    1.000000] VFS: Mounted root (ext4 filesystem) readonly on device 179:2.\r\n"
    "[    1.100000] Run /sbin/init as init process\r\nStarting\r\n";

static const char good[] = "\r\ncurlew login: ";

/* What stands in a cell of the verdict. */
static const char *verdict(const json_t *d, const char *key) {
    const json_t *table = json_array_get(json_object_get(d, "report"), 0);
    const json_t *row = json_array_get(json_object_get(table, "rows"), 0);
    const char *text = json_string_value(json_object_get(row, key));
    return text ? text : "";
}

static void somebody_sits_at_a_terminal(void) {
    struct scene s;
    const char *folder = keep(test_folder("terminal"));
    begin(&s);
    sit_down(&s, "listen %s --bench /dev/null/none --log %s/boot.log", s.port, folder);
    CU_ASSERT_TRUE(waits(&s, false, "power on now"));
    say(&s, boot);
    CU_ASSERT_TRUE(waits(&s, false, "the kernel speaks: 6.1.0-50-arm64"));
    say(&s, "\033[1;32mgreen\033[0m \033]0;title\007\033[6n\033]52;c;eHh4\007end\r\n");
    CU_ASSERT_TRUE(waits(&s, false, "\033[1;32mgreen\033[0m end"));
    say(&s, good);
    CU_ASSERT_TRUE(waits(&s, false, "The board is up"));
    press(&s, "root\r");
    CU_ASSERT_TRUE(waits(&s, true, "root\r"));
    press(&s, "echo one two three\necho four five six\n"); /* at once: pasted */
    CU_ASSERT_TRUE(waits(&s, true, "echo one two three\recho four five six\r"));
    press(&s, "\003\033[A"); /* neither is ours */
    CU_ASSERT_TRUE(waits(&s, true, "\003\033[A"));
    press(&s, "\033[24~");
    leaves_with(&s, 0);
    CU_ASSERT_PTR_NOT_NULL(strstr(s.seen, "3 control sequences of the board were held back"));
    CU_ASSERT_PTR_NULL(strstr(s.seen, "title"));
    CU_ASSERT_PTR_NULL(strstr(s.seen, "\033[6n"));
    CU_ASSERT_PTR_NULL(strstr(s.seen, "eHh4"));
    CU_ASSERT_PTR_NOT_NULL(strstr(s.seen, "Landmarks"));
    end(&s);
    /* the log is judged as the board was, and has its bytes */
    int status;
    json_t *d = run_json(&status, "listen --stored %s/boot.log", folder);
    CU_ASSERT_EQUAL(status, 0);
    CU_ASSERT_STRING_EQUAL(verdict(d, "end"), "up");
    json_decref(d);
    char *log = read_whole(path_in(folder, "boot.log"), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(log);
    CU_ASSERT_PTR_NOT_NULL(strstr(log, "\\x1b]52;c;eHh4\\x07"));
    free(log);
    /* and is never written over */
    begin(&s);
    CU_ASSERT_TRUE(runs(4, "'%s' listen --bench /dev/null/none %s --log %s/boot.log </dev/null",
                        MOSAICUM_PROGRAM, s.port, folder));
    end(&s);
}

/* The board's text comes while the program runs without a terminal. */
static json_t *judged(struct scene *s, int *status, const char *text, const char *junit) {
    pid_t board = fork();
    if (board == 0) {
        usleep(300000);
        ssize_t n = write(s->line, text, strlen(text));
        usleep(8000000);
        _exit(n < 0);
    }
    json_t *d = run_json(status, "listen --bench /dev/null/none %s --junit '%s' </dev/null",
                         s->port, junit);
    kill(board, SIGKILL);
    waitpid(board, NULL, 0);
    return d;
}

static size_t occurs(const char *text, const char *word) {
    size_t n = 0;
    for (const char *p = text; (p = strstr(p, word)); p += strlen(word))
        n++;
    return n;
}

/* As many cases as it says, each with its end; nothing in it that XML does not have. */
static void junit_is_whole(const char *path, unsigned failures) {
    unsigned tests = 0, failed = 99, skipped = 0;
    char *text = read_whole(path, NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    const char *head = strstr(text, " tests=");
    CU_ASSERT_PTR_NOT_NULL_FATAL(head);
    CU_ASSERT_EQUAL(
        sscanf(head, " tests=\"%u\" failures=\"%u\" skipped=\"%u\"", &tests, &failed, &skipped), 3);
    CU_ASSERT_EQUAL(failed, failures);
    CU_ASSERT_EQUAL(occurs(text, "<testcase "), tests);
    CU_ASSERT_EQUAL(occurs(text, "</testcase>"), tests);
    CU_ASSERT_EQUAL(occurs(text, "<failure type=\"no-file\""), failures);
    CU_ASSERT_EQUAL(occurs(text, "<skipped/>"), skipped);
    CU_ASSERT_EQUAL(occurs(text, "<"), 3 + 2 * tests + 2 * failed + skipped);
    for (const char *p = strchr(text, '&'); p; p = strchr(p + 1, '&'))
        CU_ASSERT_TRUE(strncmp(p, "&lt;", 4) == 0 || strncmp(p, "&gt;", 4) == 0 ||
                       strncmp(p, "&amp;", 5) == 0 || strncmp(p, "&quot;", 6) == 0);
    free(text);
}

static void machines_judge(void) {
    struct scene s;
    int status;
    const char *folder = keep(test_folder("judged"));
    begin(&s);
    char *whole = NULL;
    CU_ASSERT_FATAL(asprintf(&whole, "%s%s", boot, good) > 0);
    json_t *d = judged(&s, &status, whole, path_in(folder, "good.xml"));
    CU_ASSERT_EQUAL(status, 0);
    CU_ASSERT_STRING_EQUAL(verdict(d, "end"), "up");
    json_decref(d);
    free(whole);
    d = judged(
        &s, &status,
        "\r\nU-Boot 2023.01 (Aug 09 2023 - 12:00:00 +0000)\r\n** File not found kernel **\r\n=> ",
        path_in(folder, "bad.xml"));
    CU_ASSERT_EQUAL(status, 1);
    CU_ASSERT_STRING_EQUAL(verdict(d, "end"), "stopped");
    CU_ASSERT_STRING_EQUAL(verdict(d, "stage"), "loader");
    CU_ASSERT_STRING_EQUAL(verdict(d, "symptom"), "no-file");
    json_decref(d);
    junit_is_whole(path_in(folder, "good.xml"), 0);
    junit_is_whole(path_in(folder, "bad.xml"), 1);
    end(&s);
}

static void a_port_has_one_listener(void) {
    struct scene s;
    begin(&s);
    sit_down(&s, "listen %s --bench /dev/null/none", s.port);
    CU_ASSERT_TRUE(waits(&s, false, "power on now"));
    int status;
    json_t *d = run_json(&status, "listen %s --bench /dev/null/none </dev/null", s.port);
    CU_ASSERT_EQUAL(status, 3);
    const char *error = json_string_value(json_object_get(d, "error"));
    CU_ASSERT_PTR_NOT_NULL_FATAL(error);
    CU_ASSERT_PTR_NOT_NULL(strstr(error, "another program has it"));
    CU_ASSERT_PTR_NOT_NULL(strstr(error, "(process "));
    json_decref(d);
    press(&s, "\033[24~");
    leaves_with(&s, 1); /* the board never came up */
    end(&s);
}

/* ---- the port ---- */

/* A kernel that sets the line up anew is listened to at its speed; a port that is named is waited
 * for; one that may not be opened has a group. */
static void the_port_is_as_stated(void) {
    struct scene s;
    const char *w = keep(test_folder("speeds"));
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && sed -i 's/baud: 115200/&, loader-baud: 57600/' boards/curlew.yaml && "
             "grep -q "
             "loader-baud boards/curlew.yaml && '%s' --no-cache -q check curlew",
             w, MOSAICUM_PROGRAM));
    begin(&s);
    sit_down(&s, "-w %s listen curlew %s --bench none", w, s.port);
    CU_ASSERT_TRUE(waits(&s, false, "57600 bits a second"));
    say(&s, boot);
    CU_ASSERT_TRUE(waits(&s, false, "from here on at 115200 bits a second"));
    say(&s, boot);
    CU_ASSERT_TRUE(waits(&s, false, "starts again"));
    press(&s, "\033[24~");
    leaves(&s);
    end(&s);
    struct outcome o = run_shell("cd '%s' && sed -i 's/loader-baud: 57600/frame: 7E1/' "
                                 "boards/curlew.yaml && '%s' --no-cache show curlew boot",
                                 w, MOSAICUM_PROGRAM);
    CU_ASSERT(o.status == 0 && strstr(o.out, "console=ttyAMA0,115200e7"));
    outcome_free(&o);
    o = run_shell(
        "'%s' --no-cache listen /dev/mosaicum-none --judge --bench none </dev/null & p=$!; "
        "sleep 1; kill -INT $p; wait $p",
        MOSAICUM_PROGRAM);
    CU_ASSERT(o.status == 3 &&
              strstr(o.err, "/dev/mosaicum-none is not there: plug its adapter in") &&
              strstr(o.err, "interrupted"));
    outcome_free(&o);
}

/* ---- the bench file ---- */

static void the_bench_file_tells(void) {
    struct scene s;
    const char *folder = keep(test_folder("bench")), *file = keep(path_in(folder, "bench.yaml"));
    char text[1024];
    begin(&s);
    snprintf(text, sizeof text,
             "mosaicum: 1\nunits:\n  left:\n    board: \"curlew*\"\n    serial: %s\n    wiring: "
             "red is ground\n"
             "    power: {cycle: [touch, %s/switched]}\n  right:\n    board: dunlin\n    serial: "
             "usb:9-9.9\n",
             s.port, folder);
    write_text(file, text);
    sit_down(&s, "listen --unit left --cycle --bench %s", file);
    CU_ASSERT_TRUE(waits(&s, false, "left: red is ground"));
    CU_ASSERT_TRUE(waits(&s, false, "power on now"));
    for (int i = 0; i < 100 && !exists(path_in(folder, "switched")); i++)
        usleep(20000);
    CU_ASSERT_TRUE(exists(path_in(folder, "switched")));
    say(&s, boot);
    say(&s, good);
    CU_ASSERT_TRUE(waits(&s, false, "The board is up"));
    press(&s, "\033[24~");
    leaves_with(&s, 0);
    end(&s);
    static const struct {
        const char *words, *error;
        int status;
    } rows[] = {
        {"listen", "name one by --unit: left, right", 2},
        {"listen --unit middle", "There is no unit middle", 2},
        {"listen --unit right", "No serial port is at usb:9-9.9", 3},
        {"listen --unit right --no-run --cycle", "No serial port is at usb:9-9.9", 3},
    };
    int status;
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        json_t *d = run_json(&status, "%s --bench %s </dev/null", rows[i].words, file);
        const char *error = json_string_value(json_object_get(d, "error"));
        CU_ASSERT_EQUAL(status, rows[i].status);
        CU_ASSERT_TRUE(error && strstr(error, rows[i].error));
        if (!error || !strstr(error, rows[i].error))
            fprintf(stderr, "\n%s: %s\n", rows[i].words, error ? error : "no error");
        json_decref(d);
    }
    write_text(file, "mosaicum: 1\nunits:\n  left: {board: curlew, seriel: /dev/ttyUSB0}\n");
    json_t *d = run_json(&status, "listen --bench %s </dev/null", file);
    const json_t *finding = json_array_get(json_object_get(d, "findings"), 0);
    CU_ASSERT_EQUAL(status, 1);
    CU_ASSERT_PTR_NOT_NULL(strstr(json_string_value(json_object_get(finding, "try")), "serial"));
    json_decref(d);
}

/* ---- symptoms ---- */

/* Each has its page, and of a board that is known each names places of its definition. */
static void symptoms_have_pages_and_places(void) {
    size_t placed = 0;
    const char *w = keep(test_folder("places"));
    copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), w);
    for (unsigned id = 0; id < MOS_SYMPTOM_COUNT; id++) {
        const struct mos_symptom_row *row = &mos_symptom_rows[id];
        struct outcome o = run_shell("'%s' explain %s", MOSAICUM_PROGRAM, row->id);
        CU_ASSERT_EQUAL(o.status, 0);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "Try"));
        outcome_free(&o);
        if (row->kind == MOS_SYMPTOM_IS_SIGN)
            continue;
        int status;
        json_t *d = run_json(&status,
                             "-w '%s' listen curlew --stored '%s/tests/symptoms/%s/fails.log'", w,
                             MOSAICUM_SOURCE, row->id),
               *place;
        size_t i, own = 0;
        const json_t *finding = json_array_get(json_object_get(d, "findings"), 0);
        json_array_foreach(json_object_get(finding, "places"), i, place) own +=
            json_object_get(place, "file") != NULL;
        CU_ASSERT_EQUAL(status, 1);
        const char *rule = json_string_value(json_object_get(finding, "rule"));
        CU_ASSERT_PTR_NOT_NULL_FATAL(rule);
        placed += own != 0;
        json_decref(d);
    }
    CU_ASSERT_TRUE(placed > 80);
    /* the number that is told of them is theirs */
    char *readme = read_whole(path_in(MOSAICUM_SOURCE, "README.md"), NULL), words[40];
    char *schema = read_whole(path_in(MOSAICUM_SOURCE, "docs/output.schema.json"), NULL);
    for (unsigned id = 0; id < MOS_SYMPTOM_COUNT; id++) {
        snprintf(words, sizeof words, "\"%s\"", mos_symptom_rows[id].id);
        CU_ASSERT_PTR_NOT_NULL(strstr(schema, words));
    }
    free(schema);
    snprintf(words, sizeof words, "one of %d\nsymptoms", (int)MOS_SYMPTOM_COUNT);
    CU_ASSERT_PTR_NOT_NULL(strstr(readme, words));
    free(readme);
}

SUITE(listen_suite, {"somebody sits at a terminal", somebody_sits_at_a_terminal},
      {"machines judge", machines_judge}, {"a port has one listener", a_port_has_one_listener},
      {"the port is as stated", the_port_is_as_stated},
      {"the bench file tells", the_bench_file_tells},
      {"symptoms have pages and places", symptoms_have_pages_and_places});
