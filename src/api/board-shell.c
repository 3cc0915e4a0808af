#include "api/board-shell.h"

#include "base/bytes.h"
#include "mosaicum/wires.h"

#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum { TYPING_MS = 10, SHORT_SECONDS = 10, ECHO_SECONDS = 5, READ = 4096 };

static int64_t now_of(const struct board_shell *s) {
    return s->m->ctx.host->now_ns(s->m->ctx.host);
}

/* What comes until then; an errno value. */
static int take(struct board_shell *b, int64_t until) {
    const struct mos_wires *w = b->m->ctx.host->wires;
    uint8_t bytes[READ];
    unsigned ready = 0;
    size_t got = 0;
    int e = w->wait(w, &b->line, 1, until - now_of(b), &ready);
    if (!e && ready)
        e = w->read(w, b->line, bytes, sizeof bytes, &got);
    if (got) {
        mos_shell_hear(&b->shell, bytes, got, now_of(b));
        if (!e && b->heard)
            e = b->heard(b->self, bytes, got);
    }
    return e;
}

/* Until the shell waits again, or it is no use to go on. */
static bool until_ready(struct board_shell *b) {
    const struct mos_wires *w = b->m->ctx.host->wires;
    struct mos_shell *s = &b->shell;
    uint8_t bytes[MOS_SHELL_AT_ONCE];
    while (!b->e && (s->state == MOS_SHELL_LOGS_IN || s->state == MOS_SHELL_RUNS)) {
        int64_t now = now_of(b);
        size_t n = mos_shell_next(s, now, bytes, sizeof bytes);
        if (n)
            b->e = w->write(w, b->line, bytes, n);
        if (!b->e)
            b->e = take(b, mos_shell_due(s, now));
    }
    return !b->e && s->state == MOS_SHELL_READY;
}

bool board_shell_log_in(struct board_shell *s, const char *user, const char *password,
                        unsigned seconds) {
    mos_shell_begin(&s->shell, s->m->arena, user, password, seconds * SECOND, now_of(s));
    return until_ready(s);
}

bool board_shell_ask(struct board_shell *s, const char *command, unsigned seconds) {
    mos_shell_run(&s->shell, command, seconds * SECOND, now_of(s));
    return until_ready(s);
}

bool board_shell_silence(struct board_shell *s) {
    bool ok = board_shell_ask(s, "cat /proc/sys/kernel/printk", SHORT_SECONDS);
    const char *said = ok ? s->shell.output : "";
    s->level = '7';
    if (*said >= '1' && *said <= '8')
        s->level = *said;
    return ok && board_shell_ask(s, "dmesg -n 1 2>/dev/null", SHORT_SECONDS);
}

/* The board has all of a line that was typed: it has echoed how it ends, and a line's end. */
static bool is_echoed(struct board_shell *b, const char *end) {
    const char *at = strstr(mos_buf_string(&b->shell.heard), end);
    return at && strchr(at, '\n');
}

/* Whoever closes a line while the board has not yet taken what was typed may take it back. */
static bool until_echoed(struct board_shell *b, const char *end) {
    const int64_t until = now_of(b) + ECHO_SECONDS * SECOND;
    int e = 0;
    while (!e && !is_echoed(b, end) && now_of(b) < until)
        e = take(b, until);
    return is_echoed(b, end);
}

void board_shell_leave(struct board_shell *s) {
    const struct mos_wires *w = s->m->ctx.host->wires;
    const bool hangs = s->shell.state != MOS_SHELL_READY;
    /* a shell that nobody had to log in to may be the first program: it must not end */
    const char *text = mos_printf(s->m->arena, "%sdmesg -n %c 2>/dev/null%s\r",
                                  hangs ? "\003\r" : "", s->level, s->shell.named ? "; exit" : "");
    unsigned ready;
    s->shell.heard.length = s->shell.looked = 0;
    for (size_t n = strlen(text), at = 0; at < n; at += MOS_SHELL_AT_ONCE) {
        if (w->write(w, s->line, text + at, mos_min(n - at, (size_t)MOS_SHELL_AT_ONCE)))
            break;
        w->wait(w, NULL, 0, TYPING_MS * MS, &ready);
    }
    if (!until_echoed(s, s->shell.named ? "; exit" : "2>/dev/null"))
        mos_vec_push_pointer(
            &s->m->not_proved,
            s->shell.named ? "whether anybody is still logged in at the board: it did not echo the "
                             "word that ends its shell"
                           : "whether the board's kernel speaks at its console as before: the "
                             "board did not echo the command for that");
}
