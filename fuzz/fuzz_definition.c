/* YAML definitions: parser, schema, merging of parts, references, printing back.  A line of eight
 * hashes ends a part; each stands over those before it, but the second is equal to the first. */
#include "harness.h"

#include "api/run.h"
#include "model/merge.h"

#include <stdlib.h>
#include <string.h>

enum { PARTS = 4 };
static const char divider[] = "\n########\n";

static struct mos_node *parse(struct mos_ctx *ctx, const char *text, size_t length) {
    return mos_yaml_parse(ctx, fuzz_source(ctx, (const uint8_t *)text, length));
}

static struct mos_node *merge_all(struct mos_ctx *ctx, const char *text, size_t length) {
    struct mos_origin *layers = mos_alloc_array(ctx->arena, PARTS, sizeof *layers);
    struct mos_node *merged = NULL;
    for (size_t i = 0; i < PARTS && length; i++) {
        const char *end = i + 1 < PARTS ? strstr(text, divider) : NULL;
        size_t n = end ? (size_t)(end - text) : length;
        struct mos_node *node = parse(ctx, text, n);
        layers[i] = (struct mos_origin){
            .title = "part", .node = node, .below = mos_vec_make(ctx->arena, sizeof(void *))};
        for (size_t k = 0; k < i && !(i == 1 && k == 0); k++)
            mos_vec_push_pointer(&layers[i].below, &layers[k]);
        struct mos_board *part = mos_alloc(ctx->arena, sizeof *part);
        if (node)
            mos_schema_read(ctx, &mos_board_keys, node, MOS_READ_PART, part);
        if (node && node->kind == MOS_NODE_MAP)
            merged = mos_merge(ctx, &mos_board_keys, merged, node, &layers[i], i == 0);
        text += n + (end ? sizeof divider - 1 : 0);
        length -= n + (end ? sizeof divider - 1 : 0);
    }
    return merged;
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    const char *text = mos_strndup(ctx->arena, (const char *)data, size);
    size_t length = strlen(text) < size && memchr(text, 0, size) ? strlen(text) : size;
    struct mos_node *node = merge_all(ctx, text, length);
    if (!node)
        return;
    struct mos_board *board = mos_alloc(ctx->arena, sizeof *board);
    mos_merge_order(ctx, &mos_board_keys, node);
    mos_merge_clashes(ctx, node);
    mos_schema_read(ctx, &mos_board_keys, node, MOS_READ_MERGED, board);
    mos_schema_refer(ctx, board);
    resolved_values(ctx->arena, board);
    if (!ctx->findings.items.count) { /* what is shown can be read back */
        const char *shown = show_resolved(ctx->arena, board);
        if (*shown && !parse(ctx, shown, strlen(shown)) && strlen(shown) < MOS_YAML_LIMIT)
            abort();
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
