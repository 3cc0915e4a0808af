#define _GNU_SOURCE /* memmem */
#include "watch/matcher.h"

#include <string.h>

struct wanted {
    const char *parts[MOS_MATCHER_PARTS];
    size_t lengths[MOS_MATCHER_PARTS];
    /* Bytes at a part's end, and at its beginning, that belong to the {} beside it. */
    size_t back[MOS_MATCHER_PARTS], ahead[MOS_MATCHER_PARTS];
    size_t count, longest; /* parts; which is looked for */
    bool at_start, at_end; /* ^ and $ */
    bool begins, ends;     /* a {} before the first part, behind the last */
};

/* A state's texts: a list through `behind`. */
struct found {
    size_t text;
    uint32_t behind; /* index + 1; 0: no more */
};

struct mos_matcher {
    struct mos_arena *arena;
    struct mos_vec texts; /* of struct wanted */
    uint16_t kinds[256];  /* what a byte is counted as; 0: in no text */
    unsigned kind_count;
    uint32_t *next; /* state * kind_count + kind */
    uint32_t *list; /* of a state: the first of its found, index + 1 */
    uint32_t *fail;
    size_t states;
    struct mos_vec found;
};

struct mos_matcher *mos_matcher_new(struct mos_arena *arena) {
    struct mos_matcher *m = mos_alloc(arena, sizeof *m);
    m->arena = arena;
    m->texts = mos_vec_make(arena, sizeof(struct wanted));
    m->found = mos_vec_make(arena, sizeof(struct found));
    return m;
}

/* The {} or {A...B} that begins in text[from..length): its bounds, and those of A and B. */
struct hole {
    size_t at, end, before, behind; /* offsets; bytes of A and B */
};

static bool find_hole(const char *text, size_t from, size_t length, struct hole *out) {
    for (size_t i = from; i < length; i++) {
        const char *close = text[i] == '{' ? memchr(text + i, '}', length - i) : NULL;
        if (!close)
            continue;
        size_t inside = (size_t)(close - text) - i - 1;
        const char *dots = memmem(text + i + 1, inside, "...", 3);
        if (inside && !dots)
            continue;
        size_t before = dots ? (size_t)(dots - text) - i - 1 : 0;
        *out = (struct hole){i, i + inside + 2, before, dots ? inside - before - 3 : 0};
        return true;
    }
    return false;
}

/* A plain part, with what of the holes around it belongs to it. */
static bool add_part(struct mos_matcher *m, struct wanted *w, const struct hole *last,
                     const char *text, size_t from, size_t to, const struct hole *next) {
    struct mos_buf part = {.arena = m->arena};
    if (last)
        mos_buf_add(&part, text + last->end - 1 - last->behind, last->behind);
    mos_buf_add(&part, text + from, to - from);
    if (next)
        mos_buf_add(&part, text + next->at + 1, next->before);
    if (!part.length)
        return true;
    if (w->count == MOS_MATCHER_PARTS)
        return false;
    w->ahead[w->count] = last ? last->behind : 0;
    w->back[w->count] = next ? next->before : 0;
    w->parts[w->count] = mos_buf_string(&part);
    w->lengths[w->count] = part.length;
    if (part.length > w->lengths[w->longest])
        w->longest = w->count;
    w->count++;
    return true;
}

size_t mos_matcher_add(struct mos_matcher *m, const char *text, size_t length) {
    struct wanted w = {0};
    struct hole last, next;
    bool has_last = false, has_next = true, fits = true;
    if (length && *text == '^') {
        w.at_start = true;
        text++;
        length--;
    }
    if (length && text[length - 1] == '$') {
        w.at_end = true;
        length--;
    }
    for (size_t i = 0; fits && has_next; i = next.end) {
        has_next = find_hole(text, i, length, &next);
        size_t end = has_next ? next.at : length;
        w.begins |= has_next && !next.at && !next.before;
        w.ends = has_last && i == length && !last.behind;
        fits = add_part(m, &w, has_last ? &last : NULL, text, i, end, has_next ? &next : NULL);
        last = next;
        has_last = has_next;
    }
    if (!fits || !w.count || w.lengths[w.longest] < 2 ||
        w.begins + w.count - 1 + w.ends >= MOS_MATCHER_PARTS)
        return SIZE_MAX;
    *(struct wanted *)mos_vec_push(&m->texts) = w;
    return m->texts.count - 1;
}

/* ---- the automaton ---- */

static void count_kinds(struct mos_matcher *m, size_t *most) {
    m->kind_count = 1;
    *most = 1;
    for (size_t i = 0; i < m->texts.count; i++) {
        const struct wanted *w = mos_vec_at(&m->texts, i);
        for (size_t k = 0; k < w->lengths[w->longest]; k++) {
            uint8_t c = (uint8_t)w->parts[w->longest][k];
            if (!m->kinds[c])
                m->kinds[c] = (uint16_t)m->kind_count++;
        }
        *most += w->lengths[w->longest];
    }
}

static void add_found(struct mos_matcher *m, size_t state, size_t text) {
    struct found *f = mos_vec_push(&m->found);
    *f = (struct found){text, m->list[state]};
    m->list[state] = (uint32_t)m->found.count;
}

/* What ends at the state where it would go on from also ends here: its list is hung on behind. */
static void join_lists(struct mos_matcher *m, size_t state, uint32_t more) {
    uint32_t *end = &m->list[state];
    while (*end)
        end = &((struct found *)mos_vec_at(&m->found, *end - 1))->behind;
    *end = more;
}

static void link_states(struct mos_matcher *m) {
    uint32_t *queue = mos_alloc_array(m->arena, m->states, sizeof *queue);
    size_t head = 0, tail = 0, kinds = m->kind_count;
    for (size_t k = 1; k < kinds; k++)
        if (m->next[k])
            queue[tail++] = m->next[k];
    while (head < tail) {
        size_t state = queue[head++];
        for (size_t k = 1; k < kinds; k++) {
            uint32_t to = m->next[state * kinds + k], other = m->next[m->fail[state] * kinds + k];
            if (!to) {
                m->next[state * kinds + k] = other;
                continue;
            }
            m->fail[to] = other;
            join_lists(m, to, m->list[other]);
            queue[tail++] = to;
        }
    }
    mos_drop(m->arena, queue, m->states * sizeof *queue);
}

void mos_matcher_make(struct mos_matcher *m) {
    size_t most;
    count_kinds(m, &most);
    m->next = mos_alloc_array(m->arena, most * m->kind_count, sizeof *m->next);
    m->list = mos_alloc_array(m->arena, most, sizeof *m->list);
    m->fail = mos_alloc_array(m->arena, most, sizeof *m->fail);
    m->states = 1;
    for (size_t i = 0; i < m->texts.count; i++) {
        const struct wanted *w = mos_vec_at(&m->texts, i);
        size_t state = 0;
        for (size_t k = 0; k < w->lengths[w->longest]; k++) {
            uint32_t *to =
                &m->next[state * m->kind_count + m->kinds[(uint8_t)w->parts[w->longest][k]]];
            if (!*to)
                *to = (uint32_t)m->states++;
            state = *to;
        }
        add_found(m, state, i);
    }
    link_states(m);
}

/* ---- a line ---- */

static void keep(struct mos_match *out, const char *from, const char *to) {
    if (out->count < MOS_MATCHER_PARTS) {
        out->values[out->count] = from;
        out->lengths[out->count++] = (size_t)(to - from);
    }
}

bool mos_matcher_fits(const struct mos_matcher *m, size_t number, const char *line, size_t length,
                      size_t start, struct mos_match *out) {
    const struct wanted *w = mos_vec_at(&m->texts, number);
    const char *end = line + length, *p = line + start;
    out->number = number;
    out->count = 0;
    for (size_t i = 0; i < w->count; i++) {
        const char *at = memmem(p, (size_t)(end - p), w->parts[i], w->lengths[i]);
        bool last = i + 1 == w->count && w->at_end && !w->ends;
        if (last && (size_t)(end - p) >= w->lengths[i])
            at = memcmp(end - w->lengths[i], w->parts[i], w->lengths[i]) == 0 ? end - w->lengths[i]
                                                                              : NULL;
        if (!at || (i == 0 && w->at_start && !w->begins && at != p))
            return false;
        if (i || w->begins)
            keep(out, p - (i ? w->back[i - 1] : 0), at + w->ahead[i]);
        p = at + w->lengths[i];
    }
    if (w->ends)
        keep(out, p - w->back[w->count - 1], end);
    return true;
}

void mos_matcher_line(const struct mos_matcher *m, const char *line, size_t length, size_t start,
                      void (*each)(void *self, const struct mos_match *match), void *self) {
    size_t state = 0;
    for (size_t i = start; i < length; i++) {
        state = m->next[state * m->kind_count + m->kinds[(uint8_t)line[i]]];
        for (uint32_t f = m->list[state]; f;) {
            const struct found *x = mos_vec_at(&m->found, f - 1);
            struct mos_match match;
            if (mos_matcher_fits(m, x->text, line, length, start, &match))
                each(self, &match);
            f = x->behind;
        }
    }
}
