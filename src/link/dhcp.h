/* An address for one board: BOOTP (RFC 951) and DHCP (RFC 2131, options of RFC 2132), answered to
 * one hardware address and to nobody else.  Without sockets and clock: packets are given to it. */
#ifndef MOS_LINK_DHCP_H
#define MOS_LINK_DHCP_H

#include "mosaicum/wires.h"

enum { MOS_DHCP_SERVER = 67, MOS_DHCP_CLIENT = 68, MOS_DHCP_PACKET = 576, MOS_DHCP_LEASE = 3600 };

/* What is given, and to whom. */
struct mos_dhcp {
    uint8_t ethernet[6]; /* of the board */
    uint32_t own;        /* this computer's address, where the files are */
    uint32_t address, mask;
    const char *file; /* the name that it is told to ask for; "": none */
};

enum mos_dhcp_kind {
    MOS_DHCP_NOTHING,  /* no request, or meant for another server */
    MOS_DHCP_STRANGER, /* of another hardware address: left alone */
    MOS_DHCP_OFFERED,  /* the board looks for an address and was told of this one */
    MOS_DHCP_GIVEN,    /* it takes it */
    MOS_DHCP_REFUSED,  /* it wanted to keep another one, and was told not to */
    MOS_DHCP_DECLINED, /* it says that somebody else has it */
    MOS_DHCP_RELEASED  /* it gave it back */
};
struct mos_dhcp_event {
    enum mos_dhcp_kind kind;
    uint8_t ethernet[6]; /* who asked */
    uint32_t wanted;     /* the address that it asked for; 0: none */
};

/* A packet has come to the port of servers.  Bytes of the answer in `out` (of MOS_DHCP_PACKET), 0:
 * none; *to: where it goes. */
size_t mos_dhcp_answer(const struct mos_dhcp *d, const uint8_t *packet, size_t length, uint8_t *out,
                       struct mos_peer *to, struct mos_dhcp_event *event);
/* "52:54:00:12:34:56"; false: it is no hardware address of one device. */
bool mos_dhcp_ethernet(const char *text, uint8_t out[6]);

#endif
