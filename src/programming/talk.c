#include "programming/talk.h"

#include "base/bytes.h"
#include "base/text.h"
#include "link/xmodem.h"

#include <errno.h>
#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum { MOST_HEARD = 1 << 20, MOST_TYPED = 5 };

static int64_t now(const struct mos_talk *t) {
    return t->ctx->host->now_ns(t->ctx->host);
}

int mos_talk_open(struct mos_talk *t, struct mos_ctx *ctx, const char *port, unsigned speed) {
    t->ctx = ctx;
    t->wires = ctx->host->wires;
    t->heard = (struct mos_buf){.arena = ctx->arena};
    return t->wires->open_line(t->wires, port, speed, &t->line);
}

void mos_talk_close(struct mos_talk *t) {
    t->wires->close(t->wires, t->line);
}

/* ---- what comes ---- */

static enum mos_talk_end gone(struct mos_talk *t, int errnum) {
    t->errnum = errnum;
    return errnum == EINTR ? MOS_TALK_STOPPED : MOS_TALK_GONE;
}

static void forget(struct mos_talk *t) {
    t->heard.length = 0;
}

/* Waits until something comes or is due, at most until `until`, and serves what is asked for. Bytes
 * of the line go to `to`; MOS_TALK_SILENT: none came. */
static enum mos_talk_end step(struct mos_talk *t, int64_t until, uint8_t *to, size_t size,
                              size_t *got) {
    int wires[MOS_SERVER_TRANSFERS + 2] = {t->line};
    size_t count = 1;
    unsigned ready = 0;
    int64_t at = now(t), due = until;
    *got = 0;
    if (t->server) {
        count += mos_server_wires(t->server, wires + 1);
        due = mos_server_due(t->server, at) < due ? mos_server_due(t->server, at) : due;
    }
    int e = t->wires->wait(t->wires, wires, count, due - at, &ready);
    if (e)
        return gone(t, e);
    if (t->server)
        e = mos_server_step(t->server, ready >> 1, now(t));
    if (!e && ready & 1)
        e = t->wires->read(t->wires, t->line, to, size, got);
    if (e)
        return gone(t, e);
    return *got ? MOS_TALK_ANSWERED : MOS_TALK_SILENT;
}

static void hear(struct mos_talk *t, const uint8_t *bytes, size_t length) {
    for (size_t i = 0; i < length; i++)
        if (bytes[i] && bytes[i] != '\r')
            mos_buf_char(&t->heard, (char)bytes[i]);
}

/* The same, into what was heard. */
static enum mos_talk_end listen(struct mos_talk *t, int64_t until) {
    uint8_t bytes[4096];
    size_t got;
    enum mos_talk_end end = step(t, until, bytes, sizeof bytes, &got);
    if (t->heard.length > MOST_HEARD) /* a board that never stops talking */
        forget(t);
    hear(t, bytes, got);
    return end;
}

static bool ends_with(const struct mos_talk *t, const char *text) {
    size_t n = strlen(text);
    return t->heard.length >= n && memcmp(t->heard.data + t->heard.length - n, text, n) == 0;
}

/* The prompt stands at the end, at the start of a line. */
static bool at_prompt(const struct mos_talk *t) {
    size_t n = strlen(t->prompt);
    return ends_with(t, t->prompt) &&
           (t->heard.length == n || t->heard.data[t->heard.length - n - 1] == '\n');
}

static enum mos_talk_end type(struct mos_talk *t, const char *text, size_t length) {
    int e = t->wires->write(t->wires, t->line, text, length);
    return e ? gone(t, e) : MOS_TALK_ANSWERED;
}

enum mos_talk_end mos_talk_await(struct mos_talk *t, const char *text, int64_t ns) {
    int64_t until = now(t) + ns;
    for (;;) {
        if (strstr(mos_buf_string(&t->heard), text)) {
            forget(t);
            return MOS_TALK_ANSWERED;
        }
        if (now(t) >= until)
            return MOS_TALK_SILENT;
        enum mos_talk_end end = listen(t, until);
        if (end > MOS_TALK_SILENT)
            return end;
    }
}

/* Until the prompt stands there; what came before it is in t->heard. */
static enum mos_talk_end await_prompt(struct mos_talk *t, int64_t ns) {
    int64_t until = now(t) + ns;
    while (!at_prompt(t)) {
        if (now(t) >= until)
            return MOS_TALK_SILENT;
        enum mos_talk_end end = listen(t, until);
        if (end > MOS_TALK_SILENT)
            return end;
    }
    return MOS_TALK_ANSWERED;
}

enum mos_talk_end mos_talk_reach_prompt(struct mos_talk *t, int64_t ns) {
    int64_t until = now(t) + ns, typed = 0;
    enum mos_talk_end end = MOS_TALK_SILENT;
    while (end == MOS_TALK_SILENT && now(t) < until) {
        /* a board that says something may be at its countdown; into a silent line keys pile up */
        if (!typed || t->heard.length || now(t) - typed >= SECOND) {
            typed = now(t);
            end = type(t, t->interrupt, strlen(t->interrupt));
        }
        forget(t);
        if (end == MOS_TALK_ANSWERED)
            end = MOS_TALK_SILENT;
        if (end == MOS_TALK_SILENT)
            end =
                await_prompt(t, (int64_t)mos_min((uint64_t)(until - now(t)), (uint64_t)(200 * MS)));
    }
    /* what was typed while it started up still comes to its prompt */
    while (end == MOS_TALK_ANSWERED) {
        forget(t);
        end = listen(t, now(t) + 300 * MS);
    }
    return end == MOS_TALK_SILENT && now(t) < until ? MOS_TALK_ANSWERED : end;
}

/* ---- commands ---- */

/* Types it until it comes back as it was typed: nothing else is ever entered. */
static enum mos_talk_end type_right(struct mos_talk *t, const char *command) {
    size_t n = strlen(command);
    enum mos_talk_end end = MOS_TALK_NOISE;
    for (unsigned tries = 0; tries < MOST_TYPED; tries++) {
        forget(t);
        end = type(t, command, n);
        int64_t until = now(t) + SECOND + (int64_t)n * 10 * MS;
        while (end <= MOS_TALK_SILENT && t->heard.length < n && now(t) < until)
            end = listen(t, until);
        if (end > MOS_TALK_SILENT)
            return end;
        if (t->heard.length == n && memcmp(t->heard.data, command, n) == 0)
            return MOS_TALK_ANSWERED;
        t->retyped++;
        bool mute = !t->heard.length;
        end = mos_talk_reach_prompt(t, 3 * SECOND);
        if (end != MOS_TALK_ANSWERED)
            return mute || end != MOS_TALK_SILENT ? end : MOS_TALK_NOISE;
        end = MOS_TALK_NOISE;
    }
    return end;
}

/* Has it been entered?  The loader begins a new line at once; else the key got lost. */
static enum mos_talk_end press_enter(struct mos_talk *t) {
    forget(t);
    enum mos_talk_end end = type(t, "\r", 1);
    int64_t until = now(t) + 2 * SECOND;
    while (end <= MOS_TALK_SILENT && !strchr(mos_buf_string(&t->heard), '\n')) {
        if (now(t) >= until)
            return MOS_TALK_NOISE;
        end = listen(t, until);
    }
    return end > MOS_TALK_SILENT ? end : MOS_TALK_ANSWERED;
}

enum mos_talk_end mos_talk_enter(struct mos_talk *t, const char *command) {
    enum mos_talk_end end = MOS_TALK_NOISE;
    for (unsigned tries = 0; tries < MOST_TYPED && end == MOS_TALK_NOISE; tries++) {
        end = type_right(t, command);
        if (end != MOS_TALK_ANSWERED)
            return end;
        end = press_enter(t);
        if (end != MOS_TALK_NOISE)
            return end;
        t->retyped++;
        if (mos_talk_reach_prompt(t, 3 * SECOND) != MOS_TALK_ANSWERED)
            return MOS_TALK_SILENT;
    }
    return end;
}

static enum mos_talk_end answer_of(struct mos_talk *t, int64_t ns, const char **answer) {
    enum mos_talk_end end = await_prompt(t, ns);
    if (end == MOS_TALK_ANSWERED)
        t->heard.length -= strlen(t->prompt);
    *answer = mos_buf_string(&t->heard);
    return end;
}

enum mos_talk_end mos_talk_ask(struct mos_talk *t, const char *command, int64_t ns,
                               const char **answer) {
    *answer = "";
    enum mos_talk_end end = mos_talk_enter(t, command);
    return end == MOS_TALK_ANSWERED ? answer_of(t, ns, answer) : end;
}

static enum mos_talk_end send_packet(struct mos_talk *t, struct mos_xmodem *x,
                                     const uint8_t *from) {
    uint8_t packet[MOS_XMODEM_PACKET];
    uint64_t at;
    size_t length, n = mos_xmodem_next(x, now(t), packet, &at, &length);
    if (length) {
        memcpy(packet + 3, from + at, length);
        mos_xmodem_seal(x, packet, length);
    }
    return n ? type(t, (const char *)packet, n) : MOS_TALK_ANSWERED;
}

enum mos_talk_end mos_talk_send(struct mos_talk *t, const char *command, const char *calls,
                                const char *name, const void *from, size_t length, int64_t ns,
                                const char **answer, const char **why) {
    uint8_t bytes[256];
    size_t got;
    struct mos_xmodem y;
    const struct mos_xmodem_file file = {name, length};
    *answer = "";
    *why = NULL;
    enum mos_talk_end end = mos_talk_enter(t, command);
    int64_t until = now(t) + 10 * SECOND;
    while (end <= MOS_TALK_SILENT && !strstr(mos_buf_string(&t->heard), calls)) {
        if (at_prompt(t) || now(t) >= until) { /* it does not even begin */
            *answer = mos_buf_string(&t->heard);
            return at_prompt(t) ? MOS_TALK_ANSWERED : MOS_TALK_SILENT;
        }
        end = listen(t, until);
    }
    mos_xmodem_begin(&y, MOS_YMODEM, &file, 1, now(t));
    const char *call = strstr(mos_buf_string(&t->heard), calls);
    if (call) /* it may have called already */
        mos_xmodem_take(&y, (const uint8_t *)call + strlen(calls), strlen(call) - strlen(calls),
                        now(t));
    forget(t);
    until = now(t) + ns;
    while (end <= MOS_TALK_SILENT && y.state < MOS_XMODEM_DONE && now(t) < until) {
        end = send_packet(t, &y, from);
        if (end > MOS_TALK_SILENT || y.state >= MOS_XMODEM_DONE)
            break;
        end = step(t, y.due, bytes, sizeof bytes, &got);
        size_t taken = mos_xmodem_take(&y, bytes, got, now(t));
        hear(t, bytes + taken, got - taken);
    }
    if (end > MOS_TALK_SILENT)
        return end;
    if (y.state != MOS_XMODEM_DONE) {
        *why = y.why ? y.why : "it took too long";
        type(t, "\x18\x18\x18\x18\x18", 5); /* both sides give up */
        return mos_talk_reach_prompt(t, 5 * SECOND);
    }
    return answer_of(t, 10 * SECOND, answer);
}

const char *mos_talk_end_text(const struct mos_talk *t, enum mos_talk_end end) {
    switch (end) {
    case MOS_TALK_SILENT:
        return "the board no longer answers";
    case MOS_TALK_NOISE:
        return "what is typed does not come back as it was: the line loses or changes characters";
    case MOS_TALK_GONE:
        return t->errnum == ENODEV
                   ? "the serial line is gone"
                   : mos_printf(t->ctx->arena, "the line failed: %s", mos_errno_text(t->errnum));
    case MOS_TALK_STOPPED:
        return "it was interrupted";
    default:
        return "";
    }
}
