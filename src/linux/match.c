#include "linux/match.h"

#include "base/bytes.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* struct of_device_id: name, type, compatible, then a pointer. */
enum { NAME = 32, TYPE = 32, COMPATIBLE = 128, BEFORE = NAME + TYPE };

static bool is_name_char(uint8_t c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || c == ',' ||
           c == '-' || c == '.' || c == '_' || c == '+' || c == '/' || c == '#' || c == '@' ||
           c == ':';
}

/* The length of a text in a field that is zeros behind it; SIZE_MAX: it is none. */
static size_t field(const uint8_t *p, size_t room) {
    size_t n = 0;
    while (n < room && is_name_char(p[n]))
        n++;
    for (size_t i = n; i < room; i++)
        if (p[i])
            return SIZE_MAX;
    return n < room ? n : SIZE_MAX;
}

static int by_text(const void *a, const void *b) {
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

static void sort_once(struct mos_vec *v) {
    char **items = v->items;
    size_t kept = 0;
    if (v->count)
        qsort(items, v->count, sizeof *items, by_text);
    for (size_t i = 0; i < v->count; i++)
        if (!kept || strcmp(items[i], items[kept - 1]) != 0)
            items[kept++] = items[i];
    v->count = kept;
}

static bool has(const struct mos_vec *v, const char *text) {
    return v->count && bsearch(&text, v->items, v->count, sizeof(char *), by_text);
}

static struct mos_match empty(struct mos_arena *arena) {
    return (struct mos_match){mos_vec_make(arena, sizeof(char *)),
                              mos_vec_make(arena, sizeof(char *)),
                              mos_vec_make(arena, sizeof(struct mos_match_part))};
}

void mos_match_tables(struct mos_arena *arena, const uint8_t *bytes, size_t length, bool wide,
                      struct mos_vec *out) {
    size_t align = wide ? 8 : 4;
    for (size_t at = 0; at + BEFORE + COMPATIBLE <= length; at += align) {
        const uint8_t *p = bytes + at + BEFORE;
        if (!is_name_char(*p) || p[-1] || p[COMPATIBLE - 1])
            continue;
        size_t n = field(p, COMPATIBLE);
        if (n == SIZE_MAX || n < 3 || field(p - BEFORE, NAME) == SIZE_MAX ||
            field(p - TYPE, TYPE) == SIZE_MAX)
            continue;
        mos_vec_push_pointer(out, mos_strndup(arena, (const char *)p, n));
    }
    sort_once(out);
}

/* Texts with a comma in their middle, "maker,part", and the one without that stands for whatever
 * registers a device has. */
static void find_names(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                       struct mos_match *out) {
    static const char any[] = "\0syscon";
    const uint8_t *end = bytes + length;
    for (const uint8_t *p = bytes; p < end && (p = memchr(p, 0, (size_t)(end - p))); p++)
        if ((size_t)(end - p) >= sizeof any && memcmp(p, any, sizeof any) == 0) {
            mos_vec_push_pointer(&out->named, mos_strdup(arena, any + 1));
            break;
        }
    for (const uint8_t *p = bytes; p < end && (p = memchr(p, ',', (size_t)(end - p))); p++) {
        const uint8_t *from = p, *to = p + 1;
        while (from > bytes && p - from < COMPATIBLE && is_name_char(from[-1]))
            from--;
        while (to < end && to - p < COMPATIBLE && is_name_char(*to))
            to++;
        size_t n = (size_t)(to - from);
        if (from == p || to == p + 1 || n < 5 || n >= COMPATIBLE || to == end || *to ||
            from == bytes || from[-1])
            continue;
        const char *text = mos_strndup(arena, (const char *)from, n);
        if (!has(&out->tables, text))
            mos_vec_push_pointer(&out->named, text);
    }
    sort_once(&out->named);
}

/* Numbers of peripherals that their maker made itself (0x41 is the letter of its name), and masks
 * as their drivers have them. */
static void find_parts(const uint8_t *bytes, size_t length, struct mos_match *out) {
    static const uint32_t masks[] = {0x000fffff, 0x00ffffff, 0xffffffff, 0x000fff0f};
    for (size_t at = 0; at + 8 <= length; at += 4) {
        uint32_t id = mos_le32(bytes + at), mask = mos_le32(bytes + at + 4);
        if ((id & 0x000ff000) != 0x00041000 || (id & mask) != id || id >> 24)
            continue;
        for (size_t i = 0; i < sizeof masks / sizeof *masks; i++)
            if (mask == masks[i])
                *(struct mos_match_part *)mos_vec_push(&out->parts) =
                    (struct mos_match_part){id, mask};
    }
}

void mos_match_find(struct mos_arena *arena, const uint8_t *bytes, size_t length, bool wide,
                    struct mos_match *out) {
    *out = empty(arena);
    mos_match_tables(arena, bytes, length, wide, &out->tables);
    find_names(arena, bytes, length, out);
    find_parts(bytes, length, out);
}

bool mos_match_has(const struct mos_match *m, const char *compatible, bool named) {
    return has(&m->tables, compatible) || (named && has(&m->named, compatible));
}

bool mos_match_has_part(const struct mos_match *m, uint32_t id) {
    for (size_t i = 0; i < m->parts.count; i++) {
        const struct mos_match_part *p = mos_vec_at(&m->parts, i);
        if ((id & p->mask) == p->id)
            return true;
    }
    return false;
}

/* ---- kept ---- */

void mos_match_write(const struct mos_match *m, struct mos_buf *out) {
    for (size_t i = 0; i < m->tables.count; i++)
        mos_buf_printf(out, "t%s\n", (const char *)mos_vec_pointer(&m->tables, i));
    for (size_t i = 0; i < m->named.count; i++)
        mos_buf_printf(out, "n%s\n", (const char *)mos_vec_pointer(&m->named, i));
    for (size_t i = 0; i < m->parts.count; i++) {
        const struct mos_match_part *p = mos_vec_at(&m->parts, i);
        mos_buf_printf(out, "p%" PRIx32 " %" PRIx32 "\n", p->id, p->mask);
    }
}

bool mos_match_read(struct mos_arena *arena, const char *text, struct mos_match *out) {
    *out = empty(arena);
    for (size_t n; *text; text += n + 1) {
        struct mos_match_part part;
        n = strcspn(text, "\n");
        if (!text[n] || !n)
            return false; /* cut */
        if (*text == 't' || *text == 'n')
            mos_vec_push_pointer(*text == 't' ? &out->tables : &out->named,
                                 mos_strndup(arena, text + 1, n - 1));
        else if (sscanf(text, "p%" SCNx32 " %" SCNx32, &part.id, &part.mask) == 2)
            *(struct mos_match_part *)mos_vec_push(&out->parts) = part;
        else
            return false;
    }
    sort_once(&out->tables);
    sort_once(&out->named);
    return true;
}
