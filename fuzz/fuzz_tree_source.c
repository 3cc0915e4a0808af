/* Device-tree sources: parsed, references settled, written as a blob; plugins applied to a base. */
#include "harness.h"

#include "tree/tree.h"

static const char base_text[] =
    "/dts-v1/; / { i2c0: i2c@1 { #address-cells = <1>; s: sensor@2 { reg = <2>; }; };"
    " uart0: serial { status = \"disabled\"; clocks = <&i2c0>; }; };";

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static const char *const names[] = {"base", "input"};
    struct mos_dt *dt = mos_dt_parse(ctx, fuzz_source(ctx, data, size), NULL, NULL, 0);
    if (!dt)
        return;
    struct mos_buf out = {.arena = ctx->arena};
    if (dt->overlay) {
        struct mos_dt *base = mos_dt_parse(
            ctx, fuzz_source(ctx, (const uint8_t *)base_text, strlen(base_text)), NULL, NULL, 0);
        mos_dt_resolve(ctx, base);
        mos_dt_apply(ctx, base, dt, 1, names);
        dt = base;
    } else {
        mos_dt_resolve(ctx, dt);
    }
    mos_dt_write_blob(ctx, dt, true, &out);
    if (!mos_dt_read_blob(ctx, "written", out.data, out.length) && !ctx->findings.items.count)
        __builtin_trap(); /* what we write we can read */
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
