/* The loader's shell: any text is read and run on a machine with an empty disk and two flashes. */
#include "harness.h"

#include "loaders/loaders.h"
#include "loaders/u-boot/environment.h"
#include "rehearse/rehearse.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static const char variables[] = "bootcmd=run a\0a=if test -n \"$b\"; then run c; fi\0b=1";
    struct mos_map compiled = mos_map_make(ctx->arena);
    enum { DISK = 4096, FLASH = 64 << 10, ERASE = 4096 };
    static const uint64_t bad[] = {1, 3, 15};
    struct mos_io disk = mos_io_memory(ctx->arena, mos_alloc(ctx->arena, DISK), DISK);
    struct mos_io nor = mos_io_memory(ctx->arena, mos_alloc(ctx->arena, FLASH), FLASH);
    struct mos_io nand = mos_io_memory(ctx->arena, mos_alloc(ctx->arena, FLASH), FLASH);
    struct mos_rig_medium media[] = {
        {.name = "disk", .loader = "mmc 0", .kernel = "mmcblk0", .io = &disk},
        {.name = "nor", .loader = "sf 0", .io = &nor},
        {.name = "nand",
         .loader = "nand 0",
         .io = &nand,
         .keeps = true,
         .erase = ERASE,
         .bad = bad,
         .bad_count = sizeof bad / sizeof *bad}};
    mos_environment_find(ctx->arena, (const uint8_t *)variables, sizeof variables, &compiled);
    struct mos_rig machine = {.dialect = mos_dialect_at(0),
                              .cpu = "arm64",
                              .ram = {0x40000000, 16 << 20},
                              .loader_from = 0x40f00000,
                              .media = media,
                              .media_count = sizeof media / sizeof *media,
                              .compiled = &compiled};
    if (size > 4096)
        return;
    mos_rehearsal_type(mos_rehearsal_shell(ctx, &machine),
                       mos_strndup(ctx->arena, (const char *)data, size));
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
