#include "base/source.h"

#include <assert.h>
#include <string.h>

struct mos_source *mos_source_make(struct mos_arena *arena, const char *shown_path,
                                   const char *text, size_t length, unsigned order) {
    struct mos_source *s = mos_alloc(arena, sizeof *s);
    const char *end = text + length, *p = text;
    size_t count = 1, n = 1;
    while (p < end && (p = memchr(p, '\n', (size_t)(end - p)))) {
        count++;
        p++;
    }
    size_t *lines = mos_alloc_array(arena, count, sizeof *lines);
    for (p = text; n < count; n++) {
        p = (const char *)memchr(p, '\n', (size_t)(end - p)) + 1;
        lines[n] = (size_t)(p - text);
    }
    *s = (struct mos_source){.shown_path = shown_path,
                             .text = text,
                             .length = length,
                             .lines = lines,
                             .line_count = count,
                             .order = order};
    return s;
}

static size_t line_of(const struct mos_source *source, size_t offset) {
    size_t low = 0, high = source->line_count;
    while (high - low > 1) {
        size_t middle = low + (high - low) / 2;
        if (source->lines[middle] <= offset)
            low = middle;
        else
            high = middle;
    }
    return low;
}

struct mos_position mos_source_position(const struct mos_source *source, size_t offset) {
    assert(source);
    if (offset > source->length)
        offset = source->length;
    size_t line = line_of(source, offset);
    return (struct mos_position){.line = (unsigned)line + 1,
                                 .column = (unsigned)(offset - source->lines[line]) + 1};
}

const char *mos_source_line(const struct mos_source *source, size_t offset, size_t *length) {
    assert(offset <= source->length);
    size_t start = source->lines[line_of(source, offset)];
    const char *text = source->text + start;
    const char *end = memchr(text, '\n', source->length - start);
    size_t n = end ? (size_t)(end - text) : source->length - start;
    if (n && text[n - 1] == '\r')
        n--;
    *length = n;
    return text;
}

size_t mos_source_line_start(const struct mos_source *source, unsigned line) {
    if (line == 0 || line > source->line_count)
        return source->length;
    return source->lines[line - 1];
}
