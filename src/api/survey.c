#include "api/survey.h"

#include "base/bytes.h"
#include "base/text.h"
#include "ledger/ledger.h"
#include "linux/image.h"
#include "loaders/loaders.h"

#include <stdlib.h>
#include <string.h>

#define MOST_UNSAID (64ull << 20)
enum { MOST_MEMORY = 1 << 30, LOOK = 64 << 10, MOST_OUTSIDE = 64, GAP = 4 };

/* ---- content without a file system ---- */

/* Bytes from a span's start on; more than the span may belong to what begins there. */
static struct mos_io content_window(struct survey *s, const struct survey_span *x, uint64_t limit) {
    return x->held ? x->held->io : mos_io_window(s->m->arena, &s->io, x->start, limit);
}

/* An environment block: its length is not stored, so the usual ones are tried. */
static bool environment_at(struct survey *s, struct survey_span *x, uint64_t limit) {
    struct mos_io window = content_window(s, x, limit);
    for (uint64_t size = 4096; size <= (256 << 10) && size <= limit; size *= 2) {
        uint8_t *data = mos_alloc(s->m->arena, (size_t)size);
        if (mos_io_read(&window, data, (size_t)size, 0))
            return false;
        x->dialect =
            mos_loaders_read_stored(s->m->arena, data, (size_t)size, &x->variables, &x->flag_byte);
        if (!x->dialect)
            continue;
        x->environment_size = size;
        x->what = mos_printf(s->m->arena, "environment, %zu variables in %s%s", x->variables.count,
                             mos_size_text(s->m->arena, size), x->flag_byte ? ", flag byte" : "");
        return true;
    }
    return false;
}

/* What begins at a span's start, by its first bytes; `limit` bytes may belong to it. */
static void look_at_content(struct survey *s, struct survey_span *x, uint64_t limit) {
    uint8_t *head = mos_alloc(s->m->arena, LOOK);
    size_t n = (size_t)mos_min(LOOK, limit);
    struct mos_kernel_header header;
    struct mos_io window = content_window(s, x, limit);
    if (mos_io_read(&window, head, n, 0)) {
        x->what = "(unreadable)";
    } else if (!x->held && survey_parts(s, x, limit)) {
        ; /* its parts are listed */
    } else if (mos_loaders_recognise(s->m->arena, head, n, &x->what)) {
        ; /* it has told what it is */
    } else if (mos_dt_is_blob(head, n)) {
        x->what = "device-tree blob";
    } else if (!environment_at(s, x, limit) && mos_kernel_read(head, n, limit, &header)) {
        x->what = header.format;
    }
}

/* A volume, or else what begins there. */
static void look_at_volume(struct survey *s, struct survey_span *x) {
    struct mos_io window = survey_window(s, x);
    x->has_volume = mos_fs_probe(&window, s->m->arena, &x->volume);
    if (x->has_volume && x->volume.damaged)
        mos_vec_push_pointer(&s->problems, x->volume.problem);
    if (!x->has_volume && window.size)
        look_at_content(s, x, window.size);
}

/* ---- containers ---- */

/* What holds volumes of its own: they are spans, too, that no offset names.  Returns its length; 0:
 * there is no container. */
static uint64_t look_at_container(struct survey *s, struct survey_span *x) {
    struct mos_container c;
    struct mos_vec problems = mos_vec_make(s->m->arena, sizeof(char *));
    struct mos_io *window = mos_alloc(s->m->arena, sizeof *window);
    *window = mos_io_window(s->m->arena, &s->io, x->start, x->length);
    if (!mos_container_open(window, s->m->arena, &c, &problems))
        return 0;
    const char *holder = survey_name(s, x);
    for (size_t i = 0; i < problems.count; i++)
        mos_vec_push_pointer(&s->problems, mos_printf(s->m->arena, "%s: %s", holder,
                                                      (const char *)mos_vec_pointer(&problems, i)));
    x->contains = mos_printf(s->m->arena, "%zu volume%s in blocks of %s", c.volumes.count,
                             c.volumes.count == 1 ? "" : "s", mos_size_text(s->m->arena, c.block));
    x->volume.free = c.free;
    x->volume.has_free = true;
    x->held_from = s->held.count;
    x->held_count = c.volumes.count;
    for (size_t i = 0; i < c.volumes.count; i++) {
        struct survey_span *y = mos_vec_push(&s->held);
        y->held = mos_vec_at(&c.volumes, i);
        y->holder = holder;
        y->length = y->held->io.size;
        look_at_volume(s, y);
        y->what = y->held->empty ? "(empty)" : y->what;
    }
    return c.length;
}

/* ---- outside of partitions ---- */

static void outside(struct survey *s, uint64_t start, uint64_t end, uint64_t limit) {
    if (s->spans.count >= MOST_OUTSIDE + s->table.partitions.count)
        return;
    for (size_t i = 0; i < s->table_span_count; i++)
        if (start >= s->table_spans[i].start &&
            end <= mos_round_up(s->table_spans[i].end, SURVEY_STEP))
            return; /* the table's own entries, moved behind a first stage */
    struct survey_span *x = mos_vec_push(&s->spans);
    x->start = start;
    x->length = end - start;
    look_at_content(s, x, limit - start);
    if (!x->what)
        x->what = "data";
}

/* Nobody wrote here: zeros, or the ones of erased flash. */
static bool empty(const uint8_t *p, size_t n) {
    return (p[0] == 0 || p[0] == 0xff) && memcmp(p, p + 1, n - 1) == 0;
}

/* A pack or parcel that begins here; returns where it ends, 0: there is none. */
static uint64_t parts_at(struct survey *s, uint64_t start, uint64_t limit) {
    struct survey_span y = {.start = start, .length = limit - start};
    if (s->spans.count >= MOST_OUTSIDE + s->table.partitions.count)
        return 0;
    uint64_t length = survey_parts(s, &y, limit - start);
    if (!length)
        return 0;
    y.length = length;
    *(struct survey_span *)mos_vec_push(&s->spans) = y;
    return start + length;
}

/* A volume that begins in the middle of a medium without a table, as in a flash; returns where it
 * ends, 0: there is none. */
static uint64_t volume_at(struct survey *s, uint64_t start, uint64_t limit) {
    struct mos_io window = mos_io_window(s->m->arena, &s->io, start, limit - start);
    struct survey_span y = {.start = start, .length = limit - start, .has_volume = true};
    if (s->driver || s->spans.count >= MOST_OUTSIDE ||
        !mos_fs_probe(&window, s->m->arena, &y.volume))
        return 0;
    uint64_t length = !y.volume.driver          ? look_at_container(s, &y)
                      : y.volume.driver->kernel ? y.volume.size
                                                : 0; /* what is never mounted tells no size */
    if (!length)
        return 0;
    y.length = mos_min(length, limit - start);
    *(struct survey_span *)mos_vec_push(&s->spans) = y;
    return start + y.length;
}

/* Finds what is not empty between partitions: stretches of blocks with small gaps left in. */
static void look_at_all(struct survey *s, uint64_t from, uint64_t to) {
    uint8_t block[SURVEY_STEP];
    uint64_t start = 0, end = 0; /* of the stretch so far; none while equal */
    for (uint64_t at = mos_round_down(from, SURVEY_STEP); at < to;) {
        uint64_t data, hole;
        if (mos_io_next_data(&s->io, at, &data, &hole) || data >= to)
            break;
        for (at = mos_max(at, mos_round_down(data, SURVEY_STEP)); at < to && at < hole;
             at += SURVEY_STEP) {
            size_t n = (size_t)mos_min(SURVEY_STEP, to - at);
            if (mos_io_read(&s->io, block, n, at))
                return;
            size_t skip = at < from ? (size_t)(from - at) : 0;
            if (skip >= n || empty(block + skip, n - skip))
                continue;
            if (end > start && at > end + GAP * SURVEY_STEP) {
                outside(s, start, end, to);
                start = end;
            }
            uint64_t behind = end == start ? volume_at(s, at + skip, to) : 0;
            if (!behind && end == start)
                behind = parts_at(s, at + skip, to);
            if (behind) {
                start = end = behind;
                at = mos_max(mos_round_up(behind, SURVEY_STEP), at + SURVEY_STEP) - SURVEY_STEP;
                continue;
            }
            if (end == start)
                start = at + skip;
            end = at + n;
        }
    }
    if (end > start)
        outside(s, start, mos_min(end, to), to);
}

/* Of a device only so much is read where no table says that anything is there; what is behind is
 * not known. */
static void look_between(struct survey *s, uint64_t from, uint64_t to) {
    uint64_t behind = s->image.is_device && to - from > MOST_UNSAID ? from + MOST_UNSAID : to;
    look_at_all(s, from, behind);
    if (behind == to)
        return;
    struct survey_span *x = mos_vec_push(&s->spans);
    *x = (struct survey_span){
        .start = behind, .length = to - behind, .what = "(not looked at)", .unread = true};
}

/* ---- partitions ---- */

static int by_start(const void *a, const void *b) {
    const struct mos_partition *x = a, *y = b;
    if (x->first_lba != y->first_lba)
        return x->first_lba < y->first_lba ? -1 : 1;
    return (x->last_lba < y->last_lba) - (x->last_lba > y->last_lba);
}

static void look_at_table(struct survey *s) {
    struct mos_vec *parts = &s->table.partitions;
    struct mos_table_span *spans = s->table_spans;
    uint64_t at = 0, end = s->io.size;
    if (parts->count)
        qsort(parts->items, parts->count, sizeof(struct mos_partition), by_start);
    s->table_span_count = s->driver->spans(s->table.sector, s->io.size, s->table.entries,
                                           s->table.entries_at, spans, 8);
    for (size_t i = 0; i < s->table_span_count; i++)
        if (spans[i].start >= s->io.size / 2)
            end = mos_min(end, spans[i].start);
        else if (spans[i].start <= 2 * (uint64_t)s->table.sector)
            at = mos_max(at, spans[i].end);
    for (size_t i = 0; i < parts->count; i++) {
        const struct mos_partition *p = mos_vec_at(parts, i);
        uint64_t start = mos_min(p->first_lba * s->table.sector, end);
        if (start > at)
            look_between(s, at, start);
        struct survey_span *x = mos_vec_push(&s->spans);
        x->partition = p;
        x->start = p->first_lba * s->table.sector;
        x->length = (p->last_lba - p->first_lba + 1) * s->table.sector;
        look_at_volume(s, x);
        if (x->has_volume && !x->volume.driver)
            look_at_container(s, x);
        at = mos_max(at, mos_min((p->last_lba + 1) * s->table.sector, end));
    }
    if (at < end)
        look_between(s, at, end);
}

/* ---- regions by the ledger of the build ---- */

static int by_offset(const void *a, const void *b) {
    const struct mos_ledger_region_last *x = a, *y = b;
    return (x->offset > y->offset) - (x->offset < y->offset);
}

static bool is_empty(struct mos_io *io) {
    uint8_t block[SURVEY_STEP];
    for (uint64_t at = 0, data, hole; at < io->size; at += SURVEY_STEP) {
        if (mos_io_next_data(io, at, &data, &hole))
            return false;
        at = mos_max(at, mos_round_down(data, SURVEY_STEP));
        size_t n = (size_t)mos_min(SURVEY_STEP, io->size - mos_min(at, io->size));
        if (n && (mos_io_read(io, block, n, at) || !empty(block, n)))
            return false;
    }
    return true;
}

/* What the build that made this image, without a table of its own, says of it. */
static bool find_ledger(struct survey *s, struct mos_vec *regions) {
    struct mos_arena *arena = s->m->arena;
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&s->m->ctx, &ignored);
    const char *slash = strrchr(s->path, '/'), *name = slash ? slash + 1 : s->path;
    const char *path = mos_path_join(arena, mos_path_folder(arena, s->path), "ledger.json");
    if (s->image.compression && strrchr(name, '.'))
        name = mos_strndup(arena, name, (size_t)(strrchr(name, '.') - name));
    mos_guard_allow(s->m->ctx.guard, path, MOS_REACH_READ);
    return mos_ledger_image_regions(&quiet, path, name, s->io.size, regions) && regions->count;
}

const struct mos_ledger_region_last *survey_region(struct survey *s, const struct survey_span *x) {
    if (!s->by_ledger && !s->asked_ledger && !find_ledger(s, &s->regions))
        s->regions.count = 0;
    s->asked_ledger = true;
    const struct survey_span *around = x;
    for (size_t i = 0; x->held && i < s->spans.count; i++) { /* its place is within another span */
        const struct survey_span *y = mos_vec_at(&s->spans, i);
        size_t at = (size_t)(x - (const struct survey_span *)s->held.items);
        if (at >= y->held_from && at < y->held_from + y->held_count)
            around = y;
    }
    for (size_t i = 0; i < s->regions.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(&s->regions, i);
        if (r->offset == around->start)
            return r;
    }
    return NULL;
}

static void look_at_regions(struct survey *s) {
    const struct mos_vec *regions = &s->regions;
    uint64_t at = 0;
    qsort(regions->items, regions->count, sizeof(struct mos_ledger_region_last), by_offset);
    for (size_t i = 0; i < regions->count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(regions, i);
        if (r->offset > at)
            look_between(s, at, r->offset);
        struct survey_span *x = mos_vec_push(&s->spans);
        x->region = r->name;
        x->start = r->offset;
        x->length = r->length;
        struct mos_io window = survey_window(s, x);
        look_at_volume(s, x);
        if (x->has_volume && !x->volume.driver)
            look_at_container(s, x);
        else if (!x->has_volume && !x->what)
            x->what = is_empty(&window)
                          ? "(empty)"
                          : mos_printf(s->m->arena, "(%s)", r->holds ? r->holds : "data");
        at = mos_max(at, r->offset + r->length);
    }
    if (at < s->io.size)
        look_between(s, at, s->io.size);
}

static void look(struct survey *s, const struct survey *like) {
    struct mos_volume_info volume;
    bool same = like && like->by_ledger && like->io.size == s->io.size;
    s->driver = mos_table_read(&s->io, s->m->arena, &s->table, &s->problems);
    if (s->driver) {
        look_at_table(s);
    } else if (same || find_ledger(s, &s->regions)) {
        s->regions = same ? like->regions : s->regions;
        s->by_ledger = true;
        look_at_regions(s);
    } else if (mos_fs_probe(&s->io, s->m->arena, &volume)) {
        struct survey_span *x = mos_vec_push(&s->spans);
        x->length = volume.size;
        x->has_volume = true;
        x->volume = volume;
        if (volume.damaged)
            mos_vec_push_pointer(&s->problems, volume.problem);
        uint64_t own = volume.driver ? 0 : look_at_container(s, x);
        x->length = own ? own : x->length;
        if (own && own < s->io.size)
            look_between(s, own, s->io.size);
    } else {
        look_between(s, 0, s->io.size);
    }
}

bool survey_open(mosaicum *m, const char *path, struct survey *s) {
    return survey_open_like(m, path, NULL, s);
}

bool survey_open_like(mosaicum *m, const char *path, const struct survey *like, struct survey *s) {
    *s = (struct survey){.m = m,
                         .path = path,
                         .spans = mos_vec_make(m->arena, sizeof(struct survey_span)),
                         .held = mos_vec_make(m->arena, sizeof(struct survey_span)),
                         .problems = mos_vec_make(m->arena, sizeof(char *))};
    mos_arena_limit(m->arena, MOST_MEMORY); /* whatever an image claims to hold */
    if (!mos_unpack_open(&m->ctx, path, &s->image))
        return false;
    s->io = mos_io_watched(m->arena, &s->image.io, &s->trouble);
    look(s, like);
    return true;
}

void survey_close(struct survey *s) {
    mos_unpack_close(&s->image);
}

bool survey_stream(struct survey *s, const struct survey_span *x,
                   const struct mos_read_request *request) {
    struct mos_io window = survey_window(s, x);
    struct mos_read_request asked = *request;
    struct mos_vec problems = mos_vec_make(s->m->arena, sizeof(char *));
    asked.problems = &problems;
    bool ok = x->volume.driver->stream(&s->m->ctx, &window, &asked);
    for (size_t i = 0; i < problems.count; i++)
        mos_vec_push_pointer(&s->problems, mos_printf(s->m->arena, "%s: %s", survey_name(s, x),
                                                      (const char *)mos_vec_pointer(&problems, i)));
    return ok;
}

void survey_note_trouble(struct survey *s, struct mos_vec *problems) {
    if (s->trouble.errnum)
        mos_vec_push_pointer(problems,
                             mos_printf(s->m->arena, "%s cannot be read at byte %llu: %s.", s->path,
                                        (unsigned long long)s->trouble.offset,
                                        strerror(s->trouble.errnum)));
}

void survey_report_problems(struct survey *s) {
    static const struct mosaicum_column columns[] = {{"problem", "problem", false}};
    survey_note_trouble(s, &s->problems);
    if (!s->problems.count)
        return;
    struct report_table t =
        report_start(&s->m->report, "problems", "Something is wrong here", columns, 1);
    for (size_t i = 0; i < s->problems.count; i++)
        cell_text(&t, mos_vec_pointer(&s->problems, i));
    report_end(&s->m->report, &t);
    s->m->damaged = true;
}
