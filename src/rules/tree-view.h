/* A tree as its rules look at it; for the rules/tree-*.c only. */
#ifndef MOS_RULES_TREE_VIEW_H
#define MOS_RULES_TREE_VIEW_H

#include "plan/plan.h"
#include "tree/resources.h"

struct mos_tree_view {
    const struct mos_plan *plan;
    const struct mos_dt *dt;
    struct mos_dt_phandles phandles;
    struct mos_vec claims; /* of struct mos_dt_claim */
    struct mos_findings *list;
    struct mos_arena *arena;
    const struct mos_dt_node *loop; /* of a circle of supplies that was told; or NULL */
    size_t told; /* of this tree: the rest follows from the same mistake, as a rule */
};
enum { MOS_TREE_MOST_TOLD = 12 };

/* Is it of the user's files?  What others say of their own trees is their business. */
bool mos_tree_is_ours(const struct mos_dt_property *p); /* NULL: no */
bool mos_tree_has_our_node(const struct mos_dt_node *n);
/* The status of a node, or of one above it, that the user's files set; NULL: none did. */
const struct mos_dt_property *mos_tree_our_status(const struct mos_dt_node *n);
/* Where a property stands, else its node, else its tree. */
struct mos_place mos_tree_place(const struct mos_tree_view *v, const struct mos_dt_node *n,
                                const struct mos_dt_property *p);
/* A finding at a property or node; NULL: too many were told of this tree. */
struct mos_finding *mos_tree_tell(struct mos_tree_view *v, enum mos_rule_id rule,
                                  const struct mos_dt_node *n, const struct mos_dt_property *p,
                                  const char *text);
static inline const char *mos_tree_path(const struct mos_tree_view *v,
                                        const struct mos_dt_node *n) {
    return mos_dt_path(v->arena, n);
}

/* tree-address.c: addresses that do not fit their bus, and two devices on one. */
void mos_tree_check_addresses(struct mos_tree_view *v);
/* tree-shared.c: what two devices take that only one can have. */
void mos_tree_check_shared(struct mos_tree_view *v);
/* tree-sense.c: what cannot work, whatever the rest of the tree says. */
void mos_tree_check_sense(struct mos_tree_view *v);
/* tree-speed.c: speeds and modes that a bus cannot have. */
void mos_tree_check_speeds(struct mos_tree_view *v);

#endif
