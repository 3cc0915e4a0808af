/* What a pack or a parcel holds: its parts, as spans of their own with what its table says of each.
 */
#include "api/survey.h"

#include "base/bytes.h"
#include "base/text.h"
#include "boot/contents.h"
#include "boot/parcel.h"

#include <string.h>

enum { MOST_BYTES = 64 << 20, MOST_TABLE = 1 << 20, HEAD = 4096 };

/* The first bytes of a span, at most `length`; NULL: they cannot be read. */
static uint8_t *first_bytes(struct survey *s, const struct survey_span *x, uint64_t length) {
    struct mos_io window = mos_io_window(s->m->arena, &s->io, x->start, length);
    uint8_t *bytes = mos_alloc(s->m->arena, (size_t)length);
    return mos_io_read(&window, bytes, (size_t)length, 0) ? NULL : bytes;
}

static void problem(struct survey *s, const struct survey_span *x, const char *text) {
    mos_vec_push_pointer(&s->problems, mos_printf(s->m->arena, "%s: %s.", survey_name(s, x), text));
}

/* A part that lies at `offset` of its holder. */
static struct survey_span *add(struct survey *s, const struct survey_span *x, const char *name,
                               uint64_t offset, uint64_t length, unsigned number) {
    struct mos_contained *c = mos_alloc(s->m->arena, sizeof *c);
    struct survey_span *y = mos_vec_push(&s->held);
    *c = (struct mos_contained){.number = number, .name = name, .empty = !length};
    c->io = mos_io_window(s->m->arena, &s->io, x->start + offset, length);
    y->held = c;
    y->holder = survey_name(s, x);
    y->part = true;
    y->start = x->start + offset;
    y->length = length;
    return y;
}

static void tell_address(struct mos_buf *b, bool has, const char *verb, uint64_t address) {
    if (has)
        mos_buf_printf(b, "%s%s 0x%llx", b->length ? ", " : "", verb, (unsigned long long)address);
}

static const char *facts(struct survey *s, const char *compression, uint64_t size, bool has_load,
                         uint64_t load, bool has_entry, uint64_t entry) {
    struct mos_buf b = {.arena = s->m->arena};
    if (compression && *compression && strcmp(compression, "none") != 0) {
        mos_buf_text(&b, compression);
        if (size)
            mos_buf_printf(&b, " of %s", mos_size_about(s->m->arena, size));
    }
    tell_address(&b, has_load, "to", load);
    tell_address(&b, has_entry && !(has_load && load == entry), "starts at", entry);
    return b.length ? mos_buf_string(&b) : NULL;
}

/* ---- packs with a table of contents ---- */

static bool sum_is_right(const struct survey_span *y, uint32_t sum) {
    uint8_t block[HEAD];
    uint32_t is = 0;
    struct mos_io io = y->held->io;
    for (uint64_t at = 0; at < io.size; at += sizeof block) {
        size_t n = (size_t)mos_min(sizeof block, io.size - at);
        if (mos_io_read(&io, block, n, at))
            return false;
        is = mos_crc32(is, block, n);
    }
    return is == sum;
}

static uint64_t pack(struct survey *s, struct survey_span *x, uint64_t limit) {
    uint64_t length = mos_min(limit, MOST_TABLE);
    uint8_t *bytes = first_bytes(s, x, length);
    struct mos_contents c;
    const char *wrong = "it cannot be read";
    if (!bytes || !mos_contents_read(s->m->arena, bytes, (size_t)length, limit, &c, &wrong)) {
        problem(s, x, mos_printf(s->m->arena, "the pack cannot be read, %s", wrong));
        x->what = "pack (damaged)";
        return mos_min(limit, HEAD);
    }
    x->what = "pack";
    x->contains = mos_printf(s->m->arena, "%zu part%s in %s", c.count, c.count == 1 ? "" : "s",
                             mos_size_text(s->m->arena, c.length));
    x->held_from = s->held.count;
    x->held_count = c.count;
    for (size_t i = 0; i < c.count; i++) {
        const struct mos_contents_row *r = &c.rows[i];
        struct survey_span *y = add(s, x, r->name, r->offset, r->stored, (unsigned)i + 1);
        y->what = r->kind;
        y->contains =
            facts(s, r->compression, r->size, r->has_load, r->load, r->has_entry, r->entry);
        if (!sum_is_right(y, r->sum))
            problem(s, y, "the bytes of this part are not those of its sum");
    }
    return c.length;
}

/* ---- parcels ---- */

/* The parcel of the first `length` bytes; *apart: a part of it lies behind them. */
static struct mos_parcel *read_parcel(struct survey *s, const struct survey_span *x,
                                      uint64_t length, bool *apart, const char **wrong) {
    const uint8_t *bytes = first_bytes(s, x, length);
    *wrong = "it cannot be read";
    struct mos_parcel *p = bytes ? mos_parcel_read(&s->m->ctx, bytes, (size_t)length, wrong) : NULL;
    *apart = false;
    for (size_t i = 0; p && i < p->parts.count; i++)
        *apart |= !((const struct mos_parcel_part *)mos_vec_at(&p->parts, i))->data;
    return p;
}

static uint64_t parcel(struct survey *s, struct survey_span *x, uint64_t limit, uint64_t tree) {
    uint64_t end;
    bool apart;
    const char *wrong;
    struct mos_parcel *p = read_parcel(s, x, mos_min(limit, tree), &apart, &wrong);
    if (apart)
        p = read_parcel(s, x, mos_min(limit, MOST_BYTES), &apart, &wrong);
    if (!p) {
        problem(s, x, mos_printf(s->m->arena, "the parcel cannot be read, %s", wrong));
        x->what = "parcel (damaged)";
        return mos_min(limit, HEAD);
    }
    end = p->tree_length;
    x->what = "parcel";
    x->held_from = s->held.count;
    x->held_count = p->parts.count;
    for (size_t i = 0; i < p->parts.count; i++) {
        const struct mos_parcel_part *r = mos_vec_at(&p->parts, i);
        const char *sums;
        uint64_t at = r->data ? (uint64_t)(r->data - p->bytes) : 0;
        struct survey_span *y = add(s, x, r->name, at, r->data ? r->length : 0, (unsigned)i + 1);
        y->what = r->type ? r->type : "(no type)";
        y->contains = facts(s, r->compression, 0, r->has_load, r->load, r->has_entry, r->entry);
        if (r->data && !mos_parcel_check_part(s->m->arena, r, &sums))
            problem(s, y, "the bytes of this part are not those of its hash");
        else if (!r->data)
            problem(s, y, "the bytes of this part are not in the file");
        end = mos_max(end, at + (r->data ? r->length : 0));
    }
    x->contains = mos_printf(s->m->arena, "%zu part%s in %s%s%s", p->parts.count,
                             p->parts.count == 1 ? "" : "s", mos_size_text(s->m->arena, end),
                             p->usual ? ", starts " : "", p->usual ? p->usual : "");
    return end;
}

uint64_t survey_parts(struct survey *s, struct survey_span *x, uint64_t limit) {
    size_t n = (size_t)mos_min(HEAD, limit);
    uint8_t *head = n ? first_bytes(s, x, n) : NULL;
    if (!head)
        return 0;
    if (mos_contents_is(head, n))
        return pack(s, x, limit);
    enum { AT_TOTAL = 4 }; /* of a flattened tree: its bytes */
    return mos_parcel_is(head, n)
               ? parcel(s, x, limit, mos_min(mos_be32(head + AT_TOTAL), MOST_BYTES))
               : 0;
}
