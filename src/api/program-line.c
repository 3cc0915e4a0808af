/* The line to a board, and what all steps share. */
#include "api/bench.h"
#include "api/program.h"

#include "base/text.h"

#include <errno.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

enum { USUAL_SECONDS = 60 };

bool program_fails(struct program_step *s, const char *why) {
    s->failed = true;
    s->result = why;
    return false;
}

uint64_t program_seconds(const struct program_step *s) {
    return mos_has(s->def->within) ? (uint64_t)s->def->within->number : USUAL_SECONDS;
}

int64_t program_time(const struct program_step *s) {
    return (int64_t)program_seconds(s) * SECOND;
}

bool program_opens_line(struct program_job *j, struct program_step *s) {
    mosaicum *m = j->m;
    unsigned speed = mos_board_line(j->plan->board, false).baud;
    if (j->talks)
        return true;
    if (!m->ctx.host->wires)
        return program_fails(s, "this computer has no serial lines");
    const struct mos_loader_orders *orders = j->plan->dialect ? j->plan->dialect->orders : NULL;
    j->talk.prompt = mos_has(j->way->prompt) ? j->way->prompt->text : orders ? orders->prompt : "";
    j->talk.interrupt = orders ? orders->interrupt : "";
    int e = mos_talk_open(&j->talk, &m->ctx, j->request->serial, speed);
    if (e)
        return program_fails(s, bench_why_not(m, j->request->serial, speed, e));
    j->talks = true;
    return true;
}

static const char **names_of(struct program_job *j, const struct mos_list *list) {
    const char **out = mos_alloc_array(j->m->arena, list->count + 1, sizeof *out);
    size_t n = 0;
    for (size_t i = 0; i < list->count; i++)
        if (mos_has(list->items[i]))
            out[n++] = list->items[i]->text;
    return out;
}

struct mosaicum_write *program_request(struct program_job *j, const struct program_step *s) {
    struct mosaicum_write *r = mos_alloc(j->m->arena, sizeof *r);
    const char *unit = j->request->unit;
    *r = (struct mosaicum_write){.what = s->image,
                                 .regions = names_of(j, &s->def->regions),
                                 .all_regions = j->request->all_regions};
    r->unit = unit && j->boards > 1 ? mos_printf(j->m->arena, "%s-%u", unit, j->board) : unit;
    return r;
}

bool program_opens_image(struct program_job *j, struct program_step *s, struct write_job *w) {
    *w = (struct write_job){.m = j->m, .request = program_request(j, s)};
    if (!write_open(w))
        return program_fails(s, "the image cannot be opened");
    if (!write_proves_image(w))
        program_fails(s, "the image is not what was built");
    else if (s->hash && strcmp(s->hash, w->image.hash) != 0)
        program_fails(s, "the image is of another build by now");
    else if (write_suits_unit(w))
        return true;
    else
        program_fails(s, "the image cannot be made this unit's");
    write_close(w);
    return false;
}
