/* Environment blocks (the sum is put right first, so that what follows is reached), their texts,
 * and the variables that values use. */
#include "harness.h"

#include "base/bytes.h"
#include "loaders/u-boot/environment.h"
#include "loaders/u-boot/variables.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_map read, text = mos_map_make(ctx->arena), again;
    bool flag;
    mos_variables_read_text(ctx, fuzz_source(ctx, data, size), &text);
    for (size_t i = 0; i < text.count; i++) {
        const struct mos_loader_variable *v = text.items[i].value;
        mos_shell_variables(ctx->arena, v->value, strlen(v->value));
    }
    if (size < 6)
        return;
    uint8_t *copy = (uint8_t *)mos_strndup(ctx->arena, (const char *)data, size);
    mos_put_le32(copy, mos_crc32(0, copy + 4, size - 4));
    if (!mos_environment_read(ctx->arena, copy, size, &read, &flag))
        __builtin_trap();
    struct mos_buf out = {.arena = ctx->arena};
    uint64_t need = mos_environment_size(&read, flag);
    mos_environment_write(&out, &read, need, flag);
    if (!mos_environment_read(ctx->arena, (uint8_t *)out.data, out.length, &again, &flag) ||
        again.count != read.count)
        __builtin_trap();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
