/* Headers of kernels and programs, and variables inside of a loader's binary. */
#include "harness.h"

#include "boot/environment.h"
#include "linux/image.h"
#include "linux/program.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_kernel_header header;
    struct mos_program_info program;
    struct mos_map map;
    mos_kernel_read(data, size, size, &header);
    mos_program_read(ctx->arena, data, size, &program);
    mos_kernel_banner(ctx->arena, data, size);
    mos_environment_find(ctx->arena, data, size, &map);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
