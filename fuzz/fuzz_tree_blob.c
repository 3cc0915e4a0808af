/* Device-tree blobs, as base and as overlay. */
#include "tree_harness.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_dt *dt = mos_dt_read_blob(ctx, "input", data, size);
    if (dt)
        fuzz_tree(ctx, dt);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
