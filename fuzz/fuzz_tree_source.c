/* Device-tree sources: parsed, references settled, written as a blob; plugins applied to a base. */
#include "tree_harness.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_dt *dt = mos_dt_parse(ctx, fuzz_source(ctx, data, size), NULL, NULL, 0);
    if (dt)
        fuzz_tree(ctx, dt);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
