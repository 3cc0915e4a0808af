/* Packets as they come in at a network interface, before this computer's own filters: what asks for
 * us and never gets to us, and boards that look for somebody who is not there.  Without sockets and
 * clock: packets are given to it. */
#ifndef MOS_LINK_OVERHEAR_H
#define MOS_LINK_OVERHEAR_H

#include "mosaicum/wires.h"

enum mos_service { MOS_SERVES_TFTP, MOS_SERVES_DHCP, MOS_SERVES_HTTP, MOS_SERVICES };

/* Somebody who asks for one of the services. */
struct mos_asking {
    bool used;
    struct mos_peer from;
    enum mos_service service;
    int came;   /* packets that came in, less those that got to us */
    int64_t at; /* the last of them, ns */
};

/* Somebody who looks for an address. */
struct mos_looking {
    uint8_t ethernet[6];
    uint32_t from, wanted; /* wanted 0: nobody */
    unsigned times;
    int64_t at;
    bool told;
};

/* All zero at first, but what is ours. */
struct mos_overhear {
    uint32_t own;                 /* the address that is to be asked */
    uint16_t ports[MOS_SERVICES]; /* that are served, 0: none; HTTP by TCP, the others by UDP */
    bool told[MOS_SERVICES];      /* it was said that what comes there is dropped */
    uint64_t came;                /* packets to any of them */
    struct mos_asking asking[32];
    struct mos_looking looking[16];
};

/* A packet of IPv4 (RFC 791) or ARP (RFC 826), from its first byte on; its end may be cut off. */
void mos_overhear_packet(struct mos_overhear *o, const uint8_t *packet, size_t length, int64_t now);
/* A datagram got to us, before or after it is overheard. */
void mos_overhear_received(struct mos_overhear *o, enum mos_service service,
                           const struct mos_peer *from, int64_t now);
/* Who asked twice, and never got to us; once for each service; NULL: nobody. */
const struct mos_asking *mos_overhear_dropped(struct mos_overhear *o, int64_t now);
/* Who looked three times for an address that is not ours, and nobody has it; once each; NULL:
 * nobody. */
const struct mos_looking *mos_overhear_lost(struct mos_overhear *o, int64_t now);

#endif
