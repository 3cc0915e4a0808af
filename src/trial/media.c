/* The bytes of a medium before it is written. */
#include "trial/trial.h"

#include "base/bytes.h"
#include "plan/bytes.h"

#include <errno.h>
#include <string.h>

struct part {
    const struct mos_region_plan *region;
    uint64_t start, end; /* of what is written; a volume takes all of its region */
    bool asked, known;
    const uint8_t *bytes;
    size_t length;
};

struct planned {
    struct mos_plan *plan;
    struct mos_vec parts; /* of struct part, by place */
    uint8_t nothing;      /* what nobody writes: erased flash is ones */
};

static void fetch(struct planned *p, struct part *x) {
    if (!x->asked)
        x->known = mos_plan_region_bytes(p->plan, x->region, &x->bytes, &x->length);
    x->asked = true;
}

/* The bytes [offset, offset + length) lie all within x. */
static int copy_part(struct planned *p, struct part *x, uint8_t *to, size_t length,
                     uint64_t offset) {
    if (x->region->fs || x->region->strange_fs)
        return ENODATA;
    fetch(p, x);
    if (!x->known)
        return ENODATA;
    uint64_t at = offset - x->start;
    size_t n = at < x->length ? (size_t)mos_min(length, x->length - at) : 0;
    if (n)
        memcpy(to, x->bytes + at, n);
    memset(to + n, p->nothing, length - n);
    return 0;
}

static int planned_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct planned *p = io->self;
    uint8_t *out = to;
    if (offset > io->size || length > io->size - offset)
        return EIO;
    for (size_t i = 0; i <= p->parts.count && length; i++) {
        struct part *x = i < p->parts.count ? mos_vec_at(&p->parts, i) : NULL;
        if (x && x->end <= offset)
            continue;
        uint64_t gap = x ? (x->start > offset ? x->start - offset : 0) : length;
        size_t n = (size_t)mos_min(gap, length);
        memset(out, p->nothing, n);
        out += n, offset += n, length -= n;
        if (!x || !length)
            continue;
        n = (size_t)mos_min(x->end - offset, length);
        int e = copy_part(p, x, out, n, offset);
        if (e)
            return e;
        out += n, offset += n, length -= n;
    }
    return 0;
}

struct mos_io *mos_trial_medium(struct mos_plan *plan, const struct mos_medium_plan *medium) {
    static const struct mos_io_driver driver = {planned_read, NULL, NULL};
    struct mos_arena *arena = plan->ctx->arena;
    struct planned *p = mos_alloc(arena, sizeof *p);
    struct mos_io *base = mos_alloc(arena, sizeof *base), *io = mos_alloc(arena, sizeof *io);
    struct mos_vec regions = mos_plan_by_place(plan, medium);
    *p = (struct planned){.plan = plan,
                          .parts = mos_vec_make(arena, sizeof(struct part)),
                          .nothing = mos_plan_is_flash(medium) ? 0xff : 0};
    for (size_t i = 0; i < regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&regions, i);
        bool volume = r->fs || r->strange_fs;
        uint64_t start = r->start + (volume ? 0 : r->content_at);
        uint64_t length = volume ? r->length : mos_min(r->content, r->length);
        if (length)
            *(struct part *)mos_vec_push(&p->parts) =
                (struct part){.region = r, .start = start, .end = start + length};
    }
    *base = (struct mos_io){&driver, medium->size, p};
    if (!medium->table)
        return base;
    *io = mos_io_overlay(arena, base);
    const struct mos_table_data table = mos_plan_table(plan, medium);
    const char *why;
    return mos_table_write(medium->table, io, &table, arena, &why) ? NULL : io;
}
