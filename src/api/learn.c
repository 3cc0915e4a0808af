/* learn: asks a board about itself, and tells what its definition says otherwise. */
#include "api/learn.h"

#include "base/text.h"
#include "model/facts.h"
#include "tree/claims.h"

#include <string.h>

/* ---- what its tree tells ---- */

/* The ranges of a memory node (Devicetree Specification, 3.4). */
static void take_memory(struct learn_job *j, const struct mos_dt_node *node) {
    const struct mos_dt_property *reg = mos_dt_property(node, "reg");
    const char *type = mos_dt_string(node, "device_type");
    uint32_t a = mos_dt_address_cells(node->parent), s = mos_dt_size_cells(node->parent);
    size_t step = 4 * ((size_t)a + s);
    if (!reg || !type || strcmp(type, "memory") != 0 || !a || !s || a > 2 || s > 2)
        return;
    for (size_t at = 0; at + step <= reg->length; at += step)
        mos_learned_ram(&j->l, mos_dt_number(reg->data + at, a),
                        mos_dt_number(reg->data + at + 4 * a, s), NULL);
}

/* What a kernel says is RAM leaves out what its firmware keeps: the tree counts. */
static void take_tree(struct learn_job *j) {
    const struct mos_buf *blob = &j->l.tree;
    struct mos_learned *l = &j->l;
    struct mos_error ignored;
    struct mos_ctx quiet = mos_ctx_quiet(&j->m->ctx, &ignored);
    if (!blob->length)
        return;
    j->tree = mos_dt_read_blob(&quiet, "the board's tree", blob->data, blob->length);
    if (!j->tree || mos_findings_count(&quiet.findings, MOS_SEVERITY_ERROR)) {
        j->tree = NULL;
        l->tree.length = 0;
        mos_learned_unknown(l, "its device tree: what came of it is damaged");
        return;
    }
    struct mos_dt_node *root = j->tree->root;
    const struct mos_vec before = l->ram;
    l->compatible = mos_dt_string(root, "compatible");
    l->model = mos_dt_string(root, "model");
    l->ram = mos_vec_make(l->arena, sizeof(struct mos_told_span));
    for (const struct mos_dt_node *n = root->first_child; n; n = n->next)
        take_memory(j, n);
    if (!l->ram.count)
        l->ram = before;
    if (l->compatible)
        mos_learned_fact(l, "compatible", l->compatible, NULL);
}

/* ---- what is told ---- */

static const char *medium_text(struct learn_job *j, const struct mos_told_medium *t) {
    struct mos_arena *a = j->m->arena;
    return mos_printf(a, "%s%s%s%s%s, %s, %zu partition%s", t->kind ? t->kind : "",
                      t->kind ? ", " : "", t->name ? t->name : "", t->name ? ", " : "",
                      t->blur ? mos_size_about(a, t->size) : mos_size_text(a, t->size),
                      t->table ? t->table : "no table", t->partitions.count,
                      t->partitions.count == 1 ? "" : "s");
}

static void tell_facts(struct learn_job *j) {
    static const struct mosaicum_column columns[] = {
        {"fact", "fact", false}, {"value", "value", false}, {"asked", "asked by", false}};
    struct mos_arena *a = j->m->arena;
    const char *who =
        mos_printf(a, "The %s at %s says%s", j->l.dialect ? "loader" : "system", j->port,
                   j->known ? mos_printf(a, " (%zu values of %s were compared, %zu differ)",
                                         j->compared, j->request->name, j->differ)
                            : "");
    struct report_table t = report_start(&j->m->report, "facts", who, columns, 3);
    enum { LONGEST = 60 };
    for (size_t i = 0; i < j->l.facts.count; i++) {
        const struct mos_told *f = mos_vec_at(&j->l.facts, i);
        cell_text(&t, f->name);
        cell_text(&t, f->value);
        cell_text(&t, !f->asked ? NULL
                      : strlen(f->asked) > LONGEST
                          ? mos_printf(j->m->arena, "%.*s …", LONGEST, f->asked)
                          : f->asked);
    }
    for (size_t i = 0; i < j->l.ram.count; i++) {
        const struct mos_told_span *r = mos_vec_at(&j->l.ram, i);
        cell_text(&t, "RAM");
        cell_text(&t, mos_printf(a, "%s at %s", mos_size_text(a, r->length),
                                 mos_address_text(a, r->start)));
        cell_text(&t, j->l.ram_asked);
    }
    for (size_t i = 0; i < j->l.media.count; i++) {
        const struct mos_told_medium *medium = mos_vec_at(&j->l.media, i);
        cell_text(&t, medium->loader ? medium->loader : medium->kernel);
        cell_text(&t, medium_text(j, medium));
        cell_text(&t, medium->loader ? medium->asked : NULL);
    }
    report_end(&j->m->report, &t);
    for (size_t i = 0; i < j->l.unknown.count; i++)
        mos_vec_push_pointer(&j->m->not_proved, mos_vec_pointer(&j->l.unknown, i));
}

/* ---- the job ---- */

static bool is_board(struct learn_job *j, const char *name) {
    mosaicum *m = j->m;
    size_t n = strcspn(name, "+");
    const char *file = mos_printf(m->arena, "boards/%.*s.yaml", (int)n, name);
    run_allow(m, m->options.workspace, MOS_REACH_READ);
    return m->options.workspace &&
           mos_exists(&m->ctx, mos_path_join(m->arena, m->options.workspace, file));
}

/* Somebody who mistypes a board's name would get another board. */
static void tell_near(struct learn_job *j) {
    mosaicum *m = j->m;
    const struct mosaicum_learn *r = j->request;
    struct mos_vec names = mos_vec_make(m->arena, sizeof(char *));
    if (!r->name || j->known || !m->options.workspace || !r->note)
        return;
    mos_board_names(&m->ctx, m->options.workspace, &names);
    const char *near = mos_near(r->name, names.items, names.count);
    if (near)
        r->note(r->self,
                mos_printf(m->arena,
                           "%s is not a board of this workspace, and %s is: a new one is drafted",
                           r->name, near),
                true);
}

/* That of the loader, as the definition has it; NULL: the usual one, or an error. */
static const char *stated_speed(struct learn_job *j) {
    const struct mos_selection *s = run_select_one(j->m, j->request->name, "learn");
    struct run_task *t = s ? run_one(j->m, s) : NULL;
    const struct mos_board *b = t ? mos_board_resolve(&t->ctx, j->m->workspace, s) : NULL;
    return b ? mos_printf(j->m->arena, "%u", mos_board_line(b, false).baud) : NULL;
}

static bool ask_on_line(struct learn_job *j) {
    const struct mosaicum_learn *r = j->request;
    mosaicum *m = j->m;
    const struct mos_bench_unit *unit;
    const char *speed = r->speed || !j->known ? r->speed : stated_speed(j);
    if (m->error.kind || !bench_unit(m, r->bench, r->unit, j->known ? r->name : NULL, &unit) ||
        !bench_open(m, unit, r->port, speed, &j->port, &j->line))
        return false;
    bool ok = (!r->cycle || bench_cycle(m, unit)) && learn_ask(j);
    m->ctx.host->wires->close(m->ctx.host->wires, j->line);
    return ok;
}

static void learn(struct learn_job *j) {
    mosaicum *m = j->m;
    const struct mosaicum_learn *r = j->request;
    j->known = r->name && is_board(j, r->name);
    const char *folder = r->folder ? r->folder : !j->known && r->name ? m->options.workspace : NULL;
    const char *name = r->name ? mos_strndup(m->arena, r->name, strcspn(r->name, "+")) : "board";
    if (folder && !learn_may_write(j, folder, name))
        return;
    tell_near(j);
    if (!(r->stored ? learn_ask(j) : ask_on_line(j)))
        return;
    take_tree(j);
    if (j->known && !learn_differ(j))
        return;
    tell_facts(j);
    if (folder)
        learn_write(j, folder, name);
}

enum mosaicum_status mosaicum_learn(mosaicum *m, const struct mosaicum_learn *request) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    struct learn_job *j = mos_alloc(m->arena, sizeof *j);
    *j = (struct learn_job){
        .m = m, .request = request, .prompt = "", .answers = {.arena = m->arena}};
    mos_learned_begin(&j->l, m->arena);
    learn(j);
    return run_status(m);
}
