/* What the files of this folder share about workspaces. */
#ifndef MOS_MODEL_WORKSPACE_INTERNAL_H
#define MOS_MODEL_WORKSPACE_INTERNAL_H

#include "model/merge.h"
#include "model/model.h"

/* Variants of a board with those that its traits bring: a map of names; NULL: there are none. */
const struct mos_node *mos_collect_variants(struct mos_ctx *ctx, const struct mos_workspace *w,
                                            const struct mos_part *board);

#endif
