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
    {"id", "id", false},
};
enum { LAYOUT_COLUMNS = sizeof layout_columns / sizeof *layout_columns };

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
    cell_text(t, r->chosen ? "chosen" : place_text(m->arena, r->place));
    cell_text(t, *r->id_text ? mos_strdup(m->arena, r->id_text) : NULL);
}

static void other_row(struct report_table *t, const char *name, const char *what, uint64_t start,
                      uint64_t end) {
    span_cells(t, name, start, end);
    cell_text(t, what);
    for (int i = 0; i < 4; i++)
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
    t.table.asides = true;
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

/* ---- kernel, tree, environments ---- */

static void show_kernel(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {{"symbol", "symbol", false},
                                                     {"value", "value", false},
                                                     {"from", "from", false},
                                                     {"replaced", "instead of", false}};
    struct report_table t =
        report_start(m, "symbols", "Kernel configuration as it was asked for", columns, 4);
    for (size_t i = 0; i < plan->config.count; i++) {
        const struct mos_setting *x = plan->config.items[i].value;
        cell_text(&t, x->symbol);
        cell_text(&t, x->value);
        cell_text(&t, place_text(m->arena, x->place));
        cell_text(&t, x->replaced ? mos_printf(m->arena, "%s (%s)", x->replaced->value,
                                               place_text(m->arena, x->replaced->place))
                                  : NULL);
    }
    report_end(m, &t);
}

struct tree_rows {
    mosaicum *m;
    struct report_table *t;
    const struct mos_trees *trees;
};

static bool tree_row(void *self, struct mos_dt_node *node) {
    struct tree_rows *x = self;
    const char *status = mos_dt_string(node, "status");
    const struct mos_named *overlays = &x->trees->overlays;
    unsigned by = node->added_by;
    for (const struct mos_dt_property *p = node->properties; p; p = p->next)
        by = p->set_by > by ? p->set_by : by;
    cell_text(x->t, mos_dt_path(x->m->arena, node));
    cell_text(x->t, mos_dt_string(node, "compatible"));
    cell_text(x->t, status ? status : "okay");
    cell_text(x->t, by && by <= overlays->count
                        ? ((const struct mos_record *)overlays->items[by - 1])->name
                        : NULL);
    cell_text(x->t, place_text(x->m->arena, node->place));
    return true;
}

static void show_tree(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {{"node", "node", false},
                                                     {"compatible", "compatible", false},
                                                     {"status", "status", false},
                                                     {"overlay", "overlay", false},
                                                     {"from", "from", false}};
    for (size_t i = 0; i < plan->blobs.count; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, i);
        if (!b->tree)
            continue;
        struct report_table t =
            report_start(m, b->def->r.name,
                         mos_printf(m->arena, "Tree %s, overlays applied, %s", b->def->r.name,
                                    mos_size_text(m->arena, b->blob.length)),
                         columns, 5);
        struct tree_rows rows = {m, &t, plan->board->tree};
        mos_dt_walk(b->tree->root, tree_row, &rows);
        report_end(m, &t);
    }
}

static void show_env(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {
        {"variable", "variable", false}, {"value", "value", false}, {"from", "from", false}};
    for (size_t i = 0; i < plan->environments.count; i++) {
        const struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        struct report_table t = report_start(
            m, e->def->r.name,
            mos_printf(m->arena, "Environment %s: %s of %s used", e->def->r.name,
                       mos_size_text(m->arena, e->needed), mos_size_text(m->arena, e->size)),
            columns, 3);
        for (size_t k = 0; k < e->variables.count; k++) {
            const struct mos_setenv *v = e->variables.items[k].value;
            cell_text(&t, v->name);
            cell_text(&t, v->value);
            cell_text(&t, place_text(m->arena, v->place));
        }
        report_end(m, &t);
    }
}

/* ---- budgets ---- */

static void show_budgets(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {
        {"budget", "budget", false}, {"used", "used", true}, {"limit", "limit", true},
        {"share", "%", true},        {"left", "left", true}, {"of", "of", false}};
    struct report_table t = report_start(m, "budgets", "Budgets", columns, 6);
    for (size_t i = 0; i < plan->budgets.count; i++) {
        const struct mos_budget_plan *b = mos_vec_pointer(&plan->budgets, i);
        struct mos_buf of = {.arena = m->arena};
        for (size_t k = 0; k < b->def->of.count; k++)
            mos_buf_printf(&of, "%s%s", k ? ", " : "", b->def->of.items[k]->text);
        cell_text(&t, b->def->r.name);
        if (b->known) {
            cell_about(&t, b->used);
            cell_about(&t, b->limit);
            cell_number(&t, b->limit ? b->used * 100 / b->limit : 0);
            cell_about(&t, b->limit > b->used ? b->limit - b->used : 0);
        } else {
            for (int c = 0; c < 4; c++)
                cell_text(&t, "(not known)");
        }
        cell_text(&t, mos_buf_string(&of));
    }
    report_end(m, &t);
}

static void show_all(mosaicum *m, const struct mos_plan *plan) {
    report_text(m, "definition", NULL, show_resolved(m->arena, plan->board));
}

static const struct {
    const char *name;
    void (*show)(mosaicum *m, const struct mos_plan *plan);
} parts[] = {{"layout", show_layout},   {"ram", show_ram},   {"boot", show_boot},
             {"kernel", show_kernel},   {"tree", show_tree}, {"env", show_env},
             {"budgets", show_budgets}, {"all", show_all}};
enum { PARTS = sizeof parts / sizeof *parts };

bool show_part(mosaicum *m, const struct mos_plan *plan, const char *part, bool trail) {
    const char *names[PARTS];
    for (size_t i = 0; i < PARTS; i++) {
        names[i] = parts[i].name;
        if (strcmp(parts[i].name, part) == 0) {
            if (trail)
                show_trail(m, plan->board, strcmp(part, "all") == 0 ? "" : part);
            else
                parts[i].show(m, plan);
            return true;
        }
    }
    const char *near = mos_near(part, names, PARTS);
    return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "There is no part %s to show; %s%s", part,
                    near ? "did you mean "
                         : "there are layout, ram, boot, kernel, tree, env, "
                           "budgets and all",
                    near ? near : "");
}
