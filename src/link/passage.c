#include "link/passage.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { ESCAPE = 0x1b, BELL = 7, CANCEL = 0x18, SUBSTITUTE = 0x1a };
enum { IN_TEXT, BEHIND_ESCAPE, IN_SEQUENCE, IN_STRING, IN_STRING_ESCAPE, IN_CHARSET, IN_REST };

/* ---- sequences ---- */

/* Private modes that belong to a screen: the cursor's keys, wrapping, showing it, a second screen.
 */
static bool mode_passes(struct mos_passage *p, unsigned mode, bool on) {
    switch (mode) {
    case 1:
        p->keypad = on;
        return true;
    case 7:
        p->unwrapped = !on;
        return true;
    case 25:
        p->hidden = !on;
        return true;
    case 47:
    case 1047:
    case 1049:
        p->elsewhere = on;
        return true;
    case 12:
    case 1048:
        return true;
    default:
        return false;
    }
}

static bool modes_pass(struct mos_passage *p, const char *numbers, bool on) {
    for (const char *at = numbers; *at >= '0' && *at <= '9';) {
        char *end;
        if (!mode_passes(p, (unsigned)strtoul(at, &end, 10), on))
            return false;
        at = *end == ';' ? end + 1 : end;
    }
    return true;
}

/* ESC [ … : moves, erasures, colours; nothing that is answered. */
static bool control_passes(struct mos_passage *p) {
    char last = p->sequence[p->length - 1];
    const char *numbers = p->sequence + 2;
    p->sequence[p->length - 1] = 0;
    size_t plain = strspn(numbers, "0123456789;:");
    bool whole = !numbers[plain];
    bool passes = false;
    if (numbers[0] == '?' && (last == 'h' || last == 'l'))
        passes = !numbers[1 + strspn(numbers + 1, "0123456789;")] &&
                 modes_pass(p, numbers + 1, last == 'h');
    else if (whole && strcmp(numbers, "4") == 0 && (last == 'h' || last == 'l'))
        passes = true, p->inserting = last == 'h';
    else
        passes = whole && strchr("@ABCDEFGHIJKLMPSTXZ`abdefgmrsu", last) && last != 0;
    p->sequence[p->length - 1] = last;
    p->coloured |= passes && last == 'm';
    p->margins |= passes && last == 'r';
    return passes;
}

/* Puts the sequence, or holds it back. */
static size_t settle(struct mos_passage *p, bool passes, char *out) {
    size_t n = passes ? p->length : 0;
    memcpy(out, p->sequence, n);
    p->held += !passes;
    p->length = 0;
    p->state = IN_TEXT;
    return n;
}

static size_t behind_escape(struct mos_passage *p, uint8_t c, char *out) {
    p->sequence[p->length++] = (char)c;
    if (c == '[')
        p->state = IN_SEQUENCE;
    else if (strchr("]PX^_", c) && c)
        p->state = IN_STRING;
    else if (strchr("()*+#%- ", c) && c)
        p->state = IN_CHARSET;
    else
        return settle(p, c && strchr("78DEHM=>", c), out);
    return 0;
}

static size_t in_sequence(struct mos_passage *p, uint8_t c, char *out) {
    if (c == CANCEL || c == SUBSTITUTE || c == ESCAPE || c == '\n') {
        settle(p, false, out); /* it was none */
        p->state = c == ESCAPE ? BEHIND_ESCAPE : IN_TEXT;
        p->length = c == ESCAPE;
        p->sequence[0] = ESCAPE;
        if (c == '\n')
            *out = '\n';
        return c == '\n';
    }
    if (c < 0x20 || c >= 0x7f)
        return 0;
    if (p->length == MOS_PASSAGE_SEQUENCE) { /* nothing that passes is so long */
        p->state = c >= 0x40 ? IN_TEXT : IN_REST;
        settle(p, false, out);
        p->state = c >= 0x40 ? IN_TEXT : IN_REST;
        return 0;
    }
    p->sequence[p->length++] = (char)c;
    return c >= 0x40 ? settle(p, control_passes(p), out) : 0;
}

/* A string ends with BEL or ESC \; a line's end ends it, too, or garbage could hide all that comes.
 */
static size_t in_string(struct mos_passage *p, uint8_t c, char *out) {
    bool ends =
        c == BELL || c == '\n' || c == CANCEL || c == SUBSTITUTE || p->state == IN_STRING_ESCAPE;
    if (!ends) {
        p->state = c == ESCAPE ? IN_STRING_ESCAPE : IN_STRING;
        return 0;
    }
    settle(p, false, out);
    if (c == '\n')
        *out = '\n';
    return c == '\n';
}

static size_t in_charset(struct mos_passage *p, uint8_t c, char *out) {
    bool passes = p->sequence[1] == '(' && (c == 'B' || c == '0');
    p->drawing = passes ? c == '0' : p->drawing;
    p->sequence[p->length++] = (char)c;
    return settle(p, passes, out);
}

/* ---- text ---- */

static size_t unknown(struct mos_passage *p, char *out) {
    memcpy(out, p->ascii ? "?" : "\xef\xbf\xbd", p->ascii ? 1 : 3);
    return p->ascii ? 1 : 3;
}

/* Controls of ISO 6429 and marks that turn the direction of text do not pass. */
static bool is_harmless(uint32_t c) {
    return c >= 0xa0 && c != 0x61c && c != 0x200e && c != 0x200f && !(c >= 0x2028 && c <= 0x202e) &&
           !(c >= 0x2066 && c <= 0x2069) && c != 0xfeff && !(c >= 0xd800 && c < 0xe000) &&
           c < 0x110000;
}

static size_t end_character(struct mos_passage *p, char *out) {
    uint32_t c = p->character[0] & (0x7fU >> p->wants);
    for (size_t i = 1; i < p->wants; i++)
        c = c << 6 | (p->character[i] & 0x3fU);
    static const uint32_t least[] = {0, 0, 0x80, 0x800, 0x10000};
    bool passes = c >= least[p->wants] && is_harmless(c) && !p->ascii;
    size_t n = passes ? p->got : unknown(p, out);
    if (passes)
        memcpy(out, p->character, n);
    p->got = p->wants = 0;
    return n;
}

static size_t take_text(struct mos_passage *p, uint8_t c, char *out) {
    size_t n = 0;
    if (p->wants && (c & 0xc0) != 0x80) { /* a character that was cut off */
        n = unknown(p, out);
        p->got = p->wants = 0;
    }
    if (p->wants) {
        p->character[p->got++] = c;
        return p->got == p->wants ? end_character(p, out) : 0;
    }
    if (c >= 0xc2 && c < 0xf5) {
        p->wants = c < 0xe0 ? 2 : c < 0xf0 ? 3 : 4;
        p->character[0] = c;
        p->got = 1;
    } else if (c >= 0x80) {
        n += unknown(p, out + n);
    } else if (c == ESCAPE) {
        p->state = BEHIND_ESCAPE;
        p->sequence[0] = ESCAPE;
        p->length = 1;
    } else if ((c >= 0x20 && c < 0x7f) || c == '\n' || c == '\r' || c == '\t' || c == '\b' ||
               c == BELL) {
        out[n++] = (char)c;
    }
    return n;
}

size_t mos_passage_take(struct mos_passage *p, const uint8_t *bytes, size_t length, char *out) {
    size_t n = 0;
    for (size_t i = 0; i < length; i++) {
        uint8_t c = bytes[i];
        switch (p->state) {
        case IN_TEXT:
            if (c >= 0x20 && c < 0x7f && !p->wants)
                out[n++] = (char)c;
            else
                n += take_text(p, c, out + n);
            break;
        case BEHIND_ESCAPE:
            n += behind_escape(p, c, out + n);
            break;
        case IN_SEQUENCE:
            n += in_sequence(p, c, out + n);
            break;
        case IN_CHARSET:
            n += in_charset(p, c, out + n);
            break;
        case IN_REST: /* of a sequence that was too long */
            if (c >= 0x40 || c == '\n')
                p->state = IN_TEXT;
            break;
        default:
            n += in_string(p, c, out + n);
        }
    }
    return n;
}

size_t mos_passage_end(struct mos_passage *p, char *out, size_t room) {
    int n = snprintf(out, room, "%s%s%s%s%s%s%s%s", p->drawing ? "\033(B" : "",
                     p->elsewhere ? "\033[?1049l" : "", p->margins ? "\033[r" : "",
                     p->inserting ? "\033[4l" : "", p->unwrapped ? "\033[?7h" : "",
                     p->keypad ? "\033[?1l" : "", p->hidden ? "\033[?25h" : "",
                     p->coloured ? "\033[0m" : "");
    *p = (struct mos_passage){.ascii = p->ascii, .held = p->held};
    return n < 0 || (size_t)n >= room ? 0 : (size_t)n;
}
