/* What differs between boards of one build: texts with a place for the unit that is written. */
#ifndef MOS_BOOT_UNIT_H
#define MOS_BOOT_UNIT_H

#include "base/arena.h"

#include <stdbool.h>

/* A pattern's text for a unit: <UNIT> is its name, <UNIT:N> (N from 1 to 6) the number that its name
 * ends in, as N bytes of two hexadecimal digits with colons between them.  NULL: *why, in words that
 * follow "…, but"; the text lives in the arena. */
const char *mos_unit_text(struct mos_arena *arena, const char *pattern, const char *unit,
                          const char **why);
/* Is it a pattern at all: has it a place for the unit, and nothing else in pointed brackets?
 * false: *why, in words that end a sentence. */
bool mos_unit_is_pattern(const char *pattern, const char **why);

#endif
