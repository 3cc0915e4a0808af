/* An output folder that appears as a whole or not at all: made aside as NAME.part, synced, and
 * put in its place by one rename.
 *
 * A folder that stands there already is only replaced when it is provably an earlier output of the
 * same selector: it holds a ledger of ours that says so, and nothing that this ledger does not
 * list. The same goes for what a killed run left under NAME.part: a folder that we marked, or such
 * an output, or an empty one.  Anything else is refused (MOS_ERROR_SAFETY), named, and left. */
#ifndef MOS_BUILD_SET_H
#define MOS_BUILD_SET_H

#include "base/ctx.h"

struct mos_set {
    struct mos_ctx *ctx;
    const char *final, *part, *parent, *selector;
    int lock;
    bool locked, begun; /* begun: `part` is ours */
};

/* Locks the place and makes an empty NAME.part.  precious: `count` paths (the workspace, its
 * pieces) that may not lie in what is replaced. */
bool mos_set_begin(struct mos_set *set, struct mos_ctx *ctx, const char *parent, const char *name,
                   const char *const *precious, size_t count);
/* The path of a file of the set while it is made; NULL with ctx->error where `name` is no name. */
const char *mos_set_path(struct mos_set *set, const char *name);
/* Writes one small file of the set. */
bool mos_set_file(struct mos_set *set, const char *name, const void *bytes, size_t length);
/* A link in the set to another of its files. */
bool mos_set_link(struct mos_set *set, const char *name, const char *to);
bool mos_set_commit(struct mos_set *set);
/* Removes the part folder; the earlier output stays as it was. */
void mos_set_abandon(struct mos_set *set);

#endif
