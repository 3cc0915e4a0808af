/* The receiving side. */
#include "link/xmodem.h"

#include "base/bytes.h"
#include "link/xmodem-signs.h"

#include <stdlib.h>
#include <string.h>

#define CALL_AGAIN (3 * SECOND)
#define PATIENCE (10 * SECOND)
#define WITHIN_PACKET (1 * SECOND)
#define QUIET (SECOND / 2)

enum { CALLS_FOR_CRC = 4, MOST_CALLS = 20, CANCELS = 5 };

static void answer(struct mos_xmodem_receiver *r, uint8_t c) {
    if (r->answer_count < sizeof r->answers)
        r->answers[r->answer_count++] = c;
}

static void call(struct mos_xmodem_receiver *r) {
    answer(r, r->sums ? NAK : CALL);
    r->calls++;
}

void mos_xmodem_receive(struct mos_xmodem_receiver *r, enum mos_xmodem_kind kind, int64_t now) {
    memset(r, 0, sizeof *r);
    r->kind = kind;
    r->size = UINT64_MAX;
    r->number = kind != MOS_YMODEM;
    call(r);
    r->due = now + CALL_AGAIN;
}

static void give_up(struct mos_xmodem_receiver *r, const char *why) {
    r->failed = true;
    r->why = why;
    r->answer_count = 0;
    for (unsigned i = 0; i < CANCELS; i++)
        answer(r, CAN);
}

/* Something came that is no packet, or not the right one. */
static void refuse(struct mos_xmodem_receiver *r, int64_t now) {
    r->fill = r->wants = 0;
    r->purges = true;
    r->due = now + QUIET;
}

/* ---- packets ---- */

static bool is_whole(const struct mos_xmodem_receiver *r) {
    size_t size = r->packet[0] == SOH ? MOS_XMODEM_SHORT : MOS_XMODEM_LONG;
    if ((uint8_t)(r->packet[1] + r->packet[2]) != 0xff)
        return false;
    if (!r->sums)
        return (r->packet[3 + size] << 8 | r->packet[4 + size]) ==
               mos_xmodem_crc(r->packet + 3, size);
    uint8_t sum = 0;
    for (size_t i = 0; i < size; i++)
        sum = (uint8_t)(sum + r->packet[3 + i]);
    return sum == r->packet[3 + size];
}

/* YMODEM's first block: a name, a zero byte, the size in digits; no name: there is no more. */
static enum mos_xmodem_news take_header(struct mos_xmodem_receiver *r, size_t size) {
    const char *text = (const char *)r->packet + 3;
    size_t n = strnlen(text, size);
    answer(r, ACK);
    if (!n) {
        r->done = true;
        return MOS_XMODEM_NOTHING;
    }
    memcpy(r->name, text, n);
    r->name[n < sizeof r->name ? n : sizeof r->name - 1] = 0;
    char digits[24] = "";
    if (n + 1 < size)
        memcpy(digits, text + n + 1, mos_min(size - n - 1, sizeof digits - 1));
    r->size = *digits >= '0' && *digits <= '9' ? strtoull(digits, NULL, 10) : UINT64_MAX;
    r->got = 0;
    r->in_file = true;
    r->ended = false;
    r->number = 1;
    call(r);
    r->calls = 0;
    return MOS_XMODEM_FILE;
}

static enum mos_xmodem_news take_block(struct mos_xmodem_receiver *r, size_t size) {
    answer(r, ACK);
    r->number++;
    r->ended = false;
    uint64_t left = r->size - r->got;
    r->bytes = r->packet + 3;
    r->length = (size_t)mos_min((uint64_t)size, left);
    r->at = r->got;
    r->got += r->length;
    return r->length ? MOS_XMODEM_BYTES : MOS_XMODEM_NOTHING;
}

static enum mos_xmodem_news take_packet(struct mos_xmodem_receiver *r, int64_t now) {
    size_t size = r->packet[0] == SOH ? MOS_XMODEM_SHORT : MOS_XMODEM_LONG;
    uint8_t number = r->packet[1];
    r->fill = r->wants = 0;
    if (!is_whole(r)) {
        refuse(r, now);
        return MOS_XMODEM_NOTHING;
    }
    r->tries = 0;
    r->due = now + PATIENCE;
    bool first = r->in_file && r->number == 1 && !r->got;
    bool header = r->kind == MOS_YMODEM && number == 0 && (!r->in_file || first);
    if (header && first) { /* our answer to it was lost */
        answer(r, ACK);
        call(r);
        return MOS_XMODEM_NOTHING;
    }
    if (header)
        return take_header(r, size);
    if (number == r->number && (r->kind != MOS_YMODEM || r->in_file))
        return take_block(r, size);
    if (number == (uint8_t)(r->number - 1)) { /* the one before, once more */
        answer(r, ACK);
        return MOS_XMODEM_NOTHING;
    }
    give_up(r, "a block is missing: the two sides no longer mean the same one");
    return MOS_XMODEM_NOTHING;
}

/* The end is believed when it comes twice: one byte is easily made by noise. */
static enum mos_xmodem_news take_end(struct mos_xmodem_receiver *r, int64_t now) {
    bool anything = r->kind == MOS_YMODEM ? r->in_file : true;
    if (!anything && r->ended) { /* of the file before: our answer to it was lost */
        answer(r, ACK);
        call(r);
    }
    if (!anything)
        return MOS_XMODEM_NOTHING;
    r->due = now + PATIENCE;
    if (!r->ended) {
        r->ended = true;
        answer(r, NAK);
        return MOS_XMODEM_NOTHING;
    }
    answer(r, ACK);
    if (r->size != UINT64_MAX && r->got < r->size) {
        give_up(r, "it ended before all of it had come");
        return MOS_XMODEM_NOTHING;
    }
    r->done = r->kind != MOS_YMODEM;
    r->in_file = false;
    r->number = 0;
    if (!r->done)
        call(r);
    return MOS_XMODEM_END;
}

static enum mos_xmodem_news take_byte(struct mos_xmodem_receiver *r, uint8_t c, int64_t now) {
    if (r->wants) {
        r->packet[r->fill++] = c;
        r->due = now + WITHIN_PACKET;
        return r->fill == r->wants ? take_packet(r, now) : MOS_XMODEM_NOTHING;
    }
    r->cancels = c == CAN ? r->cancels + 1 : 0;
    if (r->cancels == 2) {
        r->failed = true;
        r->why = "the other side broke it off";
    } else if (c == SOH || c == STX) {
        r->packet[0] = c;
        r->fill = 1;
        r->wants = 3 + (c == SOH ? MOS_XMODEM_SHORT : MOS_XMODEM_LONG) + (r->sums ? 1 : 2);
        r->due = now + WITHIN_PACKET;
    } else if (c == EOT) {
        return take_end(r, now);
    } else if (c != CAN) { /* nobody begins so: what comes may be the middle of a packet */
        r->purges = true;
        r->due = now + QUIET;
    }
    return MOS_XMODEM_NOTHING;
}

enum mos_xmodem_news mos_xmodem_hear(struct mos_xmodem_receiver *r, const uint8_t *bytes,
                                     size_t length, int64_t now, size_t *taken) {
    enum mos_xmodem_news news = MOS_XMODEM_NOTHING;
    size_t i = 0;
    for (; i < length && !news && !r->done && !r->failed; i++) {
        if (r->purges)
            r->due = now + QUIET;
        else
            news = take_byte(r, bytes[i], now);
    }
    *taken = i;
    return news;
}

/* ---- time ---- */

static void late(struct mos_xmodem_receiver *r, int64_t now) {
    bool begun = r->kind == MOS_YMODEM ? r->in_file : r->number != 1 || r->got;
    bool heard = r->purges || r->wants; /* something, and it was no good */
    r->fill = r->wants = 0;
    r->purges = false;
    r->due = now + (begun ? PATIENCE : CALL_AGAIN);
    if ((begun || heard) && ++r->tries > MOST_TRIES) {
        give_up(r, "the other side no longer sends anything that is whole");
    } else if (!begun && !heard && r->calls >= MOST_CALLS) {
        give_up(r, "nobody sends anything");
    } else if ((begun && (r->number > 1 || r->got)) || (r->kind == MOS_YMODEM && heard)) {
        answer(r, NAK);
    } else { /* whoever has sent the first block takes it for a NAK */
        r->sums = r->sums || (r->kind == MOS_XMODEM && !heard && r->calls >= CALLS_FOR_CRC);
        answer(r, r->sums ? NAK : CALL);
        r->calls += !heard;
    }
}

size_t mos_xmodem_answer(struct mos_xmodem_receiver *r, int64_t now, uint8_t *out) {
    if (!r->answer_count && now >= r->due && !r->done && !r->failed)
        late(r, now);
    size_t n = r->answer_count;
    memcpy(out, r->answers, n);
    r->answer_count = 0;
    return n;
}
