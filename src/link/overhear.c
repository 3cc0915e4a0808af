#include "link/overhear.h"

#include "base/bytes.h"

#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum {
    UDP = 17,
    TCP = 6,
    SYN = 2,
    ACK = 16,
    ARP_LENGTH = 28,
    TWICE = 2,
    OFTEN = 3,
    SETTLED_MS = 300, /* what is on its way to us is there by then */
    FORGOTTEN_S = 20  /* who says nothing for so long begins anew */
};

/* Of a table the entry that is the same, or one that nobody needs any more, or the oldest. */
static struct mos_asking *asking_of(struct mos_overhear *o, enum mos_service service,
                                    const struct mos_peer *from, int64_t now) {
    struct mos_asking *oldest = o->asking;
    for (size_t i = 0; i < sizeof o->asking / sizeof *o->asking; i++) {
        struct mos_asking *a = o->asking + i;
        if (a->used && a->service == service && a->from.address == from->address &&
            a->from.port == from->port && now - a->at < FORGOTTEN_S * SECOND)
            return a;
        if (oldest->used && (!a->used || a->at < oldest->at))
            oldest = a;
    }
    *oldest = (struct mos_asking){.used = true, .from = *from, .service = service, .at = now};
    return oldest;
}

static struct mos_looking *looking_of(struct mos_overhear *o, const uint8_t ethernet[6],
                                      uint32_t wanted, int64_t now) {
    struct mos_looking *oldest = o->looking;
    for (size_t i = 0; i < sizeof o->looking / sizeof *o->looking; i++) {
        struct mos_looking *l = o->looking + i;
        if (l->wanted == wanted && memcmp(l->ethernet, ethernet, 6) == 0) {
            if (now - l->at >= FORGOTTEN_S * SECOND)
                l->times = 0;
            return l;
        }
        if (oldest->wanted && (!l->wanted || l->at < oldest->at))
            oldest = l;
    }
    *oldest = (struct mos_looking){.wanted = wanted};
    memcpy(oldest->ethernet, ethernet, 6);
    return oldest;
}

/* MOS_SERVICES: none of them. */
static enum mos_service service_at(const struct mos_overhear *o, uint16_t port, bool stream) {
    int i = 0;
    while (i < MOS_SERVICES && !(port && o->ports[i] == port && stream == (i == MOS_SERVES_HTTP)))
        i++;
    return (enum mos_service)i;
}

static void hear_ipv4(struct mos_overhear *o, const uint8_t *p, size_t length, int64_t now) {
    const uint32_t everybody = UINT32_MAX;
    size_t head = (size_t)(p[0] & 15) * 4, ports = head + 4;
    uint32_t to = length >= 20 ? mos_be32(p + 16) : 0;
    if (head < 20 || length < ports || (mos_be16(p + 6) & 0x1fff)) /* a later part of one */
        return;
    bool stream = p[9] == TCP;
    if (p[9] != UDP && !stream)
        return;
    if (to != o->own && (stream || to != everybody))
        return;
    if (stream && (length < head + 14 || (p[head + 13] & (SYN | ACK)) != SYN))
        return;
    const struct mos_peer from = {mos_be32(p + 12), mos_be16(p + head)};
    enum mos_service service = service_at(o, mos_be16(p + head + 2), stream);
    if (service == MOS_SERVICES)
        return;
    struct mos_asking *a = asking_of(o, service, &from, now);
    a->came++;
    a->at = now;
    o->came++;
}

static void hear_arp(struct mos_overhear *o, const uint8_t *p, size_t length, int64_t now) {
    static const uint8_t request[8] = {0, 1, 8, 0, 6, 4, 0, 1}; /* of Ethernet for IPv4 */
    if (length < ARP_LENGTH || memcmp(p, request, sizeof request) != 0)
        return;
    uint32_t from = mos_be32(p + 14), wanted = mos_be32(p + 24);
    if (!from || !wanted || from == wanted || wanted == o->own || from == o->own)
        return;
    struct mos_looking *l = looking_of(o, p + 8, wanted, now);
    l->from = from;
    l->times++;
    l->at = now;
}

void mos_overhear_packet(struct mos_overhear *o, const uint8_t *packet, size_t length,
                         int64_t now) {
    if (length && packet[0] >> 4 == 4)
        hear_ipv4(o, packet, length, now);
    else if (length && !packet[0])
        hear_arp(o, packet, length, now);
}

void mos_overhear_received(struct mos_overhear *o, enum mos_service service,
                           const struct mos_peer *from, int64_t now) {
    struct mos_asking *a = asking_of(o, service, from, now);
    a->came--;
    a->at = now;
}

const struct mos_asking *mos_overhear_dropped(struct mos_overhear *o, int64_t now) {
    for (size_t i = 0; i < sizeof o->asking / sizeof *o->asking; i++) {
        const struct mos_asking *a = o->asking + i;
        if (a->used && a->came >= TWICE && now - a->at >= SETTLED_MS * MS && !o->told[a->service]) {
            o->told[a->service] = true;
            return a;
        }
    }
    return NULL;
}

const struct mos_looking *mos_overhear_lost(struct mos_overhear *o, int64_t now) {
    for (size_t i = 0; i < sizeof o->looking / sizeof *o->looking; i++) {
        struct mos_looking *l = o->looking + i;
        if (l->wanted && !l->told && l->times >= OFTEN && now - l->at < FORGOTTEN_S * SECOND) {
            l->told = true;
            return l;
        }
    }
    return NULL;
}
