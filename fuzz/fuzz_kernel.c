/* Kernels, as far as their headers and what is packed in them tell, and their match tables;
 * programs, and variables inside of a loader's binary. */
#include "harness.h"

#include "linux/image.h"
#include "linux/match.h"
#include "linux/program.h"
#include "loaders/u-boot/environment.h"

/* What is found can be kept, and says the same again. */
static void find_tables(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_match m, again;
    struct mos_buf first = {.arena = ctx->arena}, second = {.arena = ctx->arena};
    bool wide = size & 8;
    if (!mos_kernel_expand(ctx, &data, &size, &wide))
        ctx->error->kind = MOS_ERROR_NONE;
    mos_match_find(ctx->arena, data, size, wide, &m);
    mos_match_write(&m, &first);
    if (!mos_match_read(ctx->arena, mos_buf_string(&first), &again))
        __builtin_trap();
    mos_match_write(&again, &second);
    if (first.length != second.length ||
        (first.length && memcmp(first.data, second.data, first.length) != 0))
        __builtin_trap();
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_kernel_header header;
    struct mos_program_info program;
    struct mos_kernel_facts facts;
    struct mos_map map;
    size_t head = size < MOS_KERNEL_HEAD ? size : MOS_KERNEL_HEAD;
    if (mos_kernel_read(data, head, size, &header) &&
        mos_kernel_measure(ctx, data, size, &header, &facts))
        mos_kernel_apply(&header, &facts);
    find_tables(ctx, data, size);
    mos_program_read(ctx->arena, data, size, &program);
    mos_kernel_banner(ctx->arena, data, size);
    mos_environment_find(ctx->arena, data, size, &map);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
