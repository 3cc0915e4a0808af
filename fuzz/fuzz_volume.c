/* Readers of volumes: ext2 to ext4, FAT, cpio ramdisks, with all files and their attributes. */
#include "volume_harness.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_io io = volume_of(ctx, data, size);
    struct mos_volume_info info;
    mos_fs_probe(&io, ctx->arena, &info);
    stream_all(ctx, &io);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
