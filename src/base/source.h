/* Sources and places.  Parsers keep byte offsets; line and column are worked out only when a
 * place is shown. */
#ifndef MOS_BASE_SOURCE_H
#define MOS_BASE_SOURCE_H

#include "base/arena.h"

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* A text that places point into.  Immutable once loaded (the line map is made with it). */
struct mos_source {
    const char *shown_path; /* as the user knows it: relative to the workspace */
    const char *text;       /* NUL-terminated, may contain NUL bytes before */
    size_t length;
    const size_t *lines; /* offset of the start of each line */
    size_t line_count;
    unsigned order; /* in which sources were loaded: the order of findings */
    bool outside;   /* not the user's: on its own it raises no error */
};

/* Where something stands: a text span (source set), or a thing with a name (a file, a node, an
 * image range). */
struct mos_place {
    const struct mos_source *source;
    size_t offset, length;
    const char *thing;                /* shown when there is no source */
    const struct mos_place *replaced; /* what the value that stands here took the place of */
};

struct mos_position {
    unsigned line, column; /* from 1; the column counts bytes */
};

/* A text with the name that is shown for it.  `text` is kept by reference and must outlive it;
 * `order` sorts findings of several sources. */
struct mos_source *mos_source_make(struct mos_arena *arena, const char *shown_path,
                                   const char *text, size_t length, unsigned order);
/* Line and column, from 1; what lies behind the end is the end. */
struct mos_position mos_source_position(const struct mos_source *source, size_t offset);
/* The line that holds `offset`, without its end. */
const char *mos_source_line(const struct mos_source *source, size_t offset, size_t *length);
/* The offset where a line (from 1) begins; the end of the text for one that does not exist. */
size_t mos_source_line_start(const struct mos_source *source, unsigned line);

/* Bytes of a source; and something that is in no text, by its name ("kernel of card.img"). */
static inline struct mos_place mos_place_at(const struct mos_source *source, size_t offset,
                                            size_t length) {
    return (struct mos_place){.source = source, .offset = offset, .length = length};
}
static inline struct mos_place mos_place_thing(const char *thing) {
    return (struct mos_place){.thing = thing};
}

#endif
