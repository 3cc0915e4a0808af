/* The log of a serial line: a line of text a line, with the seconds since listening began before
 * it. What is no text is written as \xNN, so that the bytes can be had again. */
#include "api/listen.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define SECOND INT64_C(1000000000)
#define FIRST_LINE "# mosaicum log 1"

enum { PIECE = 256 << 10, LONGEST = 64 << 10, TIME_DIGITS = 12 };

/* ---- writing ---- */

static bool put(struct listen_job *j, const void *bytes, size_t length) {
    int e = mos_out_write(&j->log, bytes, length, j->log_length);
    j->log_length += length;
    return !e || mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e, "Writing the log %s", j->log.path);
}

bool listen_log_open(struct listen_job *j, const char *path) {
    run_allow(j->m, path, MOS_REACH_READ | MOS_REACH_WRITE);
    if (!mos_out_open(&j->log, &j->m->ctx, path, true))
        return false;
    j->logs = true;
    j->pending = (struct mos_buf){.arena = j->m->arena};
    const char *first = mos_printf(j->m->arena, "%s of %s\n", FIRST_LINE, j->title);
    return put(j, first, strlen(first));
}

static bool put_line(struct listen_job *j) {
    char time[32];
    int64_t at = j->pending_at - j->began;
    int n = snprintf(time, sizeof time, "%*.6f  ", TIME_DIGITS, (double)at / (double)SECOND);
    bool ok = put(j, time, (size_t)n) && put(j, mos_buf_string(&j->pending), j->pending.length);
    j->pending.length = 0;
    return ok && put(j, "\n", 1);
}

bool listen_log_add(struct listen_job *j, const uint8_t *bytes, size_t length, int64_t at) {
    bool ok = true;
    for (size_t i = 0; i < length && ok && j->logs; i++) {
        uint8_t c = bytes[i];
        if (!j->pending.length)
            j->pending_at = at;
        if (c == '\n')
            ok = put_line(j);
        else if (c == '\\')
            mos_buf_text(&j->pending, "\\\\");
        else if ((c < 0x20 && c != '\t') || c >= 0x7f)
            mos_buf_printf(&j->pending, "\\x%02x", c);
        else
            mos_buf_char(&j->pending, (char)c);
        if (j->pending.length > LONGEST)
            ok = put_line(j);
    }
    return ok;
}

bool listen_log_close(struct listen_job *j) {
    if (!j->logs)
        return true;
    j->logs = false;
    bool ok = !j->pending.length || put_line(j);
    return ok && mos_out_commit(&j->log, j->log_length, true);
}

/* ---- reading ---- */

struct reading {
    struct listen_job *j;
    bool timed, begun; /* it is of our form; the first line was looked at */
    int64_t at;        /* of the last line */
    char line[LONGEST * 4 + 64];
    size_t length;
};

static int digit(char c) {
    return c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1;
}

/* Our form: the time, then the bytes. */
static void take_timed(struct reading *r) {
    char *text = r->line, *rest;
    r->line[r->length] = 0;
    double seconds = strtod(text, &rest);
    if (rest == text || rest[0] != ' ' || rest[1] != ' ' || seconds < 0 || seconds > 1e9)
        rest = text; /* somebody has edited it: a line without a time */
    else {
        r->at = (int64_t)(seconds * 1e9);
        rest += 2;
    }
    size_t n = 0;
    for (const char *p = rest, *end = text + r->length; p < end; n++) {
        bool hex =
            p + 3 < end && p[0] == '\\' && p[1] == 'x' && digit(p[2]) >= 0 && digit(p[3]) >= 0;
        text[n] = hex ? (char)(digit(p[2]) << 4 | digit(p[3])) : *p;
        p += hex ? 4 : *p == '\\' && p + 1 < end && p[1] == '\\' ? 2 : 1;
    }
    text[n++] = '\n';
    mos_watch_take(&r->j->watch, (const uint8_t *)text, n, r->at);
}

static void take_piece(struct reading *r, const char *bytes, size_t length) {
    if (!r->begun) {
        size_t n = strlen(FIRST_LINE);
        r->begun = true;
        r->timed = length > n && memcmp(bytes, FIRST_LINE, n) == 0;
        const char *end = r->timed ? memchr(bytes, '\n', length) : NULL;
        if (end) {
            length -= (size_t)(end + 1 - bytes);
            bytes = end + 1;
        }
    }
    if (!r->timed) {
        mos_watch_take(&r->j->watch, (const uint8_t *)bytes, length, r->at);
        return;
    }
    while (length) {
        const char *end = memchr(bytes, '\n', length);
        size_t n = end ? (size_t)(end - bytes) : length;
        if (r->length + n >= sizeof r->line - 1) { /* no line of ours */
            take_timed(r);
            r->length = 0;
        }
        n = n < sizeof r->line - 1 ? n : sizeof r->line - 2;
        memcpy(r->line + r->length, bytes, n);
        r->length += n;
        if (end) {
            take_timed(r);
            r->length = 0;
            n++;
        }
        bytes += n;
        length -= n;
    }
}

bool listen_log_read(struct listen_job *j, const char *path) {
    const struct mos_host *h = j->m->ctx.host;
    struct reading *r = mos_alloc(j->m->arena, sizeof *r);
    char *piece = mos_alloc(j->m->arena, PIECE);
    size_t got = 1;
    int file, e;
    r->j = j;
    run_allow(j->m, path, MOS_REACH_READ);
    h = j->m->ctx.host;
    e = h->open(h, path, MOS_OPEN_READ, &file);
    if (e)
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, e, "Opening %s", path);
    for (uint64_t at = 0; got && !e; at += got) {
        e = h->pread(h, file, piece, PIECE, at, &got);
        if (!e && got)
            take_piece(r, piece, got);
    }
    h->close(h, file);
    if (e)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e, "Reading %s", path);
    if (r->length)
        take_timed(r);
    j->timed = r->timed;
    return true;
}
