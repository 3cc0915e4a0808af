/* From power-on to the log-in, as often as the board would start again. */
#include "rehearse/sim.h"

#include "base/bytes.h"
#include "base/text.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_STARTS = 12 };

static struct sim *begin(struct mos_ctx *ctx, const struct mos_rig *rig,
                         struct mos_rehearsal *out) {
    assert(rig->dialect && rig->dialect->simulated);
    struct sim *s = mos_alloc(ctx->arena, sizeof *s);
    *out =
        (struct mos_rehearsal){.events = mos_vec_make(ctx->arena, sizeof(struct mos_event)),
                               .ram = mos_vec_make(ctx->arena, sizeof(struct mos_ram_use)),
                               .files = mos_vec_make(ctx->arena, sizeof(struct mos_touched *)),
                               .failed = mos_vec_make(ctx->arena, sizeof(struct mos_failed_start)),
                               .passed = mos_vec_make(ctx->arena, sizeof(struct mos_passed_entry)),
                               .console = {.arena = ctx->arena}};
    *s = (struct sim){.ctx = ctx,
                      .dialect = rig->dialect,
                      .arena = ctx->arena,
                      .rig = rig,
                      .out = out,
                      .console = &out->console,
                      .disks = mos_vec_make(ctx->arena, sizeof(struct sim_disk *))};
    return s;
}

/* One start of the loader. */
static void start(struct sim *s) {
    s->stop = SIM_GOES_ON;
    s->steps = 0;
    s->depth = 0;
    s->entry = s->first_trouble = s->last_trouble = s->undecided = NULL;
    s->boot = (struct sim_boot){0};
    s->variable = s->argument = NULL;
    s->words = NULL;
    s->word_count = 0;
    s->cause = (struct mos_rehearsal_cause){0};
    s->out->arguments = NULL;
    s->out->entry = s->out->root = NULL;
    s->out->starts++;
    sim_ram_start(s);
    s->dialect->simulated->wake(s);
    if (s->rig->waits)
        sim_trouble(s,
                    "the loader was built not to start by itself: it waits for somebody to type");
    else
        s->dialect->simulated->start(s);
}

static void name_entry(struct sim *s) {
    struct mos_rehearsal *out = s->out;
    out->entry = s->entry;
    if (!out->entry && s->stop == SIM_STARTED && s->boot.kernel_from)
        out->entry = s->boot.kernel_from->what;
}

static void settle(struct sim *s) {
    struct mos_rehearsal *out = s->out;
    static const struct {
        enum sim_stop stop;
        enum mos_rehearsal_end end;
        const char *reason;
    } ends[] = {{SIM_RESET, MOS_END_RESET, "The loader starts the board again."},
                {SIM_HANGS, MOS_END_HANGS, "The loader goes no further."},
                {SIM_OFF, MOS_END_OFF, "The loader switches the board off."},
                {SIM_ENDLESS, MOS_END_HANGS, "The script goes round for ever."}};
    if (s->stop == SIM_STARTED) {
        sim_kernel(s);
        name_entry(s);
        return;
    }
    name_entry(s);
    out->end = MOS_END_PROMPT;
    out->cause = s->cause;
    out->reason = s->last_trouble
                      ? mos_printf(s->arena, "The loader gives up: %s", sim_complaint(s))
                      : "The loader ran everything and started nothing.";
    for (size_t i = 0; i < sizeof ends / sizeof *ends; i++)
        if (ends[i].stop == s->stop) {
            out->end = ends[i].end;
            out->reason = ends[i].reason;
            if (s->stop == SIM_RESET && s->last_trouble)
                out->reason =
                    mos_printf(s->arena, "The loader resets the board: %s", sim_complaint(s));
        }
}

/* Nobody can tell, where a fact that was never stated decides. */
static void decide(struct sim *s) {
    struct mos_rehearsal *out = s->out;
    if (!s->rig->ram.length && out->end == MOS_END_BOOTS)
        sim_undecided(s, "how much RAM there is: --ram-start and --ram tell it");
    if (!s->undecided ||
        (out->end != MOS_END_BOOTS && out->end != MOS_END_PROMPT &&
         !((out->end == MOS_END_HANGS || out->end == MOS_END_RESET) && !out->arguments)))
        return;
    out->end = MOS_END_UNKNOWN;
    out->reason = mos_printf(s->arena, "It is not known %s.", s->undecided);
}

/* It is started again: what became of this start is kept. */
static void note_failed(struct sim *s) {
    assert(s->out->starts);
    struct mos_rehearsal *out = s->out;
    const char *reason =
        out->end == MOS_END_BOOTS ? "Nobody confirmed that all is well." : out->reason;
    for (size_t i = 0; i < out->failed.count; i++) {
        struct mos_failed_start *f = mos_vec_at(&out->failed, i);
        if (strcmp(f->entry ? f->entry : "", out->entry ? out->entry : "") == 0 &&
            strcmp(f->reason, reason ? reason : "") == 0) {
            f->times++;
            return;
        }
    }
    *(struct mos_failed_start *)mos_vec_push(&out->failed) = (struct mos_failed_start){
        out->entry, reason ? reason : "", 1, out->end == MOS_END_BOOTS, out->cause};
}

/* What the loader started bites when a kernel, once handed over to, comes to nothing. */
static bool watchdog_bites(struct sim *s) {
    enum mos_rehearsal_end end = s->out->end;
    if (!s->rig->watchdog || !s->out->arguments ||
        (end != MOS_END_SILENT && end != MOS_END_NO_ROOT && end != MOS_END_SHELL &&
         end != MOS_END_HANGS))
        return false;
    s->part = MOS_PART_HARDWARE;
    sim_event(s, MOS_EVENT_RUN, 0, 0, NULL, "the watchdog resets the board after %lu s",
              s->rig->watchdog);
    return true;
}

/* Does the board start again by itself after this end?  A kernel that panics does with panic=N. */
static bool starts_again(struct sim *s) {
    const char *panic = s->out->arguments ? NULL : "";
    for (const char *p = s->out->arguments; p && (p = strstr(p, "panic=")); p += 6)
        if (p == s->out->arguments || p[-1] == ' ')
            panic = p + 6;
    switch (s->out->end) {
    case MOS_END_RESET:
        return true;
    case MOS_END_NO_ROOT:
        return panic && strtol(panic, NULL, 10) != 0;
    case MOS_END_BOOTS:
        return s->rig->never_confirms;
    default:
        return false;
    }
}

static const char *identity(struct sim *s) {
    const struct mos_rehearsal *o = s->out;
    return mos_printf(s->arena, "%s|%s|%s", o->entry ? o->entry : "",
                      o->arguments ? o->arguments : "", o->reason ? o->reason : "");
}

bool mos_rehearse(struct mos_ctx *ctx, const struct mos_rig *rig, struct mos_rehearsal *out) {
    struct sim *s = begin(ctx, rig, out);
    const char *before = NULL;
    for (unsigned n = 0; n < MOST_STARTS; n++) {
        out->stored = false;
        s->part = rig->direct ? MOS_PART_STAGE : MOS_PART_LOADER;
        start(s);
        settle(s);
        decide(s);
        if (!starts_again(s) && !watchdog_bites(s))
            break;
        const char *now = identity(s);
        /* the same again, and nothing was stored that could change it */
        bool same = before && strcmp(before, now) == 0 && !out->stored;
        if (same || n + 1 == MOST_STARTS) {
            if (out->end != MOS_END_BOOTS) {
                out->end = MOS_END_RESET;
                out->reason = mos_printf(s->arena, "It starts again and again: %s",
                                         s->stop == SIM_RESET && s->last_trouble ? sim_complaint(s)
                                         : out->reason                           ? out->reason
                                                       : "nobody confirms");
            }
            break;
        }
        before = now;
        note_failed(s);
        s->part = MOS_PART_HARDWARE;
        sim_event(s, MOS_EVENT_RUN, 0, 0, NULL, "the board starts again");
    }
    return ctx->error->kind == MOS_ERROR_NONE;
}

struct mos_rehearsal_shell {
    struct sim *sim;
    struct mos_rehearsal out;
};

struct mos_rehearsal_shell *mos_rehearsal_shell(struct mos_ctx *ctx, const struct mos_rig *rig) {
    struct mos_rehearsal_shell *shell = mos_alloc(ctx->arena, sizeof *shell);
    shell->sim = begin(ctx, rig, &shell->out);
    sim_ram_start(shell->sim);
    shell->sim->dialect->simulated->wake(shell->sim);
    return shell;
}

const char *mos_rehearsal_type(struct mos_rehearsal_shell *shell, const char *text) {
    assert(shell->sim->dialect->simulated->type);
    struct sim *s = shell->sim;
    size_t from = s->console->length;
    s->stop = SIM_GOES_ON;
    s->steps = 0;
    s->dialect->simulated->type(s, text);
    return mos_strdup(s->arena, mos_buf_string(s->console) + from);
}

bool mos_rehearsal_told(const struct mos_rehearsal_shell *shell, const char *text) {
    const struct mos_vec *events = &shell->out.events;
    for (size_t i = 0; i < events->count; i++) {
        const struct mos_event *e = mos_vec_at(events, i);
        if (e->what && strncmp(e->what, text, strlen(text)) == 0)
            return true;
    }
    return false;
}

/* ---- what a rig is made of ---- */

void mos_rig_add_block(struct mos_arena *arena, struct mos_vec *environments,
                       const struct mos_rig_medium *medium, uint64_t at, uint64_t size,
                       bool flag_byte) {
    for (size_t i = 0; i < environments->count; i++) {
        struct mos_rig_environment *e = mos_vec_at(environments, i);
        if (e->medium == medium && e->size == size && e->flag_byte == flag_byte &&
            e->copy_at == UINT64_MAX && !e->file) {
            e->copy_at = at;
            return;
        }
    }
    *(struct mos_rig_environment *)mos_vec_push(environments) = (struct mos_rig_environment){
        .medium = medium,
        .at = at,
        .copy_at = UINT64_MAX,
        .size = size,
        .flag_byte = flag_byte,
        .what = mos_printf(arena, "environment at %s", mos_size_text(arena, at))};
}

void mos_rig_add_file(struct mos_arena *arena, struct mos_vec *environments, const char *file,
                      const struct mos_rig_medium *medium, unsigned partition, uint64_t size) {
    *(struct mos_rig_environment *)mos_vec_push(environments) =
        (struct mos_rig_environment){.medium = medium,
                                     .copy_at = UINT64_MAX,
                                     .size = size,
                                     .file = file,
                                     .partition = partition,
                                     .what = mos_printf(arena, "environment in %s", file)};
}
