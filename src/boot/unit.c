#include "boot/unit.h"

#include "base/buf.h"

#include <errno.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_BYTES = 6 };

/* A place for the unit at the start of a text: its length, and how many bytes it wants (0: the
 * name).  0: there is none. */
static size_t place_at(const char *text, unsigned *bytes) {
    *bytes = 0;
    if (strncmp(text, "<UNIT>", 6) == 0)
        return 6;
    if (strncmp(text, "<UNIT:", 6) != 0 || text[6] < '1' || text[6] > '0' + MOST_BYTES ||
        text[7] != '>')
        return 0;
    *bytes = (unsigned)(text[6] - '0');
    return 8;
}

bool mos_unit_is_pattern(const char *pattern, const char **why) {
    bool has = false;
    unsigned bytes;
    for (const char *p = pattern; *p; p++) {
        size_t n = *p == '<' ? place_at(p, &bytes) : 0;
        if (*p == '<' && !n) {
            *why = "it has a < that begins neither <UNIT> nor <UNIT:1> to <UNIT:6>";
            return false;
        }
        has |= n > 0;
        p += n ? n - 1 : 0;
    }
    if (!has)
        *why = "it has no <UNIT>, so that it is the same for every board";
    return has;
}

/* The number that a name ends in; false: it ends in none, or in one of more than 6 bytes. */
static bool number_of(const char *unit, uint64_t *out) {
    const char *p = unit + strlen(unit);
    while (p > unit && p[-1] >= '0' && p[-1] <= '9')
        p--;
    errno = 0;
    *out = strtoull(p, NULL, 10);
    return *p && !errno && *out >> 8 * MOST_BYTES == 0;
}

const char *mos_unit_text(struct mos_arena *arena, const char *pattern, const char *unit,
                          const char **why) {
    struct mos_buf out = {.arena = arena};
    unsigned bytes;
    uint64_t number = 0;
    bool has_number = number_of(unit, &number);
    for (const char *p = pattern; *p; p++) {
        size_t n = *p == '<' ? place_at(p, &bytes) : 0;
        if (!n) {
            mos_buf_add(&out, p, 1);
            continue;
        }
        p += n - 1;
        if (!bytes) {
            mos_buf_text(&out, unit);
            continue;
        }
        if (!has_number || (bytes < MOST_BYTES && number >> 8 * bytes)) {
            *why = has_number ? "its number is too large for them" : "it ends in no number";
            return NULL;
        }
        for (unsigned i = bytes; i-- > 0;)
            mos_buf_printf(&out, "%02x%s", (unsigned)(number >> 8 * i & 0xff), i ? ":" : "");
    }
    return mos_buf_string(&out);
}
