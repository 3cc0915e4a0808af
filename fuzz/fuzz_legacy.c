/* Legacy headers; the payload wrapped by us must read back. */
#include "harness.h"

#include "loaders/u-boot/legacy.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_legacy header;
    const char *problem;
    mos_legacy_read(data, size, &header, &problem);
    struct mos_buf out = {.arena = ctx->arena};
    mos_legacy_script(&out, "fuzz", 0, (const char *)data, size);
    if (!mos_legacy_read((const uint8_t *)out.data, out.length, &header, &problem) ||
        header.size != size + 8)
        __builtin_trap();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
