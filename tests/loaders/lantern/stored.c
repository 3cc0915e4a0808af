/* Lantern's variables: LNTN, the sum of all that follows, lines of "name value", and 0xff. */
#include "loaders/lantern/lantern.h"

#include "base/bytes.h"

#include <string.h>

static uint32_t sum_of(const uint8_t *data, size_t length) {
    uint32_t sum = 1;
    for (size_t i = 0; i < length; i++)
        sum = sum * 31 + data[i];
    return sum;
}

static uint64_t size_of(const struct mos_map *variables, bool flag_byte) {
    uint64_t size = LANTERN_HEAD + flag_byte;
    for (size_t i = 0; i < variables->count; i++) {
        const struct mos_loader_variable *v = variables->items[i].value;
        size += strlen(v->name) + strlen(v->value) + 2;
    }
    return size;
}

static void write_block(struct mos_buf *out, const struct mos_map *variables, uint64_t size,
                        bool flag_byte) {
    size_t start = out->length;
    (void)flag_byte;
    mos_buf_text(out, LANTERN_MAGIC);
    mos_buf_zeros(out, 4);
    for (size_t i = 0; i < variables->count; i++) {
        const struct mos_loader_variable *v = variables->items[i].value;
        mos_buf_printf(out, "%s %s\n", v->name, v->value);
    }
    while (out->length - start < size)
        mos_buf_char(out, (char)0xff);
    mos_put_le32(out->data + start + 4, sum_of((const uint8_t *)out->data + start + LANTERN_HEAD,
                                               (size_t)size - LANTERN_HEAD));
}

static bool read_block(struct mos_arena *arena, const uint8_t *data, size_t length,
                       struct mos_map *out, bool *flag_byte) {
    if (length < LANTERN_HEAD || memcmp(data, LANTERN_MAGIC, 4) != 0 ||
        mos_le32(data + 4) != sum_of(data + LANTERN_HEAD, length - LANTERN_HEAD))
        return false;
    *out = mos_map_make(arena);
    *flag_byte = false;
    for (size_t at = LANTERN_HEAD; at < length && data[at] != 0xff;) {
        const uint8_t *end = memchr(data + at, '\n', length - at);
        if (!end)
            break;
        const char *text = mos_strndup(arena, (const char *)data + at, (size_t)(end - data) - at);
        size_t n = strcspn(text, " ");
        mos_variables_set(arena, out, mos_strndup(arena, text, n), text + n + (text[n] == ' '),
                          (struct mos_place){0});
        at = (size_t)(end - data) + 1;
    }
    return true;
}

static bool find_compiled(struct mos_arena *arena, const uint8_t *binary, size_t length,
                          struct mos_map *out) {
    (void)arena;
    (void)binary;
    (void)length;
    (void)out;
    return false;
}

static void write_place(struct mos_buf *out, const char *device, uint64_t at, uint64_t size,
                        uint64_t erase) {
    (void)erase;
    mos_buf_printf(out, "%s from %llu for %llu\n", device, (unsigned long long)at,
                   (unsigned long long)size);
}

const struct mos_stored_form lantern_stored = {.file = "lantern.vars",
                                               .size = size_of,
                                               .write = write_block,
                                               .read = read_block,
                                               .find = find_compiled,
                                               .system_file = "etc/lantern.places",
                                               .confirms = "/usr/sbin/lantern keep",
                                               .write_place = write_place};
