/* Trees of Kconfig files with what is known of their probes. */
#ifndef MOS_PLAN_KCONFIG_H
#define MOS_PLAN_KCONFIG_H

#include "kconfig/variables.h"

/* Reads a tree; results of its probes come from the store, and go there.  NULL with ctx->error. */
struct mos_kc_tree *mos_kc_open(struct mos_ctx *ctx, const struct mos_kc_world *world);

#endif
