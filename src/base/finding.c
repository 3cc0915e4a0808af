#include "base/finding.h"

#include <assert.h>
#include <ctype.h>

#define MOS_SEVERITY_FIELD MOS_SEVERITY_WARNING
const struct mos_rule_row mos_rule_rows[MOS_RULE_COUNT] = {
#define MOS_RULE(symbol, id, severity, phase, kind, title, why)                                    \
    {id,          title, MOS_SEVERITY_##severity, MOS_RULE_IS_##kind, (#severity)[0] == 'F',       \
     (#phase)[0], why},
#include "base/rules.def"
#undef MOS_RULE
};

enum { MOST_FINDINGS = 1000 }; /* of one board */

struct mos_findings mos_findings_make(struct mos_arena *arena) {
    return (struct mos_findings){.arena = arena,
                                 .items = mos_vec_make(arena, sizeof(struct mos_finding *))};
}

static struct mos_finding *find(struct mos_findings *list, enum mos_rule_id rule, const char *name,
                                const char *message) {
    struct mos_finding *f = mos_alloc(list->arena, sizeof *f);
    f->rule = rule;
    f->name = name;
    f->selector = list->selector;
    f->remedy =
        mos_printf(list->arena, "Run \"mosaicum explain %s\" for an example that passes.", name);
    f->places = mos_vec_make(list->arena, sizeof(struct mos_place));
    f->order = list->items.count;
    f->message = list->items.count == MOST_FINDINGS
                     ? "There are more findings than anybody reads; the others are left out."
                     : message;
    if (list->items.count <= MOST_FINDINGS)
        mos_vec_push_pointer(&list->items, f);
    return f;
}

struct mos_finding *mos_find_symptom(struct mos_findings *list, const char *id, const char *format,
                                     ...) {
    va_list arguments;
    va_start(arguments, format);
    struct mos_finding *f =
        find(list, MOS_RULE_COUNT, id, mos_vprintf(list->arena, format, arguments));
    va_end(arguments);
    f->severity = MOS_SEVERITY_ERROR;
    return f;
}

struct mos_finding *mos_find(struct mos_findings *list, enum mos_rule_id rule, const char *format,
                             ...) {
    assert(rule < MOS_RULE_COUNT);
    const struct mos_rule_row *row = &mos_rule_rows[rule];
    va_list arguments;
    va_start(arguments, format);
    struct mos_finding *f = find(list, rule, row->id, mos_vprintf(list->arena, format, arguments));
    va_end(arguments);
    f->severity = list->field && mos_rule_rows[rule].field ? MOS_SEVERITY_ERROR
                                                           : mos_rule_rows[rule].severity;
    f->why = row->why ? row->why
                      : mos_printf(list->arena, "%c%s.", toupper((unsigned char)*row->title),
                                   row->title + 1);
    return f;
}

void mos_finding_at(struct mos_findings *list, struct mos_finding *f, struct mos_place place) {
    assert(f);
    (void)list;
    if (place.source || place.thing)
        *(struct mos_place *)mos_vec_push(&f->places) = place;
}

void mos_finding_why(struct mos_findings *list, struct mos_finding *f, const char *format, ...) {
    assert(f);
    va_list arguments;
    va_start(arguments, format);
    f->why = mos_vprintf(list->arena, format, arguments);
    va_end(arguments);
}

void mos_finding_try(struct mos_findings *list, struct mos_finding *f, const char *format, ...) {
    assert(f);
    va_list arguments;
    va_start(arguments, format);
    f->remedy = mos_vprintf(list->arena, format, arguments);
    va_end(arguments);
}

bool mos_findings_full(const struct mos_findings *list) {
    return list->items.count > MOST_FINDINGS;
}

size_t mos_findings_count(const struct mos_findings *list, enum mos_severity severity) {
    size_t n = 0;
    for (size_t i = 0; i < list->items.count; i++)
        n += ((struct mos_finding *)mos_vec_pointer(&list->items, i))->severity == severity;
    return n;
}
