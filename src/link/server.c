#include "link/server.h"

#include "base/bytes.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

enum { NOT_FOUND = 1, NOT_ALLOWED = 2, FULL = 3 };
#define SECOND INT64_C(1000000000)

int mos_server_open(struct mos_server *s) {
    return s->wires->open_datagrams(s->wires, s->interface, &s->own, &s->control);
}

static void end(struct mos_server *s, size_t i, int64_t now) {
    struct mos_server_transfer *t = &s->transfers[i];
    s->wires->close(s->wires, t->wire);
    t->used = false;
    if (s->ended)
        s->ended(s->self, t, now);
}

void mos_server_close(struct mos_server *s) {
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS; i++)
        if (s->transfers[i].used)
            end(s, i, s->transfers[i].t.due);
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

/* A place for one more; who asks again for what is under way has not heard of it. */
static struct mos_server_transfer *place_for(struct mos_server *s, const struct mos_peer *from,
                                             int64_t now) {
    struct mos_server_transfer *place = NULL;
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS; i++) {
        struct mos_server_transfer *t = &s->transfers[i];
        if (t->used && t->peer.address == from->address && t->peer.port == from->port)
            end(s, i, now);
        if (!t->used && !place)
            place = t;
    }
    return place;
}

static void take_request(struct mos_server *s, size_t length, const struct mos_peer *from,
                         int64_t now) {
    struct mos_tftp_wish wish;
    struct mos_served served = {0};
    const char *why = "there is no such file here";
    if (!mos_tftp_read_request(s->packet, length, &wish, &why)) {
        if (why)
            refuse(s, from, NOT_ALLOWED, why);
        return;
    }
    struct mos_server_transfer *t = place_for(s, from, now);
    if (!t) {
        refuse(s, from, FULL, "too many ask at once");
        return;
    }
    if (!s->find(s->self, from, wish.file, &served, &why)) {
        snprintf(s->asked, sizeof s->asked, "%.60s", wish.file);
        refuse(s, from, NOT_FOUND, why);
        return;
    }
    *t = (struct mos_server_transfer){.peer = *from, .served = served, .began = now};
    mos_tftp_begin(&t->t, &wish, served.size, now);
    const struct mos_peer own = {s->own.address, 0};
    if (s->wires->open_datagrams(s->wires, s->interface, &own, &t->wire)) {
        t->t.state = MOS_TFTP_FAILED;
        t->t.why = "this computer has no more sockets";
        refuse(s, from, FULL, t->t.why);
        if (s->ended)
            s->ended(s->self, t, now);
        return;
    }
    t->used = true;
    t->connected = s->wires->connect_datagrams && /* the faster way, where there is one */
                   s->wires->connect_datagrams(s->wires, t->wire, from) == 0;
}

/* A cable that is connected to nothing but a board is lost at each of its resets, and with it often
 * the address: what could not be sent is sent again when it is due. */
static bool is_lost_for_now(int e) {
    return e == ENETUNREACH || e == EHOSTUNREACH || e == ENETDOWN || e == EAGAIN ||
           e == ECONNREFUSED || e == ENOBUFS || e == EINVAL || e == EADDRNOTAVAIL || e == ENODEV ||
           e == EPERM || e == EMSGSIZE;
}

/* Everything that can be sent now. */
static int send_due(struct mos_server *s, size_t i, int64_t now) {
    struct mos_server_transfer *transfer = &s->transfers[i];
    uint64_t at;
    size_t length, head;
    while ((head = mos_tftp_next(&transfer->t, now, s->packet, &at, &length))) {
        int e = length ? s->read(s->self, transfer->served.file, s->packet + head, length, at) : 0;
        if (e) {
            transfer->t.state = MOS_TFTP_FAILED;
            transfer->t.why = "the file can no longer be read here";
            refuse(s, &transfer->peer, 0, transfer->t.why);
            return 0;
        }
        e = s->wires->send(s->wires, transfer->wire, s->packet, head + length,
                           transfer->connected ? NULL : &transfer->peer);
        s->sends_badly = e;
        if (e && !is_lost_for_now(e))
            return e;
    }
    return 0;
}

/* With single blocks nothing but one answer comes. */
static void receive(struct mos_server *s, struct mos_server_transfer *transfer, int64_t now) {
    struct mos_peer from;
    size_t got;
    for (unsigned most = transfer->t.window == 1 ? 1 : 2 * MOS_TFTP_WINDOW; most; most--) {
        if (s->wires->receive(s->wires, transfer->wire, s->packet, sizeof s->packet, &got, &from))
            break;
        if (from.address == transfer->peer.address && from.port == transfer->peer.port)
            mos_tftp_take(&transfer->t, s->packet, got, now);
    }
}

static int step_transfer(struct mos_server *s, size_t i, bool ready, int64_t now) {
    struct mos_tftp *t = &s->transfers[i].t;
    if (ready)
        receive(s, &s->transfers[i], now);
    int e = send_due(s, i, now);
    uint64_t next = t->sent * t->block;
    if (s->ahead && t->state == MOS_TFTP_GOES_ON && next < t->size)
        s->ahead(s->self, s->transfers[i].served.file, next,
                 (size_t)mos_min((uint64_t)t->block, t->size - next));
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
        end(s, i, now);
    return e;
}

int mos_server_step(struct mos_server *s, unsigned ready, int64_t now) {
    struct mos_peer from;
    size_t got;
    int e = 0;
    unsigned bit = 2;
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS; i++)
        if (s->transfers[i].used) {
            int one = step_transfer(s, i, ready & bit, now);
            e = e ? e : one;
            bit <<= 1;
        }
    if (!(ready & 1))
        return e;
    while (s->wires->receive(s->wires, s->control, s->packet, sizeof s->packet, &got, &from) == 0) {
        if (s->heard)
            s->heard(s->self, &from);
        take_request(s, got, &from, now);
    }
    for (size_t i = 0; i < MOS_SERVER_TRANSFERS && !e; i++)
        if (s->transfers[i].used && !s->transfers[i].t.sent)
            e = step_transfer(s, i, false, now);
    return e;
}
