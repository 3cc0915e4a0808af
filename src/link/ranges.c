#include "link/ranges.h"

#include <stddef.h>
#include <string.h>
#include <strings.h>

/* A number that may be larger than any file; NULL: there is none. */
static const char *number(const char *p, uint64_t *out) {
    if (*p < '0' || *p > '9')
        return NULL;
    for (*out = 0; *p >= '0' && *p <= '9'; p++)
        *out = *out > (UINT64_MAX - 9) / 10 ? UINT64_MAX : *out * 10 + (uint64_t)(*p - '0');
    return p;
}

static const char *blanks(const char *p) {
    return p + strspn(p, " \t");
}

/* "-500": the last 500 bytes. */
static enum mos_range last_bytes(const char *p, uint64_t size, uint64_t *first, uint64_t *length) {
    uint64_t n;
    p = number(p, &n);
    if (!p || *blanks(p))
        return MOS_RANGE_WHOLE;
    if (!n || !size)
        return MOS_RANGE_NONE;
    *length = n < size ? n : size;
    *first = size - *length;
    return MOS_RANGE_PART;
}

enum mos_range mos_range_read(const char *text, uint64_t size, uint64_t *first, uint64_t *length) {
    static const char unit[] = "bytes=";
    uint64_t from, to = UINT64_MAX;
    *first = 0;
    *length = size;
    if (!text || strncasecmp(text, unit, sizeof unit - 1) != 0)
        return MOS_RANGE_WHOLE;
    const char *p = blanks(text + sizeof unit - 1);
    if (*p == '-')
        return last_bytes(p + 1, size, first, length);
    p = number(p, &from);
    if (!p || *p++ != '-')
        return MOS_RANGE_WHOLE;
    if (*p >= '0' && *p <= '9')
        p = number(p, &to);
    if (*blanks(p) || to < from)
        return MOS_RANGE_WHOLE;
    if (from >= size)
        return MOS_RANGE_NONE;
    *first = from;
    *length = (to < size ? to : size - 1) - from + 1;
    return MOS_RANGE_PART;
}
