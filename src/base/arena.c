#include "base/arena.h"

#include <assert.h>
#include <stdalign.h>
#include <stdbool.h>
#include <stddef.h>
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

enum { FIRST_BLOCK = 16 * 1024, LARGEST_BLOCK = 1024 * 1024, ALONE = LARGEST_BLOCK / 4 };

struct block {
    struct block *next, *before;
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

/* `clean`: its bytes are zero; those of others are made so piece by piece. */
static struct block *add_block(struct mos_arena *arena, size_t size, bool clean) {
    assert(size && size % alignof(max_align_t) == 0);
    if (size > SIZE_MAX - sizeof(struct block))
        give_up(arena);
    if (arena->limit && (arena->held > arena->limit || size > arena->limit - arena->held))
        give_up(arena);
    struct block *b = clean ? calloc(1, sizeof *b + size) : malloc(sizeof *b + size);
    if (!b)
        give_up(arena);
    *b = (struct block){.size = size};
    arena->held += size;
    ASAN_POISON_MEMORY_REGION(b->data, size);
    return b;
}

/* Puts a block behind another one; NULL: before all. */
static void link_block(struct mos_arena *arena, struct block *b, struct block *before) {
    struct block **from = before ? &before->next : &arena->blocks;
    b->before = before;
    b->next = *from;
    if (b->next)
        b->next->before = b;
    *from = b;
}

/* So many bytes of a block, a multiple of the unit.  What is larger than ALONE has its own.
 * *clean: they are zero. */
static void *take(struct mos_arena *arena, size_t size, bool *clean) {
    struct block *b = arena->blocks;
    *clean = false;
    if (b && size <= ALONE && size <= b->size - b->used) {
        void *p = (char *)b->data + b->used;
        b->used += size;
        return p;
    }
    bool own = size > arena->next_size / 4; /* it goes behind the one being filled */
    struct block *fresh = add_block(arena, own ? size : arena->next_size, own);
    fresh->used = size;
    link_block(arena, fresh, own ? b : NULL);
    if (!own && arena->next_size < LARGEST_BLOCK)
        arena->next_size *= 2;
    *clean = own;
    return fresh->data;
}

static size_t rounded(struct mos_arena *arena, size_t size) {
    const size_t unit = alignof(max_align_t);
    if (size > SIZE_MAX - unit - GAP)
        give_up(arena);
    return (size + GAP + unit - 1) / unit * unit;
}

static struct block *block_of(void *piece) {
    return (struct block *)((char *)piece - offsetof(struct block, data));
}

void *mos_alloc(struct mos_arena *arena, size_t size) {
    assert(arena->out_of_memory);
    if (arena->fail_after && --arena->fail_after == 0)
        give_up(arena);
    bool clean;
    void *p = take(arena, rounded(arena, size), &clean);
    ASAN_UNPOISON_MEMORY_REGION(p, size);
    return clean ? p : memset(p, 0, size);
}

void mos_drop(struct mos_arena *arena, void *piece, size_t size) {
    if (!piece)
        return;
    ASAN_POISON_MEMORY_REGION(piece, size);
    if (rounded(arena, size) <= ALONE)
        return;
    struct block *b = block_of(piece);
    assert(b->size == rounded(arena, size) && b->used == b->size);
    *(b->before ? &b->before->next : &arena->blocks) = b->next;
    if (b->next)
        b->next->before = b->before;
    arena->held -= b->size;
    free(b);
}

/* A block of its own gets longer where it lies, or the system moves its pages. */
static void *lengthen(struct mos_arena *arena, struct block *b, size_t size) {
    size_t more = rounded(arena, size) - b->size;
    if (arena->limit && (arena->held > arena->limit || more > arena->limit - arena->held))
        give_up(arena);
    struct block *longer = realloc(b, sizeof *b + b->size + more);
    if (!longer)
        give_up(arena);
    *(longer->before ? &longer->before->next : &arena->blocks) = longer;
    if (longer->next)
        longer->next->before = longer;
    longer->size += more;
    longer->used = longer->size;
    arena->held += more;
    return longer->data;
}

void *mos_grow(struct mos_arena *arena, void *piece, size_t used, size_t size, size_t wanted) {
    assert(used <= size && size <= wanted && (piece || !size));
    if (!GAP && rounded(arena, size) > ALONE && !arena->fail_after)
        return lengthen(arena, block_of(piece), wanted);
    void *longer = mos_alloc(arena, wanted);
    if (used)
        memcpy(longer, piece, used);
    mos_drop(arena, piece, size);
    return longer;
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
