/* An output folder that appears as a whole or not at all: made aside as NAME.part, synced, and
 * put in its place by one rename. */
#ifndef MOS_BUILD_SET_H
#define MOS_BUILD_SET_H

#include "base/ctx.h"

struct mos_set {
    struct mos_ctx *ctx;
    const char *final, *part, *parent;
    int lock;
    bool locked;
};

/* Locks the place and makes an empty NAME.part, removing what a killed run left. */
bool mos_set_begin(struct mos_set *set, struct mos_ctx *ctx, const char *parent, const char *name);
/* Writes one small file of the set. */
bool mos_set_file(struct mos_set *set, const char *name, const void *bytes, size_t length);
bool mos_set_commit(struct mos_set *set);
/* Removes the part folder; the earlier output stays as it was. */
void mos_set_abandon(struct mos_set *set);

#endif
