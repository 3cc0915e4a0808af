/* A board that is up is asked whether it is what was built. */
#include "api/acceptance.h"
#include "api/board-shell.h"
#include "api/listen.h"

#include "base/bytes.h"
#include "base/text.h"
#include "ledger/ledger.h"
#include "ledger/written.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

enum { LOG_IN_SECONDS = 60, MOST_SECRET = 64 << 10 };

struct talk {
    struct listen_job *j;
    struct board_shell b;
};

static void note(struct talk *t, bool bad, const char *text) {
    if (t->j->request->note)
        t->j->request->note(t->j->request->self, text, bad);
}

static int heard(void *self, const uint8_t *bytes, size_t length) {
    struct listen_job *j = self;
    return listen_log_add(j, bytes, length, j->m->ctx.host->now_ns(j->m->ctx.host)) ? 0 : EIO;
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

/* Noise on the line is not what the board is: what fails is asked once more, but for commands of
 * the definition, which may do more than ask. */
static bool make(struct talk *t, struct acceptance_check *c) {
    bool ok = true;
    for (unsigned times = c->stated ? 1 : 2; ok && times && !c->good; times--) {
        ok = board_shell_ask(&t->b, c->command, c->seconds);
        if (ok)
            acceptance_judge(t->j->m->arena, c, &t->b.shell);
    }
    return ok;
}

static void go_through(struct talk *t, const struct mos_vec *checks) {
    bool ok = board_shell_silence(&t->b);
    for (size_t i = 0; ok && i < checks->count; i++) {
        struct acceptance_check *c = mos_vec_at(checks, i);
        ok = make(t, c);
        if (ok && !c->good)
            note(t, true,
                 mos_printf(t->j->m->arena, "%s: %s, and expected is %s", c->name, c->found,
                            c->expected));
    }
    if (!t->b.e || t->b.e == EINTR)
        board_shell_leave(&t->b);
}

bool listen_accept(struct listen_job *j) {
    struct talk t = {.j = j, .b = {.m = j->m, .line = j->line, .heard = heard, .self = j}};
    const struct mos_acceptance *a = j->plan->board->acceptance;
    const char *user = a ? mos_text_or(a->user, "root") : "root", *secret;
    unsigned within = a && mos_has(a->within) ? (unsigned)a->within->number : LOG_IN_SECONDS;
    j->checks = acceptance_checks(j->m->arena, j->plan, &j->boot, &j->m->not_proved);
    if (!read_secret(j, secret_of(j->plan->board, user), &secret))
        return false;
    note(&t, false,
         mos_printf(j->m->arena, "acceptance: %s logs in; %zu checks", user, j->checks.count));
    if (board_shell_log_in(&t.b, user, secret, within))
        go_through(&t, &j->checks);
    if (t.b.e == EINTR)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "interrupted");
    if (t.b.e)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, t.b.e, "The line at %s", j->port);
    if (t.b.shell.state == MOS_SHELL_FAILED) {
        struct mos_findings *list = &j->m->ctx.findings;
        list->selector = j->title;
        struct mos_finding *f = mos_find(list, MOS_RULE_BOARD_ACCEPTANCE,
                                         "The board cannot be asked: %s.", t.b.shell.why);
        mos_finding_at(list, f, a ? a->r.key_place : j->plan->board->r.key_place);
        mos_finding_at(list, f,
                       (struct mos_place){
                           .thing = mos_printf(j->m->arena, "%s logs in at %s", user, j->port)});
        mos_finding_why(list, f, "What nobody could ask is not known.");
        mos_finding_try(list, f, "%s",
                        t.b.shell.number
                            ? "Look at the board; a command that takes longer wants "
                              "within of its check."
                            : "State user and password-file of acceptance, as the board "
                              "has them.");
    }
    tell(&t, &j->checks);
    return record(&t, &j->checks);
}
