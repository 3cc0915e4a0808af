#include "api/run.h"

#include "api/embedded.h"
#include "base/out.h"
#include "base/text.h"
#include "rules/rules.h"
#include "watch/symptoms.h"

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
    struct mos_guard *guard = mos_guard_new(m->arena, options->host);
    mos_guard_allow(guard, options->cache_folder, MOS_REACH_READ | MOS_REACH_WRITE);
    m->ctx = (struct mos_ctx){
        .host = mos_guard_host(guard),
        .guard = guard,
        .stream = options->stream,
        .stream_self = options->stream_self,
        .arena = m->arena,
        .error = &m->error,
        .findings = mos_findings_make(m->arena),
        .not_proved = mos_vec_make(m->arena, sizeof(char *)),
        .no_run = options->no_run,
        .cache_folder = options->cache_folder,
        .progress = options->progress,
        .progress_self = options->progress_self,
    };
    if (options->expand_to &&
        (mos_size_parse(options->expand_to, 0, &m->ctx.expand_to) != MOS_NUMBER_OK ||
         !m->ctx.expand_to))
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "--expand-to is a size as in \"100 GiB\", not %s",
                 options->expand_to);
    m->published = mos_vec_make(m->arena, sizeof(void *));
    m->not_proved = mos_vec_make(m->arena, sizeof(void *));
    m->report = (struct report){m->arena, mos_vec_make(m->arena, sizeof(struct mosaicum_table))};
    return m;
}

void mosaicum_free(mosaicum *m) {
    if (!m)
        return;
    for (size_t i = 0; i < m->kept_count; i++)
        mos_arena_free(m->kept[i]);
    mos_arena_free(m->arena);
    free(m);
}

void run_allow(mosaicum *m, const char *path, unsigned reach) {
    mos_guard_allow(m->ctx.guard, path, reach);
}

bool run_open_to_write(mosaicum *m) {
    run_allow(m, m->options.workspace, MOS_REACH_READ | MOS_REACH_WRITE);
    return run_open(m);
}

bool run_open(mosaicum *m) {
    run_allow(m, m->options.workspace, MOS_REACH_READ);
    if (!m->workspace && !m->error.kind)
        m->workspace = mos_workspace_load(&m->ctx, m->options.workspace);
    return m->workspace != NULL;
}

/* ---- how it ended ---- */

static bool has_unparsable(const mosaicum *m) {
    for (size_t i = 0; i < m->published.count; i++)
        if (((struct run_finding *)mos_vec_pointer(&m->published, i))->unparsable)
            return true;
    return false;
}

static bool has_errors(const mosaicum *m) {
    enum mosaicum_severity worst = m->options.strict ? MOSAICUM_WARNING : MOSAICUM_ERROR;
    for (size_t i = 0; i < m->finding_count; i++)
        if (m->findings[i].severity <= worst)
            return true;
    return false;
}

enum mosaicum_status run_status(mosaicum *m) {
    run_publish_workspace(m);
    run_merge(m);
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
    if (m->failed_devices)
        return MOSAICUM_SYSTEM;
    if (m->refused)
        return MOSAICUM_REFUSED;
    return has_errors(m) || m->damaged ? MOSAICUM_FINDINGS : MOSAICUM_DONE;
}

enum mosaicum_status run_no_memory(mosaicum *m) {
    if (m->ctx.busy)
        m->ctx.host->worker_finish(m->ctx.busy);
    m->ctx.busy = NULL;
    if (m->ctx.held)
        m->ctx.host->close(m->ctx.host, m->ctx.held - 1);
    m->ctx.held = 0;
    m->finding_count = 0;
    m->error.kind = MOS_ERROR_NONE;
    mos_fail(
        &m->error, MOS_ERROR_SYSTEM, ENOMEM,
        "The work was stopped: it takes more memory than there is, or more than 1 GiB for what "
        "one image holds");
    return MOSAICUM_SYSTEM;
}

/* ---- selections ---- */

static bool select_usual(mosaicum *m, struct mos_vec *into) {
    for (size_t i = 0; i < m->workspace->usual.count; i++) {
        const struct mos_value *v = m->workspace->usual.items[i];
        if (mos_has(v) && !mos_workspace_select(&m->ctx, m->workspace, v->text, &v->place, into))
            return false;
    }
    return true;
}

struct mos_vec *run_select(mosaicum *m, const char *const *selectors, size_t count, bool variants) {
    struct mos_vec *into = mos_alloc(m->arena, sizeof *into);
    *into = mos_vec_make(m->arena, sizeof(struct mos_selection));
    if (!m->workspace->board_names.count) {
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "There is no board in %s/boards",
                 m->options.workspace);
        return NULL;
    }
    for (size_t i = 0; i < count; i++)
        if (!mos_workspace_select(&m->ctx, m->workspace, selectors[i], NULL, into))
            return NULL;
    m->complete = count == 0;
    if (!count && m->workspace->usual.count && !select_usual(m, into))
        return NULL;
    if (!count && !m->workspace->usual.count &&
        !mos_workspace_select_all(&m->ctx, m->workspace, variants, into))
        return NULL;
    return m->error.kind ? NULL : into;
}

static enum mosaicum_status check(mosaicum *m, const char *const *selectors, size_t count) {
    struct mos_vec *all = run_open(m) ? run_select(m, selectors, count, true) : NULL;
    if (all)
        run_tasks(m, all, run_check);
    return run_status(m);
}

enum mosaicum_status mosaicum_check(mosaicum *m, const char *const *selectors, size_t count) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    return check(m, selectors, count);
}

enum mosaicum_status mosaicum_accept(mosaicum *m, const char *const *selectors, size_t count) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    run_open_to_write(m);
    m->accepts = true;
    enum mosaicum_status status = check(m, selectors, count);
    if (status > MOSAICUM_FINDINGS)
        return status;
    return run_accept(m) ? MOSAICUM_DONE : run_status(m);
}

/* ---- show, inspect, explain ---- */

const struct mos_selection *run_select_one(mosaicum *m, const char *selector, const char *use) {
    size_t count = selector != NULL;
    struct mos_vec *all = run_open(m) ? run_select(m, &selector, count, false) : NULL;
    if (!all || m->error.kind)
        return NULL;
    if (all->count != 1) {
        const struct mos_selection *first = all->count ? mos_vec_at(all, 0) : NULL;
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%zu boards are meant here; name one: %s %s",
                 all->count, use, first ? first->text : "BOARD");
        return NULL;
    }
    return mos_vec_at(all, 0);
}

enum mosaicum_status mosaicum_show(mosaicum *m, const char *selector, const char *part,
                                   bool trail) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    const struct mos_selection *s = run_select_one(m, selector, "show");
    struct run_task *t = s ? run_one(m, s) : NULL;
    if (t) {
        struct mos_plan *plan = run_plan(t);
        bool contents = strcmp(part, "layout") == 0 || strcmp(part, "budgets") == 0 ||
                        strcmp(part, "drivers") == 0;
        if (plan && contents)
            run_fill(plan, false, NULL);
        run_finish(t);
        run_collect(m, t->result, 1, false);
        if (plan && !m->error.kind)
            show_part(m, plan, part, trail);
    }
    return run_status(m);
}

enum mosaicum_status mosaicum_inspect(mosaicum *m, const char *image, bool files) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    run_allow(m, image, MOS_REACH_READ);
    inspect_image(m, image, files);
    return run_status(m);
}

const char *mosaicum_explain(const char *rule, const char **near) {
    const char *ids[MOS_RULE_COUNT + MOS_SYMPTOM_COUNT];
    size_t count = 0;
    *near = NULL;
    for (size_t i = 0; i < MOS_RULE_COUNT; i++)
        ids[count++] = mos_rule_rows[i].id;
    for (size_t i = 0; i < MOS_SYMPTOM_COUNT; i++)
        ids[count++] = mos_symptom_rows[i].id;
    for (size_t i = 0; i < count; i++)
        if (strcmp(rule, ids[i]) == 0)
            return mos_embedded_page(ids[i]);
    *near = mos_near(rule, ids, count);
    return NULL;
}

size_t mosaicum_symptoms(const struct mosaicum_symptom **symptoms) {
    static struct mosaicum_symptom rows[MOS_SYMPTOM_COUNT];
    for (size_t i = 0; i < MOS_SYMPTOM_COUNT; i++)
        rows[i] = (struct mosaicum_symptom){mos_symptom_rows[i].id,
                                            mos_boot_stage_name(mos_symptom_rows[i].stage),
                                            mos_symptom_rows[i].title};
    *symptoms = rows;
    return MOS_SYMPTOM_COUNT;
}

size_t mosaicum_rules(const struct mosaicum_rule **rules) {
    static const struct mosaicum_rule rows[] = {
#define ERROR "error"
#define WARNING "warning"
#define NOTE "note"
#define FIELD "warning"
#define MOS_RULE(symbol, id, severity, phase, kind, title, why) {id, title, severity},
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

size_t mosaicum_waived_count(const mosaicum *m) {
    return m->waived;
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
    return m->not_proved.count;
}

const char *mosaicum_not_proved_at(const mosaicum *m, size_t index) {
    return mos_vec_pointer(&m->not_proved, index);
}

size_t mosaicum_table_count(const mosaicum *m) {
    return m->report.tables.count;
}

const struct mosaicum_table *mosaicum_table_at(const mosaicum *m, size_t index) {
    return mos_vec_at(&m->report.tables, index);
}

bool mosaicum_table_rows(mosaicum *m, const struct mosaicum_table *t,
                         bool (*row)(void *self, const struct mosaicum_cell *cells), void *self) {
    if (setjmp(m->out_of_memory)) {
        run_no_memory(m);
        return false;
    }
    if (t->rows)
        return t->rows->make(m, t->rows, row, self);
    for (size_t i = 0; i < t->row_count; i++)
        if (!row(self, t->cells + i * t->column_count))
            return false;
    return true;
}

bool run_put(struct mos_ctx *ctx, const char *path, const void *bytes, size_t length) {
    struct mos_out o;
    if (!mos_out_open(&o, ctx, path, true))
        return false;
    o.derived = true;
    int e = length ? mos_out_write(&o, bytes, length, 0) : 0;
    if (!e)
        return mos_out_commit(&o, length, true);
    mos_out_abandon(&o);
    return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", path);
}

const struct run_verb *run_verb(mosaicum *m, const char *command, const struct run_verb *verbs,
                                size_t verb_count, const char *known, const char *asked,
                                size_t words, bool has_output) {
    const char **names = mos_alloc_array(m->arena, verb_count, sizeof *names);
    const struct run_verb *v = NULL;
    for (size_t i = 0; i < verb_count; i++) {
        names[i] = verbs[i].name;
        v = strcmp(verbs[i].name, asked) == 0 ? &verbs[i] : v;
    }
    const char *near = v ? NULL : mos_near(asked, names, verb_count);
    if (!v)
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s cannot %s%s%s%s; it can %s", command, asked,
                 near ? "; did you mean " : "", near ? near : "", near ? "?" : "", known);
    else if (words < v->least || words > v->most || (v->writes && !has_output))
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "It is used like this: mosaicum %s %s %s", command,
                 v->name, v->use);
    else
        return v;
    return NULL;
}
