/* Device-tree blobs, as base and as overlay. */
#include "harness.h"

#include "tree/tree.h"

static const char base_text[] = "/dts-v1/; / { a: a { b: b { }; }; c: c { x = <&b>; }; };";

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static const char *const names[] = {"base", "input"};
    struct mos_dt *dt = mos_dt_read_blob(ctx, "input", data, size);
    if (!dt)
        return;
    struct mos_buf out = {.arena = ctx->arena};
    if (dt->overlay) {
        struct mos_dt *base = mos_dt_parse(
            ctx, fuzz_source(ctx, (const uint8_t *)base_text, strlen(base_text)), NULL, NULL, 0);
        mos_dt_resolve(ctx, base);
        mos_dt_apply(ctx, base, dt, 1, names);
        dt = base;
    }
    mos_dt_write_blob(ctx, dt, true, &out);
    if (!mos_dt_read_blob(ctx, "written", out.data, out.length))
        __builtin_trap();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
