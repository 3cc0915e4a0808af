/* Boards, their variants, and what is known of each. */
#include "api/run.h"

#include "ledger/ledger.h"
#include "ledger/written.h"
#include "store/store.h"

#include <stdio.h>
#include <string.h>

static const char *checked_text(struct run_task *t, const char *stamp) {
    char *data;
    size_t length, errors, warnings;
    if (!stamp ||
        !mos_store_get(&t->ctx, mos_printf(t->arena, "check-%s", stamp), &data, &length) ||
        sscanf(data, "%zu %zu", &errors, &warnings) != 2)
        return "not checked";
    if (!errors && !warnings)
        return "clean";
    if (!errors)
        return mos_printf(t->results, "%zu warning%s", warnings, warnings == 1 ? "" : "s");
    return mos_printf(t->results, "%zu error%s", errors, errors == 1 ? "" : "s");
}

static const char *built_text(struct run_task *t, const char *stamp) {
    struct mos_ledger_last last;
    const char *folder = mos_path_join(t->arena, t->m->options.workspace,
                                       mos_printf(t->arena, "out/%s", t->selection->text));
    if (!mos_ledger_last(&t->ctx, folder, &last))
        return "not built";
    return stamp && last.stamp && strcmp(stamp, last.stamp) == 0 ? "built" : "stale";
}

static bool look(struct run_task *t) {
    struct mos_plan *plan = run_plan(t);
    const char *stamp = plan && run_fill(plan, false, NULL) ? run_stamp(t) : NULL;
    t->result->checked = checked_text(t, stamp);
    t->result->built = built_text(t, stamp);
    t->ctx.findings.items.count = 0; /* check tells them */
    t->ctx.not_proved.count = 0;
    return true;
}

/* "use bench, memory ram-1g" */
static const char *variants_text(mosaicum *m, const struct mos_selection *s) {
    struct mos_buf b = {.arena = m->arena};
    for (size_t i = 0; i < s->variants.count; i++) {
        const struct mos_node *v = mos_vec_pointer(&s->variants, i);
        const struct mos_node *axis = mos_node_get(v, "axis");
        mos_buf_printf(&b, "%s%s %s", i ? ", " : "", axis ? axis->text : v->key,
                       axis ? v->key : "");
    }
    return b.length ? mos_buf_string(&b) : NULL;
}

static const char *about_text(const struct mos_selection *s) {
    const struct mos_node *about = mos_node_get(s->board->node, "about");
    if (s->variants.count) {
        const struct mos_node *v = mos_vec_pointer(&s->variants, s->variants.count - 1);
        about = mos_node_get(v, "about");
    }
    return about && about->kind == MOS_NODE_SCALAR ? about->text : NULL;
}

static void list(mosaicum *m) {
    static const struct mosaicum_column columns[] = {{"selector", "selector", false},
                                                     {"variants", "variants", false},
                                                     {"checked", "checked", false},
                                                     {"built", "built", false},
                                                     {"about", "about", false}};
    struct mos_vec *all = run_select(m, NULL, 0, true);
    if (!all)
        return;
    m->complete = false;
    const struct run_result *results = run_tasks(m, all, look);
    struct report_table t = report_start(&m->report, "boards", NULL, columns, 5);
    for (size_t i = 0; i < all->count && !m->error.kind; i++) {
        const struct mos_selection *s = mos_vec_at(all, i);
        cell_text(&t, s->text);
        cell_text(&t, variants_text(m, s));
        cell_text(&t, results[i].checked);
        cell_text(&t, results[i].built);
        cell_text(&t, about_text(s));
    }
    report_end(&m->report, &t);
}

/* ---- which card or board carries what ---- */

static bool same_text(const char *a, const char *b) {
    return strcmp(a ? a : "", b ? b : "") == 0;
}

/* Is a later line of its kind about the same unit, or where none is named the same device? */
static bool is_replaced(const struct mos_vec *lines, size_t index) {
    const struct mos_written *a = mos_vec_at(lines, index);
    for (size_t i = index + 1; i < lines->count; i++) {
        const struct mos_written *b = mos_vec_at(lines, i);
        if (!a->image != !b->image) /* a write, and what a board said when it ran */
            continue;
        if (a->unit ? same_text(a->unit, b->unit)
                    : !b->unit && a->size == b->size && same_text(a->model, b->model) &&
                          same_text(a->serial, b->serial) && same_text(a->port, b->port))
            return true;
    }
    return false;
}

static const char *device_text(mosaicum *m, const struct mos_written *w) {
    return mos_printf(m->arena, "%s%s%s%s%s", w->model ? w->model : "", w->model ? " " : "",
                      w->serial ? w->serial : "", w->serial ? ", " : "", w->path ? w->path : "");
}

static void written(mosaicum *m) {
    static const struct mosaicum_column columns[] = {
        {"unit", "unit", false},    {"board", "board", false}, {"medium", "medium", false},
        {"build", "build", false},  {"date", "date", false},   {"device", "device", false},
        {"result", "result", false}};
    size_t bad;
    const char *path = mos_path_join(m->arena, m->options.workspace, "written.jsonl");
    struct mos_vec lines = mos_written_read(&m->ctx, path, &bad);
    struct report_table t = report_start(&m->report, "written", NULL, columns, 7);
    for (size_t i = 0; i < lines.count; i++) {
        const struct mos_written *w = mos_vec_at(&lines, i);
        if (is_replaced(&lines, i))
            continue;
        cell_text(&t, w->unit);
        cell_text(&t, w->board);
        cell_text(&t, w->image ? w->medium : "running");
        cell_text(&t, w->stamp ? mos_printf(m->arena, "%.12s", w->stamp) : NULL);
        cell_text(&t, w->date);
        cell_text(&t, device_text(m, w));
        if (w->proved)
            cell_text(&t, w->result);
        else
            cell_alarm(&t, w->result ? w->result : "not known");
    }
    t.table.title =
        lines.count ? NULL : mos_printf(m->arena, "Nothing was written from this workspace.");
    t.table.title_only = !lines.count;
    report_end(&m->report, &t);
    if (bad)
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%zu line%s of %s cannot be read", bad,
                 bad == 1 ? "" : "s", path);
}

enum mosaicum_status mosaicum_list_written(mosaicum *m) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    if (run_open(m))
        written(m);
    return run_status(m);
}

enum mosaicum_status mosaicum_list(mosaicum *m) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    if (run_open(m))
        list(m);
    return run_status(m);
}
