/* What is written where: from the ledger, which knows what is data, must be zero, or does not
 * matter; without one, everything. */
#include "api/write.h"

#include "base/bytes.h"
#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

/* Bytes that do not matter are written all the same where that saves a jump, and where an old
 * signature may lie: at the start of what is replaced, and at its end. */
enum { JUMP = 64 << 10, HEAD = 128 << 10, TAIL = 128 << 10 };

/* A part of the image with one owner. */
struct place {
    uint64_t start, end;
    const char *name; /* NULL: outside of regions */
    bool may_stay;    /* its owner is not the build */
    enum mos_media_phase phase;
};

static int by_offset(const void *a, const void *b) {
    const struct mos_ledger_span_last *x = a, *y = b;
    return (x->offset > y->offset) - (x->offset < y->offset);
}

static int by_start(const void *a, const void *b) {
    const struct place *x = a, *y = b;
    return (x->start > y->start) - (x->start < y->start);
}

/* ---- without a ledger ---- */

/* All that is stored is data, and what is not is zero. */
static bool spans_of_file(struct write_job *w, struct mos_vec *out) {
    struct mos_io *io = w->image.io;
    uint64_t start, end;
    for (uint64_t at = 0; at < io->size; at = end) {
        int e = mos_io_next_data(io, at, &start, &end);
        if (e)
            return mos_fail(&w->m->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", w->image.path);
        if (start > at)
            *(struct mos_ledger_span_last *)mos_vec_push(out) =
                (struct mos_ledger_span_last){at, start - at, 'z'};
        if (start >= io->size)
            return true;
        *(struct mos_ledger_span_last *)mos_vec_push(out) =
            (struct mos_ledger_span_last){start, end - start, 'd'};
    }
    return true;
}

/* ---- places ---- */

static bool is_chosen(const struct write_job *w, const char *region) {
    const char *const *names = w->request->regions;
    if (!names || !*names)
        return true;
    for (; *names; names++)
        if (region && strcmp(*names, region) == 0)
            return true;
    return false;
}

bool write_may_stay(const struct write_job *w, const struct mos_ledger_region_last *r) {
    return !w->request->all_regions && !write_sets(w, r) && r->owner &&
           strcmp(r->owner, "build") != 0 && !(w->request->regions && *w->request->regions);
}

/* Of a region that a ROM starts only the first sector that has data comes last: all of the others
 * are there before it, whatever order a device that loses power puts writes in. */
static void find_first_sector(const struct write_job *w, const struct mos_ledger_region_last *r,
                              uint64_t *from, uint64_t *to) {
    const struct mos_vec *spans = &w->image.ledger.spans;
    uint64_t end = r->offset + r->length;
    *from = r->offset;
    *to = end;
    for (size_t i = 0; i < spans->count; i++) {
        const struct mos_ledger_span_last *s = mos_vec_at(spans, i);
        if (s->kind != 'd' || s->offset + s->length <= r->offset || s->offset >= end)
            continue;
        uint64_t sector = mos_round_down(mos_max(s->offset, r->offset), w->grain);
        *from = mos_max(sector, r->offset);
        *to = mos_min(sector + w->grain, end);
        return;
    }
}

static void push_place(struct mos_vec *to, const struct mos_ledger_region_last *r, uint64_t from,
                       uint64_t end, bool may_stay, enum mos_media_phase phase) {
    if (from < end)
        *(struct place *)mos_vec_push(to) = (struct place){from, end, r->name, may_stay, phase};
}

/* Regions, and what lies between them (which only the ledger's own data of tables needs). */
static struct mos_vec make_places(struct write_job *w) {
    struct mos_vec out = mos_vec_make(w->m->arena, sizeof(struct place));
    const struct write_image *x = &w->image;
    const struct mos_vec *regions = &x->ledger.regions;
    uint64_t at = 0;
    struct mos_vec sorted = mos_vec_make(w->m->arena, sizeof(struct place));
    for (size_t i = 0; x->has_ledger && i < regions->count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(regions, i);
        uint64_t end = r->offset + r->length, from = end, to = end;
        if (r->starts)
            find_first_sector(w, r, &from, &to);
        push_place(&sorted, r, r->offset, from, write_may_stay(w, r), MOS_MEDIA_CONTENT);
        push_place(&sorted, r, from, to, write_may_stay(w, r), MOS_MEDIA_START);
        push_place(&sorted, r, to, end, write_may_stay(w, r), MOS_MEDIA_CONTENT);
    }
    if (sorted.count)
        qsort(sorted.items, sorted.count, sizeof(struct place), by_start);
    for (size_t i = 0; i < sorted.count; i++) {
        const struct place *p = mos_vec_at(&sorted, i);
        if (p->start > at)
            *(struct place *)mos_vec_push(&out) = (struct place){.start = at, .end = p->start};
        *(struct place *)mos_vec_push(&out) = *p;
        at = mos_max(at, p->end);
    }
    if (at < x->io->size)
        *(struct place *)mos_vec_push(&out) = (struct place){.start = at, .end = x->io->size};
    return out;
}

/* ---- spans ---- */

/* May two spans of a place be written as one?  A large one that is zero is not read for that. */
static bool may_join(const struct mos_media_span *last, uint64_t start, uint64_t end, bool zero) {
    uint64_t behind = last->offset + last->length;
    if (start - behind > JUMP)
        return false;
    return last->zero == zero ? !zero || start == behind
                              : (zero ? end - start : last->length) <= JUMP;
}

/* Spans come in order of offset; those that share a sector become one. */
static void add(struct write_job *w, uint64_t start, uint64_t end, bool zero,
                const struct place *p) {
    struct mos_media_span *last = w->spans.count ? mos_vec_at(&w->spans, w->spans.count - 1) : NULL;
    uint64_t behind = last ? last->offset + last->length : 0;
    start = mos_round_down(start, w->grain);
    end = mos_round_up(end, w->grain);
    if (last && start < behind) {
        if (last->zero && !zero)
            last->zero = false; /* the image has zeros where they must be */
        start = behind;
    }
    if (start >= end)
        return;
    if (last && last->region == p->name && last->phase == p->phase && behind >= p->start &&
        may_join(last, start, end, zero)) {
        last->zero = last->zero && zero;
        last->length = end - last->offset;
        return;
    }
    *(struct mos_media_span *)mos_vec_push(&w->spans) =
        (struct mos_media_span){start, end - start, zero, p->phase, p->may_stay, p->name};
}

static void add_without_table(struct write_job *w, uint64_t start, uint64_t end, bool zero,
                              const struct place *p) {
    const struct write_image *x = &w->image;
    for (size_t i = 0; i < x->table_span_count && start < end; i++) {
        const struct mos_table_span *t = &x->table_spans[i];
        if (t->end <= start || t->start >= end)
            continue;
        add_without_table(w, start, mos_min(t->start, end), zero, p);
        start = mos_max(start, t->end);
    }
    if (start < end)
        add(w, start, end, zero, p);
}

/* What does not matter between two spans of a place, [from, to). */
static void add_rest(struct write_job *w, uint64_t from, uint64_t to, const struct place *p) {
    uint64_t head = mos_min(p->start + HEAD, p->end),
             tail = p->end - mos_min(TAIL, p->end - p->start);
    if (!p->name || from >= to)
        return;
    if (from < head)
        add_without_table(w, from, mos_min(to, head), true, p);
    if (to > tail && tail >= head)
        add_without_table(w, mos_max(from, tail), to, true, p);
    else if (to > head && tail < head)
        add_without_table(w, mos_max(from, head), to, true, p);
}

static void add_place(struct write_job *w, const struct mos_vec *spans, const struct place *p) {
    uint64_t at = p->start;
    for (size_t i = 0; i < spans->count; i++) {
        const struct mos_ledger_span_last *s = mos_vec_at(spans, i);
        uint64_t start = mos_max(s->offset, p->start), end = mos_min(s->offset + s->length, p->end);
        if (start >= end || s->kind == 'a')
            continue;
        add_rest(w, at, start, p);
        add_without_table(w, start, end, s->kind == 'z', p);
        at = end;
    }
    add_rest(w, at, p->end, p);
}

/* Where nothing else makes a medium whole, its first bytes do: they come last. */
static void find_start(struct write_job *w) {
    struct mos_media_span *first = w->spans.count ? mos_vec_at(&w->spans, 0) : NULL;
    if (w->image.driver || !first)
        return;
    for (size_t i = 0; i < w->spans.count; i++)
        if (((struct mos_media_span *)mos_vec_at(&w->spans, i))->phase == MOS_MEDIA_START)
            return;
    struct mos_media_span head = *first;
    head.length = mos_min(w->grain, first->length);
    head.phase = MOS_MEDIA_START;
    first->offset += head.length;
    first->length -= head.length;
    *(struct mos_media_span *)mos_vec_push(&w->spans) = head;
}

static bool names_regions(struct write_job *w) {
    const char *const *names = w->request->regions;
    const struct mos_vec *regions = &w->image.ledger.regions;
    struct mos_buf known = {.arena = w->m->arena};
    for (size_t i = 0; w->image.has_ledger && i < regions->count; i++)
        mos_buf_printf(&known, "%s%s", i ? ", " : "",
                       ((const struct mos_ledger_region_last *)mos_vec_at(regions, i))->name);
    for (; names && *names; names++) {
        bool found = false;
        for (size_t i = 0; w->image.has_ledger && i < regions->count && !found; i++)
            found =
                strcmp(*names,
                       ((const struct mos_ledger_region_last *)mos_vec_at(regions, i))->name) == 0;
        if (!found)
            return mos_fail(&w->m->error, MOS_ERROR_USAGE, 0, "%s has no region %s%s%s",
                            w->image.path, *names,
                            w->image.has_ledger ? "; it has " : ": there is no ledger beside it",
                            mos_buf_string(&known));
    }
    return true;
}

/* ---- an image, and zeros behind it ---- */

static int longer_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct mos_io *image = io->self;
    size_t n = offset < image->size ? (size_t)mos_min(length, image->size - offset) : 0;
    memset((char *)to + n, 0, length - n);
    return n ? mos_io_read(image, to, n, offset) : 0;
}

static struct mos_io longer(struct mos_io *image, uint64_t size) {
    static const struct mos_io_driver driver = {longer_read, NULL, NULL};
    return (struct mos_io){&driver, size, image};
}

static void find_grain(struct write_job *w) {
    w->grain = w->image.sector ? w->image.sector : 512;
    for (size_t i = 0; i < w->count; i++) {
        const struct write_device *x = &w->devices[i];
        if (!x->refused && !x->given_up && x->d.block->sector > w->grain)
            w->grain = x->d.block->sector;
    }
    w->content = longer(w->image.io, mos_round_up(w->image.io->size, w->grain));
}

bool write_make_spans(struct write_job *w) {
    struct write_image *x = &w->image;
    find_grain(w);
    struct mos_vec spans = x->ledger.spans;
    w->spans = mos_vec_make(w->m->arena, sizeof(struct mos_media_span));
    if (!x->has_ledger) {
        spans = mos_vec_make(w->m->arena, sizeof(struct mos_ledger_span_last));
        if (!spans_of_file(w, &spans))
            return false;
    }
    if (!names_regions(w))
        return false;
    if (spans.count)
        qsort(spans.items, spans.count, sizeof(struct mos_ledger_span_last), by_offset);
    struct mos_vec places = make_places(w);
    for (size_t i = 0; i < places.count; i++) {
        const struct place *p = mos_vec_at(&places, i);
        if (is_chosen(w, p->name))
            add_place(w, &spans, p);
    }
    find_start(w);
    return true;
}

/* ---- what a device carries ---- */

static const struct mos_partition *grows(const struct write_image *x,
                                         const struct mos_partition *p) {
    for (size_t i = 0; x->has_ledger && i < x->ledger.regions.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(&x->ledger.regions, i);
        if (r->grows && r->number == p->number)
            return p;
    }
    return NULL;
}

bool write_carries(const struct write_image *x, const struct media_device *d) {
    if (!x->driver || d->driver != x->driver || d->table.sector != x->table.sector ||
        d->table.partitions.count != x->table.partitions.count)
        return false;
    for (size_t i = 0; i < x->table.partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&x->table.partitions, i);
        const struct mos_partition *q = mos_table_partition(&d->table, p->number);
        if (!q || q->first_lba != p->first_lba ||
            (q->last_lba != p->last_lba && !(grows(x, p) && q->last_lba > p->last_lba)))
            return false;
    }
    return true;
}

/* ---- a device's own table ---- */

static void patch(struct mos_vec *to, uint64_t offset, const uint8_t *bytes, size_t length) {
    *(struct mos_media_patch *)mos_vec_push(to) = (struct mos_media_patch){offset, length, bytes};
}

static bool touches_what_stays(const struct write_device *x, uint64_t offset, uint64_t length) {
    for (size_t i = 0; i < x->keep.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_pointer(&x->keep, i);
        if (offset < r->offset + r->length && r->offset < offset + length)
            return true;
    }
    return false;
}

/* Sectors whose loss makes the device no medium of anybody: where tables begin, old and new, and
 * where a ROM looks. */
static void make_voids(struct write_job *w, struct write_device *x) {
    uint32_t sector = w->grain;
    uint8_t *zeros = mos_alloc(w->m->arena, sector);
    uint64_t size = mos_round_down(x->d.block->size, sector);
    uint64_t at[3] = {0, sector, size - mos_min(size, sector)};
    bool has_table = w->image.driver || x->d.driver;
    for (size_t i = 0; i < (has_table ? 3 : 0) && !x->d.block->whole; i++)
        if (!touches_what_stays(x, at[i], sector))
            patch(&x->voids, at[i], zeros, sector);
    for (size_t i = 0; i < w->spans.count; i++) {
        const struct mos_media_span *s = mos_vec_at(&w->spans, i);
        if (s->phase == MOS_MEDIA_START && s->length)
            patch(&x->voids, s->offset, zeros, (size_t)mos_min(sector, s->length));
    }
}

/* The table as it is on the device: what --region puts back. */
static bool take_table(struct write_job *w, struct write_device *x) {
    const struct mos_table_data *t = &x->d.table;
    struct mos_table_span spans[8];
    size_t count =
        x->d.driver->spans(t->sector, x->d.block->size, t->entries, t->entries_at, spans, 8);
    struct mos_io io =
        mos_io_device(w->m->arena, w->m->ctx.host->computer, x->device, x->d.block->size);
    for (size_t i = 0; i < count; i++) {
        size_t length = (size_t)(spans[i].end - spans[i].start);
        uint8_t *bytes = mos_alloc(w->m->arena, length);
        int e = mos_io_read(&io, bytes, length, spans[i].start);
        if (e) {
            x->why = mos_printf(w->m->arena, "its table could not be read: %s", mos_errno_text(e));
            return false;
        }
        patch(&x->patches, spans[i].start, bytes, length);
    }
    return true;
}

/* What takes [start, end) of `io`, as the device is to have it. */
static bool patch_from(struct write_job *w, struct write_device *x, struct mos_io *io,
                       uint64_t start, uint64_t end) {
    start = mos_round_down(start, w->grain);
    size_t length = (size_t)(mos_min(mos_round_up(end, w->grain), io->size) - start);
    uint8_t *bytes = mos_alloc(w->m->arena, length);
    int e = mos_io_read(io, bytes, length, start);
    if (e)
        return mos_fail(&w->m->error, MOS_ERROR_SYSTEM, e, "The table for %s cannot be made",
                        x->d.path);
    patch(&x->patches, start, bytes, length);
    return true;
}

/* The table of an image on a device that is larger, or whose last region grows. */
static bool make_table_anew(struct write_job *w, struct write_device *x, uint64_t size) {
    const struct write_image *image = &w->image;
    struct mos_arena *arena = w->m->arena;
    struct mos_table_data t = image->table;
    struct mos_io base = longer(image->io, size), io = mos_io_overlay(arena, &base);
    struct mos_table_span spans[8];
    const char *why = NULL;
    t.partitions = mos_vec_copy(arena, &t.partitions);
    t.last_usable += size / t.sector - t.medium_size / t.sector;
    t.medium_size = size;
    for (size_t i = 0; w->request->grow && i < t.partitions.count; i++) {
        struct mos_partition *p = mos_vec_at(&t.partitions, i);
        if (grows(image, p))
            p->last_lba = t.last_usable;
    }
    int e = mos_table_write(image->driver, &io, &t, arena, &why);
    if (e)
        return mos_fail(&w->m->error, MOS_ERROR_SYSTEM, why ? 0 : e,
                        "The table for %s cannot be made%s%s", x->d.path, why ? ": " : "",
                        why ? why : "");
    size_t count = image->driver->spans(t.sector, size, t.entries, t.entries_at, spans, 8);
    for (size_t i = 0; i < count; i++)
        if (!patch_from(w, x, &io, spans[i].start, spans[i].end))
            return false;
    return true;
}

static bool make_table(struct write_job *w, struct write_device *x) {
    const struct write_image *image = &w->image;
    uint64_t size = mos_round_down(x->d.block->size, w->grain);
    bool grown = false;
    for (size_t i = 0; w->request->grow && i < image->table.partitions.count; i++)
        grown |= grows(image, mos_vec_at(&image->table.partitions, i)) != NULL;
    /* a copy at the end belongs to the end of the device */
    if (size > image->io->size && (image->driver->entries_move || grown))
        return make_table_anew(w, x, size);
    for (size_t i = 0; i < image->table_span_count; i++)
        if (!patch_from(w, x, &w->content, image->table_spans[i].start, image->table_spans[i].end))
            return false;
    return true;
}

bool write_make_patches(struct write_job *w, struct write_device *x) {
    x->patches = mos_vec_make(w->m->arena, sizeof(struct mos_media_patch));
    x->voids = mos_vec_make(w->m->arena, sizeof(struct mos_media_patch));
    if (!w->image.pattern) /* what comes back wrong is looked at */
        make_voids(w, x);
    if (!w->image.driver)
        return true;
    return w->request->regions && *w->request->regions ? take_table(w, x) : make_table(w, x);
}
