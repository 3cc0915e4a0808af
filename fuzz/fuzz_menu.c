/* Boot menu files, read and written again: what was understood stays the same. */
#include "harness.h"

#include "boot/menu.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_menu m = mos_menu_read(ctx->arena, (const char *)data, size);
    struct mos_buf out = {.arena = ctx->arena};
    mos_menu_write(&m, "again", &out);
    struct mos_menu again = mos_menu_read(ctx->arena, mos_buf_string(&out), out.length);
    if (again.entries.count != m.entries.count)
        __builtin_trap();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
