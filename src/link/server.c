#include "link/server.h"

#include "base/bytes.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

enum { NOT_FOUND = 1, NOT_ALLOWED = 2, FULL = 3 };
#define SECOND INT64_C(1000000000)

int mos_server_open(struct mos_server *s, uint32_t address) {
    const struct mos_peer own = {address, MOS_TFTP_PORT};
    s->address = address;
    return s->wires->open_datagrams(s->wires, &own, &s->control);
}

static void end(struct mos_server *s, size_t i) {
    s->wires->close(s->wires, s->transfers[i].wire);
    s->transfers[i].used = false;
}

void mos_server_close(struct mos_server *s) {
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS; i++)
        if (s->transfers[i].used)
            end(s, i);
    s->wires->close(s->wires, s->control);
}

size_t mos_server_wires(const struct mos_server *s, int *out) {
    size_t n = 0;
    out[n++] = s->control;
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS; i++)
        if (s->transfers[i].used)
            out[n++] = s->transfers[i].wire;
    return n;
}

int64_t mos_server_due(const struct mos_server *s, int64_t now) {
    int64_t due = now + SECOND;
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS; i++)
        if (s->transfers[i].used && s->transfers[i].t.due < due)
            due = s->transfers[i].t.due;
    return due;
}

static void refuse(struct mos_server *s, const struct mos_peer *to, unsigned code,
                   const char *why) {
    size_t n = mos_tftp_refuse(s->packet, sizeof s->packet, code, why);
    s->wires->send(s->wires, s->control, s->packet, n, to); /* it asks again where that is lost */
}

/* A request: who asks again for what is under way has not heard of it. */
static void take_request(struct mos_server *s, size_t length, const struct mos_peer *from,
                         int64_t now) {
    struct mos_tftp_wish wish;
    const char *why;
    uint64_t size;
    size_t free = MOS_SERVER_TRANSFERS;
    if (!mos_tftp_read_request(s->packet, length, &wish, &why)) {
        if (why)
            refuse(s, from, NOT_ALLOWED, why);
        return;
    }
    if (!s->find(s->self, wish.file, &size)) {
        snprintf(s->asked, sizeof s->asked, "%.60s", wish.file);
        refuse(s, from, NOT_FOUND, "there is no such file here");
        return;
    }
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS; i++) {
        if (s->transfers[i].used && s->transfers[i].peer.address == from->address &&
            s->transfers[i].peer.port == from->port)
            end(s, i);
        if (!s->transfers[i].used && free == MOS_SERVER_TRANSFERS)
            free = i;
    }
    const struct mos_peer own = {s->address, 0};
    if (free == MOS_SERVER_TRANSFERS ||
        s->wires->open_datagrams(s->wires, &own, &s->transfers[free].wire)) {
        refuse(s, from, FULL, "too many ask at once");
        return;
    }
    s->transfers[free].used = true;
    s->transfers[free].peer = *from;
    mos_tftp_begin(&s->transfers[free].t, &wish, size, now);
}

/* Everything that can be sent now. */
static int send_due(struct mos_server *s, size_t i, int64_t now) {
    struct mos_tftp *t = &s->transfers[i].t;
    uint64_t at;
    size_t length, head;
    while ((head = mos_tftp_next(t, now, s->packet, &at, &length))) {
        int e = length ? s->read(s->self, t->wish.file, s->packet + head, length, at) : 0;
        if (e)
            return e;
        e = s->wires->send(s->wires, s->transfers[i].wire, s->packet, head + length,
                           &s->transfers[i].peer);
        if (e && e != ENETUNREACH && e != EHOSTUNREACH && e != ENETDOWN && e != EAGAIN &&
            e != ECONNREFUSED && e != ENOBUFS) /* a direct cable is lost at every reset */
            return e;
    }
    return 0;
}

static void step_transfer(struct mos_server *s, size_t i, int64_t now, int *errnum) {
    struct mos_tftp *t = &s->transfers[i].t;
    struct mos_peer from;
    size_t got;
    for (unsigned most = 2 * MOS_TFTP_WINDOW; most; most--) {
        if (s->wires->receive(s->wires, s->transfers[i].wire, s->packet, sizeof s->packet, &got,
                              &from))
            break;
        if (from.address == s->transfers[i].peer.address && from.port == s->transfers[i].peer.port)
            mos_tftp_take(t, s->packet, got, now);
    }
    int e = send_due(s, i, now);
    if (t->state == MOS_TFTP_DONE)
        s->served += t->size;
    if (t->state == MOS_TFTP_FAILED) {
        s->why = t->why;
        if (t->why == t->said) {
            memcpy(s->said, t->said, sizeof s->said);
            s->why = s->said;
        }
    }
    if (t->state != MOS_TFTP_GOES_ON || e)
        end(s, i);
    *errnum = *errnum ? *errnum : e;
}

int mos_server_step(struct mos_server *s, int64_t now) {
    struct mos_peer from;
    size_t got;
    int e = 0;
    while (s->wires->receive(s->wires, s->control, s->packet, sizeof s->packet, &got, &from) == 0)
        take_request(s, got, &from, now);
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS; i++)
        if (s->transfers[i].used)
            step_transfer(s, i, now, &e);
    return e;
}
