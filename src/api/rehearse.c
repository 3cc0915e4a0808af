/* rehearse: the report about it. */
#include "api/rig.h"

#include "base/text.h"

#include <string.h>

const char *rehearsal_end_text(enum mos_rehearsal_end end) {
    static const char *const texts[] = {[MOS_END_BOOTS] = "boots",
                                        [MOS_END_SHELL] = "a bare shell",
                                        [MOS_END_NO_ROOT] = "kernel without a root",
                                        [MOS_END_PROMPT] = "loader prompt",
                                        [MOS_END_SILENT] = "silent",
                                        [MOS_END_RESET] = "starts again and again",
                                        [MOS_END_HANGS] = "hangs",
                                        [MOS_END_OFF] = "switched off",
                                        [MOS_END_UNKNOWN] = "cannot tell"};
    return texts[end];
}

static const char *kind_text(enum mos_event_kind kind) {
    static const char *const texts[] = {
        [MOS_EVENT_RUN] = "run",        [MOS_EVENT_READ] = "read",
        [MOS_EVENT_MOVE] = "move",      [MOS_EVENT_OVER] = "OVER",
        [MOS_EVENT_SAY] = "says",       [MOS_EVENT_TROUBLE] = "TROUBLE",
        [MOS_EVENT_STORE] = "store",    [MOS_EVENT_HAND] = "hand over",
        [MOS_EVENT_KERNEL] = "finds",   [MOS_EVENT_WRONG] = "STOPS",
        [MOS_EVENT_UNKNOWN] = "unknown"};
    return texts[kind];
}

static const char *part_text(enum mos_event_part part) {
    static const char *const texts[] = {[MOS_PART_HARDWARE] = "hardware",
                                        [MOS_PART_STAGE] = "stage",
                                        [MOS_PART_LOADER] = "loader",
                                        [MOS_PART_KERNEL] = "kernel",
                                        [MOS_PART_SYSTEM] = "system"};
    return texts[part];
}

/* The name of a variable or script, set in by how deep it runs. */
static const char *what_text(mosaicum *m, const struct mos_event *e) {
    unsigned depth = e->kind == MOS_EVENT_KERNEL || e->kind == MOS_EVENT_WRONG ? 0 : e->depth;
    return mos_printf(m->arena, "%*s%s", (int)(depth < 8 ? depth : 8), "", e->what);
}

static void time_line(mosaicum *m, const struct mos_rehearsal *r) {
    static const struct mosaicum_column columns[] = {
        {"step", "step", true},  {"part", "part", false}, {"kind", "", false},
        {"from", "from", false}, {"at", "to RAM", true},  {"size", "size", true},
        {"what", "what", false}};
    struct report_table t = report_start(&m->report, "timeline", "Time line", columns, 7);
    size_t step = 0;
    for (size_t i = 0; i < r->events.count; i++) {
        const struct mos_event *e = mos_vec_at(&r->events, i);
        if (e->kind == MOS_EVENT_UNKNOWN)
            continue;
        cell_number(&t, ++step);
        cell_text(&t, part_text(e->part));
        bool bad =
            e->kind == MOS_EVENT_TROUBLE || e->kind == MOS_EVENT_WRONG || e->kind == MOS_EVENT_OVER;
        (bad ? cell_alarm : cell_text)(&t, kind_text(e->kind));
        cell_text(&t, e->from);
        if (e->bytes && e->at)
            cell_address(&t, e->at);
        else
            cell_text(&t, NULL);
        if (e->bytes)
            cell_about(&t, e->bytes);
        else
            cell_text(&t, NULL);
        cell_text(&t, what_text(m, e));
    }
    report_end(&m->report, &t);
}

static void ram_at_hand_over(mosaicum *m, const struct run_rig *rig,
                             const struct mos_rehearsal *r) {
    static const struct mosaicum_column columns[] = {{"what", "RAM at hand-over", false},
                                                     {"map", "map", false, true},
                                                     {"start", "start", true},
                                                     {"end", "end", true},
                                                     {"size", "size", true}};
    const struct mos_rig *x = &rig->rig;
    uint64_t start = x->ram.start;
    uint64_t length = x->ram.length;
    if (!r->ram.count)
        return;
    struct report_table t = report_start(&m->report, "ram", NULL, columns, 5);
    for (size_t i = 0; i < r->ram.count + (x->loader_from != 0); i++) {
        struct mos_ram_use use = {.what = "the loader itself",
                                  .span = {x->loader_from, start + length - x->loader_from}};
        if (i < r->ram.count)
            use = *(const struct mos_ram_use *)mos_vec_at(&r->ram, i);
        cell_text(&t, use.what);
        if (length)
            cell_extent(&t, (uint32_t)((use.span.start - start) * 65535 / length),
                        (uint32_t)((use.span.start + use.span.length - start) * 65535 / length));
        else
            cell_text(&t, NULL);
        cell_address(&t, use.span.start);
        cell_address(&t, use.span.start + use.span.length);
        cell_about(&t, use.span.length);
    }
    report_end(&m->report, &t);
}

static void unknowns(mosaicum *m, const struct run_rig *rig, const struct mos_rehearsal *r) {
    static const struct mosaicum_column columns[] = {{"fact", "", false}};
    struct report_table t = report_start(&m->report, "not-proved", "Not proved", columns, 1);
    for (size_t i = 0; i < rig->notes.count; i++)
        cell_text(&t, mos_vec_pointer(&rig->notes, i));
    for (size_t i = 0; i < r->events.count; i++) {
        const struct mos_event *e = mos_vec_at(&r->events, i);
        if (e->kind == MOS_EVENT_UNKNOWN)
            cell_text(&t, e->what);
    }
    if (t.cells.count)
        report_end(&m->report, &t);
}

/* "entry main: …", where an entry was begun. */
static const char *at_entry(mosaicum *m, const char *entry, const char *reason) {
    return entry ? mos_printf(m->arena, "entry %s: %s", entry, reason) : reason;
}

static const char *verdict_text(mosaicum *m, const char *title, const struct mos_rehearsal *r) {
    struct mos_arena *arena = m->arena;
    const char *entry = r->entry ? mos_printf(arena, "entry %s", r->entry) : "its kernel",
               *root = r->root ? mos_printf(arena, " (root %s)", r->root) : "";
    const struct mos_failed_start *first = r->failed.count ? mos_vec_at(&r->failed, 0) : NULL;
    if (r->end == MOS_END_UNKNOWN)
        return mos_printf(arena, "Whether %s boots cannot be told: %s", title, r->reason);
    if (r->end != MOS_END_BOOTS)
        return mos_printf(arena, "%s does not boot: %s", title, at_entry(m, r->entry, r->reason));
    if (!first)
        return mos_printf(arena, "%s boots: %s%s.", title, entry, root);
    const char *times = first->times == 1 ? "" : mos_printf(arena, " (%u times)", first->times);
    return mos_printf(arena, "%s boots only %s%s, after %s%s", title, entry, root,
                      at_entry(m, first->entry, first->reason), times);
}

/* faults: what they come to, said first; NULL: none were tried. */
static void verdict(mosaicum *m, const struct run_rig *rig, const struct mos_rehearsal *r,
                    const struct run_faults *faults) {
    static const struct mosaicum_column columns[] = {{"what", "", false},   {"end", "", false},
                                                     {"entry", "", false},  {"root", "", false},
                                                     {"reason", "", false}, {"starts", "", true}};
    struct report_table t =
        report_start(&m->report, "verdict", verdict_text(m, rig->title, r), columns, 6);
    t.table.title_only = true;
    t.table.alarm = r->end != MOS_END_BOOTS || r->failed.count;
    if (faults) {
        t.table.alarm |= faults->dead != 0;
        t.table.title =
            mos_printf(m->arena, "%s With nothing broken: %s", faults->text, t.table.title);
    }
    cell_text(&t, rig->title);
    cell_text(&t, rehearsal_end_text(r->end));
    cell_text(&t, r->entry);
    cell_text(&t, r->root);
    cell_text(&t, r->reason);
    cell_number(&t, r->starts);
    report_end(&m->report, &t);
}

/* Starts that came to nothing before the one that the verdict is about. */
static void failed_starts(mosaicum *m, const struct mos_rehearsal *r) {
    static const struct mosaicum_column columns[] = {
        {"entry", "entry", false}, {"times", "times", true}, {"reason", "where it ended", false}};
    struct report_table t = report_start(&m->report, "failed", "Before that", columns, 3);
    for (size_t i = 0; i < r->failed.count; i++) {
        const struct mos_failed_start *f = mos_vec_at(&r->failed, i);
        cell_text(&t, f->entry);
        cell_number(&t, f->times);
        cell_alarm(&t, f->reason);
    }
    if (t.cells.count)
        report_end(&m->report, &t);
}

static void rehearse(mosaicum *m, const struct mosaicum_rehearsal *request,
                     const struct run_rig *rig) {
    struct mos_rehearsal r;
    if (!mos_rehearse(&m->ctx, &rig->rig, &r))
        return;
    m->damaged |= r.end != MOS_END_BOOTS || r.failed.count;
    if (request->faults) {
        struct run_faults faults = rehearse_faults(m, rig, &r);
        verdict(m, rig, &r, &faults);
        failed_starts(m, &r);
        report_end(&m->report, &faults.table);
        return;
    }
    verdict(m, rig, &r, NULL);
    failed_starts(m, &r);
    time_line(m, &r);
    ram_at_hand_over(m, rig, &r);
    unknowns(m, rig, &r);
    if (request->console)
        report_text(&m->report, "console", "What the loader prints", mos_buf_string(&r.console));
}

enum mosaicum_status mosaicum_rehearse(mosaicum *m, const struct mosaicum_rehearsal *request) {
    struct run_rig rig;
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    const char *const named[] = {request->what, request->loader, request->tree,
                                 request->keys, request->flash,  request->out};
    for (size_t i = 0; i < sizeof named / sizeof *named; i++)
        run_allow(m, named[i], MOS_REACH_READ);
    if (rig_open(m, request, &rig))
        rehearse(m, request, &rig);
    rig_close(&rig);
    return run_status(m);
}
