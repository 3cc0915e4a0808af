/* Starts a board on its plan's own media, and says what does not reach a log-in. */
#include "trial/trial.h"

#include "base/text.h"

#include <string.h>

struct trial {
    struct mos_plan *plan;
    struct mos_arena *arena;
    struct mos_rig rig;
    bool accepted;       /* errors that the user lives with may be why */
    struct mos_vec told; /* of const char *: reasons that a finding has given */
};

/* One start: what is different from the plain one, in words; "" for that. */
struct attempt {
    const char *when;  /* "With board_rev=b " */
    const char *entry; /* which entry should start; NULL: any */
    struct mos_rig rig;
    struct mos_rehearsal r;
};

static const char *entry_name(const struct trial *t, size_t i) {
    return ((const struct mos_entry_plan *)mos_vec_pointer(&t->plan->entries, i))->def->r.name;
}

static const struct mos_entry_plan *entry_called(const struct trial *t, const char *name) {
    for (size_t i = 0; name && i < t->plan->entries.count; i++)
        if (strcmp(entry_name(t, i), name) == 0)
            return mos_vec_pointer(&t->plan->entries, i);
    return NULL;
}

/* ---- where it stands ---- */

/* The part of a place that is a text, where its source has it once there. */
static bool narrow(struct mos_place *place, const char *text) {
    size_t n = strlen(text);
    const struct mos_source *s = place->source;
    const char *found = NULL;
    for (size_t i = place->offset; s && n && i + n <= place->offset + place->length; i++)
        if (memcmp(s->text + i, text, n) == 0) {
            if (found)
                return false;
            found = s->text + i;
        }
    if (found)
        *place = mos_place_at(s, (size_t)(found - s->text), n);
    return found != NULL;
}

/* A command within the value of a variable: all of it, or its longest word that stands there. */
static void narrow_to_command(struct trial *t, struct mos_place *place, const char *command) {
    const char *best = NULL;
    if (!command || narrow(place, command))
        return;
    for (const char *p = command; *(p += strspn(p, " "));) {
        size_t n = strcspn(p, " ");
        const char *word = mos_strndup(t->arena, p, n);
        struct mos_place at = *place;
        if (narrow(&at, word) && (!best || n > strlen(best)))
            best = word;
        p += n;
    }
    if (best)
        narrow(place, best);
}

static struct mos_place place_of(struct trial *t, const struct mos_rehearsal_cause *cause,
                                 const struct mos_entry_plan *entry) {
    const struct mos_boot *boot = t->plan->board->boot;
    const struct mos_loader_variable *v =
        cause->variable ? mos_plan_loader_variable(t->plan, cause->variable) : NULL;
    if (cause->argument && entry) {
        size_t n = strcspn(cause->argument, "=");
        const struct mos_argument *a =
            mos_named_get(&entry->def->arguments, mos_strndup(t->arena, cause->argument, n));
        if (a)
            return a->r.key_place;
    }
    if (v && (v->place.source || v->place.thing)) {
        struct mos_place place = v->place;
        narrow_to_command(t, &place, cause->command);
        return place;
    }
    return entry ? entry->def->r.key_place : boot ? boot->r.key_place : t->plan->board->r.key_place;
}

/* ---- what is told ---- */

static bool is_told(struct trial *t, const char *reason) {
    for (size_t i = 0; i < t->told.count; i++)
        if (strcmp(mos_vec_pointer(&t->told, i), reason) == 0)
            return true;
    mos_vec_push_pointer(&t->told, reason);
    return false;
}

static void not_told(struct trial *t, const char *when, const char *reason) {
    struct mos_ctx *ctx = t->plan->ctx;
    const char *text = mos_printf(t->arena, "how %s starts%s%s: %s", t->plan->board->selector,
                                  *when ? ", " : "", when, reason);
    if (!is_told(t, reason))
        mos_vec_push_pointer(&ctx->not_proved, text);
}

/* Where else a file lies that a command loads from a place where it is not; NULL: nowhere. */
static const char *found_elsewhere(struct trial *t, const char *command) {
    const struct mos_dialect *d = t->plan->dialect;
    const char *words[8];
    size_t count = 0;
    for (const char *p = command; p && count < 8 && *(p += strspn(p, " "));) {
        size_t n = strcspn(p, " ");
        words[count++] = mos_strndup(t->arena, p, n);
        p += n;
    }
    const struct mos_loader_verb *v = count && d ? d->language.verbs : NULL;
    while (v && v->name && strcmp(v->name, words[0]) != 0)
        v++;
    if (!v || !v->name || !v->file || count <= v->file) /* those that read a file */
        return NULL;
    const char *file = words[v->file] + strspn(words[v->file], "/");
    for (size_t i = 0; i < t->rig.volume_count; i++) {
        const struct mos_rig_volume *x = &t->rig.volumes[i];
        struct mos_entry e;
        if (x->find(x->self, file, &e) && e.type == MOS_ENTRY_FILE)
            return mos_printf(t->arena, "%s lies in the volume%s%s of %s.", words[v->file],
                              *x->info.label ? " " : "", x->info.label, x->medium->name);
    }
    return NULL;
}

static bool is_waived(const struct mos_board *board, const struct mos_finding *f) {
    const char *id = mos_rule_rows[f->rule].id;
    for (size_t i = 0; i < board->waivers.count; i++) {
        const struct mos_waiver *w = board->waivers.items[i];
        if (strcmp(mos_text_or(w->rule, ""), id) == 0)
            return true;
    }
    return false;
}

/* The warning of a rule about the very text that fails: it knows the cause, so it is raised to what
 * came of it, instead of a second finding.  NULL: there is none. */
static struct mos_finding *warning_at(struct trial *t, struct mos_place at) {
    const struct mos_vec *all = &t->plan->ctx->findings.items;
    for (size_t i = 0; i < all->count && at.source; i++) {
        struct mos_finding *x = mos_vec_pointer(all, i);
        const struct mos_place *p = x->places.count ? mos_vec_at(&x->places, 0) : NULL;
        if (x->severity == MOS_SEVERITY_WARNING && p && p->source == at.source && p->length &&
            p->offset < at.offset + at.length && at.offset < p->offset + p->length &&
            !is_waived(t->plan->board, x))
            return x;
    }
    return NULL;
}

/* What was to be put where it must not lie; "" where nothing was. */
static const char *over_text(struct trial *t, const struct mos_rehearsal *r) {
    const struct mos_event *over = NULL;
    for (size_t i = 0; i < r->events.count; i++) {
        const struct mos_event *e = mos_vec_at(&r->events, i);
        over = e->kind == MOS_EVENT_OVER && strstr(e->what, "would lie") ? e : over;
    }
    return over ? mos_printf(t->arena, "  %s, at %s.", over->what,
                             mos_address_text(t->arena, over->at))
                : "";
}

static void tell(struct trial *t, enum mos_rule_id rule, const char *what, const char *reason,
                 const struct mos_rehearsal *r, const struct mos_rehearsal_cause *cause,
                 const char *entry, const char *result) {
    if (t->accepted) {
        not_told(t, "", mos_printf(t->arena, "%s; what was accepted may be why", reason));
        return;
    }
    if (is_told(t, reason))
        return;
    struct mos_findings *list = &t->plan->ctx->findings;
    const struct mos_loader_variable *v =
        cause->variable ? mos_plan_loader_variable(t->plan, cause->variable) : NULL;
    struct mos_place place = place_of(t, cause, entry_called(t, entry));
    struct mos_finding *f = warning_at(t, v ? v->place : place);
    bool stops = strchr(".!?:", reason[strlen(reason) - 1]) != NULL;
    const char *said = mos_printf(t->arena, "%s%s%s", what, reason, stops ? "" : ".");
    if (f) {
        f->severity = MOS_SEVERITY_ERROR;
        f->why = mos_printf(t->arena, "%s%s%s.  %s", f->why ? f->why : "", f->why ? "  " : "",
                            result, said);
        return;
    }
    const char *over = over_text(t, r),
               *elsewhere = *over ? NULL : found_elsewhere(t, cause->command);
    f = mos_find(list, rule, "%s", said);
    mos_finding_at(list, f, place);
    if (cause->command)
        mos_finding_why(list, f, "%s: %s runs \"%s\".%s", result,
                        cause->variable ? cause->variable : "its script or menu", cause->command,
                        over);
    else
        mos_finding_why(list, f, "%s.%s", result, over);
    mos_finding_try(
        list, f, "Run \"mosaicum rehearse SELECTOR --planned\" to see every step up to there.%s%s",
        elsewhere ? "  " : "", elsewhere ? elsewhere : "");
}

static const struct {
    enum mos_rehearsal_end end;
    enum mos_rule_id rule;
    const char *result;
} ends[] = {
    {MOS_END_PROMPT, MOS_RULE_START_LOADER, "The loader waits for somebody to type"},
    {MOS_END_OFF, MOS_RULE_START_LOADER, "The loader switches the board off"},
    {MOS_END_HANGS, MOS_RULE_START_LOADER, "The board stands still"},
    {MOS_END_SILENT, MOS_RULE_START_SILENT, "The kernel dies before it can say a word"},
    {MOS_END_NO_ROOT, MOS_RULE_START_SYSTEM, "The kernel runs, and stops there"},
    {MOS_END_SHELL, MOS_RULE_START_SYSTEM, "A bare shell is all that runs"},
    {MOS_END_RESET, MOS_RULE_START_ENDLESS, "The board starts again and again"},
};

/* The loader says of what it cannot do in its own words; those of the kernel are sentences. */
static void judge_end(struct trial *t, const struct attempt *a) {
    const struct mos_rehearsal *r = &a->r;
    if (r->end == MOS_END_UNKNOWN) {
        not_told(t, a->when, r->reason);
        return;
    }
    for (size_t i = 0; i < sizeof ends / sizeof *ends; i++)
        if (ends[i].end == r->end) {
            bool late = r->end == MOS_END_HANGS && r->arguments;
            const char *at = r->entry && entry_called(t, r->entry)
                                 ? mos_printf(t->arena, "Entry %s: ", r->entry)
                                 : "";
            tell(t,
                 a->entry ? MOS_RULE_START_ENTRY
                 : late   ? MOS_RULE_START_SYSTEM
                          : ends[i].rule,
                 mos_printf(t->arena, "%s%s", *a->when ? mos_printf(t->arena, "%s: ", a->when) : "",
                            at),
                 r->reason, r, &r->cause, r->entry,
                 a->entry ? "Where the entries before it fail, nothing starts" : ends[i].result);
        }
}

/* Entries that were tried before the one that started. */
static void judge_passed(struct trial *t, const struct attempt *a) {
    for (size_t i = 0; i < a->r.failed.count; i++) {
        const struct mos_failed_start *f = mos_vec_at(&a->r.failed, i);
        if (!f->boots && entry_called(t, f->entry))
            tell(t, MOS_RULE_START_ENTRY, mos_printf(t->arena, "Entry %s never starts: ", f->entry),
                 f->reason, &a->r, &f->cause, f->entry, "The board starts another entry");
    }
    for (size_t i = 0; i < a->r.passed.count; i++) {
        const struct mos_passed_entry *p = mos_vec_at(&a->r.passed, i);
        bool refused = false;
        for (const char *const *n = a->rig.refused; n && *n; n++)
            refused |= strcmp(*n, p->entry) == 0;
        if (!refused && entry_called(t, p->entry))
            tell(t, MOS_RULE_START_ENTRY, mos_printf(t->arena, "Entry %s never starts: ", p->entry),
                 p->reason, &a->r, &p->cause, p->entry, "The loader goes on to the next entry");
    }
}

/* Did it come as far as this board is meant to come? */
static bool is_there(const struct trial *t, const struct mos_rehearsal *r) {
    enum mos_until until = mos_until_of(t->plan->board->boot->until);
    return r->end == MOS_END_BOOTS || (r->end == MOS_END_SHELL && until > MOS_UNTIL_LOG_IN) ||
           (r->end == MOS_END_PROMPT && until == MOS_UNTIL_LOADER);
}

/* Runs one attempt; false: this computer failed. */
static bool run(struct trial *t, struct attempt *a) {
    return mos_rehearse(t->plan->ctx, &a->rig, &a->r);
}

static bool attempt(struct trial *t, struct attempt *a) {
    if (!run(t, a))
        return false;
    if (is_there(t, &a->r))
        judge_passed(t, a);
    else
        judge_end(t, a);
    return true;
}

/* ---- what is tried ---- */

/* The other entries, with those before refused. */
static void try_entries(struct trial *t) {
    const char **refused = mos_alloc_array(t->arena, t->plan->entries.count + 1, sizeof *refused);
    for (size_t i = 1; i < t->plan->entries.count; i++) {
        refused[i - 1] = entry_name(t, i - 1);
        struct attempt a = {.when = "", .entry = entry_name(t, i), .rig = t->rig};
        a.rig.refused = refused;
        if (!attempt(t, &a))
            return;
    }
}

/* Nobody says that all is well: does another entry come in the end? */
static void try_fallback(struct trial *t) {
    const struct mos_boot *boot = t->plan->board->boot;
    struct attempt a = {.when = "once nobody confirms a start", .rig = t->rig};
    a.rig.never_confirms = true;
    if (!run(t, &a))
        return;
    if (!is_there(t, &a.r)) {
        judge_end(t, &a);
    } else if (entry_called(t, a.r.entry) == entry_called(t, entry_name(t, 0))) {
        struct mos_findings *list = &t->plan->ctx->findings;
        if (t->accepted) {
            not_told(t, "", "no other entry comes when nobody confirms a start");
            return;
        }
        struct mos_finding *f =
            mos_find(list, MOS_RULE_START_ENTRY,
                     "Entry %s is started for ever, though nobody confirms it.", entry_name(t, 0));
        mos_finding_at(list, f, mos_has(boot->tries) ? boot->tries->place : boot->r.key_place);
        mos_finding_why(list, f, "The other entries are never reached.");
        mos_finding_try(list, f,
                        "Run \"mosaicum rehearse SELECTOR --faults\" after a build to see the "
                        "starts.");
    }
}

static bool try_value(struct trial *t, const char *variable, const char *value) {
    const char *set[] = {variable, value, NULL};
    struct attempt a = {.when = mos_printf(t->arena, "With %s=%s", variable, value), .rig = t->rig};
    a.rig.set = set;
    return attempt(t, &a);
}

/* What variables of the loader choose: trees, overlays. */
static void try_choices(struct trial *t) {
    const struct mos_boot_script *s = &t->plan->script;
    for (size_t i = 0; i < s->tree_count && s->tree_variable; i++)
        if (!try_value(t, s->tree_variable, s->tree_values[i]))
            return;
    for (size_t i = 0; i < s->overlay_count; i++)
        if (s->overlay_variables[i] && !try_value(t, s->overlay_variables[i], s->overlay_values[i]))
            return;
}

void mos_trial(struct mos_plan *plan, bool accepted) {
    const char *why;
    const struct mos_boot *boot = plan->board->boot;
    struct trial t = {.plan = plan,
                      .arena = plan->ctx->arena,
                      .accepted = accepted,
                      .told = mos_vec_make(plan->ctx->arena, sizeof(char *))};
    if (!boot || !plan->entries.count || plan->ctx->error->kind)
        return;
    if (!mos_trial_rig(plan, &t.rig, &why)) {
        not_told(&t, "", mos_printf(t.arena, "it is not known %s", why));
        return;
    }
    struct attempt a = {.when = "", .rig = t.rig};
    if (!attempt(&t, &a) || !is_there(&t, &a.r) || !entry_called(&t, a.r.entry))
        return; /* what starts is no entry of ours: there is nothing more to choose */
    try_entries(&t);
    if (mos_has(boot->tries) && plan->entries.count > 1) {
        if (a.r.end == MOS_END_BOOTS)
            try_fallback(&t);
        else
            not_told(&t, "once nobody confirms a start",
                     "a shell is all that runs, and nothing is known to start the board again");
    }
    try_choices(&t);
}
