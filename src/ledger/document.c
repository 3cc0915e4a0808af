#include "ledger/document.h"

#include "base/text.h"

#include <errno.h>
#include <jansson.h>
#include <string.h>

enum { LARGEST = 64 << 20 }; /* bytes of a document */

/* What an item of a list is called. */
static const char *item_name(const json_t *item, size_t index, struct mos_arena *arena) {
    const char *name = json_string_value(json_object_get(item, "name"));
    if (!name)
        name = json_string_value(json_object_get(item, "file"));
    return name ? name : mos_printf(arena, "%zu", index);
}

static void flatten(struct mos_arena *arena, json_t *value, const char *path, unsigned depth,
                    struct mos_map *out) {
    const char *key, *text = NULL;
    json_t *item;
    size_t i;
    const char *dot = *path ? "." : "";
    if (depth > 6)
        return;
    json_object_foreach(value, key, item) {
        if (strcmp(key, "spans") != 0 && strcmp(key, "chunks") != 0)
            flatten(arena, item, mos_printf(arena, "%s%s%s", path, dot, key), depth + 1, out);
    }
    json_array_foreach(value, i, item)
        flatten(arena, item, mos_printf(arena, "%s%s%s", path, dot, item_name(item, i, arena)),
                depth + 1, out);
    if (json_is_string(value))
        text = mos_strdup(arena, json_string_value(value));
    else if (json_is_integer(value))
        text = mos_printf(arena, "%lld", (long long)json_integer_value(value));
    if (text)
        mos_map_set_const(out, mos_strdup(arena, path), text);
}

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
                    mos_printf(arena, "%s: %s", text_of(row, "result"), found));
    }
}

/* The JSON object in a file.  Images are asked too: those are not read.  NULL: it is none, or a
 * read failed (ctx->error). */
static json_t *load(struct mos_ctx *ctx, const char *path) {
    const struct mos_host *h = ctx->host;
    struct mos_file_info info = {0};
    char first = 0, *bytes = &first;
    size_t got = 0;
    int file, e = 0;
    if (h->open(h, path, MOS_OPEN_READ, &file)) /* whoever reads it as something else tells why */
        return NULL;
    e = h->file_info(h, file, &info);
    if (!e && info.kind == MOS_FILE_REGULAR && info.size <= LARGEST)
        e = h->pread(h, file, &first, 1, 0, &got);
    if (!e && got && first == '{') {
        bytes = mos_alloc(ctx->arena, (size_t)info.size);
        e = h->pread(h, file, bytes, (size_t)info.size, 0, &got);
    }
    h->close(h, file);
    if (e)
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path);
    return !e && got && *bytes == '{' ? json_loadb(bytes, got, 0, NULL) : NULL;
}

enum mos_document mos_document_facts(struct mos_ctx *ctx, const char *path, struct mos_map *out) {
    enum mos_document is = MOS_DOCUMENT_NONE;
    json_t *root = load(ctx, path);
    *out = mos_map_make(ctx->arena);
    if (json_is_string(json_object_get(root, "board")) &&
        json_is_array(json_object_get(root, "images"))) {
        is = MOS_DOCUMENT_LEDGER;
        flatten(ctx->arena, root, "", 0, out);
    } else if (strcmp(text_of(root, "command"), "listen") == 0) {
        size_t i;
        const json_t *table;
        json_array_foreach(json_object_get(root, "report"), i, table) {
            if (strcmp(text_of(table, "key"), "acceptance") != 0)
                continue;
            add_rows(ctx->arena, table, out);
            is = MOS_DOCUMENT_ACCEPTED;
        }
    }
    json_decref(root);
    return is;
}
