/* Kernel modules, and the binary index by which they are found: what is read is written again, and
 * then says the same. */
#include "harness.h"

#include "linux/module-index.h"
#include "linux/module.h"

static void read_trie(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_vec first = mos_vec_make(ctx->arena, sizeof(struct mos_trie_value)), second = first;
    struct mos_buf out = {.arena = ctx->arena};
    if (!mos_trie_read(ctx->arena, data, size, &first))
        return;
    if (!mos_trie_write(&out, &first)) /* sorted, and each once */
        return;
    if (!mos_trie_read(ctx->arena, (const uint8_t *)out.data, out.length, &second) ||
        first.count != second.count)
        __builtin_trap();
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_vec modules = mos_vec_make(ctx->arena, sizeof(void *)),
                   files = mos_vec_make(ctx->arena, sizeof(struct mos_index_file)),
                   symbols = mos_vec_make(ctx->arena, sizeof(char *));
    struct mos_module_info info;
    struct mos_index_lack lacking;
    read_trie(ctx, data, size);
    mos_module_symbols(ctx->arena, data, size, &symbols);
    if (!mos_module_read(ctx->arena, data, size, &info))
        return;
    struct mos_indexed_module m = {"tide",    "kernel/tide.ko", info.needs, info.aliases,
                                   info.soft, info.weak,        symbols};
    const char *text = mos_strndup(ctx->arena, (const char *)data, size);
    struct mos_index_extras extras = {text, text, data, size};
    mos_vec_push_pointer(&modules, &m);
    mos_module_index(ctx->arena, &modules, &extras, &files, &lacking);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
