#include "watch/lines.h"

#include <stdlib.h>
#include <string.h>

/* Where it is in a control sequence (ECMA-48, 5.4 and 5.6). */
enum { IN_TEXT, BEHIND_ESCAPE, IN_SEQUENCE, IN_STRING, IN_STRING_ESCAPE, IN_CHARSET };

enum { ESCAPE = 0x1b, BELL = 7 };

static void end_line(struct mos_lines *l, void (*each)(void *, const struct mos_line *),
                     void *self) {
    l->text[l->length] = 0;
    each(self, &(struct mos_line){l->text, l->length, l->at, true});
    l->length = 0;
    l->returned = false;
}

/* The state behind one byte of a control sequence. */
static unsigned in_sequence(unsigned state, uint8_t c) {
    switch (state) {
    case BEHIND_ESCAPE:
        if (c == '[')
            return IN_SEQUENCE;
        if (c == ']' || c == 'P' || c == 'X' || c == '^' || c == '_')
            return IN_STRING;
        return c == '(' || c == ')' || c == '#' || c == ' ' ? IN_CHARSET : IN_TEXT;
    case IN_SEQUENCE: /* a line's end in it: it was none */
        return (c >= 0x40 && c <= 0x7e) || c == '\n' || c == '\r' ? IN_TEXT : IN_SEQUENCE;
    case IN_STRING:
        return c == BELL || c == '\n' ? IN_TEXT : c == ESCAPE ? IN_STRING_ESCAPE : IN_STRING;
    default: /* the end of a string; the one letter of a character set */
        return IN_TEXT;
    }
}

/* Is a byte above 0x7f part of a character? */
static bool in_character(struct mos_lines *l, uint8_t c) {
    if (l->wants && (c & 0xc0) == 0x80) {
        l->wants--;
        return true;
    }
    l->wants = c >= 0xc2 && c < 0xe0   ? 1
               : c >= 0xe0 && c < 0xf0 ? 2
               : c >= 0xf0 && c < 0xf5 ? 3
                                       : 0;
    return l->wants != 0;
}

static void put(struct mos_lines *l, uint8_t c, int64_t at) {
    if (!l->length)
        l->at = at;
    l->text[l->length++] = (char)c;
}

/* Anything but a printing character of ASCII. */
static void take_odd(struct mos_lines *l, uint8_t c, int64_t at) {
    if (c == ESCAPE)
        l->state = BEHIND_ESCAPE;
    else if (c == '\b')
        l->length -= l->length != 0;
    else if (c == '\t')
        put(l, c, at);
    else if (c & 0x80) {
        if (in_character(l, c)) {
            put(l, c, at);
        } else {
            put(l, '?', at);
            l->odd++;
        }
    } else if (c != BELL && c != 0) {
        l->odd++;
    }
}

/* The plain text at the beginning of bytes[0..length), as much as fits into the line. */
static size_t take_plain(struct mos_lines *l, const uint8_t *bytes, size_t length, int64_t at) {
    size_t n = 0, room = MOS_LINE_MOST - 1 - l->length;
    length = length < room ? length : room;
    while (n < length && bytes[n] >= 0x20 && bytes[n] < 0x7f)
        n++;
    if (n && !l->length)
        l->at = at;
    memcpy(l->text + l->length, bytes, n);
    l->length += n;
    return n;
}

void mos_lines_take(struct mos_lines *l, const uint8_t *bytes, size_t length, int64_t at,
                    void (*each)(void *self, const struct mos_line *line), void *self) {
    l->bytes += length;
    for (size_t i = 0; i < length; i++) {
        if (!l->state && !l->returned && !l->wants) {
            i += take_plain(l, bytes + i, length - i, at);
            if (i == length)
                break;
        }
        uint8_t c = bytes[i];
        if (l->state) {
            l->state = in_sequence(l->state, c);
            if (l->state || (c != '\n' && c != '\r'))
                continue;
        }
        if (c == '\n') {
            end_line(l, each, self);
            continue;
        }
        if (c == '\r') {
            l->returned = l->length != 0;
            continue;
        }
        /* text behind a carriage return goes over what stood there */
        if ((l->returned && c != '\b') || l->length >= MOS_LINE_MOST - 1)
            end_line(l, each, self);
        if (c >= 0x20 && c < 0x7f) {
            l->wants = 0;
            put(l, c, at);
        } else {
            take_odd(l, c, at);
        }
    }
}

bool mos_lines_open(struct mos_lines *l, struct mos_line *out) {
    l->text[l->length] = 0;
    *out = (struct mos_line){l->text, l->length, l->at, false};
    return l->length != 0;
}

const char *mos_line_message(const char *text, double *seconds) {
    if (seconds)
        *seconds = -1;
    if (text[0] == '<' && text[1] >= '0' && text[1] <= '9') { /* its level */
        const char *close = strchr(text, '>');
        text = close && close - text < 5 ? close + 1 : text;
    }
    if (*text != '[')
        return text;
    const char *number = text + 1 + strspn(text + 1, " ");
    const char *end = number + strspn(number, "0123456789.");
    if (end == number || *end != ']')
        return text;
    if (seconds)
        *seconds = strtod(number, NULL);
    text = end + 1 + (end[1] == ' ');
    if (*text == '[' && strspn(text + 1, " TC0123456789") == strcspn(text + 1, "]") &&
        strchr(text, ']')) /* which core or thread says it */
        text = strchr(text, ']') + 1 + (strchr(text, ']')[1] == ' ');
    return text;
}
