/* Findings on their way out: waivers, what is not ours, and one list for many boards. */
#include "api/run.h"

#include "base/text.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* ---- the public form ---- */

static void publish_place(struct mos_arena *arena, const struct mos_place *from,
                          struct mosaicum_place *to) {
    *to = (struct mosaicum_place){.thing = from->thing ? mos_strdup(arena, from->thing) : NULL};
    if (!from->source)
        return;
    struct mos_position p = mos_source_position(from->source, from->offset);
    size_t length;
    const char *line = mos_source_line(from->source, from->offset, &length);
    to->file = mos_strdup(arena, from->source->shown_path);
    to->line = p.line;
    to->column = p.column;
    to->source_line = mos_strndup(arena, line, length);
    to->source_length = length;
    size_t left = length >= p.column - 1 ? length - (p.column - 1) : 0;
    to->length = from->length < left ? from->length : left;
    size_t count = 0;
    for (const struct mos_place *r = from->replaced; r; r = r->replaced)
        count += r->source != NULL;
    struct mosaicum_place *before = mos_alloc_array(arena, count, sizeof *before);
    for (const struct mos_place *r = from->replaced; r; r = r->replaced)
        if (r->source) {
            struct mos_place alone = *r;
            alone.replaced = NULL;
            publish_place(arena, &alone, &before[to->replaced_count++]);
        }
    to->replaced = before;
}

static const char *copied(struct mos_arena *arena, const char *text) {
    return text ? mos_strdup(arena, text) : NULL;
}

/* What was found to be a secret goes to no screen and no log: its place is enough. */
static void hide_marked(struct mos_arena *arena, struct mosaicum_place *places, size_t count) {
    for (size_t i = 0; i < count; i++) {
        if (!places[i].file)
            continue;
        char *line = mos_strndup(arena, places[i].source_line, places[i].source_length);
        memset(line + places[i].column - 1, '*', places[i].length);
        places[i].source_line = line;
        places[i].replaced_count = 0; /* what stood there before may be one, too */
    }
}

static struct run_finding *publish(struct mos_arena *arena, const struct mos_finding *f) {
    struct run_finding *out = mos_alloc(arena, sizeof *out);
    struct mosaicum_place *places = mos_alloc_array(arena, f->places.count, sizeof *places);
    for (size_t k = 0; k < f->places.count; k++)
        publish_place(arena, mos_vec_at(&f->places, k), &places[k]);
    if (f->rule < MOS_RULE_COUNT && mos_rule_rows[f->rule].kind == MOS_RULE_IS_SECRET)
        hide_marked(arena, places, f->places.count);
    const char **selectors = mos_alloc(arena, sizeof *selectors);
    selectors[0] = copied(arena, f->selector);
    out->rule = f->rule;
    out->order = f->order;
    out->unparsable = f->unparsable;
    out->f = (struct mosaicum_finding){
        .severity = (enum mosaicum_severity)f->severity,
        .rule = mos_strdup(arena, f->name),
        .selector = selectors[0],
        .selectors = selectors,
        .selector_count = selectors[0] != NULL,
        .message = mos_strdup(arena, f->message),
        .places = places,
        .place_count = f->places.count,
        .why = copied(arena, f->why),
        .remedy = copied(arena, f->remedy),
    };
    return out;
}

/* ---- waivers ---- */

static bool inside(struct mos_place p, const struct mos_place *what) {
    return p.source && p.source == what->source && what->offset >= p.offset &&
           what->offset < p.offset + (p.length ? p.length : 1);
}

/* The keys on the way to the node that a place lies in; their number, 0: it is not part of the
 * definition. */
static size_t keys_to(const struct mos_node *n, const struct mos_place *what, const char **keys,
                      size_t depth) {
    if (n->key && depth < MOS_YAML_DEPTH)
        keys[depth++] = n->key;
    if (n->key && inside(n->key_place, what))
        return depth;
    for (size_t i = 0; i < n->count; i++) {
        size_t found = keys_to(n->items[i], what, keys, depth);
        if (found)
            return found;
    }
    return inside(n->place, what) ? depth : 0;
}

static const char *path_to(struct mos_arena *arena, const struct mos_node *n,
                           const struct mos_place *what) {
    const char *keys[MOS_YAML_DEPTH];
    size_t count = keys_to(n, what, keys, 0);
    struct mos_buf b = {.arena = arena};
    for (size_t i = 0; i < count; i++)
        mos_buf_printf(&b, "%s%s", i ? "." : "", keys[i]);
    return mos_buf_string(&b);
}

/* How a waiver names where a finding is: it must outlive edits around it. */
static const char *waiver_place(struct mos_arena *arena, const struct mos_board *board,
                                const struct mos_finding *f) {
    if (!f->places.count)
        return NULL;
    const struct mos_place *p = mos_vec_at(&f->places, 0);
    if (!p->source)
        return p->thing;
    const char *path = board && board->r.node ? path_to(arena, board->r.node, p) : NULL;
    if (path && *path)
        return path;
    size_t length;
    const char *line = mos_source_line(p->source, p->offset, &length);
    size_t at = (size_t)(p->source->text + p->offset - line);
    size_t n = at + p->length <= length ? p->length : length - at;
    n = n < 60 ? n : 60;
    return mos_printf(arena, "%s: %.*s", p->source->shown_path, (int)n, line + at);
}

/* The place of a finding is worked out for waivers of its rule only: that takes its time. */
static const struct mos_waiver *waiver_for(struct mos_arena *arena, const struct mos_board *board,
                                           const struct mos_finding *f) {
    const char *place = NULL;
    for (size_t i = 0; board && i < board->waivers.count; i++) {
        const struct mos_waiver *w = board->waivers.items[i];
        if (!mos_has(w->rule) || !mos_has(w->place) ||
            strcmp(w->rule->text, mos_rule_rows[f->rule].id) != 0)
            continue;
        place = place ? place : waiver_place(arena, board, f);
        if (place && strcmp(w->place->text, place) == 0)
            return w;
    }
    return NULL;
}

static bool has_ended(const struct mos_ctx *ctx, const struct mos_waiver *w) {
    return mos_has(w->until) && ctx->host->today(ctx->host) >= (int64_t)w->until->number + 86400;
}

static bool is_rule(const char *id) {
    for (size_t i = 0; i < MOS_RULE_COUNT; i++)
        if (strcmp(mos_rule_rows[i].id, id) == 0)
            return true;
    return false;
}

static void unknown_rule(struct run_task *t, const struct mos_waiver *w) {
    const char *ids[MOS_RULE_COUNT];
    for (size_t i = 0; i < MOS_RULE_COUNT; i++)
        ids[i] = mos_rule_rows[i].id;
    const char *near = mos_near(w->rule->text, ids, MOS_RULE_COUNT);
    struct mos_finding *f =
        mos_find(&t->ctx.findings, MOS_RULE_BOARD_REFERENCE, "There is no rule %s.", w->rule->text);
    mos_finding_at(&t->ctx.findings, f, w->rule->place);
    mos_finding_try(&t->ctx.findings, f, "Write %s.",
                    near ? near : "Choose one of those that mosaicum explain lists.");
}

/* Findings that arise from the waivers themselves. */
static void check_waivers(struct run_task *t, const struct mos_board *board) {
    for (size_t i = 0; board && i < board->waivers.count; i++) {
        const struct mos_waiver *w = board->waivers.items[i];
        if (mos_has(w->rule) && !is_rule(w->rule->text)) {
            unknown_rule(t, w);
            continue;
        }
        if (!has_ended(&t->ctx, w))
            continue;
        struct mos_finding *f = mos_find(&t->ctx.findings, MOS_RULE_BOARD_WAIVER,
                                         "Waiver %s ended on %s.", w->r.name, w->until->text);
        mos_finding_at(&t->ctx.findings, f, w->until->place);
        mos_finding_try(&t->ctx.findings, f,
                        "Solve what it was for, or set a later until: on purpose.");
    }
}

/* Where a waiver stands, as a text that is the same for each board that has it. */
static const char *waiver_identity(struct mos_arena *arena, const struct mos_waiver *w) {
    struct mos_position p = mos_source_position(w->r.key_place.source, w->r.key_place.offset);
    return mos_printf(arena, "%s:%u:%u", w->r.key_place.source->shown_path, p.line, p.column);
}

static void note_waivers(struct run_task *t, const struct mos_board *board) {
    for (size_t i = 0; board && i < board->waivers.count; i++) {
        const struct mos_waiver *w = board->waivers.items[i];
        if (w->r.broken || has_ended(&t->ctx, w) || !mos_has(w->rule) || !is_rule(w->rule->text))
            continue;
        struct mos_finding *f = mos_find(&t->ctx.findings, MOS_RULE_BOARD_WAIVER,
                                         "Waiver %s is not needed any more.", w->r.name);
        mos_finding_at(&t->ctx.findings, f, w->r.key_place);
        mos_finding_why(&t->ctx.findings, f, "Nothing of %s is found at %s.", w->rule->text,
                        mos_text_or(w->place, "its place"));
        mos_finding_try(&t->ctx.findings, f, "Remove the waiver.");
        struct run_finding *out = publish(t->results, f);
        t->ctx.findings.items.count--;
        out->waiver = waiver_identity(t->results, w);
        mos_vec_push_pointer(&t->result->all_waivers, out);
    }
}

/* ---- what is not ours ---- */

static bool is_outside(const struct mos_finding *f) {
    for (size_t i = 0; i < f->places.count; i++) {
        const struct mos_place *p = mos_vec_at(&f->places, i);
        if (!p->source || !p->source->outside)
            return false;
    }
    return f->places.count != 0;
}

static void tell_outside(struct run_task *t, const struct mos_findings *list) {
    size_t count = 0;
    const struct mos_finding *first = NULL;
    for (size_t i = 0; i < list->items.count; i++) {
        const struct mos_finding *f = mos_vec_pointer(&list->items, i);
        if (is_outside(f) && !f->unparsable && f->severity != MOS_SEVERITY_NOTE) {
            first = count++ ? first : f;
        }
    }
    if (!count)
        return;
    struct mos_finding *f = mos_find(&t->ctx.findings, MOS_RULE_BOARD_OUTSIDE,
                                     count == 1 ? "%zu finding lies wholly in files from outside."
                                                : "%zu findings lie wholly in files from outside.",
                                     count);
    mos_finding_at(&t->ctx.findings, f, *(struct mos_place *)mos_vec_at(&first->places, 0));
    mos_finding_why(&t->ctx.findings, f, "The first: %s", first->message);
    mos_finding_try(&t->ctx.findings, f,
                    "Leave it, or state the value in a file of your own to change it.");
}

void run_publish(struct run_task *t, const struct mos_board *board) {
    const struct mos_findings *list = &t->ctx.findings;
    check_waivers(t, board);
    tell_outside(t, list);
    for (size_t i = 0; i < list->items.count; i++) {
        const struct mos_finding *f = mos_vec_pointer(&list->items, i);
        if (f->rule != MOS_RULE_BOARD_OUTSIDE && !f->unparsable && is_outside(f))
            continue;
        const struct mos_waiver *w = f->unparsable ? NULL : waiver_for(t->arena, board, f);
        if (w && !has_ended(&t->ctx, w) &&
            !(t->ctx.may_make && mos_rule_rows[f->rule].kind == MOS_RULE_IS_STOPS)) {
            mos_vec_push_pointer(&t->result->used_waivers, waiver_identity(t->results, w));
            continue;
        }
        struct run_finding *out = publish(t->results, f);
        out->waiver = t->m->accepts ? copied(t->results, waiver_place(t->arena, board, f)) : NULL;
        mos_vec_push_pointer(&t->result->findings, out);
    }
    note_waivers(t, board);
    for (size_t i = 0; i < t->ctx.not_proved.count; i++)
        mos_vec_push_pointer(&t->result->not_proved,
                             mos_strdup(t->results, mos_vec_pointer(&t->ctx.not_proved, i)));
}

void run_publish_workspace(mosaicum *m) {
    struct run_task t = {.m = m, .ctx = m->ctx, .arena = m->arena, .results = m->arena};
    tell_outside(&t, &m->ctx.findings);
    m->ctx.findings = t.ctx.findings;
    for (size_t i = 0; i < m->ctx.findings.items.count; i++) {
        const struct mos_finding *f = mos_vec_pointer(&m->ctx.findings.items, i);
        if (is_outside(f) && !f->unparsable && f->rule != MOS_RULE_BOARD_OUTSIDE)
            continue;
        mos_vec_push_pointer(&m->published, publish(m->arena, f));
    }
    m->ctx.findings.items.count = 0;
}

/* ---- one list ---- */

static int same_text(const char *a, const char *b) {
    return a && b ? strcmp(a, b) : (a != NULL) - (b != NULL);
}

static int compare_places(const struct mosaicum_finding *a, const struct mosaicum_finding *b) {
    if (!a->place_count || !b->place_count)
        return (int)(a->place_count == 0) - (int)(b->place_count == 0);
    const struct mosaicum_place *p = a->places, *q = b->places;
    if (!p->file && !q->file)
        return same_text(p->thing, q->thing);
    if (!p->file || !q->file)
        return (int)(p->file == NULL) - (int)(q->file == NULL);
    int files = strcmp(p->file, q->file);
    if (files)
        return files;
    if (p->line != q->line)
        return p->line < q->line ? -1 : 1;
    return (p->column > q->column) - (p->column < q->column);
}

/* Everything that a reader sees, but for whom it is about. */
static int compare_content(const struct run_finding *a, const struct run_finding *b) {
    int c = (int)b->unparsable - (int)a->unparsable; /* the others may only follow from it */
    c = c ? c : (int)a->f.severity - (int)b->f.severity;
    c = c ? c : compare_places(&a->f, &b->f);
    c = c ? c : (int)a->rule - (int)b->rule;
    c = c ? c : strcmp(a->f.message, b->f.message);
    c = c ? c : same_text(a->f.why, b->f.why);
    c = c ? c : same_text(a->f.remedy, b->f.remedy);
    if (!c && a->f.place_count != b->f.place_count)
        c = a->f.place_count < b->f.place_count ? -1 : 1;
    for (size_t i = 1; !c && i < a->f.place_count; i++) {
        struct mosaicum_finding x = {.places = &a->f.places[i], .place_count = 1},
                                y = {.places = &b->f.places[i], .place_count = 1};
        c = compare_places(&x, &y);
    }
    return c;
}

static int compare(const void *x, const void *y) {
    const struct run_finding *a = *(struct run_finding *const *)x;
    const struct run_finding *b = *(struct run_finding *const *)y;
    int c = compare_content(a, b);
    if (c)
        return c;
    if (a->task != b->task)
        return a->task < b->task ? -1 : 1;
    return (a->order > b->order) - (a->order < b->order);
}

static bool is_used(struct run_result *results, size_t count, const char *waiver) {
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < results[i].used_waivers.count; k++)
            if (strcmp(mos_vec_pointer(&results[i].used_waivers, k), waiver) == 0)
                return true;
    return false;
}

/* "curlew+bench", "curlew+bench and 3 more" */
static const char *selectors_text(struct mos_arena *arena, const struct mosaicum_finding *f) {
    if (f->selector_count < 2)
        return f->selector_count ? f->selectors[0] : NULL;
    if (f->selector_count == 2)
        return mos_printf(arena, "%s, %s", f->selectors[0], f->selectors[1]);
    return mos_printf(arena, "%s and %zu more", f->selectors[0], f->selector_count - 1);
}

/* A command to type is about the first of the selections: SELECTOR in a text is its name. */
static const char *for_one(struct mos_arena *arena, const char *text, const char *selector) {
    static const char word[] = "SELECTOR";
    const char *at = text && selector ? strstr(text, word) : NULL;
    return at ? mos_printf(arena, "%.*s%s%s", (int)(at - text), text, selector,
                           at + sizeof word - 1)
              : text;
}

static void merge_run(mosaicum *m, struct run_finding **items, size_t count) {
    struct mosaicum_finding *f = &m->findings[m->finding_count++];
    const char **selectors = mos_alloc_array(m->arena, count, sizeof *selectors);
    *f = items[0]->f;
    f->selectors = selectors;
    f->selector_count = 0;
    for (size_t i = 0; i < count; i++) {
        const char *s = items[i]->f.selector;
        bool again = !s;
        for (size_t k = 0; k < f->selector_count && !again; k++)
            again = strcmp(selectors[k], s) == 0;
        if (!again)
            selectors[f->selector_count++] = s;
    }
    f->why = for_one(m->arena, f->why, f->selector_count ? selectors[0] : NULL);
    f->remedy = for_one(m->arena, f->remedy, f->selector_count ? selectors[0] : NULL);
    f->selector = selectors_text(m->arena, f);
}

void run_merge(mosaicum *m) {
    struct run_finding **items = m->published.items;
    size_t count = m->published.count;
    if (count)
        qsort(items, count, sizeof *items, compare);
    m->findings = mos_alloc_array(m->arena, count, sizeof *m->findings);
    m->finding_count = 0;
    for (size_t i = 0; i < count;) {
        size_t n = 1;
        while (i + n < count && compare_content(items[i], items[i + n]) == 0)
            n++;
        merge_run(m, items + i, n);
        i += n;
    }
}

/* What stopped selections: one error, which names all of them where there are several.  The same
 * words of more than one are said once. */
static void collect_errors(mosaicum *m, const struct run_result *results, size_t count) {
    struct mos_buf text = {.arena = m->arena};
    for (size_t i = 0; i < count; i++) {
        const struct mos_error *e = &results[i].error;
        bool told = false;
        for (size_t k = 0; k < i && !told; k++)
            told = results[k].error.kind && strcmp(results[k].error.message, e->message) == 0;
        if (!e->kind || told)
            continue;
        if (!m->error.kind)
            m->error = *e;
        mos_buf_text(&text, text.length ? "; " : "");
        bool says_it = !results[i].selection && strstr(e->message, results[i].name);
        for (size_t k = i, named = 0; k < count && !says_it; k++)
            if (results[k].error.kind && strcmp(results[k].error.message, e->message) == 0)
                mos_buf_printf(&text, "%s%s", named++ ? ", " : "", results[k].name);
        mos_buf_printf(&text, "%s%s", says_it ? "" : ": ", e->message);
    }
    if (count > 1 && text.length)
        snprintf(m->error.message, sizeof m->error.message, "%.*s%s",
                 (int)sizeof m->error.message - 8, mos_buf_string(&text),
                 text.length > sizeof m->error.message - 8 ? " …" : "");
}

void run_collect(mosaicum *m, struct run_result *results, size_t count, bool complete) {
    for (size_t i = 0; i < count; i++) {
        struct run_result *r = &results[i];
        for (size_t k = 0; k < r->findings.count; k++) {
            struct run_finding *f = mos_vec_pointer(&r->findings, k);
            f->task = i + 1;
            mos_vec_push_pointer(&m->published, f);
        }
        for (size_t k = 0; complete && k < r->all_waivers.count; k++) {
            struct run_finding *f = mos_vec_pointer(&r->all_waivers, k);
            if (!is_used(results, count, f->waiver))
                mos_vec_push_pointer(&m->published, f);
        }
        for (size_t k = 0; k < r->not_proved.count; k++) {
            const char *text = mos_vec_pointer(&r->not_proved, k);
            bool again = false;
            for (size_t x = 0; x < m->not_proved.count && !again; x++)
                again = strcmp(mos_vec_pointer(&m->not_proved, x), text) == 0;
            if (!again)
                mos_vec_push_pointer(&m->not_proved, text);
        }
        for (size_t k = 0; k < r->used_waivers.count; k++) /* each once, however many need it */
            m->waived += !is_used(results, i, mos_vec_pointer(&r->used_waivers, k));
    }
    collect_errors(m, results, count);
}

/* What is accepted, or lies wholly in files from outside, does not count. */
static bool is_accepted(const struct mos_ctx *ctx, const struct mos_board *board,
                        const struct mos_finding *f) {
    if (f->unparsable)
        return false;
    if (is_outside(f))
        return true;
    const struct mos_waiver *w = waiver_for(ctx->arena, board, f);
    return w && !has_ended(ctx, w) && mos_rule_rows[f->rule].kind != MOS_RULE_IS_STOPS;
}

size_t run_count(const struct mos_ctx *ctx, const struct mos_board *board,
                 enum mos_severity severity) {
    size_t count = 0;
    for (size_t i = 0; i < ctx->findings.items.count; i++) {
        const struct mos_finding *f = mos_vec_pointer(&ctx->findings.items, i);
        count += f->severity == severity && !is_accepted(ctx, board, f);
    }
    return count;
}

bool run_has_errors(const mosaicum *m, const struct mos_ctx *ctx, const struct mos_board *board) {
    return run_count(ctx, board, MOS_SEVERITY_ERROR) ||
           (m->options.strict && run_count(ctx, board, MOS_SEVERITY_WARNING));
}
