/* The conversation: who is there, and one question after the other. */
#include "api/board-shell.h"
#include "api/learn.h"

#include "base/text.h"
#include "learning/greeting.h"
#include "learning/linux.h"
#include "link/plain.h"
#include "mosaicum/wires.h"
#include "programming/talk.h"

#include <errno.h>
#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum {
    WAITS_SECONDS = 180, /* for somebody to give it power, and for it to start */
    HINT_SECONDS = 5,    /* … after that somebody is told to */
    VERSION_SECONDS = 3,
    LOG_IN_SECONDS = 60,
    MOST_SECRET = 64 << 10,
    MOST_STORED = 16 << 20,
    READ = 4096
};

static int64_t now_of(const struct learn_job *j) {
    return j->m->ctx.host->now_ns(j->m->ctx.host);
}

static void note(struct learn_job *j, bool bad, const char *text) {
    if (j->request->note)
        j->request->note(j->request->self, text, bad);
}

static bool line_fails(struct learn_job *j, int e) {
    return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, e == EINTR ? 0 : e,
                    e == EINTR ? "%s: interrupted" : "The line at %s", j->port);
}

/* ---- who is there ---- */

/* The end of what came, as far as it can be shown in a line. */
static const char *last_words(struct learn_job *j, struct mos_greeting *g) {
    enum { MOST = 40 };
    const char *all = mos_buf_string(&g->heard);
    size_t n = strlen(all);
    char *text = mos_strdup(j->m->arena, all + (n > MOST ? n - MOST : 0));
    for (char *p = text; *p; p++)
        *p = *p >= ' ' && *p < 0x7f ? *p : '.';
    return text;
}

static bool greet(struct learn_job *j, struct mos_greeting *g) {
    const struct mos_wires *w = j->m->ctx.host->wires;
    const struct mos_dialect *d = mos_dialect_at(0);
    int64_t began = now_of(j);
    bool told = false;
    mos_greeting_begin(g, j->m->arena, d->orders->interrupt, WAITS_SECONDS * SECOND, began);
    while (g->state == MOS_GREETING_LISTENS) {
        uint8_t bytes[READ];
        size_t got = 0;
        unsigned ready = 0;
        const char *keys = mos_greeting_next(g, now_of(j));
        int e = *keys ? w->write(w, j->line, keys, strlen(keys)) : 0;
        if (!e)
            e = w->wait(w, &j->line, 1, mos_greeting_due(g, now_of(j)) - now_of(j), &ready);
        if (!e && ready)
            e = w->read(w, j->line, bytes, sizeof bytes, &got);
        if (e)
            return line_fails(j, e);
        mos_greeting_hear(g, bytes, got, now_of(j));
        if (!told && !g->heard.length && now_of(j) - began > HINT_SECONDS * SECOND) {
            told = true;
            note(j, false, "nothing answers: give the board power now");
        }
    }
    if (g->state == MOS_GREETING_SILENT)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0,
                        "%s: nothing came in %d s. Is it the right port, is the board powered, and "
                        "are its two data lines crossed",
                        j->port, WAITS_SECONDS);
    if (g->state == MOS_GREETING_NOISE)
        return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0,
                        "%s: something speaks, and neither a prompt nor a log-in answered in %d s; "
                        "last came \"%s\". Listen to it with mosaicum listen: is it text, is its "
                        "keyboard's line connected",
                        j->port, WAITS_SECONDS, last_words(j, g));
    return true;
}

/* ---- a loader ---- */

static void keep(struct learn_job *j, const char *prompt, const struct mos_asked *q) {
    j->prompt = prompt;
    mos_buf_printf(&j->answers, "%s%s\n%s%s", prompt, q->command, q->answer,
                   *q->answer && !mos_text_ends(q->answer, "\n") ? "\n" : "");
}

/* What came before the first question, up to the line of the prompt. */
static void keep_heard(struct learn_job *j) {
    const char *end = strrchr(j->heard, '\n');
    mos_buf_add(&j->answers, j->heard, end ? (size_t)(end + 1 - j->heard) : 0);
}

/* Takes the answer to a question, or says why there is none. */
static void take(struct learn_job *j, size_t index, const char *prompt,
                 const struct mos_answers *a) {
    struct mos_asked q = *(struct mos_asked *)mos_vec_at(&j->l.questions, index);
    if (!a->taken) {
        mos_learned_unknown(&j->l,
                            mos_printf(j->m->arena, "what \"%.60s\" tells: %s", q.command, a->why));
        return;
    }
    q.answer = a->taken + (*a->taken == '\n'); /* that of what was entered */
    keep(j, prompt, &q);
    j->l.next = index + 1;
    if (q.understand)
        q.understand(&j->l, &q, q.answer);
}

static const struct mos_asked *question(struct learn_job *j, size_t index) {
    return mos_vec_at(&j->l.questions, index);
}

static void progress(struct learn_job *j, const char *what, size_t index) {
    if (j->m->ctx.progress)
        j->m->ctx.progress(j->m->ctx.progress_self, what, index, j->l.questions.count);
}

static bool ask_loader(struct learn_job *j, struct mos_talk *t) {
    enum mos_talk_end end = MOS_TALK_ANSWERED;
    for (size_t i = 0; i < j->l.questions.count && end == MOS_TALK_ANSWERED; i++) {
        struct mos_answers a = {0};
        bool settled = false;
        progress(j, "asking the loader", i);
        while (!settled && end == MOS_TALK_ANSWERED) {
            const char *answer = NULL;
            const struct mos_asked *q = question(j, i);
            end = mos_talk_ask(t, q->command, q->seconds * SECOND, &answer);
            settled =
                mos_learned_settled(&a, j->m->arena, q, end == MOS_TALK_ANSWERED ? answer : NULL);
            if (end == MOS_TALK_SILENT || (end == MOS_TALK_NOISE && !settled))
                end = mos_talk_reach_prompt(t, VERSION_SECONDS * SECOND);
        }
        take(j, i, t->prompt, &a);
    }
    if (end > MOS_TALK_NOISE)
        return line_fails(j, end == MOS_TALK_STOPPED ? EINTR : t->errnum);
    return end == MOS_TALK_ANSWERED || mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "%s: %s",
                                                j->port, mos_talk_end_text(t, end));
}

/* Is it a loader that waits there?  Then it is asked; *is. */
static bool try_loader(struct learn_job *j, const struct mos_greeting *g, bool *is) {
    const struct mos_dialect *d;
    struct mos_talk t = {.ctx = &j->m->ctx,
                         .wires = j->m->ctx.host->wires,
                         .line = j->line,
                         .prompt = mos_strdup(j->m->arena, g->prompt), /* it is kept */
                         .heard = {.arena = j->m->arena}};
    *is = false;
    for (size_t i = 0; (d = mos_dialect_at(i)) && !*is; i++) {
        const char *answer = NULL;
        if (!d->questions || !d->orders)
            continue;
        t.interrupt = d->orders->interrupt;
        enum mos_talk_end end =
            mos_talk_ask(&t, d->questions->version, VERSION_SECONDS * SECOND, &answer);
        if (end > MOS_TALK_NOISE)
            return line_fails(j, end == MOS_TALK_STOPPED ? EINTR : t.errnum);
        *is = end == MOS_TALK_ANSWERED && d->questions->is(answer);
        if (*is)
            j->l.dialect = d;
    }
    if (!*is)
        return true;
    note(j, false, mos_printf(j->m->arena, "a loader waits at %s: it is asked", j->port));
    keep_heard(j);
    j->l.dialect->questions->ask(&j->l, j->l.dialect, j->heard);
    return ask_loader(j, &t);
}

/* ---- a Linux ---- */

/* By which a system reaches the variables of its loader, whichever that is. */
static const char *access_file(void) {
    const struct mos_dialect *d;
    for (size_t i = 0; (d = mos_dialect_at(i)); i++)
        if (d->stored && d->stored->system_file)
            return d->stored->system_file;
    return "etc/none";
}

static bool read_secret(struct learn_job *j, const char **out) {
    const char *path = j->request->password_file;
    char *data;
    size_t length;
    *out = NULL;
    if (!path)
        return true;
    run_allow(j->m, path, MOS_REACH_READ);
    if (!mos_read_aside(&j->m->ctx, path, MOST_SECRET, &data, &length))
        return false;
    data[strcspn(data, "\r\n")] = 0;
    *out = data;
    return true;
}

static bool shell_fails(struct learn_job *j, const struct board_shell *b) {
    if (b->e)
        return line_fails(j, b->e);
    return mos_fail(&j->m->error, MOS_ERROR_SYSTEM, 0, "%s: %s%s", j->port, b->shell.why,
                    b->shell.number ? "" : ". Say who logs in by --user and --password-file");
}

static bool ask_linux(struct learn_job *j) {
    const char *user = j->request->user ? j->request->user : "root", *secret;
    struct board_shell b = {.m = j->m, .line = j->line};
    if (!read_secret(j, &secret))
        return false;
    if (!board_shell_log_in(&b, user, secret, LOG_IN_SECONDS))
        return shell_fails(j, &b);
    note(j, false, mos_printf(j->m->arena, "a Linux answers at %s: it is asked", j->port));
    bool ok = board_shell_silence(&b);
    mos_learned_ask_linux(&j->l, access_file());
    for (size_t i = 0; ok && i < j->l.questions.count; i++) {
        struct mos_answers a = {0};
        progress(j, "asking the system", i);
        do
            ok = board_shell_ask(&b, question(j, i)->command, question(j, i)->seconds);
        while (ok && !mos_learned_settled(&a, j->m->arena, question(j, i),
                                          b.shell.timed_out ? NULL : b.shell.output));
        if (ok)
            take(j, i, "board# ", &a);
    }
    if (!b.e || b.e == EINTR)
        board_shell_leave(&b);
    return ok || shell_fails(j, &b);
}

/* ---- what was stored ---- */

/* The next line that ends with a command, behind something else (*prompt); NULL: there is none. */
static const char *find_command(struct learn_job *j, const char *text, const char *command,
                                const char **prompt) {
    const char *wanted = mos_printf(j->m->arena, "%s\n", command);
    for (const char *p = text; (p = strstr(p, wanted)); p++) {
        const char *line = p;
        while (line > text && line[-1] != '\n')
            line--;
        *prompt = mos_strndup(j->m->arena, line, (size_t)(p - line));
        if (p > line)
            return line;
    }
    return NULL;
}

/* What stands behind a command, up to the next prompt; NULL: it was not asked, or the answer has no
 * end: what is cut off says nothing of what is missing in it. */
static const char *find_answer(struct learn_job *j, const char *text, const char *prompt,
                               const char *command, const char **rest) {
    const char *wanted = mos_printf(j->m->arena, "\n%s%s\n", prompt, command);
    const char *p = strstr(text, wanted), *next;
    if (!p)
        return NULL;
    p += strlen(wanted);
    next = strstr(p - 1, mos_printf(j->m->arena, "\n%s", prompt));
    *rest = next;
    return next ? mos_strndup(j->m->arena, p, (size_t)(next + 1 - p)) : NULL;
}

/* The answer behind `at`, and those that came when it was asked again at once. */
static void stored_answers(struct learn_job *j, const char **at, const char *prompt,
                           const struct mos_asked *q, struct mos_answers *out) {
    const char *text = *at, *rest = text, *answer;
    const char *again = mos_printf(j->m->arena, "\n%s%s\n", prompt, q->command);
    out->why = "it was not asked, or has no end";
    bool more = true;
    while (more && (answer = find_answer(j, text, prompt, q->command, &rest))) {
        size_t n = strlen(answer);
        if (n && !j->l.dialect && answer[n - 1] == '\n')
            answer = mos_strndup(j->m->arena, answer, n - 1);
        *at = text = rest;
        more = !mos_learned_settled(out, j->m->arena, q, answer) &&
               strncmp(rest, again, strlen(again)) == 0;
    }
    if (out->count == 1) /* nobody asked twice, or the second answer has no end */
        out->taken = out->came[0];
}

static void answer_all(struct learn_job *j, const char *text, const char *prompt) {
    const char *at = text;
    for (size_t i = 0; i < j->l.questions.count; i++) {
        struct mos_answers a = {0};
        const char *begin = text;
        stored_answers(j, &at, prompt, question(j, i), &a);
        if (!a.count && !a.taken) /* they may stand in another order */
            stored_answers(j, &begin, prompt, question(j, i), &a);
        take(j, i, prompt, &a);
    }
}

/* Was it such a loader?  Then it is the job's dialect, and its questions are asked. */
static void try_stored(struct learn_job *j, const struct mos_dialect *d, const char *text,
                       const char **prompt) {
    const char *line = text, *rest;
    while (d->questions && (line = find_command(j, line, d->questions->version, prompt))) {
        const char *answer = find_answer(j, line - 1, *prompt, d->questions->version, &rest);
        if (answer && d->questions->is(answer)) {
            j->l.dialect = d;
            j->heard = mos_strndup(j->m->arena, text, (size_t)(line - text));
            keep_heard(j);
            d->questions->ask(&j->l, d, j->heard);
            return;
        }
        line = mos_next_line(line);
    }
}

static bool read_stored(struct learn_job *j) {
    const char *path = j->request->stored, *prompt = "";
    const struct mos_dialect *d;
    struct mos_buf plain = {.arena = j->m->arena};
    size_t length;
    char *data, within = 0;
    run_allow(j->m, path, MOS_REACH_READ);
    if (!mos_read_aside(&j->m->ctx, path, MOST_STORED, &data, &length))
        return false;
    mos_buf_char(&plain, '\n');
    for (size_t i = 0; i < length; i++)
        if (mos_plain_is_text(&within, (uint8_t)data[i]))
            mos_buf_char(&plain, data[i]);
    const char *text = mos_buf_string(&plain);
    for (size_t i = 0; (d = mos_dialect_at(i)) && !j->l.dialect; i++)
        try_stored(j, d, text, &prompt);
    if (!j->l.dialect) {
        mos_learned_ask_linux(&j->l, access_file());
        if (!find_command(j, text, question(j, 0)->command, &prompt))
            return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                            "%s: neither a loader's prompt nor a shell's was asked anything here",
                            path);
    }
    j->port = path;
    answer_all(j, text, prompt);
    return true;
}

bool learn_ask(struct learn_job *j) {
    struct mos_greeting g;
    bool loader = false;
    if (j->request->stored)
        return read_stored(j);
    if (!greet(j, &g))
        return false;
    j->heard = mos_strdup(j->m->arena, mos_buf_string(&g.heard));
    if (g.state == MOS_GREETING_PROMPT && !try_loader(j, &g, &loader))
        return false;
    return loader || ask_linux(j);
}
