#include "link/shell.h"

#include "base/bytes.h"
#include "link/plain.h"

#include <assert.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define MS INT64_C(1000000)

enum {
    PACE_MS = 10,   /* between two pieces of what is typed */
    QUIET_MS = 400, /* nothing came for so long: it waits for something */
    ASK_MS = 2000,  /* … and this long where nothing has been understood */
    MOST_ASKED = 12,
    MOST_REFUSED = 2, /* what a log-in that just starts does not hear is refused, too */
    BREAK_MS = 4000,  /* a command that was interrupted gives the prompt back */
    MOST_BREAKS = 3,
    MOST_HEARD = 256 << 10
};

static void forget(struct mos_shell *s) {
    s->heard.length = 0;
    s->looked = 0;
}

static void type(struct mos_shell *s, const char *text, int64_t now) {
    snprintf(s->typed, sizeof s->typed, "%s\r", text);
    s->length = strlen(s->typed);
    s->at = 0;
    s->next = now > s->next ? now : s->next;
}

static void fail(struct mos_shell *s, const char *why) {
    s->state = MOS_SHELL_FAILED;
    s->why = why;
    s->length = s->at = 0;
}

void mos_shell_begin(struct mos_shell *s, struct mos_arena *arena, const char *user,
                     const char *password, int64_t within, int64_t now) {
    *s = (struct mos_shell){.user = user,
                            .password = password,
                            .heard = {.arena = arena},
                            .next = now,
                            .heard_at = now,
                            .until = now + within};
    type(s, "", now);
}

/* The marks are put together by the board's printf: what it echoes does not have them. */
void mos_shell_run(struct mos_shell *s, const char *command, int64_t within, int64_t now) {
    char line[sizeof s->typed - 1];
    assert(s->state == MOS_SHELL_READY && strlen(command) <= MOS_SHELL_COMMAND);
    s->number++;
    snprintf(line, sizeof line,
             "printf '%%s\\n' mosa''icum-b%u; %s; printf '\\n%%s %%d\\n' mosa''icum-e%u $?",
             s->number, command, s->number);
    forget(s);
    type(s, line, now);
    s->state = MOS_SHELL_RUNS;
    s->timed_out = s->probes = false;
    s->breaks = 0;
    s->until = now + within;
}

/* ---- what comes ---- */

/* The place of a mark, at a line's begin; NULL. */
static char *find_mark(const char *text, char kind, unsigned number) {
    char mark[40];
    snprintf(mark, sizeof mark, "mosaicum-%c%u", kind, number);
    size_t n = strlen(mark);
    for (const char *p = text; (p = strstr(p, mark)); p += n)
        if ((p == text || p[-1] == '\n') && (p[n] == '\n' || p[n] == ' '))
            return (char *)(uintptr_t)p;
    return NULL;
}

static void look_for_end(struct mos_shell *s, const char *text) {
    char *begin = find_mark(text, 'b', s->number), *end = find_mark(text, 'e', s->number);
    if (!begin || !end || end < begin || !strchr(end, '\n'))
        return;
    s->status = atoi(strchr(end, ' ') ? strchr(end, ' ') : "-1");
    begin = strchr(begin, '\n') + 1;
    end = end > begin ? end - 1 : begin; /* the line end that stands before the mark */
    while (end > begin && end[-1] == '\n')
        end--;
    *end = 0;
    s->output = begin;
    s->state = MOS_SHELL_READY;
}

void mos_shell_hear(struct mos_shell *s, const uint8_t *bytes, size_t length, int64_t now) {
    for (size_t i = 0; i < length; i++)
        if (mos_plain_is_text(&s->escape, bytes[i]))
            mos_buf_char(&s->heard, (char)bytes[i]);
    s->heard_at = now;
    if (s->heard.length > MOST_HEARD) { /* the begin is of no use without the end */
        size_t half = s->heard.length / 2;
        memmove(s->heard.data, s->heard.data + half, s->heard.length - half);
        s->heard.length -= half;
        s->looked = s->looked > half ? s->looked - half : 0;
    }
    if (s->state == MOS_SHELL_RUNS && memchr(bytes, '\n', length))
        look_for_end(s, mos_buf_string(&s->heard));
}

/* ---- what is typed ---- */

static bool ends_with(const char *line, const char *words) {
    size_t n = strlen(line), m = strlen(words);
    while (n && line[n - 1] == ' ')
        n--;
    return n >= m && memcmp(line + n - m, words, m) == 0;
}

/* It waits for something: what is it? */
static void answer(struct mos_shell *s, int64_t now) {
    const char *all = mos_buf_string(&s->heard), *fresh = all + s->looked;
    const char *line = strrchr(all, '\n');
    line = line ? line + 1 : all;
    bool silent = !*fresh;
    s->looked = s->heard.length;
    if (strstr(fresh, "mosaicum-42")) {
        s->state = MOS_SHELL_READY;
        forget(s);
        return;
    }
    bool refused = strstr(fresh, "ogin incorrect") || strstr(fresh, "uthentication failure");
    s->refused += refused;
    if ((refused && s->refused >= MOST_REFUSED) || ++s->asked > MOST_ASKED)
        fail(s, s->refused && s->password ? "the log-in refuses name and password"
                : s->refused              ? "the log-in refuses the name"
                : silent                  ? "it does not answer"
                                          : "neither a log-in nor a shell answers");
    else if (!silent && ends_with(line, "ogin:")) {
        type(s, s->user, now);
        s->named = true;
    } else if (!silent && s->named && ends_with(line, "assword:")) {
        if (!s->password)
            fail(s, "the log-in asks for a password, and none is stated");
        else
            type(s, s->password, now);
    } else /* a shell counts, and a log-in asks again */
        type(s, "echo mosaicum-$((6*7))", now);
}

/* An interrupted command is over, or the line is of no use any more. */
static void look_at_time(struct mos_shell *s, int64_t now) {
    if (s->state == MOS_SHELL_LOGS_IN) {
        bool fresh = s->heard.length > s->looked;
        int64_t since = s->heard_at > s->next ? s->heard_at : s->next;
        if (now >= s->until)
            fail(s, "nobody could log in in that time");
        else if (now - since >= (fresh ? QUIET_MS : ASK_MS) * MS)
            answer(s, now);
    } else if (s->state == MOS_SHELL_RUNS && s->probes && now >= s->next + QUIET_MS * MS) {
        char line[120]; /* is the shell back? */
        s->probes = false;
        s->number++;
        snprintf(line, sizeof line,
                 "printf '%%s\\n' mosa''icum-b%u; printf '\\n%%s %%d\\n' mosa''icum-e%u 130",
                 s->number, s->number);
        type(s, line, now);
    } else if (s->state == MOS_SHELL_RUNS && now >= s->until) {
        if (s->breaks++ == MOST_BREAKS) {
            fail(s, "the command that ran cannot be ended");
            return;
        }
        s->timed_out = s->probes = true;
        s->until = now + BREAK_MS * MS;
        type(s, "\003", now); /* whatever is typed right behind it may go with it */
    }
}

size_t mos_shell_next(struct mos_shell *s, int64_t now, uint8_t *out, size_t room) {
    if (s->at == s->length)
        look_at_time(s, now);
    if (s->at == s->length || now < s->next)
        return 0;
    size_t n = mos_min(mos_min(s->length - s->at, room), (size_t)MOS_SHELL_AT_ONCE);
    memcpy(out, s->typed + s->at, n);
    s->at += n;
    s->next = now + PACE_MS * MS;
    return n;
}

int64_t mos_shell_due(const struct mos_shell *s, int64_t now) {
    if (s->at < s->length)
        return s->next;
    if (s->state == MOS_SHELL_RUNS)
        return s->probes ? s->next + QUIET_MS * MS : s->until;
    return s->state == MOS_SHELL_LOGS_IN ? now + 100 * MS : now + 1000 * MS;
}
