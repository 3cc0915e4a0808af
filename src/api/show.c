#include "api/run.h"

#include "base/bytes.h"
#include "base/text.h"

#include <stdlib.h>
#include <string.h>

/* ---- layout ---- */

static const struct mosaicum_column layout_columns[] = {
    {"region", "region", false}, {"number", "no.", true},   {"start", "start", true},
    {"end", "end", true},        {"size", "size", true},    {"holds", "holds", false},
    {"free", "free", true},      {"owner", "owner", false}, {"from", "from", false},
};
enum { LAYOUT_COLUMNS = sizeof layout_columns / sizeof *layout_columns };

static const char *place_text(mosaicum *m, struct mos_place place) {
    if (!place.source)
        return place.thing;
    struct mos_position p = mos_source_position(place.source, place.offset);
    return mos_printf(m->arena, "%s:%u", place.source->shown_path, p.line);
}

static const char *holds_text(mosaicum *m, const struct mos_region_plan *r) {
    if (r->fs)
        return *mos_text_or(r->def->volume->label, "")
                   ? mos_printf(m->arena, "%s %s", r->fs->name, r->def->volume->label->text)
                   : r->fs->name;
    if (r->environment)
        return mos_printf(m->arena, "environment %s", r->environment->def->r.name);
    if (mos_has(r->def->stage))
        return mos_printf(m->arena, "stage %s", r->def->stage->text);
    return r->piece ? mos_printf(m->arena, "piece %s", r->piece->def->r.name) : "nothing";
}

static void span_cells(struct report_table *t, const char *name, uint64_t start, uint64_t end) {
    cell_text(t, name);
    cell_text(t, NULL);
    cell_size(t, start);
    cell_size(t, end);
    cell_size(t, end - start);
}

static void region_row(mosaicum *m, struct report_table *t, const struct mos_region_plan *r) {
    cell_text(t, r->name);
    if (r->number)
        cell_number(t, r->number);
    else
        cell_text(t, NULL);
    cell_size(t, r->start);
    cell_size(t, r->start + r->length);
    cell_size(t, r->length);
    cell_text(t, holds_text(m, r));
    if (r->counted && r->result.fits)
        cell_about(t, r->result.free);
    else if (!r->fs && r->content && r->content < r->length)
        cell_about(t, r->length - r->content);
    else
        cell_text(t, NULL);
    cell_text(t, mos_text_or(r->def->owner, "build"));
    cell_text(t, r->chosen ? "chosen" : place_text(m, r->place));
}

static void other_row(struct report_table *t, const char *name, const char *what, uint64_t start,
                      uint64_t end) {
    span_cells(t, name, start, end);
    cell_text(t, what);
    for (int i = 0; i < 3; i++)
        cell_text(t, NULL);
}

struct row {
    uint64_t start, end;
    const struct mos_region_plan *region; /* NULL: the table's own span */
    const char *name;
};

static int by_start(const void *a, const void *b) {
    const struct row *x = a, *y = b;
    return (x->start > y->start) - (x->start < y->start);
}

static void show_medium(mosaicum *m, const struct mos_medium_plan *medium) {
    struct mos_vec rows = mos_vec_make(m->arena, sizeof(struct row));
    if (medium->table) { /* its parts lie in a row at each end */
        *(struct row *)mos_vec_push(&rows) = (struct row){0, medium->usable_start, NULL, "table"};
        *(struct row *)mos_vec_push(&rows) =
            (struct row){medium->usable_end, medium->size, NULL, "backup table"};
    }
    for (size_t i = 0; i < medium->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
        if (r->placed)
            *(struct row *)mos_vec_push(&rows) =
                (struct row){r->start, r->start + r->length, r, NULL};
    }
    if (rows.count)
        qsort(rows.items, rows.count, sizeof(struct row), by_start);
    const char *title = mos_printf(m->arena, "%s: %s, %s%s, sectors of %u bytes", medium->name,
                                   mos_text_or(medium->medium->kind, "medium"),
                                   mos_size_text(m->arena, medium->size),
                                   medium->table ? mos_printf(m->arena, ", %s of %u entries",
                                                              medium->table->title, medium->entries)
                                                 : ", no table",
                                   medium->sector);
    struct report_table t = report_start(m, medium->name, title, layout_columns, LAYOUT_COLUMNS);
    uint64_t at = 0;
    for (size_t i = 0; i < rows.count; i++) {
        const struct row *x = mos_vec_at(&rows, i);
        if (x->start > at)
            other_row(&t, "", "(free)", at, x->start);
        if (x->region)
            region_row(m, &t, x->region);
        else
            other_row(&t, "", mos_printf(m->arena, "(%s %s)", medium->table->title, x->name),
                      x->start, x->end);
        at = mos_max(at, x->end);
    }
    if (at < medium->size)
        other_row(&t, "", "(free)", at, medium->size);
    report_end(m, &t);
}

static void show_layout(mosaicum *m, const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++)
        show_medium(m, mos_vec_pointer(&plan->media, i));
}

/* ---- RAM ---- */

static void ram_rows(struct report_table *t, const struct mos_placement *p) {
    static const char *const names[] = {"loaded", "moved by the loader", "running"};
    for (size_t i = 0; i < MOS_RANGE_COUNT; i++) {
        struct mos_ram_span s = p->ranges[i];
        if (!s.length)
            continue;
        cell_text(t, p->what);
        cell_text(t, names[i]);
        cell_address(t, s.start);
        cell_address(t, s.start + s.length);
        cell_about(t, s.length);
        cell_text(t, i != MOS_RANGE_LOADED ? NULL : p->given ? "given" : "chosen");
    }
}

static void show_ram(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {
        {"thing", "thing", false}, {"when", "when", false}, {"start", "start", true},
        {"end", "end", true},      {"size", "size", true},  {"by", "address", false}};
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        const char *title =
            mos_printf(m->arena, "Entry %s, RAM %s to %s (smallest), loader above %s",
                       e->def->r.name, mos_address_text(m->arena, plan->ram.start),
                       mos_address_text(m->arena, plan->ram.start + plan->ram.length),
                       mos_address_text(m->arena, plan->ram.top));
        struct report_table t = report_start(m, e->def->r.name, title, columns, 6);
        if (e->settled) {
            ram_rows(&t, &e->step.kernel);
            ram_rows(&t, &e->step.ramdisk);
            ram_rows(&t, &e->step.tree);
        }
        report_end(m, &t);
    }
}

/* ---- boot ---- */

static void show_boot(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {{"entry", "entry", false},
                                                     {"kernel", "kernel", false},
                                                     {"format", "format", false},
                                                     {"tree", "tree", false},
                                                     {"arguments", "arguments", false}};
    struct report_table t = report_start(m, "entries", "Entries, the default first", columns, 5);
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        cell_text(&t, e->def->r.name);
        cell_text(&t, e->step.kernel_file);
        cell_text(&t, e->header.format);
        cell_text(&t, e->step.tree_file);
        cell_text(&t, e->step.arguments);
    }
    report_end(m, &t);
    if (plan->script_text.length)
        report_text(m, "script",
                    mos_printf(m->arena, "Script (%s on %s)", plan->dialect->script_file,
                               plan->boot_region->name),
                    plan->script_text.data);
}

static void show_all(mosaicum *m, const struct mos_plan *plan) {
    report_text(m, "definition", NULL, show_resolved(m, plan->board));
}

static const struct {
    const char *name;
    void (*show)(mosaicum *m, const struct mos_plan *plan);
} parts[] = {{"layout", show_layout}, {"ram", show_ram}, {"boot", show_boot}, {"all", show_all}};
enum { PARTS = sizeof parts / sizeof *parts };

bool show_part(mosaicum *m, const struct mos_plan *plan, const char *part) {
    const char *names[PARTS];
    for (size_t i = 0; i < PARTS; i++) {
        names[i] = parts[i].name;
        if (strcmp(parts[i].name, part) == 0) {
            parts[i].show(m, plan);
            return true;
        }
    }
    const char *near = mos_near(part, names, PARTS);
    return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "There is no part %s to show; %s%s", part,
                    near ? "did you mean " : "there are layout, ram, boot and all",
                    near ? near : "");
}
