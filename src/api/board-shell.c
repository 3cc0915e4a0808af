#include "api/board-shell.h"

#include "base/bytes.h"
#include "link/plain.h"
#include "mosaicum/wires.h"

#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum { TYPING_MS = 10, SHORT_SECONDS = 10, ECHO_SECONDS = 5, READ = 4096 };

static int64_t now_of(const struct board_shell *s) {
    return s->m->ctx.host->now_ns(s->m->ctx.host);
}

/* Until the shell waits again, or it is no use to go on. */
static bool until_ready(struct board_shell *b) {
    const struct mos_wires *w = b->m->ctx.host->wires;
    struct mos_shell *s = &b->shell;
    uint8_t bytes[READ];
    while (!b->e && (s->state == MOS_SHELL_LOGS_IN || s->state == MOS_SHELL_RUNS)) {
        int64_t now = now_of(b);
        unsigned ready = 0;
        size_t got = 0, n = mos_shell_next(s, now, bytes, sizeof bytes);
        if (n)
            b->e = w->write(w, b->line, bytes, n);
        if (!b->e)
            b->e = w->wait(w, &b->line, 1, mos_shell_due(s, now) - now, &ready);
        if (!b->e && ready)
            b->e = w->read(w, b->line, bytes, sizeof bytes, &got);
        if (got) {
            mos_shell_hear(s, bytes, got, now_of(b));
            if (!b->e && b->heard)
                b->e = b->heard(b->self, bytes, got);
        }
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

/* The board has all of a line that was typed: it has echoed its last word, and a line's end. */
static bool is_echoed(struct board_shell *b, size_t from, const char *last) {
    const char *text = mos_buf_string(&b->shell.heard) + from, *at = strstr(text, last);
    return at && strchr(at, '\n');
}

/* Whoever closes a line while the board has not yet taken what was typed may take it back. */
static bool until_echoed(struct board_shell *b, size_t from, const char *last) {
    const struct mos_wires *w = b->m->ctx.host->wires;
    const int64_t until = now_of(b) + ECHO_SECONDS * SECOND;
    uint8_t bytes[READ];
    int e = 0;
    while (!e && !is_echoed(b, from, last) && now_of(b) < until) {
        unsigned ready = 0;
        size_t got = 0;
        e = w->wait(w, &b->line, 1, until - now_of(b), &ready);
        if (!e && ready)
            e = w->read(w, b->line, bytes, sizeof bytes, &got);
        for (size_t i = 0; i < got; i++)
            if (mos_plain_is_text(&b->shell.escape, bytes[i]))
                mos_buf_char(&b->shell.heard, (char)bytes[i]);
        if (got && b->heard)
            e = b->heard(b->self, bytes, got);
    }
    return is_echoed(b, from, last);
}

void board_shell_leave(struct board_shell *s) {
    const struct mos_wires *w = s->m->ctx.host->wires;
    const bool hangs = s->shell.state != MOS_SHELL_READY;
    /* a shell that nobody had to log in to may be the first program: it must not end */
    const char *text = mos_printf(s->m->arena, "%sdmesg -n %c 2>/dev/null%s\r",
                                  hangs ? "\003\r" : "", s->level, s->shell.named ? "; exit" : "");
    const size_t from = s->shell.heard.length;
    unsigned ready;
    for (size_t n = strlen(text), at = 0; at < n; at += MOS_SHELL_AT_ONCE) {
        if (w->write(w, s->line, text + at, mos_min(n - at, (size_t)MOS_SHELL_AT_ONCE)))
            break;
        w->wait(w, NULL, 0, TYPING_MS * MS, &ready);
    }
    if (!until_echoed(s, from, s->shell.named ? "exit" : "null") && s->shell.named)
        mos_vec_push_pointer(&s->m->not_proved, "whether anybody is still logged in at the board: "
                                                "it did not echo the word that ends its shell");
}
