/* Facts about how the loader was built, for rules. */
#ifndef MOS_RULES_LOADER_FACTS_H
#define MOS_RULES_LOADER_FACTS_H

#include "plan/plan.h"

#include <stdlib.h>
#include <string.h>

/* symbol NULL: this dialect has none.  NULL: it is not known. */
static inline const struct mos_setting *loader_fact(const struct mos_plan *plan,
                                                    const char *symbol) {
    return symbol ? mos_plan_loader_symbol(plan, symbol) : NULL;
}

/* The number that a setting states, decimal or 0x…; false: it is not known, or is no number. */
static inline bool loader_number(const struct mos_setting *s, uint64_t *out) {
    char *end;
    if (!s || !*s->value)
        return false;
    *out = strtoull(s->value, &end, 0);
    return *end == 0;
}

/* Known to be built in. */
static inline bool loader_is_on(const struct mos_setting *s) {
    return s && strcmp(s->value, "y") == 0;
}

#endif
