#include "rules/tree-view.h"

bool mos_tree_is_ours(const struct mos_dt_property *p) {
    return p && (p->set_by || (p->place.source && !p->place.source->outside));
}

bool mos_tree_has_our_node(const struct mos_dt_node *n) {
    return n->added_by || (n->place.source && !n->place.source->outside);
}

const struct mos_dt_property *mos_tree_our_status(const struct mos_dt_node *n) {
    for (; n; n = n->parent) {
        const struct mos_dt_property *p = mos_dt_property(n, "status");
        if (mos_tree_is_ours(p))
            return p;
    }
    return NULL;
}

struct mos_place mos_tree_place(const struct mos_tree_view *v, const struct mos_dt_node *n,
                                const struct mos_dt_property *p) {
    if (p && (p->place.source || p->set_by)) /* an overlay that is a blob has no lines */
        return p->place;
    return n && (n->place.source || n->added_by) ? n->place : v->dt->place;
}

struct mos_finding *mos_tree_tell(struct mos_tree_view *v, enum mos_rule_id rule,
                                  const struct mos_dt_node *n, const struct mos_dt_property *p,
                                  const char *text) {
    if (++v->told > MOS_TREE_MOST_TOLD)
        return NULL;
    struct mos_finding *f = mos_find(v->list, rule, "%s", text);
    mos_finding_at(v->list, f, mos_tree_place(v, n, p));
    return f;
}
