#include "content/attributes.h"

#include "base/bytes.h"

#include <assert.h>
#include <string.h>

enum { HEADER = 6 };

bool mos_attribute_next(const uint8_t *list, size_t length, size_t *at, struct mos_attribute *out) {
    assert(*at <= length && (list || !length));
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

/* An attribute of a set: offsets into its store. */
struct held {
    size_t name, name_length, value, value_length;
};

struct mos_attribute_set mos_attribute_set_make(struct mos_arena *arena) {
    return (struct mos_attribute_set){mos_vec_make(arena, sizeof(struct held)), {.arena = arena}};
}

void mos_attribute_reset(struct mos_attribute_set *set) {
    set->items.count = 0;
    set->store.length = 0;
}

static int order(const struct mos_attribute_set *set, const struct held *a, const struct held *b) {
    assert(a->name + a->name_length <= set->store.length);
    assert(b->name + b->name_length <= set->store.length);
    size_t n = a->name_length < b->name_length ? a->name_length : b->name_length;
    int c = memcmp(set->store.data + a->name, set->store.data + b->name, n);
    return c ? c : (a->name_length > b->name_length) - (a->name_length < b->name_length);
}

void mos_attribute_add(struct mos_attribute_set *set, const char *name, size_t name_length,
                       const void *value, size_t value_length) {
    if (name_length > UINT16_MAX || value_length > UINT32_MAX)
        return;
    struct held x = {set->store.length, name_length, set->store.length + name_length, value_length};
    mos_buf_add(&set->store, name, name_length);
    if (value_length)
        mos_buf_add(&set->store, value, value_length);
    mos_buf_string(&set->store); /* there is a store now, be it for an empty name */
    size_t at = 0;
    struct held *items = set->items.items;
    while (at < set->items.count && order(set, &items[at], &x) < 0)
        at++;
    if (at < set->items.count && order(set, &items[at], &x) == 0) {
        items[at] = x;
        return;
    }
    mos_vec_push(&set->items);
    items = set->items.items;
    memmove(items + at + 1, items + at, (set->items.count - at - 1) * sizeof *items);
    items[at] = x;
}

void mos_attribute_pack(const struct mos_attribute_set *set, struct mos_buf *out) {
    for (size_t i = 0; i < set->items.count; i++) {
        const struct held *x = mos_vec_at(&set->items, i);
        assert(x->name_length <= UINT16_MAX && x->value_length <= UINT32_MAX);
        uint8_t h[HEADER];
        mos_put_le16(h, (uint16_t)x->name_length);
        mos_put_le32(h + 2, (uint32_t)x->value_length);
        mos_buf_add(out, h, HEADER);
        mos_buf_add(out, set->store.data + x->name, x->name_length);
        mos_buf_add(out, set->store.data + x->value, x->value_length);
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
