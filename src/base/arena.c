#include "base/arena.h"

#include <assert.h>
#include <stdalign.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Under AddressSanitizer what was not given out cannot be touched either: a gap behind each piece.
 */
#if defined __has_feature
#if __has_feature(address_sanitizer)
#define GUARDED 1
#endif
#elif defined __SANITIZE_ADDRESS__
#define GUARDED 1
#endif
#ifdef GUARDED
#include <sanitizer/asan_interface.h>
enum { GAP = 16 };
#else
#define ASAN_POISON_MEMORY_REGION(from, length) ((void)(from), (void)(length))
#define ASAN_UNPOISON_MEMORY_REGION(from, length) ((void)(from), (void)(length))
enum { GAP = 0 };
#endif

enum { FIRST_BLOCK = 16 * 1024, LARGEST_BLOCK = 1024 * 1024 };

struct block {
    struct block *next;
    size_t used, size;
    max_align_t data[];
};

struct mos_arena {
    struct block *blocks; /* the first is the one being filled */
    jmp_buf *out_of_memory;
    size_t next_size;
    unsigned long fail_after;
    size_t held, limit; /* bytes of all blocks; limit 0: none */
};

struct mos_arena *mos_arena_new(jmp_buf *out_of_memory) {
    struct mos_arena *arena = calloc(1, sizeof *arena);
    if (arena) {
        arena->out_of_memory = out_of_memory;
        arena->next_size = FIRST_BLOCK;
    }
    return arena;
}

static void give_up(struct mos_arena *arena);

struct mos_arena *mos_arena_child(struct mos_arena *parent) {
    struct mos_arena *child = mos_arena_new(parent->out_of_memory);
    if (!child)
        give_up(parent);
    child->limit = parent->limit;
    return child;
}

void mos_arena_free(struct mos_arena *arena) {
    if (!arena)
        return;
    for (struct block *b = arena->blocks, *next; b; b = next) {
        next = b->next;
        free(b);
    }
    free(arena);
}

void mos_arena_fail_after(struct mos_arena *arena, unsigned long n) {
    arena->fail_after = n;
}

void mos_arena_limit(struct mos_arena *arena, size_t bytes) {
    arena->limit = bytes;
}

static void give_up(struct mos_arena *arena) {
    longjmp(*arena->out_of_memory, 1);
}

static struct block *add_block(struct mos_arena *arena, size_t size) {
    assert(size && size % alignof(max_align_t) == 0);
    if (size > SIZE_MAX - sizeof(struct block))
        give_up(arena);
    if (arena->limit && (arena->held > arena->limit || size > arena->limit - arena->held))
        give_up(arena);
    struct block *b = calloc(1, sizeof *b + size);
    if (!b)
        give_up(arena);
    b->size = size;
    arena->held += size;
    ASAN_POISON_MEMORY_REGION(b->data, size);
    return b;
}

/* So many bytes of a block, a multiple of the unit. */
static void *take(struct mos_arena *arena, size_t size) {
    struct block *b = arena->blocks;
    if (b && size <= b->size - b->used) {
        void *p = (char *)b->data + b->used;
        b->used += size;
        return p;
    }
    if (size > arena->next_size / 4) { /* a block of its own, behind the one being filled */
        struct block *own = add_block(arena, size);
        own->used = size;
        if (b) {
            own->next = b->next;
            b->next = own;
        } else {
            arena->blocks = own;
        }
        return own->data;
    }
    struct block *fresh = add_block(arena, arena->next_size);
    if (arena->next_size < LARGEST_BLOCK)
        arena->next_size *= 2;
    fresh->next = b;
    fresh->used = size;
    arena->blocks = fresh;
    return fresh->data;
}

void *mos_alloc(struct mos_arena *arena, size_t size) {
    assert(arena->out_of_memory);
    if (arena->fail_after && --arena->fail_after == 0)
        give_up(arena);
    const size_t unit = alignof(max_align_t);
    if (size > SIZE_MAX - unit - GAP)
        give_up(arena);
    void *p = take(arena, (size + GAP + unit - 1) / unit * unit);
    ASAN_UNPOISON_MEMORY_REGION(p, size);
    return p;
}

void *mos_alloc_array(struct mos_arena *arena, size_t count, size_t size) {
    if (size && count > SIZE_MAX / size)
        give_up(arena);
    return mos_alloc(arena, count * size);
}

char *mos_strndup(struct mos_arena *arena, const char *text, size_t length) {
    assert(text || !length);
    char *copy = mos_alloc(arena, length + 1);
    if (length)
        memcpy(copy, text, length);
    return copy;
}

char *mos_strdup(struct mos_arena *arena, const char *text) {
    return mos_strndup(arena, text, strlen(text));
}

char *mos_vprintf(struct mos_arena *arena, const char *format, va_list arguments) {
    va_list again;
    va_copy(again, arguments);
    int length = vsnprintf(NULL, 0, format, arguments);
    assert(length >= 0);
    char *text = mos_alloc(arena, (size_t)length + 1);
    vsnprintf(text, (size_t)length + 1, format, again);
    va_end(again);
    return text;
}

char *mos_printf(struct mos_arena *arena, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *text = mos_vprintf(arena, format, arguments);
    va_end(arguments);
    return text;
}
