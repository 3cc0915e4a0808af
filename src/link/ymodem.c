#include "link/ymodem.h"

#include "base/bytes.h"

#include <stdio.h>
#include <string.h>

enum { SOH = 1, STX = 2, EOT = 4, ACK = 6, NAK = 0x15, CAN = 0x18, FILLED = 0x1a, CALL = 'C' };
enum { SHORT = 128, LONG = 1024, MOST_TRIES = 10 };
#define SECOND INT64_C(1000000000)
#define PATIENCE (10 * SECOND) /* until something is sent again */
#define CALLING (60 * SECOND)  /* until the receiver calls for the first time */

/* CRC-16 of XMODEM: x^16 + x^12 + x^5 + 1, from 0. */
static uint16_t sum_of(const uint8_t *bytes, size_t length) {
    unsigned sum = 0;
    for (size_t i = 0; i < length; i++) {
        sum ^= (unsigned)bytes[i] << 8;
        for (int k = 0; k < 8; k++)
            sum = sum & 0x8000 ? sum << 1 ^ 0x1021 : sum << 1;
    }
    return (uint16_t)sum;
}

void mos_ymodem_begin(struct mos_ymodem *y, const char *name, uint64_t size, int64_t now) {
    *y = (struct mos_ymodem){.name = name, .size = size, .due = now + CALLING};
}

static void go(struct mos_ymodem *y, enum mos_ymodem_state state, bool speaks) {
    y->state = state;
    y->speaks = speaks;
    y->tries = 0;
}

static void fail(struct mos_ymodem *y, const char *why) {
    y->state = MOS_YMODEM_FAILED;
    y->why = why;
}

static void confirmed(struct mos_ymodem *y) {
    switch (y->state) {
    case MOS_YMODEM_NAMED:
        go(y, MOS_YMODEM_ASKED, false);
        break;
    case MOS_YMODEM_SENDS:
        y->sent = mos_min(y->sent + LONG, y->size);
        y->number++;
        go(y, y->sent < y->size ? MOS_YMODEM_SENDS : MOS_YMODEM_ENDS, true);
        break;
    case MOS_YMODEM_ENDS:
        go(y, MOS_YMODEM_CLOSED, false);
        break;
    case MOS_YMODEM_LEAVES:
        go(y, MOS_YMODEM_DONE, false);
        break;
    default:
        break;
    }
}

static void called(struct mos_ymodem *y) {
    if (y->state == MOS_YMODEM_CALLED)
        go(y, MOS_YMODEM_NAMED, true);
    else if (y->state == MOS_YMODEM_ASKED) {
        y->number = 1;
        go(y, y->size ? MOS_YMODEM_SENDS : MOS_YMODEM_ENDS, true);
    } else if (y->state == MOS_YMODEM_CLOSED)
        go(y, MOS_YMODEM_LEAVES, true);
}

size_t mos_ymodem_take(struct mos_ymodem *y, const uint8_t *bytes, size_t length, int64_t now) {
    size_t i = 0;
    for (; i < length && y->state < MOS_YMODEM_DONE; i++) {
        enum mos_ymodem_state before = y->state;
        y->cancels = bytes[i] == CAN ? y->cancels + 1 : 0;
        if (y->cancels == 2)
            fail(y, "the board broke it off");
        else if (y->speaks)
            continue; /* it came before what it could be an answer to */
        else if (bytes[i] == ACK)
            confirmed(y);
        else if (bytes[i] == CALL)
            called(y);
        else if (bytes[i] == NAK && y->state != MOS_YMODEM_CALLED) {
            y->speaks = true;
            if (++y->tries > MOST_TRIES)
                fail(y, "the board did not get it whole, however often it was sent");
        }
        if (y->state != before)
            y->due = now + PATIENCE;
    }
    return i;
}

static size_t header(struct mos_ymodem *y, uint8_t *packet) {
    memset(packet, 0, 3 + SHORT);
    packet[0] = SOH;
    packet[2] = 0xff;
    if (y->state == MOS_YMODEM_NAMED)
        snprintf((char *)packet + 3, SHORT, "%.100s%c%llu", y->name, 0,
                 (unsigned long long)y->size);
    mos_ymodem_seal(packet, SHORT);
    return 3 + SHORT + 2;
}

void mos_ymodem_seal(uint8_t *packet, size_t length) {
    size_t whole = packet[0] == SOH ? SHORT : LONG;
    memset(packet + 3 + length, FILLED, whole - length);
    mos_put_be16(packet + 3 + whole, sum_of(packet + 3, whole));
}

size_t mos_ymodem_next(struct mos_ymodem *y, int64_t now, uint8_t *packet, uint64_t *at,
                       size_t *length) {
    *at = *length = 0;
    if (y->state >= MOS_YMODEM_DONE)
        return 0;
    if (!y->speaks) {
        if (now < y->due)
            return 0;
        bool spoke = y->state == MOS_YMODEM_NAMED || y->state == MOS_YMODEM_SENDS ||
                     y->state == MOS_YMODEM_ENDS || y->state == MOS_YMODEM_LEAVES;
        if (!spoke || ++y->tries > MOST_TRIES) {
            if (y->state == MOS_YMODEM_CLOSED) /* it has everything, and calls for no more */
                y->state = MOS_YMODEM_DONE;
            else
                fail(y, y->state == MOS_YMODEM_CALLED ? "the board does not ask for it"
                                                      : "the board no longer answers");
            return 0;
        }
    }
    y->speaks = false;
    y->due = now + PATIENCE;
    if (y->state == MOS_YMODEM_NAMED || y->state == MOS_YMODEM_LEAVES)
        return header(y, packet);
    if (y->state == MOS_YMODEM_ENDS) {
        packet[0] = EOT;
        return 1;
    }
    packet[0] = STX;
    packet[1] = y->number;
    packet[2] = (uint8_t)~y->number;
    *at = y->sent;
    *length = (size_t)mos_min((uint64_t)LONG, y->size - y->sent);
    return MOS_YMODEM_PACKET;
}
