/* The loader's shell: any text is read and run on a machine without media. */
#include "harness.h"

#include "loaders/loaders.h"
#include "loaders/u-boot/environment.h"
#include "rehearse/rehearse.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static const char variables[] = "bootcmd=run a\0a=if test -n \"$b\"; then run c; fi\0b=1";
    struct mos_map compiled = mos_map_make(ctx->arena);
    struct mos_io io = mos_io_memory(ctx->arena, mos_alloc(ctx->arena, 4096), 4096);
    struct mos_rig_medium medium = {"disk", "mmc 0", "mmcblk0", &io};
    mos_environment_find(ctx->arena, (const uint8_t *)variables, sizeof variables, &compiled);
    struct mos_rig machine = {.dialect = mos_dialect_at(0),
                              .cpu = "arm64",
                              .ram = {0x40000000, 16 << 20},
                              .loader_from = 0x40f00000,
                              .media = &medium,
                              .media_count = 1,
                              .compiled = &compiled};
    if (size > 4096)
        return;
    mos_rehearsal_type(mos_rehearsal_shell(ctx, &machine),
                       mos_strndup(ctx->arena, (const char *)data, size));
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
