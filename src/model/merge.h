/* Merging definitions: traits, features, board and variants become one tree of nodes.
 *
 * Each is a origin; they are merged in order.  Maps of names merge by name and records by key; a
 * scalar or a list takes the place of the one before it, which is kept as its trail; `~name`
 * removes; `after:` and `before:` move a named thing.  Two origins of equal rank (neither takes on
 * the other) that set one value differently are a finding, unless a origin above both settles it.
 */
#ifndef MOS_MODEL_MERGE_H
#define MOS_MODEL_MERGE_H

#include "model/schema.h"

struct mos_origin {
    const char *title;           /* "trait soc/tern64", "board curlew", "variant field" */
    const struct mos_node *node; /* its map of keys; never changed */
    struct mos_vec below;        /* of const struct mos_origin *: all that it may override */
    /* A feature adds to a board: what both state stands where the board has it. */
    bool adds, orders;
};

/* Adds `upper` to `lower` (NULL: nothing yet) by the keys of a record; both stay as they are.
 * `keep_removals`: ~names stay in the result, for parts that are merged into something else
 * later.  Findings: removals of what is not there. */
struct mos_node *mos_merge(struct mos_ctx *ctx, const struct mos_keys *keys,
                           const struct mos_node *lower, const struct mos_node *upper,
                           const struct mos_origin *origin, bool keep_removals);
/* The same for a map of names. */
struct mos_node *mos_merge_named(struct mos_ctx *ctx, const struct mos_key *key,
                                 const struct mos_node *lower, const struct mos_node *upper,
                                 const struct mos_origin *origin, bool keep_removals);
/* Puts named things where after: and before: want them and takes these keys out.  Findings: what
 * they name is not there, or they go round in a circle. */
void mos_merge_order(struct mos_ctx *ctx, const struct mos_keys *keys, struct mos_node *node);
/* Findings for values that origins of equal rank set differently (rule board.trait-clash). */
void mos_merge_clashes(struct mos_ctx *ctx, const struct mos_node *node);

#endif
