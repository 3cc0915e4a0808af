#include "link/keys.h"

#include <string.h>

#define MS INT64_C(1000000)

enum { ESCAPE = 0x1b, PASTED = 16, ESCAPE_MS = 50, ECHO_MS = 200, QUIET_MS = 30, LINE_MS = 1000 };

/* Both as terminals send them since the VT220. */
static const char leave_key[] = "\033[24~", break_key[] = "\033[20~";

static void add(struct mos_keys *k, const uint8_t *bytes, size_t length, bool slow) {
    for (size_t i = 0; i < length; i++) {
        if (k->count == MOS_KEYS_ROOM) {
            k->dropped += length - i;
            return;
        }
        k->queue[(k->head + k->count++) % MOS_KEYS_ROOM] = bytes[i];
        if (slow || k->slow)
            k->slow = k->count; /* behind what was pasted it stays in its order */
    }
}

static void flush_sequence(struct mos_keys *k) {
    add(k, k->sequence, k->sequence_length, false);
    k->sequence_length = 0;
}

/* Is it (the beginning of) one of our keys? */
static bool begins(const struct mos_keys *k, const char *key) {
    return k->sequence_length <= strlen(key) && memcmp(k->sequence, key, k->sequence_length) == 0;
}

static bool is(const struct mos_keys *k, const char *key) {
    return k->sequence_length == strlen(key) && begins(k, key);
}

static void take_key(struct mos_keys *k, uint8_t c, int64_t now) {
    if (!k->sequence_length && c != ESCAPE) {
        add(k, &c, 1, false);
        return;
    }
    k->sequence[k->sequence_length++] = c;
    k->sequence_due = now + ESCAPE_MS * MS;
    if (is(k, leave_key) || is(k, break_key)) {
        k->leaves |= is(k, leave_key);
        k->breaks |= is(k, break_key);
        k->sequence_length = 0;
    } else if (!begins(k, leave_key) && !begins(k, break_key)) {
        flush_sequence(k);
    }
}

void mos_keys_take(struct mos_keys *k, const uint8_t *bytes, size_t length, int64_t now) {
    if (length >= PASTED && !memchr(bytes, ESCAPE, length)) {
        flush_sequence(k);
        add(k, bytes, length, true);
        return;
    }
    for (size_t i = 0; i < length; i++)
        take_key(k, bytes[i], now);
}

void mos_keys_hear(struct mos_keys *k, const uint8_t *bytes, size_t length, int64_t now) {
    for (size_t i = 0; i < length && k->awaited; i++) {
        uint8_t wanted = k->sent[k->sent_length - k->awaited];
        /* a new line comes back as both, or as one of them */
        bool same = bytes[i] == wanted || (wanted == '\r' && bytes[i] == '\n');
        k->awaited -= same;
    }
    if (k->sent_length && !k->awaited) {
        bool line = k->sent[k->sent_length - 1] == '\r';
        int64_t quiet = now + (line ? QUIET_MS * MS : 0);
        k->give_up = quiet < k->latest ? quiet : k->latest;
    }
}

/* A piece of what was pasted: up to a line's end, behind which the board has something to do. */
static size_t next_piece(struct mos_keys *k, int64_t now, uint8_t *out, size_t room) {
    size_t n = 0;
    if (k->sent_length && now < k->give_up)
        return 0;
    while (n < room && n < MOS_KEYS_PIECE && n < k->slow) {
        uint8_t c = k->queue[(k->head + n) % MOS_KEYS_ROOM];
        out[n++] = c == '\n' ? '\r' : c;
        if (c == '\n' || c == '\r')
            break;
    }
    memcpy(k->sent, out, n);
    k->sent_length = k->awaited = n;
    k->give_up = now + (n && out[n - 1] == '\r' ? LINE_MS : ECHO_MS) * MS;
    k->latest = k->give_up;
    k->slow -= n;
    return n;
}

size_t mos_keys_next(struct mos_keys *k, int64_t now, uint8_t *out, size_t room) {
    if (k->sequence_length && now >= k->sequence_due)
        flush_sequence(k);
    size_t n = 0;
    if (k->slow) {
        n = next_piece(k, now, out, room);
    } else {
        while (n < room && n < k->count) {
            out[n] = k->queue[(k->head + n) % MOS_KEYS_ROOM];
            n++;
        }
    }
    k->head = (k->head + n) % MOS_KEYS_ROOM;
    k->count -= n;
    return n;
}

int64_t mos_keys_due(const struct mos_keys *k) {
    int64_t due = k->sequence_length ? k->sequence_due : INT64_MAX;
    if (k->slow)
        due = k->sent_length && k->give_up < due ? k->give_up : k->sent_length ? due : 0;
    else if (k->count)
        due = 0;
    return due;
}
