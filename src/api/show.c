#include "api/run.h"

#include "base/bytes.h"
#include "base/text.h"
#include "plan/bytes.h"

#include <stdlib.h>
#include <string.h>

/* ---- layout ---- */

static const struct mosaicum_column layout_columns[] = {
    {"region", "region", false},        {"number", "no.", true},   {"map", "map", false, true},
    {"start", "start", true},           {"end", "end", true},      {"size", "size", true},
    {"sectors", "sectors", true, true}, {"holds", "holds", false}, {"free", "free", true},
    {"owner", "owner", false},          {"from", "from", false},   {"id", "id", false, true},
};
enum { LAYOUT_COLUMNS = sizeof layout_columns / sizeof *layout_columns, WHOLE = 65535 };

static const char *holds_text(mosaicum *m, const struct mos_region_plan *r) {
    if (r->fs)
        return *mos_text_or(r->def->volume->label, "")
                   ? mos_printf(m->arena, "%s %s", r->fs->name, r->def->volume->label->text)
                   : r->fs->name;
    if (r->environment)
        return mos_printf(m->arena, "environment %s", r->environment->def->r.name);
    if (mos_has(r->def->stage))
        return mos_printf(m->arena, "stage %s", r->def->stage->text);
    const char *what = mos_has(r->def->tree) ? "tree" : "piece";
    return r->piece ? mos_printf(m->arena, "%s %s", what, r->piece->def->r.name) : "nothing";
}

/* What a row is about: a region, or a part of the medium that is nobody's or the table's. */
struct row {
    uint64_t start, end;
    const struct mos_region_plan *region; /* NULL: `what` says it */
    const char *what;
};

static void place_cells(mosaicum *m, struct report_table *t, const struct mos_medium_plan *medium,
                        const struct row *x) {
    uint64_t size = mos_max(medium->size, 1), sector = medium->sector;
    uint64_t from = x->start * WHOLE / size, to = mos_min(x->end * WHOLE / size, WHOLE);
    cell_extent(t, (uint32_t)mos_min(from, WHOLE), (uint32_t)to);
    cell_size(t, x->start);
    cell_size(t, x->end);
    cell_size(t, x->end - x->start);
    unsigned long long first = x->start / sector, last = (mos_max(x->end, 1) - 1) / sector;
    cell_text(t, first == last ? mos_printf(m->arena, "%llu", first)
                               : mos_printf(m->arena, "%llu-%llu", first, last));
}

static void region_row(mosaicum *m, struct report_table *t, const struct mos_medium_plan *medium,
                       const struct row *x) {
    const struct mos_region_plan *r = x->region;
    cell_text(t, r->name);
    if (r->number)
        cell_number(t, r->number);
    else
        cell_text(t, NULL);
    place_cells(m, t, medium, x);
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

static void other_row(mosaicum *m, struct report_table *t, const struct mos_medium_plan *medium,
                      const struct row *x) {
    cell_text(t, "");
    cell_text(t, NULL);
    place_cells(m, t, medium, x);
    cell_text(t, x->what);
    for (int i = 0; i < 4; i++)
        cell_text(t, NULL);
}

static int by_start(const void *a, const void *b) {
    const struct row *x = a, *y = b;
    return (x->start > y->start) - (x->start < y->start);
}

/* The table's own parts; those that touch are one. */
static void table_rows(mosaicum *m, const struct mos_medium_plan *medium, struct mos_vec *rows) {
    struct row *last = NULL;
    for (size_t i = 0; i < medium->span_count; i++) {
        const struct mos_table_span *s = &medium->spans[i];
        if (last && last->end == s->start && s->start < medium->size / 2) {
            last->end = s->end;
            last->what = mos_printf(m->arena, "(%s)", medium->table->title);
            continue;
        }
        last = mos_vec_push(rows);
        *last = (struct row){s->start, s->end, NULL, mos_printf(m->arena, "(%s)", s->name)};
    }
    for (size_t i = 0; i < medium->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
        if (r->logical && r->table_at)
            *(struct row *)mos_vec_push(rows) =
                (struct row){r->table_at, r->table_at + medium->sector, NULL,
                             mos_printf(m->arena, "(table of %s)", r->name)};
    }
}

/* What the rows that are no region come to: "3.3 MiB unused in 7 places, at most 1920 KiB from
 * 2176 KiB; GPT: 17 KiB".  NULL: there are none. */
static const char *asides_text(mosaicum *m, const struct mos_medium_plan *medium,
                               const struct mos_vec *rows) {
    struct mos_buf b = {.arena = m->arena}, tables = b;
    uint64_t at = 0, unused = 0, largest = 0, from = 0;
    size_t places = 0;
    for (size_t i = 0; i <= rows->count; i++) {
        const struct row end = {medium->size, medium->size, NULL, NULL},
                         *x = i < rows->count ? mos_vec_at(rows, i) : &end;
        uint64_t gap = x->start > at ? x->start - at : 0;
        places += gap != 0;
        unused += gap;
        from = gap > largest ? at : from;
        largest = mos_max(gap, largest);
        if (x->what)
            mos_buf_printf(&tables, "; %.*s: %s", (int)strlen(x->what) - 2, x->what + 1,
                           mos_size_text(m->arena, x->end - x->start));
        at = mos_max(at, x->end);
    }
    if (!places && !tables.length)
        return NULL;
    mos_buf_printf(&b, "%s unused", places ? mos_size_about(m->arena, unused) : "nothing");
    if (places > 1)
        mos_buf_printf(&b, " in %zu places, at most %s from %s", places,
                       mos_size_about(m->arena, largest), mos_size_text(m->arena, from));
    else if (places)
        mos_buf_printf(&b, " from %s", mos_size_text(m->arena, from));
    mos_buf_text(&b, mos_buf_string(&tables));
    return mos_buf_string(&b);
}

static void show_medium(mosaicum *m, const struct mos_medium_plan *medium) {
    struct mos_vec rows = mos_vec_make(m->arena, sizeof(struct row));
    if (medium->table)
        table_rows(m, medium, &rows);
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
    struct report_table t =
        report_start(&m->report, medium->name, title, layout_columns, LAYOUT_COLUMNS);
    uint64_t at = 0;
    for (size_t i = 0; i < rows.count; i++) {
        const struct row *x = mos_vec_at(&rows, i);
        if (x->start > at)
            other_row(m, &t, medium, &(struct row){at, x->start, NULL, "(unused)"});
        if (x->region)
            region_row(m, &t, medium, x);
        else
            other_row(m, &t, medium, x);
        at = mos_max(at, x->end);
    }
    if (at < medium->size)
        other_row(m, &t, medium, &(struct row){at, medium->size, NULL, "(unused)"});
    t.table.asides = asides_text(m, medium, &rows);
    report_end(&m->report, &t);
}

/* What a programmer does for each region, and what the kernel is told. */
static void show_flash(mosaicum *m, const struct mos_plan *plan,
                       const struct mos_medium_plan *medium) {
    static const struct mosaicum_column columns[] = {
        {"region", "region", false}, {"erase-from", "erase from", true},
        {"erase", "erase", true},    {"blocks", "blocks", true},
        {"write", "write", true},    {"read-back", "read back", true}};
    struct report_table t = report_start(
        &m->report, mos_printf(m->arena, "%s ranges", medium->name),
        mos_printf(m->arena, "%s: what programming each region takes", medium->name), columns, 6);
    struct mos_vec regions = mos_plan_by_place(plan, medium);
    for (size_t i = 0; i < regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&regions, i);
        struct mos_flash_range x = mos_plan_flash_range(medium, r);
        cell_text(&t, r->name);
        cell_address(&t, x.erase_from);
        cell_address(&t, x.erase_length);
        cell_number(&t, x.blocks);
        cell_address(&t, x.write_length);
        cell_address(&t, x.content);
    }
    report_end(&m->report, &t);
    const char *text = mos_plan_flash_string(plan, medium);
    if (text)
        report_text(&m->report, mos_printf(m->arena, "%s string", medium->name),
                    mos_printf(m->arena, "%s: for the kernel's command line, as <%s>", medium->name,
                               medium->name),
                    mos_printf(m->arena, "%s\n", text));
}

static void show_layout(mosaicum *m, const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, i);
        show_medium(m, medium);
        if (mos_plan_is_flash(medium))
            show_flash(m, plan, medium);
    }
}

/* ---- RAM ---- */

static void ram_row(struct report_table *t, const struct mos_plan *plan, const char *what,
                    const char *when, struct mos_ram_span s, const char *by) {
    uint64_t start = plan->ram.start, length = mos_max(plan->ram.length, 1);
    uint64_t from = s.start > start ? mos_min(s.start - start, length) : 0;
    uint64_t to = mos_min(from + s.length, length);
    cell_text(t, what);
    cell_text(t, when);
    cell_extent(t, (uint32_t)(from * WHOLE / length), (uint32_t)(to * WHOLE / length));
    cell_address(t, s.start);
    cell_address(t, s.start + s.length);
    cell_about(t, s.length);
    cell_text(t, by);
}

static void ram_rows(struct report_table *t, const struct mos_plan *plan,
                     const struct mos_placement *p, const struct mos_kernel_header *kernel) {
    const char *const names[] = {"loaded",
                                 kernel && kernel->expanded_size ? "moved by itself"
                                 : kernel && kernel->compression ? "expanded by the loader"
                                                                 : "moved by the loader",
                                 "running"};
    for (size_t i = 0; i < MOS_RANGE_COUNT; i++)
        if (p->ranges[i].length)
            ram_row(t, plan, p->what, names[i], p->ranges[i],
                    i != MOS_RANGE_LOADED ? NULL
                    : p->given            ? "given"
                                          : "chosen");
}

/* What somebody else holds: a monitor, the loader itself. */
static void held_rows(struct report_table *t, const struct mos_plan *plan) {
    const struct mos_named *held = &plan->board->hardware->held;
    for (size_t i = 0; i < held->count; i++) {
        const struct mos_held *h = held->items[i];
        struct mos_ram_span s = {0, 0};
        if (mos_has(h->start) && mos_has(h->size))
            s = (struct mos_ram_span){h->start->number, h->size->number};
        else if (mos_has(h->top) && h->top->number <= plan->ram.length)
            s = (struct mos_ram_span){plan->ram.start + plan->ram.length - h->top->number,
                                      h->top->number};
        if (s.length)
            ram_row(t, plan, h->r.name, "held", s, NULL);
    }
}

static void show_ram(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {
        {"thing", "thing", false}, {"when", "when", false}, {"map", "map", false, true},
        {"start", "start", true},  {"end", "end", true},    {"size", "size", true},
        {"by", "address", false}};
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        const char *title =
            mos_printf(m->arena, "Entry %s, RAM %s to %s (smallest)", e->def->r.name,
                       mos_address_text(m->arena, plan->ram.start),
                       mos_address_text(m->arena, plan->ram.start + plan->ram.length));
        struct report_table t = report_start(&m->report, e->def->r.name, title, columns, 7);
        if (e->settled) {
            ram_rows(&t, plan, &e->step.kernel, &e->header);
            ram_rows(&t, plan, &e->step.container, NULL);
            ram_rows(&t, plan, &e->step.ramdisk, NULL);
            ram_rows(&t, plan, &e->step.tree, NULL);
            held_rows(&t, plan);
        }
        report_end(&m->report, &t);
    }
}

/* ---- boot ---- */

static void show_boot(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {
        {"entry", "entry", false},     {"kernel", "kernel", false},
        {"format", "format", false},   {"tree", "tree", false},
        {"ramdisk", "ramdisk", false}, {"arguments", "arguments", false}};
    struct report_table t =
        report_start(&m->report, "entries", "Entries, the default first", columns, 6);
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        cell_text(&t, e->def->r.name);
        cell_text(&t, e->step.kernel_file);
        cell_text(&t,
                  e->header.format && e->header.compression
                      ? mos_printf(m->arena, "%s in %s", e->header.format, e->header.compression)
                      : e->header.format);
        cell_text(&t, e->step.tree_file);
        cell_text(&t, e->step.ramdisk_file);
        cell_text(&t, e->step.arguments);
    }
    report_end(&m->report, &t);
    if (plan->menu_text.length)
        report_text(&m->report, "menu",
                    mos_printf(m->arena, "Menu (%s on %s)", plan->dialect->menu_file,
                               plan->boot_region->name),
                    plan->menu_text.data);
    if (plan->script_text.length)
        report_text(&m->report, "script",
                    mos_printf(m->arena, "Script (%s on %s)", plan->dialect->script_file,
                               plan->boot_region->name),
                    plan->script_text.data);
    for (size_t i = 0; i < plan->settings.count; i++) {
        const struct mos_settings_plan *s = mos_vec_pointer(&plan->settings, i);
        report_text(&m->report, mos_printf(m->arena, "text %s", s->fill->r.name),
                    mos_printf(m->arena, "Text (%s on %s)", s->path, s->region->name),
                    mos_buf_string((struct mos_buf *)&s->text));
    }
}

/* ---- kernel, tree, environments ---- */

static void show_kernel(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {{"symbol", "symbol", false},
                                                     {"value", "value", false},
                                                     {"from", "from", false},
                                                     {"replaced", "instead of", false}};
    struct report_table t =
        report_start(&m->report, "symbols",
                     plan->kernel_settled.config ? "What is asked of the kernel, and comes to"
                                                 : "Kernel configuration as it was asked for",
                     columns, 4);
    for (size_t i = 0; i < plan->config.count; i++) {
        const struct mos_setting *x = plan->config.items[i].value;
        if (!x->part) /* nobody asked for it: the sources settled it */
            continue;
        cell_text(&t, x->symbol);
        cell_text(&t, x->value);
        cell_text(&t, place_text(m->arena, x->place));
        cell_text(&t, x->replaced ? mos_printf(m->arena, "%s (%s)", x->replaced->value,
                                               place_text(m->arena, x->replaced->place))
                                  : NULL);
    }
    report_end(&m->report, &t);
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
            report_start(&m->report, b->def->r.name,
                         mos_printf(m->arena, "Tree %s, overlays applied, %s", b->def->r.name,
                                    mos_size_text(m->arena, b->blob.length)),
                         columns, 5);
        struct tree_rows rows = {m, &t, plan->board->tree};
        mos_dt_walk(b->tree->root, tree_row, &rows);
        report_end(&m->report, &t);
    }
}

static void show_env(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {
        {"variable", "variable", false}, {"value", "value", false}, {"from", "from", false}};
    for (size_t i = 0; i < plan->environments.count; i++) {
        const struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        struct report_table t = report_start(
            &m->report, e->def->r.name,
            mos_printf(m->arena, "Environment %s: %s of %s used", e->def->r.name,
                       mos_size_text(m->arena, e->needed), mos_size_text(m->arena, e->size)),
            columns, 3);
        for (size_t k = 0; k < e->variables.count; k++) {
            const struct mos_loader_variable *v = e->variables.items[k].value;
            cell_text(&t, v->name);
            cell_text(&t, v->value);
            cell_text(&t, place_text(m->arena, v->place));
        }
        report_end(&m->report, &t);
    }
}

/* ---- budgets ---- */

/* What each compression would make of the pieces that a budget counts and has no room for. */
static void show_compressed(mosaicum *m, const struct mos_plan *plan) {
    static const char *const kinds[] = {"gzip", "xz", "zstd"};
    static const struct mosaicum_column columns[] = {{"piece", "piece", false},
                                                     {"plain", "plain", true},
                                                     {"gzip", "gzip", true},
                                                     {"xz", "xz", true},
                                                     {"zstd", "zstd", true}};
    enum { MOST = 256 << 20 };
    struct report_table t =
        report_start(&m->report, "compressed", "What compressing would buy", columns, 5);
    for (size_t i = 0; i < plan->budgets.count; i++) {
        const struct mos_budget_plan *b = mos_vec_pointer(&plan->budgets, i);
        for (size_t k = 0; b->known && b->used > b->limit && k < b->parts.count; k++) {
            const struct mos_budget_part *p = mos_vec_at(&b->parts, k);
            uint64_t size;
            if (!p->piece || p->piece->size > MOST)
                continue;
            cell_text(&t, p->name);
            cell_about(&t, p->bytes);
            for (size_t c = 0; c < 3; c++)
                if (mos_plan_compressed_size(plan, p->piece, kinds[c], &size))
                    cell_about(&t, size);
                else
                    cell_text(&t, "(not known)");
        }
    }
    if (t.cells.count)
        report_end(&m->report, &t);
}

static void show_budgets(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {
        {"budget", "budget", false}, {"used", "used", true}, {"limit", "limit", true},
        {"share", "%", true},        {"left", "left", true}, {"of", "of", false}};
    struct report_table t = report_start(&m->report, "budgets", "Budgets", columns, 6);
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
    report_end(&m->report, &t);
    show_compressed(m, plan);
}

static void show_all(mosaicum *m, const struct mos_plan *plan) {
    report_text(&m->report, "definition", NULL, show_resolved(m->arena, plan->board));
}

static const struct {
    const char *name;
    void (*show)(mosaicum *m, const struct mos_plan *plan);
} parts[] = {{"layout", show_layout}, {"ram", show_ram},         {"boot", show_boot},
             {"kernel", show_kernel}, {"tree", show_tree},       {"drivers", show_drivers},
             {"env", show_env},       {"budgets", show_budgets}, {"emulator", show_emulator},
             {"all", show_all}};
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
            if (trail && parts[i].show == show_tree)
                show_tree_trail(m, plan);
            return true;
        }
    }
    const char *near = mos_near(part, names, PARTS);
    struct mos_buf all = {.arena = m->arena};
    for (size_t i = 0; i < PARTS; i++)
        mos_buf_printf(&all, "%s%s", !i ? "" : i + 1 < PARTS ? ", " : " and ", names[i]);
    return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "There is no part %s to show; %s%s", part,
                    near ? "did you mean " : "there are ", near ? near : mos_buf_string(&all));
}

const char *mosaicum_show_part_at(size_t index) {
    return index < PARTS ? parts[index].name : NULL;
}
