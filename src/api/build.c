#include "api/run.h"

#include "build/build.h"
#include "ledger/ledger.h"
#include "plan/bytes.h"
#include "rules/rules.h"

#include <stdlib.h>
#include <string.h>

static const struct mosaicum_column file_columns[] = {{"file", "file", false},
                                                      {"size", "size", true},
                                                      {"use", "what it is for", false},
                                                      {"hash-of", "SHA-256 of", false},
                                                      {"hash", "", false}};
enum { FILE_COLUMNS = sizeof file_columns / sizeof *file_columns };

/* Where an image goes, or what a file beside it is; NULL: its name says it. */
static const char *use_of(struct mos_arena *arena, const struct mos_plan *plan, const char *name) {
    static const char *const wholes[] = {[MOS_MEDIUM_SD] = "the whole card, from its first byte",
                                         [MOS_MEDIUM_EMMC] = "the whole eMMC, from its first byte",
                                         [MOS_MEDIUM_NOR] = "the whole flash, from its first byte",
                                         [MOS_MEDIUM_NAND] =
                                             "the whole flash, around its bad blocks",
                                         [MOS_MEDIUM_DISK] = "the whole disk, from its first byte",
                                         [MOS_MEDIUM_USB] = "the whole disk, from its first byte",
                                         [MOS_MEDIUM_NVME] = "the whole disk, from its first byte"};
    size_t n = strlen(name);
    if (strcmp(name, "ledger.json") == 0)
        return "the record of this build";
    for (size_t i = 0; i < plan->media.count && n > 4; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        enum mos_medium_kind kind = mos_medium_kind_of(m->medium->kind);
        if (strlen(m->name) != n - 4 || strncmp(m->name, name, n - 4) != 0 ||
            strcmp(name + n - 4, ".img") != 0 || kind == MOS_MEDIUM_UNSTATED)
            continue;
        return m->area ? mos_printf(arena, "area %s of the eMMC", m->area->r.name) : wholes[kind];
    }
    return NULL;
}

/* hash: in hex; of an image it is not what a hash tool shows. */
static void file_row(struct report_table *t, const struct mos_plan *plan, const char *name,
                     uint64_t size, bool image, const char *hash) {
    struct mos_arena *arena = t->cells.arena;
    cell_text(t, mos_strdup(arena, name));
    cell_size(t, size);
    cell_text(t, use_of(arena, plan, name));
    cell_text(t, image ? "list of chunks" : "file");
    cell_text(t, mos_strdup(arena, hash));
}

/* wrong: a file that stood there and was not what its ledger said; or NULL. */
static void report_files(struct run_task *t, const char *wrong) {
    const struct mos_build *b = t->build;
    struct report *report = &t->result->report;
    const struct mos_vec *files = mos_build_files(b);
    const char *folder = mos_build_folder(b);
    size_t taken = mos_build_taken(b);
    const char *as_were =
        taken ? mos_printf(report->arena, "; %zu volume%s as before", taken, taken == 1 ? "" : "s")
              : "";
    const char *title =
        wrong
            ? mos_printf(report->arena, "Built anew into %s: %s there was not what its ledger says",
                         folder, wrong)
            : mos_printf(report->arena, "Built into %s%s", folder, as_were);
    struct report_table table = report_start(report, "files", title, file_columns, FILE_COLUMNS);
    char hex[65];
    for (size_t i = 0; i < files->count; i++) {
        const struct mos_built_file *f = mos_vec_at(files, i);
        mos_sha256_hex(f->hash, hex);
        file_row(&table, t->plan, f->name, f->size, f->image, hex);
    }
    report_end(report, &table);
}

static void note_made(struct run_task *t) {
    struct run_result *r = t->result;
    for (size_t i = 0; i < t->plan->pieces.count; i++) {
        const struct mos_piece_plan *p = mos_vec_pointer(&t->plan->pieces, i);
        if (p->made_log)
            *(struct run_made *)mos_vec_push(&r->made) = (struct run_made){
                mos_strdup(t->results, p->def->r.name), mos_strdup(t->results, p->file),
                mos_strdup(t->results, p->made_log)};
    }
}

static int by_piece(const void *a, const void *b) {
    return strcmp(((const struct run_made *)a)->piece, ((const struct run_made *)b)->piece);
}

/* Pieces that commands made for these builds: by name, whoever came first. */
static void report_made(mosaicum *m, const struct run_result *results, size_t count) {
    static const struct mosaicum_column columns[] = {
        {"piece", "piece", false}, {"file", "file", false}, {"log", "log", false}};
    struct mos_vec all = mos_vec_make(m->arena, sizeof(struct run_made));
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < results[i].made.count; k++)
            *(struct run_made *)mos_vec_push(&all) =
                *(struct run_made *)mos_vec_at(&results[i].made, k);
    if (!all.count)
        return;
    qsort(all.items, all.count, sizeof(struct run_made), by_piece);
    struct report_table t = report_start(&m->report, "made", "Made by commands", columns, 3);
    for (size_t i = 0; i < all.count; i++) {
        const struct run_made *x = mos_vec_at(&all, i);
        cell_text(&t, x->piece);
        cell_text(&t, x->file);
        cell_text(&t, x->log);
    }
    report_end(&m->report, &t);
}

/* "radio (build makes it with make-radio, which --no-run forbids)" */
static void add_missing(struct mos_plan *plan, const struct mos_piece_plan *p,
                        struct mos_buf *out) {
    const struct mos_made_by *by = p->def->made_by ? p->def->made_by
                                   : p->outer      ? p->outer->def->made_by
                                                   : NULL;
    mos_buf_printf(out, "%s%s", out->length ? ", " : "", p->def->r.name);
    if (by && by->run.count && mos_has(by->run.items[0]))
        mos_buf_printf(out, " (%s makes it%s)", by->run.items[0]->text,
                       plan->ctx->no_run ? ", which --no-run forbids" : "");
    else if (p->outer)
        mos_buf_printf(out, " (it lies in %s)", p->outer->def->r.name);
}

/* Every region of the layout must have its place, or it would be left out without a word. */
static bool has_places(struct mos_plan *plan) {
    const char *without = NULL;
    for (size_t i = 0; i < plan->board->layout.count; i++) {
        const struct mos_layout *l = plan->board->layout.items[i];
        bool planned = false;
        for (size_t k = 0; k < plan->media.count; k++) {
            const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, k);
            planned |= m->def == l;
            for (size_t n = 0; n < m->regions.count; n++) {
                const struct mos_region_plan *r = mos_vec_pointer(&m->regions, n);
                without = r->placed ? without : r->name;
            }
        }
        without = planned || !l->regions.count ? without : l->r.name;
    }
    return !without ||
           mos_fail(plan->ctx->error, MOS_ERROR_SAFETY, 0,
                    "Nothing is built, and what was built before stays: %s has no place", without);
}

/* Every piece must be there before anything is written: what is unknown never becomes content. */
static bool has_all(struct mos_plan *plan) {
    struct mos_buf missing = {.arena = plan->ctx->arena};
    size_t count = 0;
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (!mos_plan_is_there(p) && ++count <= 8)
            add_missing(plan, p, &missing);
        else if (mos_plan_is_there(p) && !(p->unpacked && !p->index) && !mos_plan_hash(plan, p))
            return false;
    }
    return !count
               ? true
               : mos_fail(plan->ctx->error, MOS_ERROR_SAFETY, 0,
                          "Nothing is built, and what was built before stays: %s not there: %s%s",
                          count == 1 ? "this piece is" : "these pieces are",
                          mos_buf_string(&missing), count > 8 ? " and more" : "");
}

/* Is what stands there what this build would make?  Only where nothing of it has been touched since
 * it was made, and where everything is known without reading an archive. */
static bool is_as_built(struct run_task *t, struct mos_plan *plan, const char **wrong) {
    mosaicum *m = t->m;
    struct mos_vec files;
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, i);
        for (size_t k = 0; k < medium->regions.count; k++)
            if (mos_plan_unread(plan, mos_vec_pointer(&medium->regions, k)))
                return false;
    }
    if (!run_fill(plan, false, NULL))
        return false;
    const char *stamp = run_stamp(t),
               *folder = mos_path_join(t->arena, m->out, plan->board->selector);
    if (!stamp || !mos_build_is_untouched(plan, m->out, stamp, &files))
        return false;
    for (size_t i = 0; i < files.count; i++) {
        const struct mos_ledger_file *f = mos_vec_at(&files, i);
        if (m->options.sha256 && f->image && !f->whole)
            return false; /* it is asked for now */
    }
    if (m->options.verify && (!mos_build_verify(plan, m->out, &files, wrong) || *wrong))
        return false;
    run_judge(t);
    if (run_has_errors(m, &t->ctx, plan->board))
        return true; /* nothing to do all the same: the findings say why */
    struct report *report = &t->result->report;
    const char *title =
        mos_printf(report->arena, "Nothing has changed since it was built into %s%s", folder,
                   m->options.verify ? ", and every file there was read and is the same" : "");
    struct report_table table = report_start(report, "files", title, file_columns, FILE_COLUMNS);
    for (size_t i = 0; i < files.count; i++) {
        const struct mos_ledger_file *f = mos_vec_at(&files, i);
        file_row(&table, plan, f->name, f->size, f->image && !f->whole,
                 f->whole ? f->whole : f->hash);
    }
    report_end(report, &table);
    return true;
}

/* Volumes whose archives nobody has read yet are written while they are counted; everything else
 * is counted first, so that a build with findings writes nothing it could have avoided. */
static bool build_plan(struct run_task *t, struct mos_plan *plan) {
    const char *out = t->m->out;
    if (!has_all(plan) || !has_places(plan))
        return false;
    const char *wrong = NULL;
    if (is_as_built(t, plan, &wrong))
        return true;
    if (t->ctx.error->kind)
        return false;
    t->build = mos_build_begin(plan, out, t->m->options.sha256);
    if (!t->build)
        return false;
    struct mos_plan_target target = mos_build_target(t->build);
    bool ok = run_fill(plan, true, &target) && run_fill(plan, false, NULL);
    if (ok)
        run_judge(t);
    ok = ok && !run_has_errors(t->m, &t->ctx, plan->board);
    const char *stamp = ok ? run_stamp(t) : NULL;
    ok = ok && !t->ctx.error->kind && mos_build_finish(t->build, stamp);
    if (ok) {
        mos_build_remember(plan, out, stamp);
        note_made(t);
        report_files(t, wrong);
    } else {
        mos_build_abandon(t->build);
    }
    t->build = NULL;
    return ok;
}

static bool build_board(struct run_task *t) {
    mosaicum *m = t->m;
    t->ctx.may_make = true;
    struct mos_plan *plan = run_plan(t);
    if (!plan)
        return false;
    if (run_has_errors(m, &t->ctx, plan->board) ||
        run_has_errors(m, &m->ctx, NULL)) { /* find everything else that is wrong, too */
        if (run_fill(plan, false, NULL))
            run_judge(t);
        return false;
    }
    return build_plan(t, plan);
}

enum mosaicum_status mosaicum_build(mosaicum *m, const char *const *selectors, size_t count,
                                    const char *out) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    run_allow(m, out, MOS_REACH_READ | MOS_REACH_WRITE);
    struct mos_vec *all = run_open_to_write(m) ? run_select(m, selectors, count, false) : NULL;
    if (all) {
        m->ctx.out_folder = out;
        m->out = out ? out : mos_path_join(m->arena, m->options.workspace, "out");
        struct run_result *results = run_tasks(m, all, build_board);
        report_made(m, results, all->count);
        for (size_t i = 0; i < all->count; i++)
            report_add(&m->report, &results[i].report);
    }
    return run_status(m);
}
