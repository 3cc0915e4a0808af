#include "base/address.h"

#include "base/text.h"

#include <stdio.h>
#include <string.h>

bool mos_ipv4_read(const char *text, uint32_t *address, unsigned *prefix) {
    unsigned a, b, c, d, p = 32;
    char rest;
    int n = sscanf(text, "%3u.%3u.%3u.%3u/%2u%c", &a, &b, &c, &d, &p, &rest);
    if ((n != 4 && n != 5) || (n == 4 && strchr(text, '/')) || a > 255 || b > 255 || c > 255 ||
        d > 255 || p > 32 || strspn(text, "0123456789./") != strlen(text))
        return false;
    *address = a << 24 | b << 16 | c << 8 | d;
    *prefix = p;
    return true;
}

const char *mos_ipv4_text(struct mos_arena *arena, uint32_t a) {
    return mos_printf(arena, "%u.%u.%u.%u", a >> 24, a >> 16 & 255, a >> 8 & 255, a & 255);
}
