/* RAM of the board: pages that are made when something is written, and what lies where. */
#include "rehearse/sim.h"

#include "base/bytes.h"

#include <assert.h>
#include <string.h>

enum { PAGE = 64 << 10, MOST_PAGES = 1 << 18 };
_Static_assert((uint64_t)PAGE *MOST_PAGES == 16ull << 30, "so much RAM is simulated");

void sim_ram_start(struct sim *s) {
    assert(s->rig);
    s->ram.arena = s->arena;
    s->ram.things = mos_vec_make(s->arena, sizeof(struct sim_thing *));
    s->ram.start = mos_round_down(s->rig->ram.start, PAGE);
    s->ram.length = s->rig->ram.length ? s->rig->ram.length : 4ull << 30;
    s->ram.length = mos_min(s->ram.length, (uint64_t)MOST_PAGES * PAGE);
    size_t pages = (size_t)(s->ram.length / PAGE + 1);
    s->ram.table = mos_alloc_array(s->arena, pages, sizeof(uint8_t *));
    s->ram.lent = mos_alloc_array(s->arena, pages, sizeof *s->ram.lent);
}

bool sim_ram_is(const struct sim *s, uint64_t at, uint64_t length) {
    uint64_t end;
    return mos_add(at, length, &end) && at >= s->ram.start && end <= s->ram.start + s->ram.length;
}

bool sim_ram_free(const struct sim *s, uint64_t at, uint64_t length) {
    uint64_t own = s->rig->loader_from;
    for (size_t i = 0; i < s->rig->held_count; i++) {
        const struct mos_ram_span *x = &s->rig->held[i];
        if (length && x->length && at < x->start + x->length && x->start < at + length)
            return false;
    }
    return sim_ram_is(s, at, length) && (!own || at + length <= own);
}

bool sim_aborts(struct sim *s, uint64_t at) {
    const struct mos_ram_span *ram = &s->rig->ram;
    if (!ram->length || at < ram->start + ram->length)
        return false;
    sim_trouble(s, "data abort: nothing answers at 0x%llx, behind the end of the RAM",
                (unsigned long long)at);
    s->stop = SIM_RESET;
    return true;
}

const char *sim_ram_why(const struct sim *s, uint64_t at, uint64_t length) {
    uint64_t own = s->rig->loader_from;
    return !sim_ram_is(s, at, length) ? "outside of the RAM"
           : own && at + length > own ? "over the loader itself"
                                      : "over RAM that somebody else owns";
}

/* The bytes of a page, its own or lent ones; NULL: nobody has written there. */
static const uint8_t *page_of(const struct sim *s, size_t page) {
    return s->ram.table[page] ? s->ram.table[page] : s->ram.lent[page];
}

void sim_ram_write(struct sim *s, uint64_t at, const void *bytes, size_t length) {
    const uint8_t *from = bytes;
    while (length && sim_ram_is(s, at, 1)) {
        uint64_t offset = at - s->ram.start;
        uint8_t **page = &s->ram.table[offset / PAGE];
        size_t n = (size_t)mos_min(length, PAGE - offset % PAGE);
        if (!*page) {
            const uint8_t *before = s->ram.lent[offset / PAGE];
            *page = mos_alloc(s->ram.arena, PAGE);
            if (before)
                memcpy(*page, before, PAGE);
            s->ram.lent[offset / PAGE] = NULL;
        }
        memcpy(*page + offset % PAGE, from, n);
        from += n;
        at += n;
        length -= n;
    }
}

void sim_ram_lend(struct sim *s, uint64_t at, const uint8_t *bytes, size_t length) {
    assert(bytes || !length);
    uint64_t first = mos_round_up(at - s->ram.start, PAGE) + s->ram.start;
    if (at < s->ram.start || first - at >= length) {
        sim_ram_write(s, at, bytes, length);
        return;
    }
    sim_ram_write(s, at, bytes, (size_t)(first - at));
    bytes += first - at;
    length -= (size_t)(first - at);
    for (; length >= PAGE && sim_ram_is(s, first, PAGE); bytes += PAGE, first += PAGE) {
        size_t page = (size_t)((first - s->ram.start) / PAGE);
        s->ram.table[page] = NULL;
        s->ram.lent[page] = bytes;
        length -= PAGE;
    }
    sim_ram_write(s, first, bytes, length);
}

void sim_ram_read(const struct sim *s, uint64_t at, void *to, size_t length) {
    uint8_t *out = to;
    while (length) {
        size_t n = (size_t)mos_min(length, PAGE - (at - s->ram.start) % PAGE);
        const uint8_t *page =
            sim_ram_is(s, at, 1) ? page_of(s, (size_t)((at - s->ram.start) / PAGE)) : NULL;
        if (page)
            memcpy(out, page + (at - s->ram.start) % PAGE, n);
        else
            memset(out, 0, n);
        out += n;
        at += n;
        length -= n;
    }
}

uint8_t *sim_ram_copy(const struct sim *s, uint64_t at, uint64_t length, uint64_t limit) {
    if (length > limit || !sim_ram_is(s, at, length))
        return NULL;
    uint8_t *copy = mos_alloc(s->arena, (size_t)length + 1);
    sim_ram_read(s, at, copy, (size_t)length);
    return copy;
}

const uint8_t *sim_ram_look(const struct sim *s, uint64_t at, uint64_t *length) {
    size_t page = sim_ram_is(s, at, 1) ? (size_t)((at - s->ram.start) / PAGE) : 0;
    uint64_t offset = (at - s->ram.start) % PAGE, run = PAGE - offset;
    if (!sim_ram_is(s, at, 1) || !page_of(s, page))
        return NULL;
    const uint8_t *first = page_of(s, page) + offset;
    assert(run && run <= PAGE);
    for (; run < *length && s->ram.lent[page] && s->ram.lent[page + 1] &&
           s->ram.lent[page + 1] == s->ram.lent[page] + PAGE;
         page++)
        run += PAGE;
    *length = mos_min(*length, run);
    return first;
}

struct sim_thing *sim_ram_at(const struct sim *s, uint64_t at) {
    for (size_t i = s->ram.things.count; i; i--) {
        struct sim_thing *t = mos_vec_pointer(&s->ram.things, i - 1);
        if (at >= t->span.start && at - t->span.start < t->span.length)
            return t;
    }
    return NULL;
}

struct sim_thing *sim_ram_claim(struct sim *s, uint64_t at, uint64_t length, const char *what) {
    assert(what);
    for (size_t i = 0; i < s->ram.things.count; i++) {
        struct sim_thing *t = mos_vec_pointer(&s->ram.things, i);
        if (t->spoiled || !t->span.length || at >= t->span.start + t->span.length ||
            t->span.start >= at + length)
            continue;
        t->spoiled = what;
        uint64_t from = mos_max(at, t->span.start);
        uint64_t to = mos_min(at + length, t->span.start + t->span.length);
        if (strcmp(t->what, what) != 0 && !t->spent)
            sim_event(s, MOS_EVENT_OVER, from, to - from, NULL, "%s lies over %s", what, t->what);
    }
    struct sim_thing *t = mos_alloc(s->arena, sizeof *t);
    *t = (struct sim_thing){.what = what, .span = {at, length}};
    mos_vec_push_pointer(&s->ram.things, t);
    return t;
}
