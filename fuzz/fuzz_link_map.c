/* A linker's map: no byte of it counts twice, and none for an object without a name. */
#include "harness.h"

#include "linux/link-map.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_map all =
        mos_link_map_read(ctx->arena, mos_strndup(ctx->arena, (const char *)data, size));
    for (size_t i = 0; i < all.count; i++) {
        const struct mos_link_size *s = all.items[i].value;
        if (!*s->object || mos_map_get(&all, s->object) != s)
            __builtin_trap();
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
