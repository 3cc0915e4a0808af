/* Growing byte buffers and vectors, on an arena. */
#ifndef MOS_BASE_BUF_H
#define MOS_BASE_BUF_H

#include "base/arena.h"

#include <stdbool.h>
#include <stdint.h>

/* Bytes; always followed by one NUL that is not counted.  Zero-initialise except `arena`. */
struct mos_buf {
    struct mos_arena *arena;
    char *data;
    size_t length, capacity;
};

/* Each adds at the end: bytes (may be NULL where `length` is 0; must not lie in the buffer itself),
 * a text without its NUL, a character, a text as printf makes it, zero bytes. */
void mos_buf_add(struct mos_buf *b, const void *bytes, size_t length);
void mos_buf_text(struct mos_buf *b, const char *text);
void mos_buf_char(struct mos_buf *b, char c);
void mos_buf_printf(struct mos_buf *b, const char *format, ...)
    __attribute__((format(printf, 2, 3)));
void mos_buf_zeros(struct mos_buf *b, size_t length);
/* Pads with zero bytes to a multiple of `unit` (a power of two). */
void mos_buf_align(struct mos_buf *b, size_t unit);
/* Four bytes, the highest first. */
void mos_buf_be32(struct mos_buf *b, uint32_t value);
const char *mos_buf_string(struct mos_buf *b); /* never NULL */

/* Items of one size.  Growing moves them: keep indexes, or store pointers. */
struct mos_vec {
    struct mos_arena *arena;
    void *items;
    size_t count, capacity, item_size;
};

/* Empty; `item_size` is not 0.  Pointers into it are good until the next push. */
struct mos_vec mos_vec_make(struct mos_arena *arena, size_t item_size);
/* The same items once more; what they point to is not copied. */
struct mos_vec mos_vec_copy(struct mos_arena *arena, const struct mos_vec *of);
void *mos_vec_push(struct mos_vec *v); /* a new zeroed item */
/* The item at an index below the count (or just behind the last, to end a loop at). */
void *mos_vec_at(const struct mos_vec *v, size_t index);
/* Of vectors whose items are pointers (item_size == sizeof(void *)). */
void mos_vec_push_pointer(struct mos_vec *v, const void *pointer);
void *mos_vec_pointer(const struct mos_vec *v, size_t index);

#endif
