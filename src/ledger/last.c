/* Reading back what the last build of a board recorded. */
#include "ledger/ledger.h"

#include <jansson.h>
#include <string.h>

enum { LEDGER_LIMIT = 256 << 20 };

static void read_budgets(struct mos_ctx *ctx, const json_t *root, struct mos_ledger_last *out) {
    json_t *item;
    size_t i;
    json_array_foreach(json_object_get(root, "budgets"), i, item) {
        const char *name = json_string_value(json_object_get(item, "name"));
        uint64_t *used = mos_alloc(ctx->arena, sizeof *used);
        *used = (uint64_t)json_integer_value(json_object_get(item, "used"));
        if (name)
            mos_map_set(&out->budgets, mos_strdup(ctx->arena, name), used);
    }
}

bool mos_ledger_last(struct mos_ctx *ctx, const char *folder, struct mos_ledger_last *out) {
    const char *path = mos_path_join(ctx->arena, folder, "ledger.json");
    struct mos_error ignored = {0}, *saved = ctx->error;
    char *data;
    size_t length;
    if (!mos_exists(ctx, path))
        return false;
    ctx->error = &ignored;
    bool ok = mos_read_file(ctx, path, LEDGER_LIMIT, &data, &length);
    ctx->error = saved;
    json_t *root = ok ? json_loadb(data, length, 0, NULL) : NULL;
    if (!root)
        return false;
    const char *stamp = json_string_value(json_object_get(root, "stamp"));
    *out = (struct mos_ledger_last){.stamp = stamp ? mos_strdup(ctx->arena, stamp) : NULL,
                                    .budgets = mos_map_make(ctx->arena)};
    read_budgets(ctx, root, out);
    json_decref(root);
    return true;
}
