#include "link/speed.h"

/* The usual ones, the most usual first. */
static const unsigned speeds[MOS_SPEEDS] = {115200, 1500000, 9600,   57600,  921600,
                                            38400,  74880,   230400, 460800, 19200};

/* Letters, digits, blanks and line ends are most of any text; other signs are some; the rest is
 * none.  Wrong speeds give signs, too, so both shares count. */
static void count(const uint8_t *bytes, size_t length, size_t *text, size_t *odd) {
    for (size_t i = 0; i < length; i++) {
        uint8_t c = bytes[i];
        bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                     c == ' ' || c == '\r' || c == '\n';
        *text += plain;
        *odd += !plain && (c < 0x20 || c > 0x7e) && c != '\t' && c != 0x1b && c != '\b';
    }
}

static bool is_text(size_t bytes, size_t text, size_t odd) {
    return odd * 50 <= bytes && text * 10 >= bytes * 6;
}

bool mos_speed_is_text(const uint8_t *bytes, size_t length) {
    size_t text = 0, odd = 0;
    count(bytes, length, &text, &odd);
    return is_text(length, text, odd);
}

void mos_speed_begin(struct mos_speed_search *s, unsigned speed) {
    *s = (struct mos_speed_search){.first = speed, .current = speed};
}

static void go_on(struct mos_speed_search *s) {
    do {
        s->current = speeds[s->next++];
        if (s->next == MOS_SPEEDS) {
            s->next = 0;
            s->rounds++;
        }
    } while (s->current == s->first && s->rounds == 0);
    s->bytes = s->text = s->odd = 0;
}

bool mos_speed_take(struct mos_speed_search *s, const uint8_t *bytes, size_t length) {
    if (s->found)
        return false;
    s->bytes += length;
    count(bytes, length, &s->text, &s->odd);
    /* clearly none is seen sooner than clearly some */
    if (s->odd * 4 > s->bytes && s->bytes >= MOS_SPEED_LEAST / 4) {
        go_on(s);
        return true;
    }
    if (s->bytes < MOS_SPEED_LEAST)
        return false;
    s->found = is_text(s->bytes, s->text, s->odd);
    if (!s->found)
        go_on(s);
    return true;
}
