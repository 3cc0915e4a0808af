/* Jobs on device trees, for tree.c and tree-report.c only. */
#ifndef MOS_API_TREES_H
#define MOS_API_TREES_H

#include "api/run.h"
#include "tree/text.h"

/* A tree as it was named. */
struct trees_one {
    const char *name;
    struct mos_dt *dt;
    struct mos_dt_phandles phandles;
};

/* tree-report.c */
void trees_claims(mosaicum *m, const struct trees_one *t);
void trees_find(mosaicum *m, const struct trees_one *t, const char *word);
void trees_compare(mosaicum *m, const struct trees_one *a, const struct trees_one *b);
void trees_draw(mosaicum *m, const struct trees_one *t);

#endif
