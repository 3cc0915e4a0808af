/* Findings: what a rule reports about the user's board. */
#ifndef MOS_BASE_FINDING_H
#define MOS_BASE_FINDING_H

#include "base/buf.h"
#include "base/source.h"

#include <stdbool.h>

enum mos_severity { MOS_SEVERITY_ERROR, MOS_SEVERITY_WARNING, MOS_SEVERITY_NOTE };

enum mos_rule_id {
#define MOS_RULE(symbol, id, severity, phase, kind, title, why) MOS_RULE_##symbol,
#include "base/rules.def"
#undef MOS_RULE
    MOS_RULE_COUNT
};

enum mos_rule_kind { MOS_RULE_IS_PLAIN, MOS_RULE_IS_STOPS, MOS_RULE_IS_SECRET };
/* A row of rules.def, which says what its parts mean. */
struct mos_rule_row {
    const char *id; /* "layout.overlap" */
    const char *title;
    enum mos_severity severity;
    enum mos_rule_kind kind;
    bool field;      /* an error in a variant that leaves the house */
    char phase;      /* 'D', 'G' or 'I' */
    const char *why; /* of findings that state none of their own; NULL: the title */
};
extern const struct mos_rule_row mos_rule_rows[MOS_RULE_COUNT];

struct mos_finding {
    enum mos_rule_id rule; /* MOS_RULE_COUNT: none, but a symptom */
    const char *name;      /* the rule's or the symptom's */
    enum mos_severity severity;
    const char *selector;  /* the board it is about; NULL for the workspace */
    const char *message;   /* one sentence */
    struct mos_vec places; /* of struct mos_place */
    const char *why, *remedy;
    bool unparsable; /* the file cannot be read at all: exit status 2 */
    size_t order;
};

struct mos_findings {
    struct mos_arena *arena;
    struct mos_vec items; /* of struct mos_finding *, in order of discovery */
    const char *selector; /* given to new findings */
    bool field;           /* about what leaves the house: some warnings are errors there */
};

/* Empty; findings and their texts live in the arena. */
struct mos_findings mos_findings_make(struct mos_arena *arena);
/* A new finding of a rule, with its message; never NULL (beyond the most that are kept it is one
 * that nobody sees).  Its severity is the rule's, its reason and way out too until they are stated.
 */
struct mos_finding *mos_find(struct mos_findings *list, enum mos_rule_id rule, const char *format,
                             ...) __attribute__((format(printf, 3, 4)));
/* The same of a symptom that a board shows: an error. */
struct mos_finding *mos_find_symptom(struct mos_findings *list, const char *id, const char *format,
                                     ...) __attribute__((format(printf, 3, 4)));
/* One place more; the first is where it is shown.  Places that are nothing are left out. */
void mos_finding_at(struct mos_findings *list, struct mos_finding *f, struct mos_place place);
/* The reason, and the way out: one sentence each, as printf makes it. */
void mos_finding_why(struct mos_findings *list, struct mos_finding *f, const char *format, ...)
    __attribute__((format(printf, 3, 4)));
void mos_finding_try(struct mos_findings *list, struct mos_finding *f, const char *format, ...)
    __attribute__((format(printf, 3, 4)));
/* No more are kept: loops over pairs may end. */
bool mos_findings_full(const struct mos_findings *list);
/* How many have that severity. */
size_t mos_findings_count(const struct mos_findings *list, enum mos_severity severity);

#endif
