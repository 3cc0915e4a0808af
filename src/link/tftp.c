#include "link/tftp.h"

#include "base/bytes.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

enum { READ_REQUEST = 1, WRITE_REQUEST, DATA, ACK, ERROR, OPTIONS };
enum { BLOCK = 512, LEAST_BLOCK = 8, MOST_BLOCK = 65464, MOST_TRIES = 10, MOST_SECONDS = 255 };
#define SECOND INT64_C(1000000000)

/* ---- requests ---- */

/* The next NUL-terminated text; NULL: there is none. */
static const char *next_text(const uint8_t **p, const uint8_t *end) {
    const uint8_t *text = *p, *nul = memchr(text, 0, (size_t)(end - text));
    if (!nul)
        return NULL;
    *p = nul + 1;
    return (const char *)text;
}

/* A whole number within limits; 0: it is none, and the option is as if it had not come. */
static uint32_t number(const char *text, uint32_t least, uint32_t most) {
    uint32_t n = 0;
    if (!*text || strspn(text, "0123456789") != strlen(text) || strlen(text) > 9)
        return 0;
    for (; *text; text++)
        n = n * 10 + (uint32_t)(*text - '0');
    return n < least ? 0 : n > most ? most : n;
}

bool mos_tftp_read_request(const uint8_t *packet, size_t length, struct mos_tftp_wish *out,
                           const char **why) {
    const uint8_t *p = packet + 2, *end = packet + length;
    *why = NULL;
    *out = (struct mos_tftp_wish){0};
    if (length < 4 || packet[0] || packet[1] < READ_REQUEST || packet[1] > WRITE_REQUEST)
        return false;
    if (packet[1] == WRITE_REQUEST) {
        *why = "nothing can be stored here";
        return false;
    }
    const char *file = next_text(&p, end), *mode = file ? next_text(&p, end) : NULL;
    if (!mode || !*file || strlen(file) >= sizeof out->file) {
        *why = "that is no name of a file";
        return false;
    }
    if (strcasecmp(mode, "octet") != 0) {
        *why = "files are given as octets only";
        return false;
    }
    memcpy(out->file, file, strlen(file) + 1);
    for (const char *name; (name = next_text(&p, end));) {
        const char *value = next_text(&p, end);
        if (!value)
            break;
        if (strcasecmp(name, "blksize") == 0)
            out->block = number(value, LEAST_BLOCK, MOST_BLOCK);
        else if (strcasecmp(name, "windowsize") == 0)
            out->window = number(value, 1, MOS_TFTP_WINDOW);
        else if (strcasecmp(name, "timeout") == 0)
            out->seconds = number(value, 1, MOST_SECONDS + 1) > MOST_SECONDS
                               ? 0 /* what is out of range is not taken: RFC 2349 */
                               : number(value, 1, MOST_SECONDS);
        else if (strcasecmp(name, "tsize") == 0)
            out->size = true;
    }
    return true;
}

size_t mos_tftp_refuse(uint8_t *packet, size_t size, unsigned code, const char *why) {
    mos_put_be16(packet, ERROR);
    mos_put_be16(packet + 2, (uint16_t)code);
    int n = snprintf((char *)packet + 4, size - 4, "%s", why);
    return 4 + mos_min((size_t)n, size - 5) + 1;
}

/* ---- a transfer ---- */

void mos_tftp_begin(struct mos_tftp *t, const struct mos_tftp_wish *wish, uint64_t size,
                    int64_t now) {
    *t = (struct mos_tftp){.wish = *wish, .size = size, .due = now};
    t->block = wish->block ? wish->block : BLOCK;
    t->window = wish->window ? wish->window : 1;
    t->pause = (wish->seconds ? wish->seconds : 1) * SECOND;
    t->greets = wish->block || wish->window || wish->seconds || wish->size;
    t->last = size / t->block + 1;
    t->again = UINT64_MAX;
}

static void fail(struct mos_tftp *t, const char *why) {
    t->state = MOS_TFTP_FAILED;
    t->why = why;
}

static void take_error(struct mos_tftp *t, const uint8_t *packet, size_t length) {
    size_t n = length > 4 ? mos_min(length - 4, sizeof t->said - 1) : 0;
    size_t k = 0;
    for (; k < n && packet[4 + k]; k++)
        t->said[k] = packet[4 + k] >= ' ' && packet[4 + k] < 0x7f ? (char)packet[4 + k] : '?';
    t->said[k] = 0;
    fail(t, k ? t->said : "the other side gave up");
}

void mos_tftp_take(struct mos_tftp *t, const uint8_t *packet, size_t length, int64_t now) {
    if (t->state != MOS_TFTP_GOES_ON || length < 4)
        return;
    unsigned what = mos_be16(packet), n = mos_be16(packet + 2);
    if (what == ERROR)
        take_error(t, packet, length);
    if (what != ACK)
        return;
    if (t->greets) { /* what has not been greeted has no blocks */
        if (n || !t->greeting_sent)
            return;
        t->greets = false;
        t->tries = 0;
        return;
    }
    uint64_t block = t->acked + (uint16_t)(n - (uint16_t)t->acked);
    if (block > t->sent)
        return; /* of a block long ago */
    /* It came twice: with single blocks, answering twice would go on for ever; of a window the
     * first block may be lost, but each of the others may make the other side say so. */
    if (block == t->acked && (t->window == 1 || t->again == block || t->sent == block))
        return;
    if (block == t->acked)
        t->again = block;
    else
        t->tries = 0;
    t->resent += t->sent - block;
    t->acked = t->sent = block; /* what was sent behind it did not come in order */
    t->due = now + t->pause;
    if (block == t->last)
        t->state = MOS_TFTP_DONE;
}

static size_t greeting(struct mos_tftp *t, uint8_t *packet) {
    struct {
        const char *name;
        uint64_t value;
        bool said;
    } all[] = {{"blksize", t->block, t->wish.block},
               {"windowsize", t->window, t->wish.window},
               {"timeout", t->wish.seconds, t->wish.seconds},
               {"tsize", t->size, t->wish.size}};
    size_t at = 2;
    mos_put_be16(packet, OPTIONS);
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (all[i].said)
            at += (size_t)snprintf((char *)packet + at, 64, "%s%c%llu", all[i].name, 0,
                                   (unsigned long long)all[i].value) +
                  1;
    return at;
}

size_t mos_tftp_next(struct mos_tftp *t, int64_t now, uint8_t *packet, uint64_t *at,
                     size_t *length) {
    *at = *length = 0;
    if (t->state != MOS_TFTP_GOES_ON)
        return 0;
    bool waits = t->greets ? t->greeting_sent : t->sent > t->acked;
    if (waits && now >= t->due) {
        if (++t->tries > MOST_TRIES) {
            fail(t, "the other side no longer answers");
            return 0;
        }
        t->resent += t->sent - t->acked;
        t->sent = t->acked;
        t->greeting_sent = false;
    }
    if (t->greets) {
        if (t->greeting_sent)
            return 0;
        t->greeting_sent = true;
        t->due = now + t->pause;
        return greeting(t, packet);
    }
    if (t->sent >= t->last || t->sent - t->acked >= t->window)
        return 0;
    *at = t->sent * t->block;
    *length = (size_t)mos_min((uint64_t)t->block, t->size - *at);
    t->sent++;
    t->due = now + t->pause;
    mos_put_be16(packet, DATA);
    mos_put_be16(packet + 2, (uint16_t)t->sent);
    return 4;
}
