/* An overlay and the tree that it goes on, both as sources with a NUL between them. */
#include "tree_harness.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static const char *const names[] = {"base", "overlay"};
    const uint8_t *middle = size ? memchr(data, 0, size) : NULL;
    if (!middle)
        return;
    struct mos_dt *base =
        mos_dt_parse(ctx, fuzz_source(ctx, data, (size_t)(middle - data)), NULL, NULL, 0);
    if (!base || base->overlay)
        return;
    mos_dt_resolve(ctx, base);
    struct mos_dt *overlay = mos_dt_parse(
        ctx, fuzz_source(ctx, middle + 1, size - (size_t)(middle + 1 - data)), NULL, NULL, 0);
    if (overlay && overlay->overlay && mos_dt_apply(ctx, base, overlay, 1, names))
        look_through(ctx, base);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
