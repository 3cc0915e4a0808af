/* The sending side. */
#include "link/xmodem.h"

#include "base/bytes.h"
#include "link/xmodem-signs.h"

#include <stdio.h>
#include <string.h>

#define PATIENCE (10 * SECOND) /* until something is sent again */
#define CALLING (60 * SECOND)  /* until the receiver calls for the first time */
#define DOUBLED (SECOND / 50)

enum {
    TOO_LONG = 2,   /* so many times in a row a long block did not arrive */
    END_TRIES = 10, /* who has confirmed every block may have left */
    LAST_TRIES = 3  /* … and who has confirmed a file's end has it */
};

uint16_t mos_xmodem_crc(const uint8_t *bytes, size_t length) {
    unsigned sum = 0;
    for (size_t i = 0; i < length; i++) {
        sum ^= (unsigned)bytes[i] << 8;
        for (int k = 0; k < 8; k++)
            sum = sum & 0x8000 ? sum << 1 ^ 0x1021 : sum << 1;
    }
    return (uint16_t)sum;
}

void mos_xmodem_begin(struct mos_xmodem *x, enum mos_xmodem_kind kind,
                      const struct mos_xmodem_file *files, size_t count, int64_t now) {
    *x = (struct mos_xmodem){.kind = kind, .files = files, .count = count, .due = now + CALLING};
}

static void go(struct mos_xmodem *x, enum mos_xmodem_state state, bool speaks) {
    x->state = state;
    x->speaks = speaks;
    x->tries = 0;
}

static void fail(struct mos_xmodem *x, const char *why) {
    x->state = MOS_XMODEM_FAILED;
    x->why = why;
}

static void send_content(struct mos_xmodem *x) {
    x->number = 1;
    x->sent = 0;
    go(x, x->files[x->current].size ? MOS_XMODEM_SENDS : MOS_XMODEM_ENDS, true);
}

static void confirmed(struct mos_xmodem *x) {
    const struct mos_xmodem_file *f = &x->files[x->current];
    switch (x->state) {
    case MOS_XMODEM_NAMED:
        go(x, MOS_XMODEM_ASKED, false);
        break;
    case MOS_XMODEM_SENDS:
        x->sent = mos_min(x->sent + x->block, f->size);
        x->number++;
        go(x, x->sent < f->size ? MOS_XMODEM_SENDS : MOS_XMODEM_ENDS, true);
        break;
    case MOS_XMODEM_ENDS:
        go(x, x->kind == MOS_YMODEM ? MOS_XMODEM_CLOSED : MOS_XMODEM_DONE, false);
        break;
    case MOS_XMODEM_LEAVES:
        go(x, MOS_XMODEM_DONE, false);
        break;
    default:
        break;
    }
}

/* It wants something: a C for blocks with a CRC, a NAK at the very beginning for ones with a sum.
 */
static void called(struct mos_xmodem *x) {
    if (x->state == MOS_XMODEM_CALLED && x->kind == MOS_YMODEM)
        go(x, MOS_XMODEM_NAMED, true);
    else if (x->state == MOS_XMODEM_CALLED || x->state == MOS_XMODEM_ASKED)
        send_content(x);
    else if (x->state == MOS_XMODEM_CLOSED && x->current + 1 < x->count) {
        x->current++;
        x->sent = 0;
        go(x, MOS_XMODEM_NAMED, true);
    } else if (x->state == MOS_XMODEM_CLOSED)
        go(x, MOS_XMODEM_LEAVES, true);
}

static void refused(struct mos_xmodem *x) {
    x->speaks = true;
    x->resent++;
    x->small |= ++x->tries >= TOO_LONG && x->block == MOS_XMODEM_LONG;
    if (x->tries > MOST_TRIES)
        fail(x, "the other side did not get it whole, however often it was sent");
}

/* What comes right behind a block cannot be about it: it is a sign that the line has doubled. */
static bool may_refuse(const struct mos_xmodem *x, uint8_t c, int64_t now) {
    bool first = x->state == MOS_XMODEM_NAMED || (x->state == MOS_XMODEM_SENDS && !x->sent);
    if (c == CALL) /* who calls has not got anything yet */
        return first && now - x->spoke >= SECOND;
    bool block = x->state == MOS_XMODEM_NAMED || x->state == MOS_XMODEM_SENDS;
    return c == NAK && ((block && now - x->spoke >= DOUBLED) || x->state == MOS_XMODEM_ENDS ||
                        x->state == MOS_XMODEM_LEAVES);
}

static void take_byte(struct mos_xmodem *x, uint8_t c, int64_t now) {
    x->cancels = c == CAN ? x->cancels + 1 : 0;
    if (x->cancels == 2)
        fail(x, "the other side broke it off");
    else if (x->speaks)
        return; /* it came before what it could be an answer to */
    else if (c == ACK)
        confirmed(x);
    else if (may_refuse(x, c, now))
        refused(x);
    else if (c == CALL)
        called(x);
    else if (c == NAK && x->state == MOS_XMODEM_CALLED && x->kind != MOS_YMODEM) {
        x->sums = true;
        called(x);
    }
}

size_t mos_xmodem_take(struct mos_xmodem *x, const uint8_t *bytes, size_t length, int64_t now) {
    size_t i = 0;
    for (; i < length && x->state < MOS_XMODEM_DONE; i++) {
        enum mos_xmodem_state before = x->state;
        uint64_t sent = x->sent;
        take_byte(x, bytes[i], now);
        if (x->state != before || x->sent != sent)
            x->due = now + PATIENCE;
    }
    return i;
}

/* ---- what is sent ---- */

static size_t whole(const uint8_t *packet) {
    return packet[0] == SOH ? MOS_XMODEM_SHORT : MOS_XMODEM_LONG;
}

size_t mos_xmodem_seal(const struct mos_xmodem *x, uint8_t *packet, size_t length) {
    size_t size = whole(packet);
    memset(packet + 3 + length, FILLED, size - length);
    if (x->sums) {
        uint8_t sum = 0;
        for (size_t i = 0; i < size; i++)
            sum = (uint8_t)(sum + packet[3 + i]);
        packet[3 + size] = sum;
        return 3 + size + 1;
    }
    mos_put_be16(packet + 3 + size, mos_xmodem_crc(packet + 3, size));
    return 3 + size + 2;
}

static size_t header(struct mos_xmodem *x, uint8_t *packet) {
    memset(packet, 0, 3 + MOS_XMODEM_SHORT);
    packet[0] = SOH;
    packet[2] = 0xff;
    if (x->state == MOS_XMODEM_NAMED)
        snprintf((char *)packet + 3, MOS_XMODEM_SHORT, "%.100s%c%llu", x->files[x->current].name, 0,
                 (unsigned long long)x->files[x->current].size);
    return mos_xmodem_seal(x, packet, MOS_XMODEM_SHORT);
}

static size_t block(struct mos_xmodem *x, uint8_t *packet, uint64_t *at, size_t *length) {
    uint64_t left = x->files[x->current].size - x->sent;
    bool large = x->kind != MOS_XMODEM && !x->sums && !x->small && left > MOS_XMODEM_SHORT;
    x->block = large ? MOS_XMODEM_LONG : MOS_XMODEM_SHORT;
    packet[0] = large ? STX : SOH;
    packet[1] = x->number;
    packet[2] = (uint8_t)~x->number;
    *at = x->sent;
    *length = (size_t)mos_min((uint64_t)x->block, left);
    return 3 + x->block + (x->sums ? 1 : 2);
}

/* Nobody has answered in time. */
static bool goes_on(struct mos_xmodem *x) {
    bool spoke = x->state == MOS_XMODEM_NAMED || x->state == MOS_XMODEM_SENDS ||
                 x->state == MOS_XMODEM_ENDS || x->state == MOS_XMODEM_LEAVES;
    unsigned most = x->state == MOS_XMODEM_LEAVES ? LAST_TRIES
                    : x->state == MOS_XMODEM_ENDS ? END_TRIES
                                                  : MOST_TRIES;
    x->resent += spoke;
    if (spoke && ++x->tries <= most)
        return true;
    if (x->state == MOS_XMODEM_LEAVES ||
        (x->state == MOS_XMODEM_CLOSED && x->current + 1 == x->count))
        x->state = MOS_XMODEM_DONE; /* it has everything, and calls for no more, or has left */
    else if (x->state == MOS_XMODEM_ENDS)
        fail(x, "it has every block, and did not confirm the end: look whether the file is there");
    else
        fail(x, x->state == MOS_XMODEM_CALLED ? "the other side does not ask for it"
                                              : "the other side no longer answers");
    return false;
}

size_t mos_xmodem_next(struct mos_xmodem *x, int64_t now, uint8_t *packet, uint64_t *at,
                       size_t *length) {
    *at = *length = 0;
    if (x->state >= MOS_XMODEM_DONE)
        return 0;
    if (!x->speaks && (now < x->due || !goes_on(x)))
        return 0;
    x->speaks = false;
    x->spoke = now;
    x->due = now + PATIENCE;
    if (x->state == MOS_XMODEM_NAMED || x->state == MOS_XMODEM_LEAVES)
        return header(x, packet);
    if (x->state == MOS_XMODEM_ENDS) {
        packet[0] = EOT;
        return 1;
    }
    return block(x, packet, at, length);
}
