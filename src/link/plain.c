#include "link/plain.h"

bool mos_plain_is_text(char *within, uint8_t c) {
    enum { ESCAPE = 0x1b, BELL = 7 };
    if (c == ESCAPE) {
        *within = ESCAPE;
        return false;
    }
    switch (*within) {
    case ESCAPE:
        *within = c == '[' || c == ']' ? (char)c : 0;
        return false;
    case '[':
        *within = c >= 0x40 && c <= 0x7e ? 0 : *within;
        return false;
    case ']':
        *within = c == BELL || c == '\n' ? 0 : *within;
        return false;
    default:
        return c && c != '\r';
    }
}
