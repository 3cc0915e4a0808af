/* Listening to a line that is there: the port, what goes over it both ways, and how it comes back.
 */
#include "api/listen.h"

#include "base/bytes.h"
#include "base/text.h"

#include <errno.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

enum {
    READ_AT_ONCE = 16 << 10,
    RETRY_MS = 300,
    LONGEST = 3600,
    WAITS_SECONDS = 60, /* for a port that is named, and not there yet */
    GARBAGE_LEAST = 32
};
#define MS INT64_C(1000000)

static void note(struct listen_job *j, bool bad, const char *text) {
    if (j->request->note)
        j->request->note(j->request->self, text, bad);
}

static int64_t now_of(const struct listen_job *j) {
    return j->m->ctx.host->now_ns(j->m->ctx.host);
}

static const struct mos_wires *wires_of(const struct listen_job *j) {
    return j->m->ctx.host->wires;
}

/* ---- the port ---- */

static struct mos_line_settings settings_of(const struct listen_job *j, bool by_kernel) {
    struct mos_console_line line = mos_board_line(j->plan ? j->plan->board : NULL, by_kernel);
    struct mos_line_settings s = {.speed = line.baud,
                                  .data = line.data,
                                  .stop = line.stop,
                                  .parity = line.parity,
                                  .dtr = -1,
                                  .rts = -1};
    if (j->unit && mos_has(j->unit->dtr))
        s.dtr = j->unit->dtr->truth;
    if (j->unit && mos_has(j->unit->rts))
        s.rts = j->unit->rts->truth;
    return s;
}

static void close_line(struct listen_job *j) {
    if (j->open)
        wires_of(j)->close(wires_of(j), j->line);
    j->open = false;
}

static int open_line(struct listen_job *j) {
    const struct mos_wires *w = wires_of(j);
    int e = w->open_line(w, j->port, j->settings.speed, &j->line);
    j->open = !e;
    bool usual = j->settings.data == 8 && j->settings.parity == 'N' && j->settings.stop == 1;
    if (!e && w->set_line && (!usual || j->settings.dtr >= 0 || j->settings.rts >= 0))
        e = w->set_line(w, j->line, &j->settings);
    if (e)
        close_line(j);
    return e;
}

/* Somebody else who has it open takes characters away, or types into it. */
static void tell_others(struct listen_job *j) {
    const char *who = strncmp(j->port, "tcp:", 4) == 0 ? "" : bench_port_users(j->m, j->port);
    if (*who)
        note(j, true,
             mos_printf(j->m->arena, "%s is open elsewhere, too: %s; what they read is lost here",
                        j->port, who));
}

/* Of this bench, or the only port; its name in j->port. */
static bool find_port(struct listen_job *j) {
    if (!bench_unit(j->m, j->request->bench, j->request->unit,
                    j->request->selector ? j->title : NULL, &j->unit))
        return false;
    j->port = j->request->port ? j->request->port : j->unit ? bench_port(j->m, j->unit) : NULL;
    if (j->port || j->m->error.kind)
        return j->port != NULL;
    return listen_wait_for_port(j);
}

/* ---- what comes ---- */

static void show(struct listen_job *j, const uint8_t *bytes, size_t length) {
    char out[3 * READ_AT_ONCE + MOS_PASSAGE_MORE];
    if (!j->request->show)
        return;
    size_t n = mos_passage_take(&j->passage, bytes, length, out);
    if (n)
        j->request->show(j->request->self, out, n);
}

/* Where nothing can be read, other speeds are tried with the next that comes. */
static void look_for_speed(struct listen_job *j, const uint8_t *bytes, size_t length) {
    const struct mos_wires *w = wires_of(j);
    bool garbage = j->watch.lines.odd * 4 > j->watch.lines.bytes &&
                   j->watch.lines.bytes >= GARBAGE_LEAST && !j->watch.next;
    if (!j->searches && (!garbage || !w->set_line || strncmp(j->port, "tcp:", 4) == 0))
        return;
    if (!j->searches) {
        j->searches = true;
        mos_speed_begin(&j->speed, j->settings.speed);
        note(j, true,
             mos_printf(j->m->arena,
                        "what comes is no text at %u bits a second; other speeds are tried: give "
                        "power again",
                        j->settings.speed));
    }
    if (!mos_speed_take(&j->speed, bytes, length))
        return;
    if (j->speed.found) {
        note(j, false,
             mos_printf(j->m->arena, "%u bits a second give text: state hardware.console.baud: %u",
                        j->speed.current, j->speed.current));
        return;
    }
    j->settings.speed = j->speed.current;
    w->set_line(w, j->line, &j->settings);
}

static bool take(struct listen_job *j, const uint8_t *bytes, size_t length) {
    int64_t now = now_of(j);
    show(j, bytes, length);
    mos_keys_hear(&j->keys, bytes, length, now);
    mos_watch_take(&j->watch, bytes, length, now);
    look_for_speed(j, bytes, length);
    return listen_log_add(j, bytes, length, now);
}

/* ---- what goes ---- */

static int take_keys(struct listen_job *j) {
    const struct mos_wires *w = wires_of(j);
    uint8_t bytes[4096];
    size_t got = 0;
    int e = w->read(w, j->keyboard, bytes, sizeof bytes, &got);
    mos_keys_take(&j->keys, bytes, got, now_of(j));
    if (j->keys.dropped) {
        note(j, true, "more was pasted at once than is kept: the end of it is lost");
        j->keys.dropped = 0;
    }
    return e;
}

static int send_keys(struct listen_job *j) {
    const struct mos_wires *w = wires_of(j);
    uint8_t bytes[256];
    int e = 0;
    for (size_t n; !e && j->open && (n = mos_keys_next(&j->keys, now_of(j), bytes, sizeof bytes));)
        e = w->write(w, j->line, bytes, n);
    if (j->keys.breaks && j->open) {
        j->keys.breaks = false;
        int broken = w->send_break ? w->send_break(w, j->line) : ENOTTY;
        note(j, broken != 0, broken ? "this line has no break" : "a break was sent");
    }
    return e;
}

/* ---- the loop ---- */

/* Some kernels set the line up anew: from the hand-over on it is listened at their speed. */
static void change_speed(struct listen_job *j, bool by_kernel) {
    const struct mos_wires *w = wires_of(j);
    unsigned loader = settings_of(j, false).speed, speed = settings_of(j, by_kernel).speed;
    if (loader == settings_of(j, true).speed || j->settings.speed == speed || !w->set_line)
        return;
    j->settings.speed = speed;
    int e = w->set_line(w, j->line, &j->settings);
    note(j, e != 0,
         e ? mos_printf(j->m->arena, "the line cannot have %u bits a second", speed)
           : mos_printf(j->m->arena, "from here on at %u bits a second", speed));
}

static void tell_landmark(void *self, size_t i, const struct mos_watch_mark *mark) {
    struct listen_job *j = self;
    if (i == SIZE_MAX) {
        change_speed(j, false);
        note(j, true, "the board starts again");
        return;
    }
    const struct mos_landmark *l = mos_vec_at(&j->landmarks, i);
    change_speed(j, l->stage >= MOS_AT_HAND_OVER);
    note(j, mark->differs,
         mos_printf(j->m->arena, "%s  %s%s%s", listen_time(j, mark->at), l->about,
                    mark->value ? ": " : "", mark->value ? mark->value : ""));
}

/* The verdict as soon as there is one; whoever types at the board goes on. */
static bool tell_verdict(struct listen_job *j) {
    enum mos_watch_end end = mos_watch_look(&j->watch, now_of(j));
    if (end == MOS_WATCH_GOES_ON || !j->request->keys)
        return end != MOS_WATCH_GOES_ON;
    if (!j->judged) {
        struct mos_watch copy = j->watch; /* it goes on behind this */
        const struct mos_watch_verdict *v = mos_watch_close(&copy, MOS_WATCH_TIME, now_of(j));
        bool well = v->end == MOS_WATCH_WELL;
        note(j, v->has_symptom,
             well && !v->has_symptom
                 ? mos_printf(j->m->arena, "%s is up; F12 leaves, F9 sends a break", j->title)
                 : mos_printf(j->m->arena, "%s %s: %s (mosaicum explain %s)", j->title,
                              well ? "is up, and not what was built" : "stopped",
                              mos_symptom_text(j->m->arena, v->symptom, v->values, v->value_count),
                              mos_symptom_rows[v->symptom].id));
        j->judged = true;
    }
    return false;
}

/* The port vanished: it may come back. */
static bool wait_for_line(struct listen_job *j) {
    const struct mos_wires *w = wires_of(j);
    bool device = strncmp(j->port, "tcp:", 4) != 0;
    unsigned ready;
    close_line(j);
    if (!device && !j->request->keys)
        return false;
    note(j, true, mos_printf(j->m->arena, "%s is gone; it is waited for", j->port));
    for (;;) {
        int64_t now = now_of(j);
        if (!j->request->keys && mos_watch_look(&j->watch, now) != MOS_WATCH_GOES_ON)
            return false;
        int e = w->wait(w, j->has_keys ? &j->keyboard : NULL, j->has_keys, RETRY_MS * MS, &ready);
        if (e || (j->has_keys && ready && take_keys(j)) || j->keys.leaves)
            return false;
        if (!open_line(j)) {
            note(j, false, mos_printf(j->m->arena, "%s is back", j->port));
            return true;
        }
    }
}

static int64_t due(const struct listen_job *j, int64_t now) {
    int64_t at = j->judged ? now + LONGEST * SECOND : mos_watch_due(&j->watch, now);
    return mos_keys_due(&j->keys) < at ? mos_keys_due(&j->keys) : at;
}

/* One turn: 0, or why it ends (EINTR: somebody asked for it). */
static int turn(struct listen_job *j) {
    const struct mos_wires *w = wires_of(j);
    uint8_t bytes[READ_AT_ONCE];
    int wires[2] = {j->line, j->keyboard};
    size_t got = 0;
    unsigned ready = 0;
    int64_t now = now_of(j);
    int e = w->wait(w, wires, j->has_keys ? 2 : 1, due(j, now) - now, &ready);
    if (!e && ready & 1)
        e = w->read(w, j->line, bytes, sizeof bytes, &got);
    if (got && !take(j, bytes, got))
        return EIO;
    if (!e && j->has_keys && ready & 2 && take_keys(j)) /* nobody sits there any more */
        j->keys.leaves = true;
    return e ? e : send_keys(j);
}

static enum mos_watch_close listen(struct listen_job *j) {
    while (!tell_verdict(j)) {
        int e = turn(j);
        if (j->keys.leaves || e == EINTR || j->m->error.kind)
            return MOS_WATCH_ENOUGH;
        if (e && !wait_for_line(j))
            return j->keys.leaves ? MOS_WATCH_ENOUGH : MOS_WATCH_GONE;
    }
    return MOS_WATCH_TIME;
}

/* ---- before and behind it ---- */

static void greet(struct listen_job *j) {
    if (j->unit && mos_has(j->unit->wiring))
        note(j, false, mos_printf(j->m->arena, "%s: %s", j->unit->r.name, j->unit->wiring->text));
    tell_others(j);
    if (j->request->running)
        return;
    note(j, false,
         mos_printf(j->m->arena, "listening at %s, %u bits a second%s: power on now", j->port,
                    j->settings.speed, j->request->keys ? "; F12 leaves, F9 sends a break" : ""));
}

static void leave_terminal(struct listen_job *j) {
    char out[64];
    size_t n = mos_passage_end(&j->passage, out, sizeof out);
    if (n && j->request->show)
        j->request->show(j->request->self, out, n);
    if (j->passage.held)
        note(j, false,
             mos_printf(j->m->arena, "%llu control sequences of the board were held back",
                        (unsigned long long)j->passage.held));
    if (j->has_keys)
        wires_of(j)->close(wires_of(j), j->keyboard);
}

/* A port that is named and not there yet: somebody is about to plug its adapter in.  false with an
 * error. */
static bool wait_to_open(struct listen_job *j) {
    const struct mos_wires *w = wires_of(j);
    int64_t until = now_of(j) + WAITS_SECONDS * SECOND;
    unsigned denied = 0;
    int e = open_line(j);
    bool comes = strncmp(j->port, "/dev/", 5) == 0 && (e == ENOENT || e == ENXIO || e == ENODEV);
    if (comes)
        note(j, false, mos_printf(j->m->arena, "%s is not there: plug its adapter in", j->port));
    while (comes && e && e != EINTR && (j->request->keys || now_of(j) < until)) {
        unsigned ready;
        e = w->wait(w, NULL, 0, RETRY_MS * MS, &ready);
        e = e ? e : open_line(j);
        denied += e == EACCES; /* who gives rights to it may not have done so yet */
        if (denied * RETRY_MS > 3000)
            break;
    }
    if (e == EINTR)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "%s: interrupted", j->port);
    return !e || bench_cannot_open(j->m, j->port, j->settings.speed, e);
}

bool listen_live(struct listen_job *j, enum mos_watch_close *why) {
    const struct mosaicum_listen *r = j->request;
    const struct mos_wires *w = wires_of(j);
    j->timed = true;
    j->settings = settings_of(j, r->running);
    if (!w)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "This computer has no serial lines");
    if (!find_port(j))
        return false;
    j->settings = settings_of(j, r->running);
    if (!wait_to_open(j))
        return false;
    if (r->log && !listen_log_open(j, r->log)) {
        close_line(j);
        return false;
    }
    if (r->keys && w->open_keys && !w->open_keys(w, &j->keyboard))
        j->has_keys = true;
    j->passage.ascii = r->ascii;
    greet(j);
    listen_begin(j, now_of(j));
    if (r->running) {
        bool ok = listen_accept(j);
        *why = MOS_WATCH_ENOUGH;
        close_line(j);
        return listen_log_close(j) && ok;
    }
    j->watch.tells = tell_landmark;
    j->watch.self = j;
    *why = MOS_WATCH_ENOUGH;
    if (!r->cycle || bench_cycle(j->m, j->unit))
        *why = listen(j);
    if (r->acceptance && j->open && !j->m->error.kind) {
        if (mos_watch_look(&j->watch, now_of(j)) == MOS_WATCH_WELL)
            listen_accept(j);
        else
            mos_vec_push_pointer(&j->m->not_proved, "acceptance: the board is not up");
    }
    leave_terminal(j);
    close_line(j);
    return listen_log_close(j) && !j->m->error.kind;
}
