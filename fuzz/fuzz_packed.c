/* Compressed images: unpacked into memory, at most 32 MiB. */
#include "harness.h"

#include "content/content.h"
#include "fs/fs.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_unpacked u;
    struct mos_volume_info info;
    if (!mos_compression_of(data, size))
        return;
    if (mos_unpack_memory(ctx, data, size, 32 << 20, &u))
        mos_fs_probe(&u.io, ctx->arena, &info);
    mos_unpack_close(&u);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
