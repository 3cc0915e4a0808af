/* YAML definitions: parser, schema, references, printing back. */
#include "harness.h"

#include "model/schema.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_node *node = mos_yaml_parse(ctx, fuzz_source(ctx, data, size));
    if (!node)
        return;
    struct mos_board *board = mos_alloc(ctx->arena, sizeof *board);
    mos_schema_read(ctx, &mos_board_keys, node, MOS_READ_WHOLE, board);
    mos_schema_refer(ctx, board);
    mos_findings_sort(&ctx->findings);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
