#include "content/attributes.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

enum { HEADER = 6 };

bool mos_attribute_next(const uint8_t *list, size_t length, size_t *at, struct mos_attribute *out) {
    if (length - *at < HEADER || *at > length)
        return false;
    const uint8_t *p = list + *at;
    size_t name = mos_le16(p), value = mos_le32(p + 2);
    if (name > length - *at - HEADER || value > length - *at - HEADER - name)
        return false;
    *out = (struct mos_attribute){(const char *)p + HEADER, p + HEADER + name, name, value};
    *at += HEADER + name + value;
    return true;
}

static int by_name(const void *a, const void *b) {
    const struct mos_attribute *x = a, *y = b;
    size_t n = x->name_length < y->name_length ? x->name_length : y->name_length;
    int c = memcmp(x->name, y->name, n);
    return c ? c : (x->name_length > y->name_length) - (x->name_length < y->name_length);
}

void mos_attribute_add(struct mos_attribute_set *set, const char *name, size_t name_length,
                       const void *value, size_t value_length) {
    struct mos_attribute x = {name, value, name_length, value_length};
    if (name_length > UINT16_MAX || value_length > UINT32_MAX)
        return;
    uint8_t *copy = mos_alloc(set->items.arena, value_length + 1);
    if (value_length)
        memcpy(copy, value, value_length);
    for (size_t i = 0; i < set->items.count; i++) {
        struct mos_attribute *old = mos_vec_at(&set->items, i);
        if (by_name(old, &x) == 0) {
            old->value = copy;
            old->value_length = value_length;
            return;
        }
    }
    x.name = mos_strndup(set->items.arena, name, name_length);
    x.value = copy;
    *(struct mos_attribute *)mos_vec_push(&set->items) = x;
}

void mos_attribute_pack(struct mos_attribute_set *set, struct mos_buf *out) {
    if (set->items.count)
        qsort(set->items.items, set->items.count, sizeof(struct mos_attribute), by_name);
    for (size_t i = 0; i < set->items.count; i++) {
        const struct mos_attribute *x = mos_vec_at(&set->items, i);
        uint8_t h[HEADER];
        mos_put_le16(h, (uint16_t)x->name_length);
        mos_put_le32(h + 2, (uint32_t)x->value_length);
        mos_buf_add(out, h, HEADER);
        mos_buf_add(out, x->name, x->name_length);
        mos_buf_add(out, x->value, x->value_length);
    }
}

const char *mos_attribute_names(struct mos_arena *arena, const uint8_t *list, size_t length) {
    struct mos_buf b = {.arena = arena};
    struct mos_attribute x;
    for (size_t at = 0; mos_attribute_next(list, length, &at, &x);) {
        if (b.length)
            mos_buf_text(&b, ", ");
        mos_buf_add(&b, x.name, x.name_length);
    }
    return b.length ? mos_buf_string(&b) : NULL;
}
