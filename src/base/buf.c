#include "base/buf.h"

#include "base/bytes.h"

#include <assert.h>
#include <stdio.h>
#include <string.h>

static void reserve(struct mos_buf *b, size_t more) {
    assert(b->arena && b->length <= b->capacity);
    size_t need = b->length + more + 1;
    assert(need > b->length);
    if (need <= b->capacity)
        return;
    size_t capacity = b->capacity ? b->capacity * 2 : 128;
    if (capacity < need)
        capacity = need;
    b->data = mos_grow(b->arena, b->data, b->length, b->capacity, capacity);
    b->capacity = capacity;
}

void mos_buf_add(struct mos_buf *b, const void *bytes, size_t length) {
    assert(bytes || !length);
    reserve(b, length);
    if (length)
        memcpy(b->data + b->length, bytes, length);
    b->length += length;
    b->data[b->length] = 0;
}

void mos_buf_text(struct mos_buf *b, const char *text) {
    mos_buf_add(b, text, strlen(text));
}

void mos_buf_char(struct mos_buf *b, char c) {
    mos_buf_add(b, &c, 1);
}

void mos_buf_zeros(struct mos_buf *b, size_t length) {
    reserve(b, length);
    memset(b->data + b->length, 0, length + 1);
    b->length += length;
}

void mos_buf_align(struct mos_buf *b, size_t unit) {
    assert(unit && (unit & (unit - 1)) == 0);
    size_t over = b->length & (unit - 1);
    if (over)
        mos_buf_zeros(b, unit - over);
}

void mos_buf_be32(struct mos_buf *b, uint32_t value) {
    uint8_t raw[4];
    mos_put_be32(raw, value);
    mos_buf_add(b, raw, sizeof raw);
}

void mos_buf_printf(struct mos_buf *b, const char *format, ...) {
    va_list arguments, again;
    va_start(arguments, format);
    va_copy(again, arguments);
    int length = vsnprintf(NULL, 0, format, arguments);
    assert(length >= 0);
    reserve(b, (size_t)length);
    vsnprintf(b->data + b->length, (size_t)length + 1, format, again);
    b->length += (size_t)length;
    va_end(again);
    va_end(arguments);
}

const char *mos_buf_string(struct mos_buf *b) {
    reserve(b, 0);
    b->data[b->length] = 0;
    return b->data;
}

struct mos_vec mos_vec_make(struct mos_arena *arena, size_t item_size) {
    assert(item_size);
    return (struct mos_vec){.arena = arena, .item_size = item_size};
}

struct mos_vec mos_vec_copy(struct mos_arena *arena, const struct mos_vec *of) {
    assert(of->count <= of->capacity);
    struct mos_vec v = {arena, NULL, of->count, of->count, of->item_size};
    v.items = mos_alloc_array(arena, of->count, of->item_size);
    if (of->count)
        memcpy(v.items, of->items, of->count * of->item_size);
    return v;
}

void *mos_vec_push(struct mos_vec *v) {
    assert(v->item_size && v->count <= v->capacity);
    if (v->count == v->capacity) {
        size_t capacity = v->capacity ? v->capacity * 2 : 8, held = v->count * v->item_size;
        assert(capacity < SIZE_MAX / v->item_size);
        v->items = mos_grow(v->arena, v->items, held, held, capacity * v->item_size);
        v->capacity = capacity;
    }
    return memset(mos_vec_at(v, v->count++), 0, v->item_size);
}

void *mos_vec_at(const struct mos_vec *v, size_t index) {
    assert(index < v->count || index == v->count);
    return (char *)v->items + index * v->item_size;
}

void mos_vec_push_pointer(struct mos_vec *v, const void *pointer) {
    assert(v->item_size == sizeof pointer);
    *(const void **)mos_vec_push(v) = pointer;
}

void *mos_vec_pointer(const struct mos_vec *v, size_t index) {
    assert(index < v->count && v->item_size == sizeof(void *));
    return ((void **)v->items)[index];
}
