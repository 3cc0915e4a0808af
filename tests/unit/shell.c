/* Logging in and asking, by itself, with a made-up board that is awkward in every way. */
#include "support.h"

#include "api/acceptance.h"
#include "link/shell.h"

#include <stdlib.h>
#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

/* ---- a board ---- */

struct made {
    const char *what;
    const char *name, *password; /* that it takes; name NULL: a shell at once */
    const char *prompt;
    bool flushes, silent, brackets, wraps, noise, stuck, greets, no_echo;
    /* what it comes to */
    const char *gives_name, *gives_password;
    const char *fails; /* NULL: it is asked */
};

enum stage { AT_NAME, AT_PASSWORD, AT_SHELL, HANGS };

struct board {
    const struct made *made;
    enum stage stage;
    char line[2000], said[100000], name[100];
    size_t length, said_length, columns;
    int64_t last;      /* byte */
    int64_t now, deaf; /* until then it hears nothing */
    bool named_right;
};

static void say(struct board *b, const char *text) {
    for (; *text; text++) {
        if (*text == '\n')
            b->said[b->said_length++] = '\r';
        b->said[b->said_length++] = *text;
    }
    CU_ASSERT_FATAL(b->said_length < sizeof b->said - 2000);
}

static void ask_name(struct board *b) {
    b->stage = AT_NAME;
    say(b, "\nDebian GNU/Linux curlew\n\ncurlew login: ");
}

static int run(struct board *b, const char *command) {
    if (strcmp(command, "one") == 0)
        say(b, "1\n");
    else if (strcmp(command, "no-end") == 0)
        say(b, "no line end");
    else if (strcmp(command, "empty; lines") == 0)
        say(b, "\n\na\n\nb\n\n\n");
    else if (strcmp(command, "many") == 0)
        for (int i = 0; i < 3000; i++)
            say(b, "a line of words\n");
    else if (strcmp(command, "marks") == 0)
        say(b, "mosaicum-b\nx mosaicum-e3 0\nmosaicum-e\n");
    else if (strcmp(command, "hang") == 0)
        b->stage = HANGS;
    else
        return 127;
    return strcmp(command, "no-end") == 0 ? 7 : 0;
}

static void shell_line(struct board *b) {
    char text[60], *end = strstr(b->line, "; printf '\\n%s %d\\n' mosa''icum-e");
    unsigned number;
    int used = 0;
    if (strcmp(b->line, "echo mosaicum-$((6*7))") == 0)
        say(b, "mosaicum-42\n");
    else if (sscanf(b->line, "printf '%%s\\n' mosa''icum-b%u;%n", &number, &used) == 1 && used &&
             end) {
        snprintf(text, sizeof text, "mosaicum-b%u\n", number);
        say(b, text);
        if (b->made->noise)
            say(b, "[  12.3] usb 1-1: new device\n");
        *end = 0;
        int status = end > b->line + used ? run(b, b->line + used + 1) : 130;
        if (b->stage == HANGS)
            return;
        snprintf(text, sizeof text, "\nmosaicum-e%u %d\n", number, status);
        say(b, text);
    } else if (*b->line)
        say(b, "sh: not found\n");
    say(b, b->made->prompt);
}

static void enter(struct board *b) {
    b->line[b->length] = 0;
    b->length = b->columns = 0;
    say(b, b->made->brackets && b->stage == AT_SHELL ? "\n\033[?2004l\r" : "\n");
    switch (b->stage) {
    case AT_NAME:
        if (!*b->line) {
            ask_name(b);
            break;
        }
        snprintf(b->name, sizeof b->name, "%.90s", b->line);
        b->stage = AT_PASSWORD;
        if (!b->made->password && strcmp(b->line, b->made->name) == 0) {
            b->stage = AT_SHELL;
            say(b, b->made->prompt);
        } else
            say(b, "Password: ");
        break;
    case AT_PASSWORD:
        if (b->made->password && strcmp(b->line, b->made->password) == 0 &&
            strcmp(b->name, b->made->name) == 0) {
            b->stage = AT_SHELL;
            if (b->made->greets)
                say(b,
                    "Last login: Mon Jan 5 00:00:00\nThe password: keep it. Welcome, login: no\n");
            say(b, b->made->prompt);
        } else {
            say(b, "\nLogin incorrect\n");
            ask_name(b);
        }
        break;
    case AT_SHELL:
        shell_line(b);
        break;
    case HANGS:
        break;
    }
}

static void board_hears(struct board *b, const uint8_t *bytes, size_t length) {
    for (size_t i = 0; i < length && !b->made->silent && b->now >= b->deaf; i++) {
        char c = (char)bytes[i];
        if (c == 3 && b->stage == HANGS && !b->made->stuck) {
            b->stage = AT_SHELL;
            b->length = 0;
            b->deaf = b->made->flushes ? b->now + 200 * MS : 0;
            say(b, "^C\n");
            say(b, b->made->prompt);
        } else if (c == '\r' && b->stage != HANGS)
            enter(b);
        else if (b->stage != HANGS && c >= ' ') {
            CU_ASSERT_FATAL(b->length < sizeof b->line - 1);
            b->line[b->length++] = c;
            char echo[2] = {c, 0};
            if (b->stage != AT_PASSWORD && !b->made->no_echo)
                say(b, echo);
            if (b->made->wraps && ++b->columns % 70 == 0 && b->stage == AT_SHELL)
                say(b, " \r");
        }
    }
}

/* Time goes on until the shell waits, or has failed. */
static void until(struct mos_shell *s, struct board *b, int64_t *now) {
    enum mos_shell_state was = s->state;
    for (int i = 0; i < 400000 && s->state == was && s->state != MOS_SHELL_FAILED; i++) {
        uint8_t bytes[64];
        size_t n = mos_shell_next(s, *now, bytes, sizeof bytes);
        if (n) { /* slow enough for a line that has no flow control */
            CU_ASSERT(n <= 16 && (!b->last || *now - b->last >= 10 * MS));
            b->last = b->now = *now;
            board_hears(b, bytes, n);
        }
        CU_ASSERT(mos_shell_due(s, *now) > *now || s->at < s->length || n);
        *now += MS;
        size_t chunk = b->said_length < 7 ? b->said_length : 7;
        if (chunk) {
            mos_shell_hear(s, (const uint8_t *)b->said, chunk, *now);
            memmove(b->said, b->said + chunk, b->said_length -= chunk);
        }
    }
}

static const struct made mades[] = {
    {"a name and a password", "root", "tide", "root@curlew:~# ", .gives_name = "root",
     .gives_password = "tide"},
    {"a name alone", "root", NULL, "~ # ", .gives_name = "root"},
    {"a shell at once", NULL, NULL, "# ", .gives_name = "root"},
    {"… in colours", NULL, NULL, "\033]0;title\007\033[01;32mroot\033[00m# ", .gives_name = "root"},
    {"paste is bracketed", "root", "tide", "\033[?2004h# ", .brackets = true, .gives_name = "root",
     .gives_password = "tide"},
    {"long lines are wrapped", "root", "tide", "$ ", .wraps = true, .gives_name = "root",
     .gives_password = "tide"},
    {"nothing is echoed", "root", "tide", "$ ", .no_echo = true, .gives_name = "root",
     .gives_password = "tide"},
    {"the kernel speaks in between", "root", "tide", "$ ", .noise = true, .gives_name = "root",
     .gives_password = "tide"},
    {"a break takes away what comes behind it", NULL, NULL, "# ", .flushes = true,
     .gives_name = "root"},
    {"a greeting with our words", "root", "tide", "$ ", .greets = true, .gives_name = "root",
     .gives_password = "tide"},
    {"another password", "root", "tide", "$ ", .gives_name = "root", .gives_password = "ebb",
     .fails = "refuses name and password"},
    {"another name", "root", "tide", "$ ", .gives_name = "keeper", .gives_password = "tide",
     .fails = "refuses name and password"},
    {"no password is known", "root", "tide", "$ ", .gives_name = "root", .fails = "none is stated"},
    {"it is silent", .silent = true, .gives_name = "root", .fails = "does not answer"},
};

static void boards_let_in(void) {
    for (size_t i = 0; i < sizeof mades / sizeof *mades; i++) {
        struct core c;
        core_start(&c);
        struct board *b = calloc(1, sizeof *b);
        struct mos_shell s;
        int64_t now = SECOND;
        b->made = &mades[i];
        b->stage = mades[i].name ? AT_NAME : AT_SHELL;
        mos_shell_begin(&s, c.ctx.arena, mades[i].gives_name, mades[i].gives_password, 60 * SECOND,
                        now);
        until(&s, b, &now);
        if ((s.state == MOS_SHELL_FAILED) != (mades[i].fails != NULL))
            fprintf(stderr, "\n%s: %s\n%.*s\n", mades[i].what, s.why ? s.why : "ready",
                    (int)s.heard.length, mos_buf_string(&s.heard));
        CU_ASSERT_EQUAL(s.state, mades[i].fails ? MOS_SHELL_FAILED : MOS_SHELL_READY);
        CU_ASSERT(!mades[i].fails || strstr(s.why, mades[i].fails));
        if (!mades[i].fails) {
            static const struct {
                const char *command, *output;
                int status;
            } asked[] = {{"one", "1", 0},
                         {"no-end", "no line end", 7},
                         {"empty; lines", "\n\na\n\nb", 0},
                         {"nothing here", "", 127},
                         {"marks", "mosaicum-b\nx mosaicum-e3 0\nmosaicum-e", 0}};
            for (size_t k = 0; k < sizeof asked / sizeof *asked; k++) {
                mos_shell_run(&s, asked[k].command, 10 * SECOND, now);
                until(&s, b, &now);
                CU_ASSERT(s.state == MOS_SHELL_READY && !s.timed_out &&
                          s.status == asked[k].status);
                size_t skip = mades[i].noise ? strcspn(s.output, "\n") : 0;
                skip += s.output[skip] == '\n' && mades[i].noise;
                CU_ASSERT_STRING_EQUAL(s.output + skip, asked[k].output);
            }
            mos_shell_run(&s, "many", 60 * SECOND, now);
            until(&s, b, &now);
            CU_ASSERT(s.state == MOS_SHELL_READY && strlen(s.output) > 40000);
            mos_shell_run(&s, "hang", 5 * SECOND, now);
            until(&s, b, &now);
            CU_ASSERT(s.state == MOS_SHELL_READY && s.timed_out);
            mos_shell_run(&s, "one", 5 * SECOND, now);
            until(&s, b, &now);
            CU_ASSERT(s.state == MOS_SHELL_READY && !s.timed_out && strchr(s.output, '1'));
        }
        free(b);
        core_end(&c);
    }
}

/* A command that cannot be interrupted: it is no use to go on. */
static void boards_hang(void) {
    static const struct made made = {"stuck", NULL, NULL, "# ", .stuck = true};
    struct core c;
    core_start(&c);
    struct board *b = calloc(1, sizeof *b);
    struct mos_shell s;
    int64_t now = SECOND;
    b->made = &made;
    b->stage = AT_SHELL;
    mos_shell_begin(&s, c.ctx.arena, "root", NULL, 60 * SECOND, now);
    until(&s, b, &now);
    mos_shell_run(&s, "hang", 5 * SECOND, now);
    until(&s, b, &now);
    CU_ASSERT(s.state == MOS_SHELL_FAILED && strstr(s.why, "cannot be ended"));
    free(b);
    core_end(&c);
}

/* ---- judging ---- */

static void answers_are_judged(void) {
    static const struct {
        struct acceptance_check check;
        const char *output;
        int status;
        bool timed_out, good;
        const char *found;
    } rows[] = {
        {{.kind = ACCEPTS_TEXT, .text = "6.1.0"}, "6.1.0", 0, false, true, "6.1.0"},
        {{.kind = ACCEPTS_TEXT, .text = "6.1.0"}, "6.1.0-rc", 0, false, false, "6.1.0-rc"},
        {{.kind = ACCEPTS_TEXT, .text = "6.1.0"}, "", 1, false, false, "status 1"},
        {{.kind = ACCEPTS_TEXT, .text = "6.1.0"}, "6.1.0", 0, true, false, "nothing within"},
        {{.kind = ACCEPTS_LINE, .text = "armv{}l"}, "armv7l", 0, false, true, "armv7l"},
        {{.kind = ACCEPTS_LINE, .text = "armv{}l"}, "aarch64", 0, false, false, "aarch64"},
        {{.kind = ACCEPTS_LINE, .text = "level {} cm"},
         "x\nlevel 12 cm\n",
         0,
         false,
         true,
         "level 12"},
        {{.kind = ACCEPTS_LINE, .text = "level {} cm"},
         "level 12\n cm",
         0,
         false,
         false,
         "level 12"},
        {{.kind = ACCEPTS_LINE, .text = "level"}, "level", 1, false, false, "level"},
        {{.kind = ACCEPTS_LINE, .text = "level", .status = 1}, "level", 1, false, true, "level"},
        {{.kind = ACCEPTS_RANGE, .least = 3, .most = 5}, "4", 0, false, true, "4"},
        {{.kind = ACCEPTS_RANGE, .least = 3, .most = 5}, "3", 0, false, true, "3"},
        {{.kind = ACCEPTS_RANGE, .least = 3, .most = 5}, "6", 0, false, false, "6"},
        {{.kind = ACCEPTS_RANGE, .least = 3, .most = 5}, "", 0, false, false, "status 0"},
        {{.kind = ACCEPTS_RANGE, .least = 3, .most = 5}, "4x", 0, false, false, "4x"},
        {{.kind = ACCEPTS_STATUS}, "anything", 0, false, true, "anything"},
        {{.kind = ACCEPTS_STATUS}, "none", 1, false, false, "status 1: none"},
        {{.kind = ACCEPTS_STATUS, .status = 2}, "", 2, false, true, ""},
    };
    struct core c;
    core_start(&c);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct acceptance_check check = rows[i].check;
        const struct mos_shell s = {
            .output = rows[i].output, .status = rows[i].status, .timed_out = rows[i].timed_out};
        acceptance_judge(c.ctx.arena, &check, &s);
        CU_ASSERT(check.asked && check.good == rows[i].good);
        CU_ASSERT_PTR_NOT_NULL(strstr(check.found, rows[i].found));
    }
    core_end(&c);
}

SUITE(shell_suite, {"boards let in", boards_let_in}, {"boards hang", boards_hang},
      {"answers are judged", answers_are_judged});
