/* The loader's shell language, as far as variables go: which ones a text uses and sets. */
#ifndef MOS_LOADERS_U_BOOT_VARIABLES_H
#define MOS_LOADERS_U_BOOT_VARIABLES_H

#include "boot/dialect.h"

/* All uses in order; struct mos_variable_use items.  Text inside single quotes is searched too: it
 * is a script that runs later. */
struct mos_vec mos_shell_variables(struct mos_arena *arena, const char *text, size_t length);

#endif
