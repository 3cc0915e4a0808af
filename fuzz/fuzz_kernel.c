/* Kernels, as far as their headers and what is packed in them tell; programs, and variables inside
 * of a loader's binary. */
#include "harness.h"

#include "linux/image.h"
#include "linux/program.h"
#include "loaders/u-boot/environment.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_kernel_header header;
    struct mos_program_info program;
    struct mos_kernel_facts facts;
    struct mos_map map;
    size_t head = size < MOS_KERNEL_HEAD ? size : MOS_KERNEL_HEAD;
    if (mos_kernel_read(data, head, size, &header) &&
        mos_kernel_measure(ctx, data, size, &header, &facts))
        mos_kernel_apply(&header, &facts);
    mos_program_read(ctx->arena, data, size, &program);
    mos_kernel_banner(ctx->arena, data, size);
    mos_environment_find(ctx->arena, data, size, &map);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
