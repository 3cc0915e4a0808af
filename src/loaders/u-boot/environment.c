#include "loaders/u-boot/environment.h"

#include "base/bytes.h"

#include <assert.h>
#include <ctype.h>
#include <stdlib.h>
#include <string.h>

uint64_t mos_environment_size(const struct mos_map *variables, bool flag_byte) {
    uint64_t size = 4 + flag_byte + 1;
    for (size_t i = 0; i < variables->count; i++) {
        const struct mos_loader_variable *v = variables->items[i].value;
        size += strlen(v->name) + 1 + strlen(v->value) + 1;
    }
    return size + (variables->count == 0); /* an empty one still ends in two NUL */
}

static int by_name(const void *a, const void *b) {
    const struct mos_map_item *x = a, *y = b;
    return strcmp(x->key, y->key);
}

void mos_environment_write(struct mos_buf *out, const struct mos_map *variables, uint64_t size,
                           bool flag_byte) {
    assert(size >= mos_environment_size(variables, flag_byte));
    size_t start = out->length, header = 4 + (size_t)flag_byte;
    struct mos_map_item *items = mos_alloc_array(out->arena, variables->count, sizeof *items);
    if (variables->count) {
        memcpy(items, variables->items, variables->count * sizeof *items);
        qsort(items, variables->count, sizeof *items, by_name);
    }
    mos_buf_zeros(out, header);
    for (size_t i = 0; i < variables->count; i++) {
        const struct mos_loader_variable *v = items[i].value;
        mos_buf_printf(out, "%s=%s", v->name, v->value);
        mos_buf_char(out, 0);
    }
    mos_buf_zeros(out, (size_t)size - (out->length - start));
    assert(out->length - start == size);
    if (flag_byte)
        out->data[start + 4] = 1; /* the active copy */
    mos_put_le32(out->data + start,
                 mos_crc32(0, out->data + start + header, (size_t)size - header));
}

static void read_variables(struct mos_arena *arena, const uint8_t *data, size_t length,
                           struct mos_map *out) {
    for (size_t at = 0; at < length && data[at];) {
        const uint8_t *end = memchr(data + at, 0, length - at);
        size_t n = end ? (size_t)(end - data) - at : length - at;
        const char *text = mos_strndup(arena, (const char *)data + at, n);
        const char *equals = strchr(text, '=');
        if (equals && equals != text)
            mos_variables_set(arena, out, mos_strndup(arena, text, (size_t)(equals - text)),
                              equals + 1, (struct mos_place){0});
        at += n + 1;
    }
}

bool mos_environment_read(struct mos_arena *arena, const uint8_t *data, size_t length,
                          struct mos_map *out, bool *flag_byte) {
    for (size_t header = 4; header <= 5; header++) {
        if (length <= header || mos_crc32(0, data + header, length - header) != mos_le32(data))
            continue;
        *flag_byte = header == 5;
        *out = mos_map_make(arena);
        read_variables(arena, data + header, length - header, out);
        return true;
    }
    return false;
}

/* ---- compiled in ---- */

/* Does a NAME=VALUE text stand at p, ended by a NUL before `end`?  Its length, or 0. */
static size_t variable_at(const uint8_t *p, const uint8_t *end) {
    size_t n = 0;
    while (p + n < end && (isalnum(p[n]) || strchr("_-.#:,+@/", p[n]) != NULL) && p[n])
        n++;
    if (!n || n > 128 || p + n >= end || p[n] != '=')
        return 0;
    while (p + n < end && p[n] && (p[n] >= 0x20 || p[n] == '\n' || p[n] == '\t'))
        n++;
    return p + n < end && !p[n] ? n : 0;
}

/* The first of the texts that a known one belongs to. */
static const uint8_t *first_of(const uint8_t *binary, const uint8_t *known, const uint8_t *end) {
    while (known > binary + 1) {
        const uint8_t *p = known - 1; /* the NUL of the text before */
        while (p > binary && p[-1])
            p--;
        if (p == known - 1 || variable_at(p, end) != (size_t)(known - 1 - p))
            break;
        known = p;
    }
    return known;
}

bool mos_environment_find(struct mos_arena *arena, const uint8_t *binary, size_t length,
                          struct mos_map *out) {
    assert(binary || !length);
    static const char *const marks[] = {"bootcmd=", "bootdelay="};
    const uint8_t *end = binary + length;
    for (size_t m = 0; m < 2; m++) {
        size_t n = strlen(marks[m]);
        for (const uint8_t *p = binary; (p = memchr(p, 'b', (size_t)(end - p))); p++) {
            if ((size_t)(end - p) <= n || memcmp(p, marks[m], n) != 0 || (p > binary && p[-1]))
                continue;
            const uint8_t *first = first_of(binary, p, end), *at = first;
            *out = mos_map_make(arena);
            for (size_t k; (k = variable_at(at, end)); at += k + 1)
                ;
            read_variables(arena, first, (size_t)(at - first), out);
            if (out->count > 1)
                return true;
        }
    }
    return false;
}
