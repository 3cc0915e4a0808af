/* The loader's shell language, as far as variables go: which ones a text uses and sets. */
#ifndef MOS_SHELL_VARIABLES_H
#define MOS_SHELL_VARIABLES_H

#include "base/buf.h"

enum mos_use_kind {
    MOS_USE_VALUE,  /* ${name} or $name */
    MOS_USE_RUN,    /* run name */
    MOS_USE_SET,    /* setenv name …, for name in … */
    MOS_USE_TESTED, /* inside a test for emptiness: may be undefined on purpose */
};

struct mos_variable_use {
    enum mos_use_kind kind;
    const char *name;
    size_t offset, length; /* in the text */
};

/* All uses in order; struct mos_variable_use items.  Text inside single quotes is searched too: it
 * is a script that runs later. */
struct mos_vec mos_shell_variables(struct mos_arena *arena, const char *text, size_t length);

#endif
