/* A board that is up is asked whether it is what was built. */
#include "api/acceptance.h"
#include "api/listen.h"

#include "base/bytes.h"
#include "base/text.h"
#include "ledger/ledger.h"
#include "ledger/written.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum {
    TYPING_MS = 10,
    LOG_IN_SECONDS = 60,
    SHORT_SECONDS = 10,
    MOST_SECRET = 64 << 10,
    READ = 4096
};

struct talk {
    struct listen_job *j;
    const struct mos_wires *w;
    struct mos_shell shell;
    int e; /* why the line is gone, or nobody wants to go on */
};

static int64_t now_of(const struct talk *t) {
    return t->j->m->ctx.host->now_ns(t->j->m->ctx.host);
}

static void note(struct talk *t, bool bad, const char *text) {
    if (t->j->request->note)
        t->j->request->note(t->j->request->self, text, bad);
}

/* Until the shell waits again, or it is no use to go on. */
static bool until_ready(struct talk *t) {
    struct mos_shell *s = &t->shell;
    uint8_t bytes[READ];
    while (!t->e && (s->state == MOS_SHELL_LOGS_IN || s->state == MOS_SHELL_RUNS)) {
        int64_t now = now_of(t);
        unsigned ready = 0;
        size_t got = 0, n = mos_shell_next(s, now, bytes, sizeof bytes);
        if (n)
            t->e = t->w->write(t->w, t->j->line, bytes, n);
        if (!t->e)
            t->e = t->w->wait(t->w, &t->j->line, 1, mos_shell_due(s, now) - now, &ready);
        if (!t->e && ready)
            t->e = t->w->read(t->w, t->j->line, bytes, sizeof bytes, &got);
        if (got) {
            mos_shell_hear(s, bytes, got, now_of(t));
            if (!listen_log_add(t->j, bytes, got, now_of(t)))
                t->e = EIO;
        }
    }
    return !t->e && s->state == MOS_SHELL_READY;
}

static bool ask(struct talk *t, const char *command, unsigned seconds) {
    mos_shell_run(&t->shell, command, seconds * SECOND, now_of(t));
    return until_ready(t);
}

/* ---- who logs in ---- */

/* The password's file: stated, or that of the user in what was built. */
static const struct mos_value *secret_of(const struct mos_board *b, const char *user) {
    if (b->acceptance && mos_has(b->acceptance->password_file))
        return b->acceptance->password_file;
    const struct mos_user *u = b->system ? mos_named_get(&b->system->users, user) : NULL;
    return u && mos_has(u->password_file) ? u->password_file : NULL;
}

/* false: there is to be one, and it cannot be read. */
static bool read_secret(struct listen_job *j, const struct mos_value *file, const char **out) {
    char *data;
    size_t length;
    *out = NULL;
    if (!file)
        return true;
    struct mos_error why = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&j->m->ctx, &why);
    const char *path = mos_workspace_path(&j->m->ctx, j->plan->board->root, file->text);
    if (!path || !mos_read_aside(&quiet, path, MOST_SECRET, &data, &length))
        return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                        "%s: the password for the acceptance cannot be read from %s",
                        place_text(j->m->arena, file->place), file->text);
    data[strcspn(data, "\r\n")] = 0;
    *out = data;
    return true;
}

/* ---- what came of it ---- */

static void object(struct talk *t, const struct acceptance_check *c) {
    struct mos_findings *list = &t->j->m->ctx.findings;
    list->selector = t->j->title;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOARD_ACCEPTANCE, "The board fails the check %s.", c->name);
    mos_finding_at(list, f, c->place);
    mos_finding_at(
        list, f,
        (struct mos_place){.thing = mos_printf(t->j->m->arena, "the board: %s", c->found)});
    mos_finding_at(
        list, f,
        (struct mos_place){.thing = mos_printf(t->j->m->arena, "asked by: %s", c->command)});
    mos_finding_why(list, f, "What is expected: %s.", c->expected);
    mos_finding_try(list, f,
                    "Look at the board; or change what the definition says, where the board "
                    "is right.");
}

static void tell(struct talk *t, const struct mos_vec *checks) {
    static const struct mosaicum_column columns[] = {{"check", "check", false},
                                                     {"result", "result", false},
                                                     {"expected", "expected", false},
                                                     {"found", "found", false}};
    struct listen_job *j = t->j;
    size_t good = 0, asked = 0;
    for (size_t i = 0; i < checks->count; i++) {
        const struct acceptance_check *c = mos_vec_at(checks, i);
        good += c->good;
        asked += c->asked;
    }
    struct report_table table = report_start(
        &j->m->report, "acceptance",
        mos_printf(j->m->arena, "%s: %zu of %zu checks passed%s", j->title, good, checks->count,
                   asked < checks->count
                       ? mos_printf(j->m->arena, ", %zu were not made", checks->count - asked)
                       : ""),
        columns, 4);
    for (size_t i = 0; i < checks->count; i++) {
        const struct acceptance_check *c = mos_vec_at(checks, i);
        cell_text(&table, c->name);
        if (c->good)
            cell_text(&table, "passes");
        else
            cell_alarm(&table, c->asked ? "fails" : "not asked");
        cell_text(&table, c->expected);
        bool same = c->good && c->kind == ACCEPTS_TEXT;
        cell_text(&table, c->found && !same ? c->found : "");
        if (c->asked && !c->good)
            object(t, c);
    }
    table.table.alarm = good < checks->count;
    report_end(&j->m->report, &table);
}

/* Of a unit that has a name: what it came to stays known. */
static bool record(struct talk *t, const struct mos_vec *checks) {
    struct listen_job *j = t->j;
    mosaicum *m = j->m;
    struct mos_host const *h = m->ctx.host;
    const char *unit = j->request->unit ? j->request->unit : j->unit ? j->unit->r.name : NULL;
    const char *out =
        j->request->out ? j->request->out : mos_path_join(m->arena, m->options.workspace, "out");
    struct mos_ledger_last last;
    size_t good = 0;
    if (!unit)
        return true;
    for (size_t i = 0; i < checks->count; i++)
        good += ((const struct acceptance_check *)mos_vec_at(checks, i))->good;
    const struct mos_written line = {
        .date = mos_written_today(&m->ctx),
        .board = j->title,
        .unit = unit,
        .stamp = mos_ledger_last(&m->ctx, mos_path_join(m->arena, out, j->title), &last)
                     ? last.stamp
                     : NULL,
        .path = j->port,
        .result = mos_printf(m->arena, "acceptance: %zu of %zu checks passed", good, checks->count),
        .proved = good == checks->count};
    const char *path = mos_path_join(m->arena, m->options.workspace, "written.jsonl");
    run_open_to_write(m);
    bool ok = mos_written_append(&m->ctx, path, &line);
    h->own_like(h, path, m->options.workspace);
    return ok;
}

/* What the kernel says in between would be in what commands say; *level: how much it said before.
 */
static bool silence_kernel(struct talk *t, char *level) {
    bool ok = ask(t, "cat /proc/sys/kernel/printk", SHORT_SECONDS);
    *level = ok && *t->shell.output >= '1' && *t->shell.output <= '8' ? *t->shell.output : '7';
    return ok && ask(t, "dmesg -n 1 2>/dev/null", SHORT_SECONDS);
}

/* However it ended: the next panic is to be seen.  Typed slowly, and nobody waits for an answer. */
static void give_back(struct talk *t, char level) {
    const bool hangs = t->shell.state != MOS_SHELL_READY;
    /* a shell that nobody had to log in to may be the first program: it must not end */
    const char *text = mos_printf(t->j->m->arena, "%sdmesg -n %c 2>/dev/null%s\r",
                                  hangs ? "\003\r" : "", level, t->shell.named ? "; exit" : "");
    unsigned ready;
    for (size_t n = strlen(text), at = 0; at < n; at += MOS_SHELL_AT_ONCE) {
        if (t->w->write(t->w, t->j->line, text + at, mos_min(n - at, (size_t)MOS_SHELL_AT_ONCE)))
            return;
        t->w->wait(t->w, NULL, 0, TYPING_MS * MS, &ready);
    }
}

static void go_through(struct talk *t, const struct mos_vec *checks) {
    char level;
    bool ok = silence_kernel(t, &level);
    for (size_t i = 0; ok && i < checks->count; i++) {
        struct acceptance_check *c = mos_vec_at(checks, i);
        ok = ask(t, c->command, c->seconds);
        if (ok)
            acceptance_judge(t->j->m->arena, c, &t->shell);
        if (ok && !c->good)
            note(t, true,
                 mos_printf(t->j->m->arena, "%s: %s, and expected is %s", c->name, c->found,
                            c->expected));
    }
    if (!t->e || t->e == EINTR)
        give_back(t, level);
}

bool listen_accept(struct listen_job *j) {
    struct talk t = {.j = j, .w = j->m->ctx.host->wires};
    const struct mos_acceptance *a = j->plan->board->acceptance;
    const char *user = a ? mos_text_or(a->user, "root") : "root", *secret;
    unsigned within = a && mos_has(a->within) ? (unsigned)a->within->number : LOG_IN_SECONDS;
    j->checks = acceptance_checks(j->m->arena, j->plan, &j->boot, &j->m->not_proved);
    if (!read_secret(j, secret_of(j->plan->board, user), &secret))
        return false;
    note(&t, false,
         mos_printf(j->m->arena, "acceptance: %s logs in; %zu checks", user, j->checks.count));
    mos_shell_begin(&t.shell, j->m->arena, user, secret, within * SECOND, now_of(&t));
    if (until_ready(&t))
        go_through(&t, &j->checks);
    if (t.e == EINTR)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "interrupted");
    if (t.e)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, t.e, "The line at %s", j->port);
    if (t.shell.state == MOS_SHELL_FAILED) {
        struct mos_findings *list = &j->m->ctx.findings;
        list->selector = j->title;
        struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_ACCEPTANCE,
                                         "The board cannot be asked: %s.", t.shell.why);
        mos_finding_at(list, f, a ? a->r.key_place : j->plan->board->r.key_place);
        mos_finding_at(list, f,
                       (struct mos_place){
                           .thing = mos_printf(j->m->arena, "%s logs in at %s", user, j->port)});
        mos_finding_why(list, f, "What nobody could ask is not known.");
        mos_finding_try(list, f, "%s",
                        t.shell.number ? "Look at the board; a command that takes longer wants "
                                         "within of its check."
                                       : "State user and password-file of acceptance, as the board "
                                         "has them.");
    }
    tell(&t, &j->checks);
    return record(&t, &j->checks);
}
