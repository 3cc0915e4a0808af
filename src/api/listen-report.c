/* What became of listening: the verdict, the landmarks, earlier starts; and the same for machines.
 */
#include "api/acceptance.h"
#include "api/listen.h"

#include "base/text.h"

#include <stdio.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

const char *listen_time(struct listen_job *j, int64_t at) {
    int64_t ns = at - j->began;
    return mos_printf(j->m->arena, "%.3f s", (double)(ns < 0 ? 0 : ns) / (double)SECOND);
}

/* The landmark that was waited for; NULL: none. */
static const struct mos_landmark *awaited(const struct listen_job *j) {
    for (size_t i = j->watch.next; i < j->landmarks.count; i++) {
        const struct mos_landmark *l = mos_vec_at(&j->landmarks, i);
        if (!l->may)
            return l;
    }
    return NULL;
}

static const struct mos_landmark *last_reached(const struct listen_job *j) {
    return j->watch.next ? mos_vec_at(&j->landmarks, j->watch.next - 1) : NULL;
}

/* ---- the verdict ---- */

static const char *verdict_text(struct listen_job *j, const struct mos_watch_verdict *v) {
    const char *often =
        v->starts > 1 ? mos_printf(j->m->arena, " after %zu starts", v->starts) : "";
    if (v->end == MOS_WATCH_WELL) {
        const struct mos_landmark *l = last_reached(j);
        const char *when = j->timed ? mos_printf(j->m->arena, " in %s", listen_time(j, j->up)) : "";
        return mos_printf(j->m->arena, "%s is up%s%s: %s.%s", j->title, when, often,
                          l ? l->about : "nothing was waited for",
                          v->has_symptom ? " But it is not what was built." : "");
    }
    return mos_printf(j->m->arena, "%s stopped at its %s%s.", j->title,
                      mos_boot_stage_name(v->stage), often);
}

static void tell_verdict(struct listen_job *j, const struct mos_watch_verdict *v) {
    static const struct mosaicum_column columns[] = {
        {"what", "", false}, {"end", "", false},   {"stage", "", false},   {"symptom", "", false},
        {"last", "", false}, {"starts", "", true}, {"period_ms", "", true}};
    struct report_table t = report_start(&j->m->report, "verdict", verdict_text(j, v), columns, 7);
    t.table.title_only = true;
    t.table.alarm = v->has_symptom;
    cell_text(&t, j->title);
    cell_text(&t, v->end == MOS_WATCH_WELL ? "up" : "stopped");
    cell_text(&t, mos_boot_stage_name(v->stage));
    cell_text(&t, v->has_symptom ? mos_symptom_rows[v->symptom].id : NULL);
    cell_text(&t, *v->last ? mos_strdup(j->m->arena, v->last) : NULL);
    cell_number(&t, v->starts);
    cell_number(&t, (uint64_t)(v->period / 1000000));
    report_end(&j->m->report, &t);
}

static const char *state_of(struct listen_job *j, size_t i, bool *bad) {
    const struct mos_landmark *l = mos_vec_at(&j->landmarks, i);
    const struct mos_watch_mark *mark = &j->watch.marks[i];
    *bad = mark->differs;
    if (mark->differs)
        return mos_printf(j->m->arena, "another: %s", mark->value);
    if (mark->reached)
        return l->value ? "as built" : mark->value ? mark->value : "came";
    *bad = mark->passed && !l->may;
    if (mark->passed)
        return l->may ? "not said" : "never came";
    *bad = l == awaited(j);
    return *bad ? "did not come" : l->may && i < j->watch.next ? "not said" : "not reached";
}

static void tell_landmarks(struct listen_job *j) {
    static const struct mosaicum_column columns[] = {{"landmark", "landmark", false},
                                                     {"stage", "stage", false},
                                                     {"time", "time", true},
                                                     {"what", "", false},
                                                     {"state", "came as", false}};
    struct report_table t = report_start(&j->m->report, "landmarks", "Landmarks", columns, 5);
    for (size_t i = 0; i < j->landmarks.count; i++) {
        const struct mos_landmark *l = mos_vec_at(&j->landmarks, i);
        const struct mos_watch_mark *mark = &j->watch.marks[i];
        bool bad;
        const char *state = state_of(j, i, &bad);
        cell_text(&t, l->name);
        cell_text(&t, mos_boot_stage_name(l->stage));
        cell_text(&t, mark->reached && j->timed ? listen_time(j, mark->at) : NULL);
        cell_text(&t, l->about);
        if (bad)
            cell_alarm(&t, state);
        else
            cell_text(&t, state);
    }
    report_end(&j->m->report, &t);
}

static void tell_starts(struct listen_job *j) {
    static const struct mosaicum_column columns[] = {{"began", "began", true},
                                                     {"stage", "stage", false},
                                                     {"symptom", "symptom", false},
                                                     {"line", "what it said", false}};
    struct report_table t = report_start(&j->m->report, "starts", "Starts before it", columns, 4);
    for (size_t i = 0; i < j->watch.starts.count; i++) {
        const struct mos_watch_start *s = mos_vec_at(&j->watch.starts, i);
        cell_text(&t, j->timed ? listen_time(j, s->began) : NULL);
        cell_text(&t, mos_boot_stage_name(s->stage));
        cell_text(&t, s->why ? mos_symptom_rows[s->why->id].id : "nothing told");
        cell_text(&t, s->why ? s->why->line : NULL);
    }
    if (t.cells.count)
        report_end(&j->m->report, &t);
}

/* What was seen besides what the verdict hangs on. */
static void tell_signs(struct listen_job *j, const struct mos_watch_verdict *v) {
    static const struct mosaicum_column columns[] = {
        {"time", "time", true}, {"symptom", "symptom", false}, {"line", "what it said", false}};
    struct report_table t = report_start(&j->m->report, "also", "Also seen", columns, 3);
    for (size_t i = 0; i < j->watch.hits.count; i++) {
        const struct mos_watch_hit *h = mos_vec_pointer(&j->watch.hits, i);
        if (h == v->hit)
            continue;
        cell_text(&t, j->timed ? listen_time(j, h->at) : NULL);
        cell_text(&t, mos_symptom_rows[h->id].id);
        cell_text(&t, h->line);
    }
    if (t.cells.count)
        report_end(&j->m->report, &t);
}

/* ---- the finding ---- */

static const char *why_text(struct listen_job *j, const struct mos_watch_verdict *v) {
    const struct mos_landmark *last = last_reached(j), *next = awaited(j);
    struct mos_arena *arena = j->m->arena;
    if (v->end == MOS_WATCH_WELL) {
        for (size_t i = 0; i < j->landmarks.count; i++)
            if (j->watch.marks[i].differs)
                return mos_printf(arena, "Built was: %s.",
                                  ((struct mos_landmark *)mos_vec_at(&j->landmarks, i))->value);
    }
    const char *loop = v->starts > 1 && v->period
                           ? mos_printf(arena, " It started %zu times, the last two %.1f s apart.",
                                        v->starts, (double)v->period / (double)SECOND)
                           : "";
    return mos_printf(arena, "Last came: %s.%s%s%s%s", last ? last->about : "no landmark",
                      next ? " Missing: " : "", next ? next->about : "", next ? "." : "", loop);
}

static void tell_finding(struct listen_job *j, const struct mos_watch_verdict *v) {
    struct mos_findings *list = &j->m->ctx.findings;
    const struct mos_symptom_row *row = &mos_symptom_rows[v->symptom];
    list->selector = j->plan ? j->title : NULL;
    struct mos_finding *f = mos_find_symptom(
        list, row->id, "%s", mos_symptom_text(j->m->arena, v->symptom, v->values, v->value_count));
    const char *line = v->hit ? v->hit->line : v->last;
    const char *when = v->hit && j->timed
                           ? mos_printf(j->m->arena, " at %s", listen_time(j, v->hit->at))
                       : v->hit ? mos_printf(j->m->arena, ", line %zu", v->hit->number)
                                : ", its last words";
    if (*line)
        mos_finding_at(
            list, f,
            (struct mos_place){.thing = mos_printf(j->m->arena, "the board%s: %s", when, line)});
    listen_places(j, v, f);
    if (!f->places.count)
        mos_finding_at(list, f, (struct mos_place){.thing = "the serial line"});
    mos_finding_why(list, f, "%s", why_text(j, v));
    mos_finding_try(list, f, "%s", row->remedy);
}

void listen_report(struct listen_job *j, const struct mos_watch_verdict *v) {
    if (v->has_symptom)
        tell_finding(j, v);
    tell_verdict(j, v);
    tell_landmarks(j);
    tell_starts(j);
    tell_signs(j, v);
    run_publish_workspace(j->m);
    run_merge(j->m);
}

/* ---- JUnit XML ---- */

static void put_xml(struct mos_buf *b, const char *text) {
    for (; *text; text++) {
        unsigned char c = (unsigned char)*text;
        const char *as = c == '<'   ? "&lt;"
                         : c == '>' ? "&gt;"
                         : c == '&' ? "&amp;"
                         : c == '"' ? "&quot;"
                                    : NULL;
        if (as)
            mos_buf_text(b, as);
        else
            mos_buf_char(b, c < 0x20 ? ' ' : (char)c);
    }
}

/* A case a landmark that must come. */
static void put_case(struct listen_job *j, struct mos_buf *b, size_t i,
                     const struct mos_watch_verdict *v, bool *told) {
    const struct mos_landmark *l = mos_vec_at(&j->landmarks, i);
    const struct mos_watch_mark *mark = &j->watch.marks[i];
    bool bad = mark->differs || (!mark->reached && !l->may);
    bool skipped = !mark->reached && (l->may || *told);
    mos_buf_text(b, "  <testcase classname=\"");
    put_xml(b, mos_boot_stage_name(l->stage));
    mos_buf_text(b, "\" name=\"");
    put_xml(b, l->about);
    mos_buf_printf(b, "\" time=\"%.3f\">",
                   mark->reached && j->timed ? (double)(mark->at - j->began) / (double)SECOND : 0);
    if (skipped) {
        mos_buf_text(b, "<skipped/>");
    } else if (bad) {
        mos_buf_text(b, "<failure type=\"");
        put_xml(b, v->has_symptom ? mos_symptom_rows[v->symptom].id : "landmark");
        mos_buf_text(b, "\" message=\"");
        put_xml(b, v->has_symptom
                       ? mos_symptom_text(j->m->arena, v->symptom, v->values, v->value_count)
                       : l->about);
        mos_buf_text(b, "\">");
        put_xml(b, v->hit ? v->hit->line : v->last);
        mos_buf_text(b, "</failure>");
        *told = true;
    }
    mos_buf_text(b, "</testcase>\n");
}

/* … and a check of the acceptance. */
static void put_check(struct mos_buf *b, const struct acceptance_check *c) {
    mos_buf_text(b, "  <testcase classname=\"acceptance\" name=\"");
    put_xml(b, c->name);
    mos_buf_text(b, "\">");
    if (!c->good) {
        mos_buf_text(b, "<failure type=\"board.acceptance\" message=\"expected: ");
        put_xml(b, c->expected);
        mos_buf_text(b, "\">");
        put_xml(b, c->asked ? c->found : "it was not asked");
        mos_buf_text(b, "</failure>");
    }
    mos_buf_text(b, "</testcase>\n");
}

bool listen_junit(struct listen_job *j, const struct mos_watch_verdict *v, const char *path) {
    struct mos_buf cases = {.arena = j->m->arena}, b = {.arena = j->m->arena};
    bool told = false;
    size_t watched = v ? j->landmarks.count : 0;
    size_t skipped = 0, failures = 0;
    for (size_t i = 0; i < watched; i++) {
        size_t before = cases.length;
        put_case(j, &cases, i, v, &told);
        skipped += strstr(mos_buf_string(&cases) + before, "<skipped/>") != NULL;
        failures += strstr(mos_buf_string(&cases) + before, "<failure ") != NULL;
    }
    for (size_t i = 0; i < j->checks.count; i++) {
        const struct acceptance_check *c = mos_vec_at(&j->checks, i);
        put_check(&cases, c);
        failures += !c->good;
    }
    mos_buf_text(&b, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuite name=\"");
    put_xml(&b, j->title);
    mos_buf_printf(&b, "\" tests=\"%zu\" failures=\"%zu\" skipped=\"%zu\">\n",
                   watched + j->checks.count, failures, skipped);
    mos_buf_add(&b, cases.data, cases.length);
    mos_buf_text(&b, "</testsuite>\n");
    run_allow(j->m, path, MOS_REACH_READ | MOS_REACH_WRITE);
    return run_put(&j->m->ctx, path, b.data, b.length);
}
