/* Forms of input for trying things out: changes that stay in memory, and ranges that fail. */
#include "io/io.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

enum { PAGE = 16 << 10 };

struct page {
    uint64_t number;
    uint8_t *bytes;
};

struct overlay_state {
    struct mos_arena *arena;
    struct mos_io of;
    struct mos_vec pages; /* of struct page, in order of numbers */
};

/* The index of the first page that is not before `number`. */
static size_t position(const struct overlay_state *s, uint64_t number) {
    size_t low = 0, high = s->pages.count;
    while (low < high) {
        size_t middle = (low + high) / 2;
        if (((const struct page *)mos_vec_at(&s->pages, middle))->number < number)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

static struct page *page_of(const struct overlay_state *s, uint64_t number) {
    size_t i = position(s, number);
    struct page *p = i < s->pages.count ? mos_vec_at(&s->pages, i) : NULL;
    return p && p->number == number ? p : NULL;
}

static int overlay_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct overlay_state *s = io->self;
    uint8_t *out = to;
    while (length) {
        size_t n = (size_t)mos_min(length, PAGE - offset % PAGE);
        const struct page *p = page_of(s, offset / PAGE);
        if (p) {
            memcpy(out, p->bytes + offset % PAGE, n);
        } else { /* as far as the pages of what lies below go */
            uint64_t next = io->size;
            size_t i = position(s, offset / PAGE);
            if (i < s->pages.count)
                next = ((const struct page *)mos_vec_at(&s->pages, i))->number * PAGE;
            n = (size_t)mos_min(length, next - offset);
            int e = mos_io_read(&s->of, out, n, offset);
            if (e)
                return e;
        }
        out += n;
        offset += n;
        length -= n;
    }
    return 0;
}

static int add_page(struct overlay_state *s, uint64_t number, struct page **out) {
    size_t at = position(s, number);
    uint64_t start = number * PAGE;
    struct page p = {number, mos_alloc(s->arena, PAGE)};
    int e = mos_io_read(&s->of, p.bytes, (size_t)mos_min(PAGE, s->of.size - start), start);
    if (e)
        return e;
    mos_vec_push(&s->pages);
    struct page *items = s->pages.items;
    memmove(items + at + 1, items + at, (s->pages.count - 1 - at) * sizeof *items);
    items[at] = p;
    *out = &items[at];
    return 0;
}

static int overlay_write(struct mos_io *io, const void *from, size_t length, uint64_t offset) {
    struct overlay_state *s = io->self;
    const uint8_t *in = from;
    while (length) {
        size_t n = (size_t)mos_min(length, PAGE - offset % PAGE);
        struct page *p = page_of(s, offset / PAGE);
        int e = p ? 0 : add_page(s, offset / PAGE, &p);
        if (e)
            return e;
        memcpy(p->bytes + offset % PAGE, in, n);
        in += n;
        offset += n;
        length -= n;
    }
    return 0;
}

static int overlay_next_data(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end) {
    struct overlay_state *s = io->self;
    int e = mos_io_next_data(&s->of, from, start, end);
    size_t i = position(s, from / PAGE);
    if (e || i >= s->pages.count)
        return e;
    const struct page *p = mos_vec_at(&s->pages, i);
    uint64_t first = mos_max(p->number * PAGE, from);
    uint64_t last = mos_min((p->number + 1) * PAGE, io->size);
    if (first <= *start) {
        *end = *start<last && * end> last ? *end : last;
        *start = first;
    }
    return 0;
}

struct mos_io mos_io_overlay(struct mos_arena *arena, struct mos_io *of) {
    static const struct mos_io_driver driver = {overlay_read, overlay_write, overlay_next_data};
    struct overlay_state *s = mos_alloc(arena, sizeof *s);
    *s = (struct overlay_state){arena, *of, mos_vec_make(arena, sizeof(struct page))};
    return (struct mos_io){&driver, of->size, s};
}

struct broken_state {
    struct mos_io of;
    uint64_t from, to;
    int errnum;
};

static int broken_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct broken_state *s = io->self;
    if (offset < s->to && offset + length > s->from)
        return s->errnum;
    return mos_io_read(&s->of, to, length, offset);
}

static int broken_next_data(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end) {
    struct broken_state *s = io->self;
    return mos_io_next_data(&s->of, from, start, end);
}

struct mos_io mos_io_broken(struct mos_arena *arena, struct mos_io *of, uint64_t offset,
                            uint64_t length, int errnum) {
    static const struct mos_io_driver driver = {broken_read, NULL, broken_next_data};
    struct broken_state *s = mos_alloc(arena, sizeof *s);
    *s = (struct broken_state){*of, offset, offset + length, errnum};
    return (struct mos_io){&driver, of->size, s};
}
