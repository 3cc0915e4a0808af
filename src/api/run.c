#include "api/run.h"

#include "api/embedded.h"
#include "base/text.h"
#include "build/build.h"
#include "rules/rules.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

const char *mosaicum_version(void) {
    return MOS_VERSION;
}

mosaicum *mosaicum_new(const struct mosaicum_options *options) {
    mosaicum *m = calloc(1, sizeof *m);
    if (!m)
        return NULL;
    m->options = *options;
    m->arena = mos_arena_new(&m->out_of_memory);
    if (!m->arena) {
        free(m);
        return NULL;
    }
    m->ctx = (struct mos_ctx){
        .host = options->host,
        .arena = m->arena,
        .error = &m->error,
        .findings = mos_findings_make(m->arena),
        .not_proved = mos_vec_make(m->arena, sizeof(char *)),
        .no_run = options->no_run,
        .cache_folder = options->cache_folder,
        .progress = options->progress,
        .progress_self = options->progress_self,
    };
    m->tables = mos_vec_make(m->arena, sizeof(struct mosaicum_table));
    return m;
}

void mosaicum_free(mosaicum *m) {
    if (!m)
        return;
    mos_arena_free(m->arena);
    free(m);
}

bool run_open(mosaicum *m) {
    if (!m->workspace && !m->error.kind)
        m->workspace = mos_workspace_load(&m->ctx, m->options.workspace);
    return m->workspace != NULL;
}

/* ---- findings for the outside ---- */

static void publish_place(const struct mos_place *from, struct mosaicum_place *to) {
    *to = (struct mosaicum_place){.thing = from->thing};
    if (!from->source)
        return;
    struct mos_position p = mos_source_position(from->source, from->offset);
    to->file = from->source->shown_path;
    to->line = p.line;
    to->column = p.column;
    to->source_line = mos_source_line(from->source, from->offset, &to->source_length);
    size_t left = to->source_length >= p.column - 1 ? to->source_length - (p.column - 1) : 0;
    to->length = from->length < left ? from->length : left;
}

static void publish(mosaicum *m) {
    mos_findings_sort(&m->ctx.findings);
    m->finding_count = m->ctx.findings.items.count;
    m->findings = mos_alloc_array(m->arena, m->finding_count, sizeof *m->findings);
    for (size_t i = 0; i < m->finding_count; i++) {
        const struct mos_finding *f = mos_vec_pointer(&m->ctx.findings.items, i);
        struct mosaicum_place *places = mos_alloc_array(m->arena, f->places.count, sizeof *places);
        for (size_t k = 0; k < f->places.count; k++)
            publish_place(mos_vec_at(&f->places, k), &places[k]);
        m->findings[i] = (struct mosaicum_finding){
            .severity = (enum mosaicum_severity)f->severity,
            .rule = mos_rule_rows[f->rule].id,
            .selector = f->selector,
            .message = f->message,
            .places = places,
            .place_count = f->places.count,
            .why = f->why,
            .remedy = f->remedy,
        };
    }
}

static bool has_unparsable(const mosaicum *m) {
    for (size_t i = 0; i < m->ctx.findings.items.count; i++)
        if (((struct mos_finding *)mos_vec_pointer(&m->ctx.findings.items, i))->unparsable)
            return true;
    return false;
}

/* Among the findings from the `from`-th on, in order of discovery. */
static bool has_errors(const mosaicum *m, size_t from) {
    enum mos_severity worst = m->options.strict ? MOS_SEVERITY_WARNING : MOS_SEVERITY_ERROR;
    for (size_t i = from; i < m->ctx.findings.items.count; i++)
        if (((struct mos_finding *)mos_vec_pointer(&m->ctx.findings.items, i))->severity <= worst)
            return true;
    return false;
}

enum mosaicum_status run_status(mosaicum *m) {
    publish(m);
    switch (m->error.kind) {
    case MOS_ERROR_USAGE:
        return MOSAICUM_USAGE;
    case MOS_ERROR_SYSTEM:
        return MOSAICUM_SYSTEM;
    case MOS_ERROR_SAFETY:
        return MOSAICUM_REFUSED;
    default:
        break;
    }
    if (has_unparsable(m))
        return MOSAICUM_USAGE;
    return has_errors(m, 0) || m->damaged ? MOSAICUM_FINDINGS : MOSAICUM_DONE;
}

static enum mosaicum_status no_memory(mosaicum *m) {
    if (m->ctx.busy)
        m->ctx.host->worker_finish(m->ctx.busy);
    m->ctx.busy = NULL;
    if (m->build)
        mos_build_abandon(m->build);
    m->build = NULL;
    m->finding_count = 0;
    m->error.kind = MOS_ERROR_NONE;
    mos_fail(&m->error, MOS_ERROR_SYSTEM, ENOMEM, "The work was stopped");
    return MOSAICUM_SYSTEM;
}

/* ---- boards ---- */

const char *const *run_boards(mosaicum *m, const char *const *names, size_t *count) {
    const struct mos_vec *all = &m->workspace->board_names;
    if (*count == 0) {
        *count = all->count;
        if (!all->count)
            mos_fail(&m->error, MOS_ERROR_USAGE, 0, "There is no board in %s/boards",
                     m->options.workspace);
        return all->items;
    }
    for (size_t i = 0; i < *count; i++) {
        bool found = false;
        for (size_t k = 0; k < all->count; k++)
            found |= strcmp(names[i], mos_vec_pointer(all, k)) == 0;
        if (found)
            continue;
        const char *near = mos_near(names[i], all->items, all->count);
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "There is no board %s%s%s%s", names[i],
                 near ? "; did you mean " : "", near ? near : "", near ? "?" : "");
        return NULL;
    }
    return names;
}

static struct mos_plan *make_plan(mosaicum *m, const char *name) {
    m->board_count++;
    struct mos_board *board = mos_board_load(&m->ctx, m->workspace, name);
    struct mos_plan *plan = board ? mos_plan_make(&m->ctx, board) : NULL;
    if (plan)
        mos_rules_run(plan, MOS_STAGE_PLAN);
    return plan;
}

static bool fill_volumes(struct mos_plan *plan, bool only_unread,
                         const struct mos_plan_target *target) {
    for (size_t i = 0; i < plan->media.count; i++) {
        struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, i);
        for (size_t k = 0; k < medium->regions.count; k++) {
            struct mos_region_plan *r = mos_vec_pointer(&medium->regions, k);
            if (r->counted || (only_unread && !mos_plan_unread(plan, r)))
                continue;
            if (!mos_plan_fill(plan, medium, r, target))
                return false;
        }
    }
    return true;
}

static bool check_board(mosaicum *m, const char *name) {
    struct mos_plan *plan = make_plan(m, name);
    if (!plan || !fill_volumes(plan, false, NULL))
        return false;
    mos_rules_run(plan, MOS_STAGE_VOLUMES);
    return true;
}

enum mosaicum_status mosaicum_check(mosaicum *m, const char *const *boards, size_t count) {
    if (setjmp(m->out_of_memory))
        return no_memory(m);
    if (run_open(m) && (boards = run_boards(m, boards, &count)))
        for (size_t i = 0; i < count && !m->error.kind; i++)
            check_board(m, boards[i]);
    return run_status(m);
}

/* ---- build ---- */

static void report_files(mosaicum *m, const struct mos_build *b) {
    static const struct mosaicum_column columns[] = {{"file", "file", false},
                                                     {"size", "size", true},
                                                     {"hash-of", "SHA-256 of", false},
                                                     {"hash", "", false}};
    const struct mos_vec *files = mos_build_files(b);
    struct report_table t = report_start(
        m, "files", mos_printf(m->arena, "Built into %s", mos_build_folder(b)), columns, 4);
    char hex[65];
    for (size_t i = 0; i < files->count; i++) {
        const struct mos_built_file *f = mos_vec_at(files, i);
        mos_sha256_hex(f->hash, hex);
        cell_text(&t, f->name);
        cell_size(&t, f->size);
        cell_text(&t, f->image ? "list of chunks" : "file"); /* not what a hash tool shows */
        cell_text(&t, mos_strdup(m->arena, hex));
    }
    report_end(m, &t);
}

/* Volumes whose archives nobody has read yet are written while they are counted; everything else
 * is counted first, so that a build with findings writes nothing it could have avoided. */
static bool build_board(mosaicum *m, const char *name, const char *out) {
    size_t before = m->ctx.findings.items.count;
    struct mos_plan *plan = make_plan(m, name);
    if (!plan)
        return false;
    if (has_errors(m, before)) { /* find everything else that is wrong, too */
        if (fill_volumes(plan, false, NULL))
            mos_rules_run(plan, MOS_STAGE_VOLUMES);
        return false;
    }
    m->build = mos_build_begin(plan, out);
    if (!m->build)
        return false;
    struct mos_plan_target target = mos_build_target(m->build);
    bool ok = fill_volumes(plan, true, &target) && fill_volumes(plan, false, NULL);
    if (ok)
        mos_rules_run(plan, MOS_STAGE_VOLUMES);
    ok = ok && !has_errors(m, before) && mos_build_finish(m->build);
    if (ok)
        report_files(m, m->build);
    else
        mos_build_abandon(m->build);
    m->build = NULL;
    return ok;
}

static void build_boards(mosaicum *m, const char *const *boards, size_t count, const char *out) {
    if (run_open(m) && (boards = run_boards(m, boards, &count))) {
        if (!out)
            out = mos_path_join(m->arena, m->options.workspace, "out");
        for (size_t i = 0; i < count && !m->error.kind; i++)
            build_board(m, boards[i], out);
    }
}

enum mosaicum_status mosaicum_build(mosaicum *m, const char *const *boards, size_t count,
                                    const char *out) {
    if (setjmp(m->out_of_memory))
        return no_memory(m);
    build_boards(m, boards, count, out);
    return run_status(m);
}

/* ---- show, inspect, explain ---- */

enum mosaicum_status mosaicum_show(mosaicum *m, const char *board, const char *part) {
    if (setjmp(m->out_of_memory))
        return no_memory(m);
    size_t count = board != NULL;
    const char *const *names = run_open(m) ? run_boards(m, &board, &count) : NULL;
    if (names && count > 1 && !m->error.kind)
        mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                 "This workspace has %zu boards; name one: show %s %s", count, names[0], part);
    if (names && !m->error.kind) {
        struct mos_plan *plan = make_plan(m, names[0]);
        if (plan && strcmp(part, "layout") == 0)
            fill_volumes(plan, false, NULL);
        if (plan && !m->error.kind)
            show_part(m, plan, part);
    }
    return run_status(m);
}

enum mosaicum_status mosaicum_inspect(mosaicum *m, const char *image) {
    if (setjmp(m->out_of_memory))
        return no_memory(m);
    inspect_image(m, image);
    return run_status(m);
}

const char *mosaicum_explain(const char *rule, const char **near) {
    const char *ids[MOS_RULE_COUNT];
    *near = NULL;
    for (size_t i = 0; i < MOS_RULE_COUNT; i++) {
        ids[i] = mos_rule_rows[i].id;
        if (strcmp(rule, ids[i]) == 0)
            return mos_embedded_page(ids[i]);
    }
    *near = mos_near(rule, ids, MOS_RULE_COUNT);
    return NULL;
}

size_t mosaicum_rules(const struct mosaicum_rule **rules) {
    static const struct mosaicum_rule rows[] = {
#define ERROR "error"
#define WARNING "warning"
#define NOTE "note"
#define MOS_RULE(symbol, id, severity, phase, title) {id, title, severity},
#include "base/rules.def"
#undef MOS_RULE
    };
    *rules = rows;
    return MOS_RULE_COUNT;
}

/* ---- results ---- */

const char *mosaicum_error(const mosaicum *m) {
    return m->error.kind ? m->error.message : NULL;
}

size_t mosaicum_board_count(const mosaicum *m) {
    return m->board_count;
}

size_t mosaicum_finding_count(const mosaicum *m) {
    return m->finding_count;
}

const struct mosaicum_finding *mosaicum_finding_at(const mosaicum *m, size_t index) {
    return &m->findings[index];
}

size_t mosaicum_count(const mosaicum *m, enum mosaicum_severity severity) {
    size_t n = 0;
    for (size_t i = 0; i < m->finding_count; i++)
        n += m->findings[i].severity == severity;
    return n;
}

size_t mosaicum_not_proved_count(const mosaicum *m) {
    return m->ctx.not_proved.count;
}

const char *mosaicum_not_proved_at(const mosaicum *m, size_t index) {
    return mos_vec_pointer(&m->ctx.not_proved, index);
}

size_t mosaicum_table_count(const mosaicum *m) {
    return m->tables.count;
}

const struct mosaicum_table *mosaicum_table_at(const mosaicum *m, size_t index) {
    return mos_vec_at(&m->tables, index);
}
