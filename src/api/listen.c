/* Listens to a board: from a serial line, or to what was stored of one. */
#include "api/listen.h"

#include "base/text.h"

#include <string.h>

/* ---- what is known of the board ---- */

/* What the verdict would need to know, and does not. */
static void unknown(struct listen_job *j, const char *what) {
    mos_vec_push_pointer(&j->m->not_proved, what);
}

/* Where the rehearsal cannot tell, or does not come so far: what the first entry says. */
static bool know_entry(struct listen_job *j) {
    const struct mos_entry_plan *e =
        j->plan->entries.count ? mos_vec_pointer(&j->plan->entries, 0) : NULL;
    j->told = j->boot.end == MOS_END_BOOTS;
    if (!j->told)
        unknown(j, mos_printf(j->m->arena, "how far it comes: its rehearsal ends so: %s",
                              j->boot.reason ? j->boot.reason : "nothing starts"));
    if (!j->told && e && !j->boot.arguments)
        j->boot.arguments = e->step.arguments;
    return true;
}

/* What was built; where nothing is, what a build would write. */
static bool rehearse(struct listen_job *j, struct run_rig *rig) {
    const struct mosaicum_listen *r = j->request;
    struct mosaicum_rehearsal q = {.what = r->selector, .out = r->out};
    const char *out = r->out ? r->out : mos_path_join(j->m->arena, j->m->options.workspace, "out");
    run_allow(j->m, out, MOS_REACH_READ);
    q.planned = !mos_exists(
        &j->m->ctx,
        mos_path_join(j->m->arena, mos_path_join(j->m->arena, out, r->selector), "ledger.json"));
    if (!rig_open(j->m, &q, rig))
        return false;
    j->plan = rig->plan;
    if (q.planned)
        unknown(j, "what is on the board: it is not built here, so landmarks are those of what a "
                   "build would write");
    for (size_t i = 0; i < rig->notes.count; i++)
        unknown(j, mos_vec_pointer(&rig->notes, i));
    j->title = rig->title;
    j->dialect = rig->rig.direct ? NULL : rig->plan->dialect;
    return mos_rehearse(&j->m->ctx, &rig->rig, &j->boot) && know_entry(j);
}

static bool know_board(struct listen_job *j) {
    struct run_rig rig;
    bool ok = true;
    if (j->request->selector) {
        ok = rehearse(j, &rig);
        rig_close(&rig);
    } else {
        j->dialect = mos_dialect_at(0);
    }
    return ok && listen_marks(j);
}

static bool listen_stored(struct listen_job *j, enum mos_watch_close *why) {
    listen_begin(j, 0);
    *why = MOS_WATCH_ENOUGH;
    return listen_log_read(j, j->request->stored);
}

static void work(struct listen_job *j) {
    const struct mosaicum_listen *r = j->request;
    enum mos_watch_close why;
    if (!know_board(j) || !(r->stored ? listen_stored(j, &why) : listen_live(j, &why)))
        return;
    if (r->running) { /* nothing was watched */
        run_publish_workspace(j->m);
        run_merge(j->m);
        if (r->junit)
            listen_junit(j, NULL, r->junit);
        return;
    }
    int64_t now = r->stored ? j->watch.heard : j->m->ctx.host->now_ns(j->m->ctx.host);
    const struct mos_watch_verdict *v = mos_watch_close(&j->watch, why, now);
    j->up = j->watch.reached;
    listen_report(j, v);
    if (r->junit)
        listen_junit(j, v, r->junit);
}

enum mosaicum_status mosaicum_listen(mosaicum *m, const struct mosaicum_listen *request) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    struct listen_job *j = mos_alloc(m->arena, sizeof *j);
    *j = (struct listen_job){.m = m, .request = request, .title = "The board"};
    work(j);
    mos_out_abandon(&j->log);
    return run_status(m);
}
