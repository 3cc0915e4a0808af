#include "api/board-shell.h"

#include "base/bytes.h"
#include "mosaicum/wires.h"

#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum { TYPING_MS = 10, SHORT_SECONDS = 10, READ = 4096 };

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

/* Typed slowly, and nobody waits for an answer: the next panic is to be seen. */
void board_shell_leave(struct board_shell *s) {
    const struct mos_wires *w = s->m->ctx.host->wires;
    const bool hangs = s->shell.state != MOS_SHELL_READY;
    /* a shell that nobody had to log in to may be the first program: it must not end */
    const char *text = mos_printf(s->m->arena, "%sdmesg -n %c 2>/dev/null%s\r",
                                  hangs ? "\003\r" : "", s->level, s->shell.named ? "; exit" : "");
    unsigned ready;
    for (size_t n = strlen(text), at = 0; at < n; at += MOS_SHELL_AT_ONCE) {
        if (w->write(w, s->line, text + at, mos_min(n - at, (size_t)MOS_SHELL_AT_ONCE)))
            return;
        w->wait(w, NULL, 0, TYPING_MS * MS, &ready);
    }
}
