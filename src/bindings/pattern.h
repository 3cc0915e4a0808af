/* Regular expressions of schemas; for judge.c and item.c only. */
#ifndef MOS_BINDINGS_PATTERN_H
#define MOS_BINDINGS_PATTERN_H

#include "base/arena.h"

#include <stdbool.h>

/* Does a pattern (ECMA 262, as far as POSIX can say the same) fit a part of a text?  *known: false
 * where it says more than that. */
bool mos_schema_pattern(struct mos_arena *arena, const char *pattern, const char *text,
                        bool *known);

#endif
