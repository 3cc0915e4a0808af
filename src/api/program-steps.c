/* The steps of a way, on one board. */
#include "api/program.h"

#include "base/bytes.h"
#include "base/text.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_OUTPUT = 1 << 20 };

const char *program_step_text(struct program_job *j, const struct program_step *s) {
    const struct mos_program_step *d = s->def;
    struct mos_buf b = {.arena = j->m->arena};
    bool more =
        d->command.count || mos_true(d->prompt) || d->type.count || s->image || mos_has(d->sees);
    size_t n = mos_has(d->person) ? strlen(d->person->text) : 0;
    if (n)
        mos_buf_add(&b, d->person->text, n - (more && d->person->text[n - 1] == '.'));
    for (size_t i = 0; i < d->command.count; i++)
        mos_buf_printf(&b, "%s%s",
                       i          ? " "
                       : b.length ? "; runs "
                                  : "runs ",
                       mos_text_or(d->command.items[i], "?"));
    if (mos_true(d->prompt))
        mos_buf_printf(&b, "%swaits for the loader's prompt", b.length ? "; " : "");
    for (size_t i = 0; i < d->type.count; i++)
        mos_buf_printf(&b, "%s%s",
                       i          ? ", "
                       : b.length ? "; types "
                                  : "types ",
                       mos_text_or(d->type.items[i], "?"));
    if (s->image)
        mos_buf_printf(&b, "%swrites %s%s%s by %s", b.length ? "; " : "", d->write->text,
                       mos_has(d->area) ? ", area " : "", mos_has(d->area) ? d->area->text : "",
                       mos_text_or(d->by, "?"));
    if (mos_has(d->sees))
        mos_buf_printf(&b, "%swaits for \"%s\"", b.length ? "; " : "", d->sees->text);
    if (mos_true(d->fuse))
        mos_buf_text(&b, " (can never be taken back)");
    return mos_buf_string(&b);
}

/* Somebody does it, and says so; or what must then be seen says so. */
static bool by_person(struct program_job *j, struct program_step *s) {
    const struct mosaicum_program *r = j->request;
    const struct mos_program_step *d = s->def;
    bool fuse = mos_true(d->fuse), shown = mos_true(d->prompt) || mos_has(d->sees);
    if (!mos_has(d->person) && !fuse)
        return !r->step || (r->step(r->self, d->r.name, program_step_text(j, s), false), true);
    if (r->steps_done && !fuse)
        return true;
    if (r->step && r->step(r->self, d->r.name, program_step_text(j, s), fuse || !shown))
        return true;
    if (!fuse && shown)
        return true; /* what comes from the board says so */
    return program_fails(s, fuse ? "nobody has confirmed what can never be taken back"
                                 : "nobody has confirmed it; --steps-done says that it is done");
}

static const char *filled_in(struct program_job *j, const char *text) {
    struct mos_buf b = {.arena = j->m->arena};
    const char *image = "";
    for (size_t i = 0; i < j->count && !*image; i++)
        image = j->steps[i].image ? j->steps[i].image : "";
    for (; *text; text++)
        if (strncmp(text, "<image>", 7) == 0) {
            mos_buf_text(&b, image);
            text += 6;
        } else if (strncmp(text, "<ledger>", 8) == 0) {
            mos_buf_text(&b, mos_path_join(j->m->arena, j->folder, "ledger.json"));
            text += 7;
        } else
            mos_buf_char(&b, *text);
    return mos_buf_string(&b);
}

static bool by_command(struct program_job *j, struct program_step *s) {
    const struct mos_program_step *d = s->def;
    const struct mos_host *h = j->m->ctx.host;
    struct mos_arena *arena = j->m->arena;
    if (!d->command.count)
        return true;
    const char **arguments = mos_alloc_array(arena, d->command.count + 1, sizeof *arguments);
    for (size_t i = 0; i < d->command.count; i++)
        arguments[i] = filled_in(j, mos_text_or(d->command.items[i], ""));
    const struct mos_program program = {.arguments = arguments,
                                        .folder = j->m->options.workspace,
                                        .output_limit = MOST_OUTPUT,
                                        .seconds = (unsigned)program_seconds(s)};
    struct mos_program_result r = {0};
    int e = h->run(h, &program, &r);
    if (e)
        return program_fails(
            s, mos_printf(arena, "%s cannot be started: %s", arguments[0], mos_errno_text(e)));
    const char *why = NULL;
    if (r.timeout)
        why = mos_printf(arena, "%s did not end within %llu s", arguments[0],
                         (unsigned long long)program_seconds(s));
    else if (r.overflow)
        why = mos_printf(arena, "%s printed without end", arguments[0]);
    else if (r.status)
        why = mos_printf(arena, "%s ended with status %d%s%.120s", arguments[0], r.status,
                         r.errors && *r.errors ? ": " : "", r.errors ? r.errors : "");
    else if (mos_has(d->sees) && !strstr(r.output, d->sees->text) &&
             !strstr(r.errors, d->sees->text))
        why = mos_printf(arena, "%s did not say \"%s\"", arguments[0], d->sees->text);
    free(r.output);
    free(r.errors);
    return !why || program_fails(s, why);
}

static bool by_prompt(struct program_job *j, struct program_step *s) {
    if (!mos_true(s->def->prompt))
        return true;
    if (!program_opens_line(j, s))
        return false;
    enum mos_talk_end end = mos_talk_reach_prompt(&j->talk, program_time(s));
    if (end == MOS_TALK_SILENT)
        return program_fails(s, mos_printf(j->m->arena, "no prompt \"%s\" came within %llu s",
                                           j->talk.prompt, (unsigned long long)program_seconds(s)));
    return end == MOS_TALK_ANSWERED || program_fails(s, mos_talk_end_text(&j->talk, end));
}

static bool by_typing(struct program_job *j, struct program_step *s) {
    const struct mos_program_step *d = s->def;
    const char *unknown = j->plan->dialect ? j->plan->dialect->unknown[0] : NULL;
    for (size_t i = 0; i < d->type.count; i++) {
        const char *answer = "", *command = mos_text_or(d->type.items[i], "");
        if (!program_opens_line(j, s))
            return false;
        bool last = i + 1 == d->type.count && mos_has(d->sees); /* what is seen is the answer */
        enum mos_talk_end end = last ? mos_talk_enter(&j->talk, command)
                                     : mos_talk_ask(&j->talk, command, program_time(s), &answer);
        if (end != MOS_TALK_ANSWERED)
            return program_fails(
                s, mos_printf(j->m->arena, "%s: %s", command, mos_talk_end_text(&j->talk, end)));
        if (unknown && strstr(answer, unknown))
            return program_fails(s,
                                 mos_printf(j->m->arena, "the loader has no command %s", command));
    }
    return true;
}

static bool by_seeing(struct program_job *j, struct program_step *s) {
    const struct mos_program_step *d = s->def;
    if (!mos_has(d->sees) || d->command.count)
        return true;
    if (!program_opens_line(j, s))
        return false;
    enum mos_talk_end end = mos_talk_await(&j->talk, d->sees->text, program_time(s));
    if (end == MOS_TALK_SILENT)
        return program_fails(s, mos_printf(j->m->arena, "\"%s\" did not come within %llu s",
                                           d->sees->text, (unsigned long long)program_seconds(s)));
    return end == MOS_TALK_ANSWERED || program_fails(s, mos_talk_end_text(&j->talk, end));
}

static bool do_step(struct program_job *j, struct program_step *s) {
    if (!by_person(j, s) || !by_command(j, s) || !by_prompt(j, s) || !by_typing(j, s) ||
        (s->image && !program_write(j, s)) || !by_seeing(j, s))
        return false;
    if (!s->result)
        s->result = "done";
    return true;
}

/* Back steps are done at the end, whatever came before. */
bool program_do_steps(struct program_job *j) {
    bool ok = true;
    for (size_t i = 0; i < j->count && ok; i++)
        if (!mos_true(j->steps[i].def->back))
            ok = do_step(j, &j->steps[i]);
    for (size_t i = 0; i < j->count; i++)
        if (mos_true(j->steps[i].def->back))
            ok = do_step(j, &j->steps[i]) && ok;
    return ok;
}
