/* A board that is right, changed row by row: what each change is told. */
#ifndef MOS_TESTS_EDITS_H
#define MOS_TESTS_EDITS_H

#include "support.h"

/* The fixture of a rule that passes, as a workspace of its own. */
const char *edits_workspace(const char *name, const char *fixture);
/* boards/curlew.yaml through sed -E; it must change.  "": nothing to do. */
void edits_make(const char *workspace, const char *expression);

/* What a row changes, and what check says of it; says NULL: nothing. */
struct edited {
    const char *edit, *rule, *says, *remedy;
};
/* Each row in a new workspace. */
void edits_each(const char *name, const char *(*make)(const char *name), const struct edited *rows,
                size_t count);
#define EACH(name, make, rows) edits_each(name, make, rows, sizeof(rows) / sizeof *(rows))

#endif
