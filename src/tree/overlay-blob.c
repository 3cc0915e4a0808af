/* An overlay as a blob that a loader applies: what it refers to outside of itself is listed by
 * label in __fixups__, what it refers to inside in __local_fixups__ (the kernel's
 * Documentation/devicetree/dynamic-resolution-notes). */
#include "tree/tree.h"

#include "base/bytes.h"

#include <string.h>

struct lister {
    struct mos_ctx *ctx;
    struct mos_dt *dt;
    struct mos_map outside; /* label -> struct mos_buf *: "path:property:offset" texts */
    struct mos_dt_node *local;
};

/* The node that mirrors another one below __local_fixups__, made on the way. */
static struct mos_dt_node *mirror(struct lister *l, const struct mos_dt_node *node) {
    if (!node->parent)
        return l->local;
    struct mos_dt_node *above = mirror(l, node->parent);
    struct mos_dt_node *there = mos_dt_child(above, node->name);
    return there ? there : mos_dt_add_node(l->dt, above, node->name);
}

static void list_outside(struct lister *l, const struct mos_dt_node *node,
                         const struct mos_dt_property *p, const struct mos_dt_mark *m) {
    struct mos_buf *b = mos_map_get(&l->outside, m->name);
    if (!b) {
        b = mos_alloc(l->ctx->arena, sizeof *b);
        b->arena = l->ctx->arena;
        mos_map_set(&l->outside, m->name, b);
    }
    mos_buf_printf(b, "%s:%s:%zu", mos_dt_path(l->ctx->arena, node), p->name, m->offset);
    mos_buf_char(b, 0);
}

static void list_inside(struct lister *l, struct mos_dt_node *node, struct mos_dt_property *p,
                        const struct mos_dt_mark *m, struct mos_dt_node *target) {
    uint8_t *copy = mos_alloc(l->ctx->arena, p->length + 1);
    struct mos_dt_node *at = mirror(l, node);
    const struct mos_dt_property *old = mos_dt_property(at, p->name);
    struct mos_buf offsets = {.arena = l->ctx->arena};
    memcpy(copy, p->data, p->length);
    mos_put_be32(copy + m->offset, mos_dt_phandle(l->dt, target));
    p->data = copy;
    if (old)
        mos_buf_add(&offsets, old->data, old->length);
    mos_buf_be32(&offsets, (uint32_t)m->offset);
    mos_dt_set(l->dt, at, p->name, offsets.data, offsets.length);
}

/* A path as text has no place in the lists: whoever applies the blob cannot put it in. */
static void refuse_path(const struct lister *l, const struct mos_dt_node *node,
                        const struct mos_dt_property *p, const struct mos_dt_mark *m) {
    struct mos_findings *list = &l->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_TREE_TARGET_MISSING,
                 "%s of %s is the path of %s, which only the tree that %s goes on can tell.",
                 p->name, mos_dt_path(l->ctx->arena, node), m->name, l->dt->shown_path);
    mos_finding_at(list, f, m->place);
    mos_finding_why(list, f, "An overlay as a blob has phandles of its base put in, and no paths.");
    mos_finding_try(list, f, "Write the path as a text: \"/path/of/the/node\".");
}

static bool list_node(void *self, struct mos_dt_node *node) {
    struct lister *l = self;
    for (struct mos_dt_property *p = node->properties; p; p = p->next)
        for (size_t i = 0; i < p->marks.count; i++) {
            const struct mos_dt_mark *m = mos_vec_at(&p->marks, i);
            if (m->kind == MOS_DT_PATH)
                refuse_path(l, node, p, m);
            if (m->kind != MOS_DT_PHANDLE || p->length < 4 || m->offset > p->length - 4)
                continue;
            struct mos_dt_node *target =
                *m->name == '/' ? mos_dt_find(l->dt, m->name) : mos_dt_by_label(l->dt, m->name);
            if (target)
                list_inside(l, node, p, m, target);
            else
                list_outside(l, node, p, m);
        }
    return true;
}

void mos_dt_write_overlay(struct mos_ctx *ctx, struct mos_dt *dt, bool with_symbols,
                          struct mos_buf *out) {
    struct mos_dt *lists = mos_dt_new(ctx->arena, dt->shown_path);
    struct lister l = {ctx, dt, mos_map_make(ctx->arena),
                       mos_dt_add_node(lists, lists->root, "__local_fixups__")};
    mos_dt_walk(dt->root, list_node, &l);
    if (with_symbols)
        mos_dt_keep_labels(dt);
    if (l.outside.count) {
        struct mos_dt_node *f = mos_dt_add_node(dt, dt->root, "__fixups__");
        for (size_t i = 0; i < l.outside.count; i++) {
            const struct mos_buf *b = l.outside.items[i].value;
            mos_dt_set(dt, f, l.outside.items[i].key, b->data, b->length);
        }
    }
    if (l.local->first_child) {
        mos_dt_attach(dt->root, l.local);
    }
    mos_dt_write_blob(ctx, dt, false, out);
}
