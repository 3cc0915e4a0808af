/* The reader of squashfs.  The fixtures are stored without compression, so that what the tables say
 * is within reach of a change of one byte. */
#include "volume_harness.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_io io = volume_of(ctx, data, size);
    struct mos_volume_info info;
    uint64_t end = 0;
    struct mos_vec problems = mos_vec_make(ctx->arena, sizeof(char *));
    struct mos_sink sink = {&end, take_entry, take_data, take_end};
    struct mos_read_request request = {.sink = &sink, .problems = &problems};
    if (mos_fs_squashfs.probe(&io, ctx->arena, &info) && !info.damaged)
        mos_fs_squashfs.stream(ctx, &io, &request);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
