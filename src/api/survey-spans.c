/* Spans of an image by their names, and their bytes. */
#include "api/survey.h"

#include "base/text.h"

#include <string.h>

const char *survey_name(struct survey *s, const struct survey_span *x) {
    if (x->held)
        return mos_printf(s->m->arena, "%s/%s", x->holder, x->held->name);
    if (x->region)
        return x->region;
    const char *label = x->partition && *x->partition->name ? x->partition->name
                        : x->has_volume                     ? x->volume.label
                                                            : "";
    if (!x->partition)
        return x->has_volume ? *label ? label : x->volume.kind
                             : mos_size_text(s->m->arena, x->start);
    return *label ? mos_printf(s->m->arena, "%u %s", x->partition->number, label)
                  : mos_printf(s->m->arena, "%u", x->partition->number);
}

static bool called(struct survey *s, const struct survey_span *x, const char *name) {
    uint64_t number;
    if (x->held)
        return *name && (strcmp(name, x->held->name) == 0 ||
                         (x->has_volume && strcmp(name, x->volume.label) == 0) ||
                         strcmp(name, survey_name(s, x)) == 0);
    if (x->partition &&
        ((mos_integer_parse(name, &number) == MOS_NUMBER_OK && number == x->partition->number) ||
         (*name && strcmp(name, x->partition->name) == 0)))
        return true;
    if (x->has_volume && *name && strcmp(name, x->volume.label) == 0)
        return true;
    if (x->region &&
        (strcmp(name, x->region) == 0 || (x->has_volume && strcmp(name, x->volume.kind) == 0)))
        return true;
    if (!x->partition && mos_size_parse(name, 512, &number) == MOS_NUMBER_OK && number == x->start)
        return true;
    return (!*name && s->spans.count == 1) || strcmp(name, survey_name(s, x)) == 0;
}

struct survey_span *survey_at(struct survey *s, size_t index) {
    size_t held = index - s->spans.count;
    if (index < s->spans.count)
        return mos_vec_at(&s->spans, index);
    return held < s->held.count ? mos_vec_at(&s->held, held) : NULL;
}

struct survey_span *survey_find(struct survey *s, const char *name) {
    struct mos_buf known = {.arena = s->m->arena};
    struct survey_span *x;
    for (size_t i = 0; (x = survey_at(s, i)); i++) {
        if (called(s, x, name))
            return x;
        mos_buf_printf(&known, "%s%s", i ? ", " : "", survey_name(s, x));
    }
    mos_fail(&s->m->error, MOS_ERROR_USAGE, 0, "%s has no region %s; it has: %s", s->path,
             *name ? name : "without a name", known.length ? mos_buf_string(&known) : "none");
    return NULL;
}

struct mos_io survey_window(struct survey *s, const struct survey_span *x) {
    return x->held ? x->held->io : mos_io_window(s->m->arena, &s->io, x->start, x->length);
}

bool survey_has_files(const struct survey_span *x) {
    return x->has_volume && x->volume.driver;
}
