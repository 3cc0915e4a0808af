/* Regions with `slots` become one region for each slot, before anything refers to them. */
#ifndef MOS_MODEL_SLOTS_H
#define MOS_MODEL_SLOTS_H

#include "model/yaml.h"

/* The merged definition with slots taken apart; what it shares with files is left as it is. */
struct mos_node *mos_slots_apart(struct mos_ctx *ctx, struct mos_node *board);

#endif
