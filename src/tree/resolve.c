/* Phandles and references of a tree. */
#include "tree/tree.h"

#include "base/bytes.h"
#include "base/text.h"

#include <assert.h>
#include <string.h>

/* ---- phandles ---- */

static bool own_phandle(const struct mos_dt_node *node, uint32_t *value) {
    return mos_dt_cell(node, "phandle", value) || mos_dt_cell(node, "linux,phandle", value);
}

static bool raise_highest(void *self, struct mos_dt_node *node) {
    uint32_t *highest = self, value;
    if (own_phandle(node, &value) && value > *highest && value < 0xffffffff)
        *highest = value;
    return true;
}

uint32_t mos_dt_highest_phandle(const struct mos_dt *dt) {
    uint32_t highest = 0;
    mos_dt_walk(dt->root, raise_highest, &highest);
    return highest;
}

enum { MOST_NOTED = 1 << 16 };

static bool note_number(void *self, struct mos_dt_node *node) {
    struct mos_dt *dt = self;
    uint32_t value;
    if (!own_phandle(node, &value) || !value || value > MOST_NOTED)
        return true;
    if (value > dt->taken.length)
        mos_buf_zeros(&dt->taken, value - dt->taken.length);
    dt->taken.data[value - 1] = 1;
    return true;
}

/* The lowest number that no node has. */
static uint32_t free_phandle(struct mos_dt *dt) {
    if (!dt->noted) {
        dt->taken = (struct mos_buf){.arena = dt->arena};
        mos_dt_walk(dt->root, note_number, dt);
        dt->next_phandle = 1;
        dt->noted = true;
    }
    while (dt->next_phandle <= dt->taken.length && dt->taken.data[dt->next_phandle - 1])
        dt->next_phandle++;
    return dt->next_phandle++;
}

uint32_t mos_dt_phandle(struct mos_dt *dt, struct mos_dt_node *node) {
    uint32_t value;
    node->referenced = true;
    if (own_phandle(node, &value))
        return value;
    value = free_phandle(dt);
    uint8_t *cell = mos_alloc(dt->arena, 4);
    mos_put_be32(cell, value);
    mos_dt_set(dt, node, "phandle", cell, 4);
    return value;
}

/* ---- references ---- */

struct resolver {
    struct mos_ctx *ctx;
    struct mos_dt *dt;
};

static void unknown_target(struct resolver *r, const struct mos_dt_mark *mark) {
    struct mos_finding *f =
        mos_find(&r->ctx->findings, MOS_RULE_TREE_TARGET_MISSING,
                 *mark->name == '/' ? "There is no node %s in %s." : "There is no label %s in %s.",
                 mark->name, r->dt->shown_path);
    mos_finding_at(&r->ctx->findings, f, mark->place);
    struct mos_vec labels = mos_dt_labels(r->dt);
    const char *near = *mark->name == '/' ? NULL : mos_near(mark->name, labels.items, labels.count);
    if (near)
        mos_finding_try(&r->ctx->findings, f, "Write &%s.", near);
}

/* Puts a path's text in place of the mark and moves the marks behind it. */
static void insert_path(struct resolver *r, struct mos_dt_property *p, struct mos_dt_mark *mark,
                        const char *path) {
    size_t n = strlen(path) + 1;
    uint8_t *data = mos_alloc(r->ctx->arena, p->length + n);
    memcpy(data, p->data, mark->offset);
    memcpy(data + mark->offset, path, n);
    memcpy(data + mark->offset + n, p->data + mark->offset, p->length - mark->offset);
    p->data = data;
    p->length += n;
    for (size_t i = 0; i < p->marks.count; i++) {
        struct mos_dt_mark *other = mos_vec_at(&p->marks, i);
        if (other > mark && other->offset >= mark->offset)
            other->offset += n;
    }
}

static void resolve_property(struct resolver *r, struct mos_dt_property *p) {
    uint8_t *own = NULL; /* a copy of the value: it belongs to whoever gave it */
    for (size_t i = 0; i < p->marks.count; i++) {
        struct mos_dt_mark *m = mos_vec_at(&p->marks, i);
        struct mos_dt_node *target =
            *m->name == '/' ? mos_dt_find(r->dt, m->name) : mos_dt_by_label(r->dt, m->name);
        if (!target) {
            if (!r->dt->overlay)
                unknown_target(r, m);
            continue;
        }
        target->referenced = true;
        if (m->kind == MOS_DT_PHANDLE) {
            uint32_t phandle = mos_dt_phandle(r->dt, target);
            if (!own) {
                own = mos_alloc(r->ctx->arena, p->length);
                memcpy(own, p->data, p->length);
                p->data = own;
            }
            mos_put_be32(own + m->offset, phandle);
        } else {
            insert_path(r, p, m, mos_dt_path(r->ctx->arena, target));
            own = NULL;
        }
    }
}

static bool resolve_node(void *self, struct mos_dt_node *node) {
    for (struct mos_dt_property *p = node->properties; p; p = p->next)
        resolve_property(self, p);
    return true;
}

static bool drop_unused(void *self, struct mos_dt_node *node) {
    (void)self;
    if (node->omit_if_unused && !node->referenced && node->parent)
        mos_dt_remove_node(node);
    return true;
}

void mos_dt_resolve(struct mos_ctx *ctx, struct mos_dt *dt) {
    struct resolver r = {ctx, dt};
    mos_dt_walk(dt->root, resolve_node, &r);
    mos_dt_walk(dt->root, drop_unused, NULL);
}
