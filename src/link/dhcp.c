#include "link/dhcp.h"

#include "base/bytes.h"

#include <string.h>

/* ---- the packet: RFC 2131, 2 ---- */

enum {
    REQUEST = 1,
    REPLY = 2,
    ETHERNET = 1,
    ETHERNET_SIZE = 6,
    AT_ID = 4,
    ID_AND_TIME = 8, /* with the flags */
    AT_FLAGS = 10,
    AT_CLIENT = 12,
    AT_YOURS = 16,
    AT_SERVER = 20,
    AT_RELAY = 24,
    AT_ETHERNET = 28,
    AT_FILE = 108,
    FILE_SIZE = 128,
    AT_COOKIE = 236,
    AT_OPTIONS = 240,
    BROADCAST = 0x8000,
    MOST_NAME = FILE_SIZE - 1
};
#define COOKIE UINT32_C(0x63825363)
#define EVERYBODY UINT32_C(0xffffffff)

/* Options of RFC 2132. */
enum {
    PAD = 0,
    MASK = 1,
    WANTED = 50,
    LEASE = 51,
    KIND = 53,
    SERVER = 54,
    BOOT_FILE = 67,
    END = 255
};
enum kind { PLAIN, DISCOVER, OFFER, REQUESTED, DECLINE, ACK, NAK, RELEASE, INFORM };

/* What it asks for. */
struct asked {
    enum kind kind; /* PLAIN: it is BOOTP */
    uint32_t wanted, server;
    bool wants, names_server;
};

/* One option behind another; an option that does not fit ends them. */
static struct asked read_options(const uint8_t *p, const uint8_t *end) {
    struct asked a = {PLAIN, 0, 0, false, false};
    while (p < end && *p != END) {
        if (*p == PAD) {
            p++;
            continue;
        }
        if (end - p < 2 || end - p - 2 < p[1])
            break;
        if (*p == KIND && p[1] == 1)
            a.kind = p[2] >= DISCOVER && p[2] <= INFORM ? (enum kind)p[2] : OFFER;
        if (*p == WANTED && p[1] == 4) {
            a.wanted = mos_be32(p + 2);
            a.wants = true;
        }
        if (*p == SERVER && p[1] == 4) {
            a.server = mos_be32(p + 2);
            a.names_server = true;
        }
        p += 2 + p[1];
    }
    return a;
}

/* ---- the answer ---- */

static uint8_t *put_number(uint8_t *p, uint8_t option, uint32_t value) {
    p[0] = option;
    p[1] = 4;
    mos_put_be32(p + 2, value);
    return p + 6;
}

static size_t answer(const struct mos_dhcp *d, const uint8_t *packet, enum kind asked,
                     enum kind kind, uint8_t *out, struct mos_peer *to) {
    bool gives = kind == OFFER || kind == ACK || kind == PLAIN;
    uint32_t has = mos_be32(packet + AT_CLIENT);
    memset(out, 0, MOS_DHCP_PACKET);
    out[0] = REPLY;
    out[1] = ETHERNET;
    out[2] = ETHERNET_SIZE;
    memcpy(out + AT_ID, packet + AT_ID, ID_AND_TIME);
    memcpy(out + AT_ETHERNET, d->ethernet, ETHERNET_SIZE);
    if (gives) {
        if (asked != INFORM)
            mos_put_be32(out + AT_YOURS, d->address);
        mos_put_be32(out + AT_CLIENT, asked == DISCOVER ? 0 : has);
        mos_put_be32(out + AT_SERVER, d->own);
        memcpy(out + AT_FILE, d->file, strnlen(d->file, MOST_NAME));
    }
    mos_put_be32(out + AT_COOKIE, COOKIE);
    uint8_t *p = out + AT_OPTIONS;
    if (kind != PLAIN) {
        *p++ = KIND;
        *p++ = 1;
        *p++ = (uint8_t)kind;
        p = put_number(p, SERVER, d->own);
    }
    if (gives)
        p = put_number(p, MASK, d->mask);
    if (gives && kind != PLAIN && asked != INFORM)
        p = put_number(p, LEASE, MOS_DHCP_LEASE);
    if (gives && kind != PLAIN && *d->file) {
        size_t n = strnlen(d->file, MOST_NAME);
        *p++ = BOOT_FILE;
        *p++ = (uint8_t)n;
        memcpy(p, d->file, n);
        p += n;
    }
    *p = END;
    /* who has no address yet hears what goes to everybody; so does who is told that its own is
     * wrong
     */
    *to = (struct mos_peer){has && gives ? has : EVERYBODY, MOS_DHCP_CLIENT};
    return MOS_DHCP_PACKET;
}

/* An address that it has, or had: RFC 2131, 4.3.2. */
static size_t take_request(const struct mos_dhcp *d, const uint8_t *packet, const struct asked *a,
                           uint8_t *out, struct mos_peer *to, struct mos_dhcp_event *event) {
    uint32_t has = mos_be32(packet + AT_CLIENT), wanted = a->wants ? a->wanted : has;
    event->wanted = wanted;
    if (a->names_server && a->server != d->own)
        return 0; /* it took somebody else's offer */
    event->kind = wanted == d->address ? MOS_DHCP_GIVEN : MOS_DHCP_REFUSED;
    return answer(d, packet, a->kind, wanted == d->address ? ACK : NAK, out, to);
}

size_t mos_dhcp_answer(const struct mos_dhcp *d, const uint8_t *packet, size_t length, uint8_t *out,
                       struct mos_peer *to, struct mos_dhcp_event *event) {
    *event = (struct mos_dhcp_event){.kind = MOS_DHCP_NOTHING};
    if (length < AT_COOKIE || packet[0] != REQUEST || packet[1] != ETHERNET ||
        packet[2] != ETHERNET_SIZE || mos_be32(packet + AT_RELAY))
        return 0;
    memcpy(event->ethernet, packet + AT_ETHERNET, ETHERNET_SIZE);
    if (memcmp(event->ethernet, d->ethernet, ETHERNET_SIZE) != 0) {
        event->kind = MOS_DHCP_STRANGER;
        return 0;
    }
    struct asked a = {PLAIN, 0, 0, false, false};
    if (length >= AT_OPTIONS && mos_be32(packet + AT_COOKIE) == COOKIE)
        a = read_options(packet + AT_OPTIONS, packet + length);
    event->wanted = a.wanted;
    switch (a.kind) {
    case PLAIN:
        event->kind = MOS_DHCP_GIVEN;
        return answer(d, packet, PLAIN, PLAIN, out, to);
    case DISCOVER:
        event->kind = MOS_DHCP_OFFERED;
        return answer(d, packet, DISCOVER, OFFER, out, to);
    case REQUESTED:
        return take_request(d, packet, &a, out, to, event);
    case INFORM:
        event->kind = MOS_DHCP_GIVEN;
        event->wanted = mos_be32(packet + AT_CLIENT);
        return answer(d, packet, INFORM, ACK, out, to);
    case DECLINE:
        event->kind = MOS_DHCP_DECLINED;
        return 0;
    case RELEASE:
        event->kind = MOS_DHCP_RELEASED;
        return 0;
    default:
        return 0;
    }
}

static int hex_digit(char c) {
    static const char digits[] = "0123456789abcdef";
    const char *at = c ? strchr(digits, c >= 'A' && c <= 'F' ? c - 'A' + 'a' : c) : NULL;
    return at ? (int)(at - digits) : -1;
}

bool mos_dhcp_ethernet(const char *text, uint8_t out[6]) {
    unsigned all = 0;
    for (unsigned i = 0; i < ETHERNET_SIZE; i++, text += 3) {
        int high = hex_digit(text[0]), low = high < 0 ? -1 : hex_digit(text[1]);
        if (low < 0 || text[2] != (i + 1 < ETHERNET_SIZE ? ':' : 0))
            return false;
        out[i] = (uint8_t)(high << 4 | low);
        all |= out[i];
    }
    return all && !(out[0] & 1); /* the lowest bit of the first: a group */
}
