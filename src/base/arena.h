/* Arenas: memory that is given back all at once.
 *
 * An arena never returns NULL.  When the system has no memory left (or the arena's limit is
 * reached) it jumps to the handler set by the public entry point (src/api), which reports exit
 * status 3; nothing else has to check.  Single-threaded: one arena belongs to one task.
 */
#ifndef MOS_BASE_ARENA_H
#define MOS_BASE_ARENA_H

#include <setjmp.h>
#include <stdarg.h>
#include <stddef.h>

struct mos_arena;

/* A new arena whose failures jump to *out_of_memory (kept by reference).  NULL when even that
 * much memory is not to be had. */
struct mos_arena *mos_arena_new(jmp_buf *out_of_memory);
void mos_arena_free(struct mos_arena *arena);
/* One for what does not stay long, with the same handler; it never returns NULL.  Free it before
 * its parent; running out of memory in between leaves it to the process. */
struct mos_arena *mos_arena_child(struct mos_arena *parent);

/* Makes the n-th allocation from now fail (tests); 0 switches it off. */
void mos_arena_fail_after(struct mos_arena *arena, unsigned long n);

/* The most bytes it may hold; what goes beyond counts as out of memory.  0: no limit. */
void mos_arena_limit(struct mos_arena *arena, size_t bytes);

/* `size` zeroed bytes, aligned for any type. */
void *mos_alloc(struct mos_arena *arena, size_t size);
/* `count` zeroed items of `size` bytes; an overflow counts as out of memory. */
void *mos_alloc_array(struct mos_arena *arena, size_t count, size_t size);

/* A longer piece in place of one of `size` bytes (NULL: of none), whose first `used` bytes it
 * begins with; what stands behind them is not defined.  Nobody may use the old one any more. */
void *mos_grow(struct mos_arena *arena, void *piece, size_t used, size_t size, size_t wanted);
/* A piece of `size` bytes (NULL: of none) is not used any more.  Large ones go back at once. */
void mos_drop(struct mos_arena *arena, void *piece, size_t size);

/* Copies of a text: all of it, or (…n…) its first `length` bytes with a NUL behind them.  `text`
 * may be NULL where `length` is 0. */
char *mos_strdup(struct mos_arena *arena, const char *text);
char *mos_strndup(struct mos_arena *arena, const char *text, size_t length);
/* A text as printf makes it, in the arena; never NULL. */
char *mos_printf(struct mos_arena *arena, const char *format, ...)
    __attribute__((format(printf, 2, 3)));
char *mos_vprintf(struct mos_arena *arena, const char *format, va_list arguments);

#endif
