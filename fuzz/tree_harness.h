/* What both tree targets do with what they have read. */
#ifndef MOS_FUZZ_TREE_HARNESS_H
#define MOS_FUZZ_TREE_HARNESS_H

#include "harness.h"

#include "tree/tree.h"

/* Applies an overlay to a small base, or settles a base; then what is written must read back. */
static inline void fuzz_tree(struct mos_ctx *ctx, struct mos_dt *dt) {
    static const char text[] =
        "/dts-v1/; / { i2c0: i2c@1 { #address-cells = <1>; s: sensor@2 { reg = <2>; }; };"
        " uart0: serial { status = \"disabled\"; clocks = <&i2c0>; }; a: a { b: b { }; }; };";
    static const char *const names[] = {"base", "input"};
    struct mos_buf out = {.arena = ctx->arena};
    if (dt->overlay) {
        struct mos_dt *base = mos_dt_parse(
            ctx, fuzz_source(ctx, (const uint8_t *)text, sizeof text - 1), NULL, NULL, 0);
        mos_dt_resolve(ctx, base);
        mos_dt_apply(ctx, base, dt, 1, names);
        dt = base;
    } else if (!dt->from_blob) {
        mos_dt_resolve(ctx, dt);
    }
    mos_dt_write_blob(ctx, dt, true, &out);
    if (!mos_dt_read_blob(ctx, "written", out.data, out.length) && !ctx->findings.items.count)
        __builtin_trap();
}

#endif
