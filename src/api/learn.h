/* The inside of the job that asks a board about itself, for its own files. */
#ifndef MOS_API_LEARN_H
#define MOS_API_LEARN_H

#include "api/bench.h"
#include "learning/learned.h"
#include "loaders/loaders.h"
#include "tree/tree.h"

struct learn_job {
    mosaicum *m;
    const struct mosaicum_learn *request;
    const char *port, *prompt;
    int line;
    struct mos_learned l;
    struct mos_dt *tree;     /* of a Linux; NULL: none came */
    struct mos_buf answers;  /* all that was asked, and what came */
    const char *heard;       /* before the first question */
    bool known;              /* the workspace has the board */
    size_t compared, differ; /* values of its definition, and those that are others */
};

/* learn-line.c: asks, at the line that is open.  false with an error. */
bool learn_ask(struct learn_job *j);
/* learn-differ.c: what the definition says otherwise, as a table.  false with an error. */
bool learn_differ(struct learn_job *j);
/* learn-draft.c: what came of it as files below `folder`, which must not be there.  false with an
 * error. */
bool learn_write(struct learn_job *j, const char *folder, const char *name);
/* Would it write over something?  false with an error: it would, or the name is none. */
bool learn_may_write(struct learn_job *j, const char *folder, const char *name);

#endif
