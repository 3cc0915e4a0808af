#include "ledger/accepted.h"

#include "base/text.h"

#include <jansson.h>
#include <string.h>

enum { MOST_RESULT = 16 << 20 };

static const char *text_of(const json_t *o, const char *key) {
    const char *text = json_string_value(json_object_get(o, key));
    return text ? text : "";
}

static void add_rows(struct mos_arena *arena, const json_t *table, struct mos_map *out) {
    size_t i;
    const json_t *row;
    json_array_foreach(json_object_get(table, "rows"), i, row) {
        const char *found = text_of(row, "found");
        found = *found ? found : text_of(row, "expected"); /* it is the same */
        mos_map_set(out, mos_strdup(arena, text_of(row, "check")),
                    (void *)(uintptr_t)mos_printf(arena, "%s: %s", text_of(row, "result"), found));
    }
}

bool mos_accepted_facts(struct mos_ctx *ctx, const char *path, struct mos_map *out) {
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(ctx, &ignored);
    char *data;
    size_t length, i;
    *out = mos_map_make(ctx->arena);
    if (!mos_read_aside(&quiet, path, MOST_RESULT, &data, &length) || !length || *data != '{')
        return false;
    json_t *root = json_loadb(data, length, 0, NULL);
    const json_t *table;
    bool good = strcmp(text_of(root, "command"), "listen") == 0;
    bool found = false;
    if (good)
        json_array_foreach(json_object_get(root, "report"), i,
                           table) if (strcmp(text_of(table, "key"), "acceptance") == 0) {
            add_rows(ctx->arena, table, out);
            found = true;
        }
    json_decref(root);
    return found;
}
