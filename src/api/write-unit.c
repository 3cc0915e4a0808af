/* What differs between boards of one build: variables that a unit has of its own are put into the
 * stored environments of the image, on their way to the medium. */
#include "api/write.h"

#include "base/text.h"
#include "boot/unit.h"
#include "loaders/loaders.h"

#include <string.h>

/* In the order of its ledger: what the image has for each unit. */
static const struct mos_ledger_region_last *next_region(const struct write_job *w, size_t *i) {
    const struct mos_vec *regions = &w->image.ledger.regions;
    while (w->image.has_ledger && *i < regions->count) {
        const struct mos_ledger_region_last *r = mos_vec_at(regions, (*i)++);
        if (r->units.count)
            return r;
    }
    return NULL;
}

bool write_sets(const struct write_job *w, const struct mos_ledger_region_last *r) {
    return w->request->unit && r->units.count;
}

const char *write_unit_text(const struct write_job *w) {
    struct mos_buf b = {.arena = w->m->arena};
    const struct mos_ledger_region_last *r;
    size_t at = 0;
    while (w->request->unit && (r = next_region(w, &at)))
        for (size_t i = 0; i < r->units.count; i++) {
            const char *why, *name = r->units.items[i].key, *pattern = r->units.items[i].value;
            const char *text = mos_unit_text(w->m->arena, pattern, w->request->unit, &why);
            text = mos_printf(w->m->arena, "%s=%s", name, text);
            if (!b.length || !strstr(mos_buf_string(&b), text)) /* copies have it, too */
                mos_buf_printf(&b, "%s%s", b.length ? ", " : "", text);
        }
    return b.length ? mos_buf_string(&b) : NULL;
}

static bool wrong(struct write_job *w, const struct mos_ledger_region_last *r, const char *why) {
    return mos_fail(&w->m->error, MOS_ERROR_USAGE, 0,
                    "Region %s of %s cannot get what is %s's own: %s", r->name, w->image.path,
                    w->request->unit, why);
}

/* The block that a region begins with, with the unit's variables in it. */
static bool set_variables(struct write_job *w, struct mos_io *io,
                          const struct mos_ledger_region_last *r) {
    struct mos_arena *arena = w->m->arena;
    struct mos_map variables;
    struct mos_buf block = {.arena = arena};
    bool flag_byte;
    if (r->block > r->length || r->block < 8)
        return wrong(w, r, "its ledger says nothing sensible about the block");
    uint8_t *old = mos_alloc(arena, (size_t)r->block);
    int e = mos_io_read(io, old, (size_t)r->block, r->offset);
    const struct mos_dialect *d =
        e ? NULL : mos_loaders_read_stored(arena, old, (size_t)r->block, &variables, &flag_byte);
    if (!d)
        return wrong(w, r, e ? mos_errno_text(e) : "no block of variables begins there");
    for (size_t i = 0; i < r->units.count; i++) {
        const char *why, *name = r->units.items[i].key, *pattern = r->units.items[i].value;
        const char *value = mos_unit_text(arena, pattern, w->request->unit, &why);
        if (!value)
            return wrong(w, r, mos_printf(arena, "%s is %s, but %s", name, pattern, why));
        mos_variables_set(arena, &variables, name, value, (struct mos_place){0});
    }
    if (d->stored->size(&variables, flag_byte) > r->block)
        return wrong(w, r, mos_printf(arena, "its %s are full", mos_size_text(arena, r->block)));
    d->stored->write(&block, &variables, r->block, flag_byte);
    if (flag_byte) /* which copy is the newer one stays */
        block.data[d->stored->flag_at] = (char)old[d->stored->flag_at];
    e = mos_io_write(io, block.data, block.length, r->offset);
    return !e || wrong(w, r, mos_errno_text(e));
}

void write_judge_unit(struct write_job *w) {
    struct mos_findings *to = &w->m->ctx.findings;
    struct mos_buf names = {.arena = w->m->arena};
    size_t at = 0;
    const struct mos_ledger_region_last *r = next_region(w, &at);
    if (w->request->unit || !r)
        return;
    for (size_t i = 0; i < r->units.count; i++)
        mos_buf_printf(&names, "%s%s", i ? ", " : "", r->units.items[i].key);
    struct mos_finding *f = mos_find(to, MOS_RULE_WRITE_NO_UNIT,
                                     "Each board of %s has %s of its own; this one gets none.",
                                     w->image.ledger.board, mos_buf_string(&names));
    mos_finding_at(to, f, (struct mos_place){.thing = w->image.ledger_path});
    mos_finding_try(to, f, "Add --unit NAME, as in --unit jetty-7.");
}

bool write_suits_unit(struct write_job *w) {
    const struct mos_ledger_region_last *r;
    size_t at = 0;
    struct mos_io *io = NULL;
    while (w->request->unit && (r = next_region(w, &at))) {
        if (w->request->device_count > 1)
            return mos_fail(&w->m->error, MOS_ERROR_USAGE, 0,
                            "Each board of this build has values of its own, and --unit %s names "
                            "one: write one device at a time",
                            w->request->unit);
        if (!io) {
            io = mos_alloc(w->m->arena, sizeof *io);
            *io = mos_io_overlay(w->m->arena, w->image.io);
        }
        if (!set_variables(w, io, r))
            return false;
    }
    w->image.io = io ? io : w->image.io;
    return true;
}
