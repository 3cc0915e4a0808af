/* Two boards or variants side by side. */
#include "api/run.h"

#include "base/map.h"
#include "ledger/document.h"

#include <string.h>

struct side {
    struct mos_vec values;
    struct mos_map by_path; /* path -> struct resolved_value * */
};

static struct side side_of(mosaicum *m, const struct mos_selection *s) {
    struct run_task *t = run_one(m, s);
    struct mos_board *board = mos_board_resolve(&t->ctx, m->workspace, s);
    struct side side = {resolved_values(m->arena, board), mos_map_make(m->arena)};
    for (size_t i = 0; i < side.values.count; i++) {
        struct resolved_value *v = mos_vec_at(&side.values, i);
        if (!v->removed)
            mos_map_set(&side.by_path, v->path, v);
    }
    return side;
}

static const struct mos_selection *one(mosaicum *m, const char *selector) {
    struct mos_vec *all = run_select(m, &selector, 1, false);
    if (all && all->count != 1 && !m->error.kind)
        mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                 "%s fits %zu boards; compare wants one on each side", selector, all->count);
    return all && all->count == 1 ? mos_vec_at(all, 0) : NULL;
}

static const char *from_text(mosaicum *m, const struct resolved_value *v) {
    if (!v || !v->stated)
        return NULL;
    return place_text(m->arena, v->stated->kind == MOS_NODE_SCALAR || !v->stated->key_place.source
                                    ? v->stated->place
                                    : v->stated->key_place);
}

static void row(mosaicum *m, struct report_table *t, const char *path,
                const struct resolved_value *a, const struct resolved_value *b) {
    cell_text(t, path);
    cell_text(t, a ? a->text : "(none)");
    cell_text(t, b ? b->text : "(none)");
    const char *left = from_text(m, a), *right = from_text(m, b);
    cell_text(t, left ? left : "");
    cell_text(t, right ? right : "");
}

static void compare(mosaicum *m, const char *a, const char *b) {
    const struct mos_selection *x = one(m, a), *y = x ? one(m, b) : NULL;
    if (!y)
        return;
    struct mosaicum_column *columns = mos_alloc_array(m->arena, 5, sizeof *columns);
    columns[0] = (struct mosaicum_column){"value", "value", false};
    columns[1] = (struct mosaicum_column){"a", x->text, false};
    columns[2] = (struct mosaicum_column){"b", y->text, false};
    columns[3] = (struct mosaicum_column){"from-a", "from", false};
    columns[4] = (struct mosaicum_column){"from-b", "", false};
    struct report_table t = report_start(&m->report, "differences", NULL, columns, 5);
    struct side left = side_of(m, x), right = side_of(m, y);
    for (size_t i = 0; i < left.by_path.count; i++) {
        const struct resolved_value *v = left.by_path.items[i].value;
        const struct resolved_value *w = mos_map_get(&right.by_path, v->path);
        if (!w || strcmp(v->text, w->text) != 0)
            row(m, &t, v->path, v, w);
    }
    for (size_t i = 0; i < right.by_path.count; i++) {
        const struct resolved_value *w = right.by_path.items[i].value;
        if (!mos_map_get(&left.by_path, w->path))
            row(m, &t, w->path, NULL, w);
    }
    size_t count = t.cells.count / 5;
    t.table.title = count ? mos_printf(m->arena, "%zu value%s differ%s", count,
                                       count == 1 ? "" : "s", count == 1 ? "s" : "")
                          : "Nothing differs.";
    m->damaged = count != 0;
    report_end(&m->report, &t);
}

/* What is told of two things of one kind, as names and texts; `what` they are, of several. */
static void compare_facts(mosaicum *m, const char *a, const char *b, struct mos_map left,
                          struct mos_map right, const char *one, const char *what) {
    struct mosaicum_column *columns = mos_alloc_array(m->arena, 3, sizeof *columns);
    columns[0] = (struct mosaicum_column){"fact", one, false, false};
    columns[1] = (struct mosaicum_column){"a", a, false, false};
    columns[2] = (struct mosaicum_column){"b", b, false, false};
    struct report_table t = report_start(&m->report, "differences", NULL, columns, 3);
    for (size_t i = 0; i < left.count; i++) {
        const char *was = left.items[i].value, *is = mos_map_get(&right, left.items[i].key);
        if (is && strcmp(was, is) == 0)
            continue;
        cell_text(&t, left.items[i].key);
        cell_text(&t, was);
        cell_text(&t, is ? is : "(none)");
    }
    for (size_t i = 0; i < right.count; i++)
        if (!mos_map_get(&left, right.items[i].key)) {
            cell_text(&t, right.items[i].key);
            cell_text(&t, "(none)");
            cell_text(&t, right.items[i].value);
        }
    size_t count = t.cells.count / 3;
    t.table.title = count ? mos_printf(m->arena, "%zu %s differ%s", count, count == 1 ? one : what,
                                       count == 1 ? "s" : "")
                          : "Nothing differs.";
    m->damaged = count != 0;
    report_end(&m->report, &t);
}

/* What two builds were made of, and what came of it; or what two boards said.  false: the files
 * are no such documents. */
static bool compare_documents(mosaicum *m, const char *a, const char *b) {
    struct mos_map left, right;
    enum mos_document is = mos_document_facts(&m->ctx, a, &left);
    if (is == MOS_DOCUMENT_NONE || mos_document_facts(&m->ctx, b, &right) != is)
        return m->error.kind != 0;
    if (is == MOS_DOCUMENT_ACCEPTED)
        compare_facts(m, a, b, left, right, "check", "checks");
    else
        compare_facts(m, a, b, left, right, "fact", "facts of the ledgers");
    return true;
}

enum mosaicum_status mosaicum_compare(mosaicum *m, const char *a, const char *b) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    run_allow(m, a, MOS_REACH_READ);
    run_allow(m, b, MOS_REACH_READ);
    if (!mos_exists(&m->ctx, a) || !mos_exists(&m->ctx, b)) {
        if (run_open(m))
            compare(m, a, b);
    } else if (!compare_documents(m, a, b)) {
        compare_images(m, a, b);
    }
    return run_status(m);
}
