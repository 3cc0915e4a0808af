/* Working on many selections at once: each has an arena, a context and findings of its own, so
 * that what comes out does not depend on the number of cores. */
#include "api/run.h"

#include "build/build.h"
#include "plan/bytes.h"
#include "plan/shared.h"
#include "rules/rules.h"
#include "store/store.h"
#include "trial/trial.h"

#include <assert.h>
#include <errno.h>
#include <stdatomic.h>
#include <stdio.h>
#include <string.h>

enum { MOST_WORKERS = 64 };

struct mos_plan *run_plan_alone(struct run_task *t) {
    t->ctx.stamp = mos_stamp_new(t->arena);
    t->ctx.workspace = t->m->options.workspace;
    struct mos_board *board = mos_board_resolve(&t->ctx, t->m->workspace, t->selection);
    t->plan = mos_plan_make(&t->ctx, board);
    return t->plan;
}

struct mos_plan *run_plan(struct run_task *t) {
    struct mos_plan *plan = run_plan_alone(t);
    if (plan)
        mos_rules_run(plan, MOS_STAGE_PLAN);
    return plan;
}

const char *run_stamp(struct run_task *t) {
    struct mos_stamp *stamp = t->ctx.stamp;
    if (!stamp || !t->plan)
        return NULL;
    const struct mos_board *board = t->plan->board;
    for (size_t i = 0; i < t->plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&t->plan->pieces, i);
        if (!mos_plan_hash(t->plan, p))
            return NULL;
        if (p->hashed)
            mos_stamp_add_hash(stamp, mos_printf(t->arena, "piece/%s", p->def->r.name), p->sha256);
    }
    const char *text = show_resolved(t->arena, board);
    const char *around = mos_printf(t->arena, "%s %s %lld %s", MOS_VERSION, board->workspace_name,
                                    (long long)board->date, board->selector);
    mos_stamp_add(stamp, "the definition", text, strlen(text));
    mos_stamp_add(stamp, "around it", around, strlen(around));
    return mos_stamp_text(stamp);
}

/* Remembers what came of a check, for `list`. */
static void keep_verdict(struct run_task *t) {
    char text[64];
    if (!t->ctx.cache_folder)
        return;
    const char *stamp = run_stamp(t);
    if (!stamp)
        return;
    int n = snprintf(text, sizeof text, "%zu %zu",
                     run_count(&t->ctx, t->plan->board, MOS_SEVERITY_ERROR),
                     run_count(&t->ctx, t->plan->board, MOS_SEVERITY_WARNING));
    mos_store_put(&t->ctx, mos_printf(t->arena, "check-%s", stamp), text, (size_t)n);
}

bool run_fill(struct mos_plan *plan, bool only_unread, const struct mos_plan_target *target) {
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
    if (!only_unread)
        mos_plan_budgets(plan);
    return true;
}

/* A trial of the same board by the same code found nothing: what it could not tell is kept. */
static bool trial_is_known(struct run_task *t, const char *key) {
    char *text;
    size_t length;
    if (!key || !mos_store_get(&t->ctx, key, &text, &length) || !length || text[length - 1] != '\n')
        return false;
    for (char *line = text + strcspn(text, "\n") + 1; line < text + length;) {
        size_t n = strcspn(line, "\n");
        mos_vec_push_pointer(&t->ctx.not_proved, mos_strndup(t->arena, line, n));
        line += n + 1;
    }
    return true;
}

static void run_trial(struct run_task *t) {
    bool accepted = mos_findings_count(&t->ctx.findings, MOS_SEVERITY_ERROR) != 0;
    size_t before = t->ctx.not_proved.count;
    const char *stamp = t->ctx.cache_folder && !accepted ? run_stamp(t) : NULL;
    const char *key = stamp ? mos_printf(t->arena, "start-%s-%s", mos_revision, stamp) : NULL;
    if (trial_is_known(t, key))
        return;
    mos_trial(t->plan, accepted);
    if (!key || t->ctx.error->kind || run_count(&t->ctx, t->plan->board, MOS_SEVERITY_ERROR))
        return;
    struct mos_buf b = {.arena = t->arena};
    mos_buf_text(&b, "good\n");
    for (size_t i = before; i < t->ctx.not_proved.count; i++)
        mos_buf_printf(&b, "%s\n", (const char *)mos_vec_pointer(&t->ctx.not_proved, i));
    mos_store_put(&t->ctx, key, b.data, b.length);
}

void run_judge(struct run_task *t) {
    struct mos_plan *plan = t->plan;
    mos_rules_run(plan, MOS_STAGE_VOLUMES);
    if (!run_count(&t->ctx, plan->board, MOS_SEVERITY_ERROR))
        run_trial(t);
    else if (plan->entries.count)
        mos_vec_push_pointer(&t->ctx.not_proved,
                             mos_printf(t->arena, "how %s starts: not before its errors are fixed",
                                        plan->board->selector));
}

bool run_check(struct run_task *t) {
    struct mos_plan *plan = run_plan(t);
    if (!plan || !run_fill(plan, false, NULL))
        return false;
    run_judge(t);
    keep_verdict(t);
    return true;
}

static void start_task(struct run_task *t, mosaicum *m, const struct mos_selection *selection,
                       struct run_result *result) {
    *t = (struct run_task){
        .m = m, .selection = selection, .arena = t->arena, .results = t->results, .result = result};
    t->ctx = m->ctx;
    t->ctx.arena = t->arena;
    t->ctx.error = &t->error;
    t->ctx.findings = mos_findings_make(t->arena);
    t->ctx.not_proved = mos_vec_make(t->arena, sizeof(char *));
    result->selection = selection;
    result->name = selection ? selection->text : NULL;
    result->report =
        (struct report){t->results, mos_vec_make(t->results, sizeof(struct mosaicum_table))};
    result->made = mos_vec_make(t->results, sizeof(struct run_made));
    result->findings = mos_vec_make(t->results, sizeof(void *));
    result->not_proved = mos_vec_make(t->results, sizeof(void *));
    result->used_waivers = mos_vec_make(t->results, sizeof(void *));
    result->all_waivers = mos_vec_make(t->results, sizeof(void *));
}

void run_finish(struct run_task *t) {
    run_publish(t, t->plan ? t->plan->board : NULL);
    t->result->error = t->error;
}

struct run_task *run_one(mosaicum *m, const struct mos_selection *selection) {
    struct run_task *t = mos_alloc(m->arena, sizeof *t);
    t->arena = t->results = m->arena;
    start_task(t, m, selection, mos_alloc(m->arena, sizeof(struct run_result)));
    return t;
}

/* ---- on all cores ---- */

struct crew {
    mosaicum *m;
    const struct mos_vec *selections; /* NULL: files */
    const char *const *files;
    size_t count;
    struct run_result *results;
    bool (*work)(struct run_task *task);
    void *job;
    struct hand *hands;
    size_t hand_count;
};

struct hand {
    struct crew *crew;
    jmp_buf out_of_memory;
    struct mos_arena *results;
    struct mos_shared shared;
    struct run_task task;
    void *kept;
    atomic_size_t next; /* of its own part, up to `end`: neighbours often share what they read */
    size_t end;
};

static void give_up(struct hand *h, struct run_result *result) {
    struct run_task *t = &h->task;
    if (t->ctx.busy)
        t->ctx.host->worker_finish(t->ctx.busy);
    if (t->ctx.held)
        t->ctx.host->close(t->ctx.host, t->ctx.held - 1);
    mos_build_abandon(t->build);
    t->build = NULL;
    *result = (struct run_result){.selection = t->selection, .name = result->name};
    mos_fail(&result->error, MOS_ERROR_SYSTEM, ENOMEM, "The work was stopped");
}

static void do_one(struct hand *h, size_t index) {
    assert(index < h->crew->count);
    struct crew *c = h->crew;
    struct run_result *result = &c->results[index];
    struct mos_arena *volatile arena = NULL;
    if (setjmp(h->out_of_memory)) {
        give_up(h, result);
    } else {
        h->task.arena = arena = mos_arena_new(&h->out_of_memory);
        h->task.results = h->results;
        h->task.m = c->m;
        if (!arena) {
            mos_fail(&result->error, MOS_ERROR_SYSTEM, ENOMEM, "The work was stopped");
            return;
        }
        mos_arena_fail_after(arena, c->m->fail_after);
        start_task(&h->task, c->m, c->files ? NULL : mos_vec_at(c->selections, index), result);
        if (c->files)
            result->name = c->files[index];
        h->task.index = index;
        h->task.job = c->job;
        h->task.kept = &h->kept;
        h->task.ctx.shared = &h->shared;
        c->work(&h->task);
        run_finish(&h->task);
    }
    mos_arena_free(arena);
}

/* Its own part, then what the others have not come to. */
static void work(void *self, void *job) {
    struct hand *h = self;
    struct crew *c = h->crew;
    (void)job;
    for (size_t k = 0; k < c->hand_count; k++) {
        struct hand *of = &c->hands[((size_t)(h - c->hands) + k) % c->hand_count];
        for (size_t i; (i = atomic_fetch_add(&of->next, 1)) < of->end;)
            do_one(h, i);
    }
}

static struct run_result *run_crew(mosaicum *m, struct crew *c) {
    const struct mos_host *host = m->ctx.host;
    struct mos_worker *workers[MOST_WORKERS] = {0};
    size_t count = host->cores(host);
    count = count > MOST_WORKERS ? MOST_WORKERS : count;
    count = count > c->count ? c->count : count;
    c->m = m;
    c->results = mos_alloc_array(m->arena, c->count, sizeof *c->results);
    struct hand *hands = mos_alloc_array(m->arena, count + 1, sizeof *hands);
    m->kept = mos_alloc_array(m->arena, count + 1, sizeof *m->kept);
    c->hands = hands;
    c->hand_count = count;
    for (size_t i = 0; i < count; i++) {
        hands[i].crew = c;
        hands[i].next = c->count * i / count;
        hands[i].end = c->count * (i + 1) / count;
        hands[i].results = m->kept[i] = mos_arena_new(&hands[i].out_of_memory);
        if (!hands[i].results) {
            mos_fail(&m->error, MOS_ERROR_SYSTEM, ENOMEM, "The work was stopped");
            return c->results;
        }
        hands[i].shared = mos_shared_make(hands[i].results);
        hands[i].shared.several = c->count > 1;
        m->kept_count++;
    }
    if (c->count > 1) /* one line of progress is for one thing */
        m->ctx.progress = NULL;
    for (size_t i = 1; i < count; i++) {
        workers[i] = host->worker_start(host, work, &hands[i]);
        if (workers[i])
            host->worker_submit(workers[i], c);
    }
    if (count)
        work(&hands[0], c);
    for (size_t i = 1; i < count; i++)
        if (workers[i])
            host->worker_finish(workers[i]);
    run_collect(m, c->results, c->count, m->complete);
    return c->results;
}

struct run_result *run_tasks(mosaicum *m, const struct mos_vec *selections,
                             bool (*job)(struct run_task *task)) {
    struct crew *c = mos_alloc(m->arena, sizeof *c);
    c->selections = selections;
    c->count = selections->count;
    c->work = job;
    m->board_count += selections->count;
    return run_crew(m, c);
}

void run_files(mosaicum *m, const char *const *files, size_t count,
               bool (*job)(struct run_task *task), void *self) {
    struct crew *c = mos_alloc(m->arena, sizeof *c);
    c->files = files;
    c->count = count;
    c->work = job;
    c->job = self;
    const struct run_result *results = run_crew(m, c);
    for (size_t i = 0; i < count; i++)
        report_add(&m->report, &results[i].report);
}
