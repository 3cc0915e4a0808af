/* Boards, their variants, and what is known of each. */
#include "api/run.h"

#include "ledger/ledger.h"
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

enum mosaicum_status mosaicum_list(mosaicum *m) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    if (run_open(m))
        list(m);
    return run_status(m);
}
