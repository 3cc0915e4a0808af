/* Configuration fragments: two parts cut at the first NUL, merged. */
#include "harness.h"

#include "kconfig/fragment.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    const uint8_t *cut = memchr(data, 0, size);
    size_t first = cut ? (size_t)(cut - data) : size;
    struct mos_config_part *parts[] = {
        mos_config_read(ctx, "first", fuzz_source(ctx, data, first)),
        mos_config_read(ctx, "second", fuzz_source(ctx, data + first, size - first))};
    struct mos_map merged = mos_config_merge(ctx, parts, 2);
    size_t length;
    const char *text = mos_config_text(ctx, &merged, &length);
    struct mos_config_part *again =
        mos_config_read(ctx, "again", fuzz_source(ctx, (const uint8_t *)text, length));
    if (again->settings.count != merged.count)
        __builtin_trap(); /* what we write we can read */
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return size ? fuzz_run(data, size, body) : 0;
}
