/* What both tree targets do with what they have read. */
#ifndef MOS_FUZZ_TREE_HARNESS_H
#define MOS_FUZZ_TREE_HARNESS_H

#include "harness.h"

#include "base/bytes.h"
#include "tree/resources.h"
#include "tree/text.h"

#include <string.h>

/* What is whole lies in the property: every cell of it is looked at. */
static inline void look_at_reference(void *self, size_t index, const struct mos_dt_reference *r) {
    uint32_t *sum = self;
    for (uint32_t i = 0; r->provider && !r->broken && i < r->cells; i++)
        *sum += mos_be32(r->arguments + 4 * (size_t)i) + (uint32_t)index;
}

struct fuzz_claims {
    struct mos_dt_phandles all;
    uint32_t sum;
};

static inline bool look_at_node(void *self, struct mos_dt_node *node) {
    struct fuzz_claims *c = self;
    mos_dt_interrupt_parent(&c->all, node);
    for (const struct mos_dt_property *p = node->properties; p && !mos_dt_off(node); p = p->next) {
        const struct mos_dt_kind *kind = mos_dt_kind_of(node, p->name);
        if (kind && mos_dt_references(&c->all, kind, p, look_at_reference, &c->sum) > p->length / 4)
            __builtin_trap();
    }
    return true;
}

/* What a tree says: its claims; as a source it comes back byte for byte. */
static inline void comes_back(struct mos_ctx *ctx, const struct mos_buf *blob) {
    const char *why, *text;
    struct mos_buf again = {.arena = ctx->arena};
    size_t before = ctx->findings.items.count;
    struct mos_dt *dt = mos_dt_read_blob(ctx, "written", blob->data, blob->length);
    if (!dt || dt->overlay || dt->boot_cpu || !(text = mos_dt_source_text(ctx->arena, dt, &why)))
        return;
    struct mos_dt *back =
        mos_dt_parse(ctx, fuzz_source(ctx, (const uint8_t *)text, strlen(text)), NULL, NULL, 0);
    if (!back)
        __builtin_trap();
    mos_dt_resolve(ctx, back);
    mos_dt_write_blob(ctx, back, false, &again);
    if (again.length != blob->length || memcmp(again.data, blob->data, again.length) != 0 ||
        ctx->findings.items.count != before)
        __builtin_trap();
}

static inline void look_through(struct mos_ctx *ctx, struct mos_dt *dt) {
    struct mos_buf out = {.arena = ctx->arena}, plain = {.arena = ctx->arena};
    struct fuzz_claims claims = {mos_dt_phandles_of(ctx->arena, dt), 0};
    mos_dt_walk(dt->root, look_at_node, &claims);
    mos_dt_claims(ctx->arena, dt, &claims.all);
    mos_dt_write_blob(ctx, dt, false, &plain);
    comes_back(ctx, &plain);
    mos_dt_write_blob(ctx, dt, true, &out);
    if (!mos_dt_read_blob(ctx, "written", out.data, out.length) && !ctx->findings.items.count)
        __builtin_trap();
}

/* Applies an overlay to a small base, or settles a base; then what is written must read back. */
static inline void fuzz_tree(struct mos_ctx *ctx, struct mos_dt *dt) {
    static const char text[] =
        "/dts-v1/; / { i2c0: i2c@1 { #address-cells = <1>; s: sensor@2 { reg = <2>; }; };"
        " uart0: serial { status = \"disabled\"; clocks = <&i2c0>; }; a: a { b: b { }; }; };";
    static const char *const names[] = {"base", "input"};
    if (dt->overlay) {
        struct mos_dt *base = mos_dt_parse(
            ctx, fuzz_source(ctx, (const uint8_t *)text, sizeof text - 1), NULL, NULL, 0);
        mos_dt_resolve(ctx, base);
        mos_dt_apply(ctx, base, dt, 1, names);
        dt = base;
    } else if (!dt->from_blob) {
        mos_dt_resolve(ctx, dt);
    }
    look_through(ctx, dt);
}

#endif
