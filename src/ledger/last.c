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

/* The whole document, part of what a board is made of when `stamped`; NULL: not there, or no JSON.
 */
static json_t *load(struct mos_ctx *ctx, const char *path, bool stamped) {
    struct mos_error ignored = {0}, *saved = ctx->error;
    char *data;
    size_t length;
    if (!mos_exists(ctx, path))
        return NULL;
    ctx->error = &ignored;
    bool ok = mos_read_aside(ctx, path, LEDGER_LIMIT, &data, &length);
    ctx->error = saved;
    if (ok && stamped)
        mos_stamp_add(ctx->stamp, mos_stamp_name(ctx, path), data, length);
    return ok ? json_loadb(data, length, 0, NULL) : NULL;
}

/* A text of an object; NULL: there is none. */
static const char *text_in(struct mos_ctx *ctx, const json_t *object, const char *key) {
    const char *text = json_string_value(json_object_get(object, key));
    return text ? mos_strdup(ctx->arena, text) : NULL;
}

static struct mos_vec read_regions(struct mos_ctx *ctx, const json_t *image) {
    struct mos_vec out = mos_vec_make(ctx->arena, sizeof(struct mos_ledger_region_last));
    json_t *item, *pattern;
    const char *variable;
    size_t i;
    json_array_foreach(json_object_get(image, "regions"), i, item) {
        const char *name = json_string_value(json_object_get(item, "name"));
        const char *holds = json_string_value(json_object_get(item, "holds"));
        if (!name)
            continue;
        struct mos_ledger_region_last *r = mos_vec_push(&out);
        *r = (struct mos_ledger_region_last){
            .name = mos_strdup(ctx->arena, name),
            .holds = holds ? mos_strdup(ctx->arena, holds) : NULL,
            .owner = text_in(ctx, item, "owner"),
            .from = text_in(ctx, item, "from"),
            .grows = json_is_true(json_object_get(item, "grows")),
            .starts = json_is_true(json_object_get(item, "starts")),
            .number = (unsigned)json_integer_value(json_object_get(item, "number")),
            .offset = (uint64_t)json_integer_value(json_object_get(item, "offset")),
            .length = (uint64_t)json_integer_value(json_object_get(item, "length")),
            .units = mos_map_make(ctx->arena),
            .block = (uint64_t)json_integer_value(json_object_get(item, "block"))};
        json_object_foreach(json_object_get(item, "per-unit"), variable, pattern) {
            if (json_is_string(pattern))
                mos_map_set(&r->units, mos_strdup(ctx->arena, variable),
                            mos_strdup(ctx->arena, json_string_value(pattern)));
        }
    }
    return out;
}

/* The image whose `key` has that text; NULL: there is none. */
static const json_t *image_by(const json_t *root, const char *key, const char *text) {
    const json_t *image;
    size_t i;
    json_array_foreach(json_object_get(root, "images"), i, image) {
        const char *its = json_string_value(json_object_get(image, key));
        if (its && strcmp(its, text) == 0)
            return image;
    }
    return NULL;
}

bool mos_ledger_regions(struct mos_ctx *ctx, const char *path, const char *medium,
                        struct mos_map *out) {
    json_t *root = load(ctx, path, true);
    const json_t *image = image_by(root, "medium", medium);
    *out = mos_map_make(ctx->arena);
    struct mos_vec regions = read_regions(ctx, image);
    for (size_t i = 0; i < regions.count; i++) {
        struct mos_ledger_region_last *r = mos_vec_at(&regions, i);
        mos_map_set(out, r->name, r);
    }
    json_decref(root);
    return image != NULL;
}

bool mos_ledger_image_regions(struct mos_ctx *ctx, const char *path, const char *file,
                              uint64_t size, struct mos_vec *out) {
    json_t *root = load(ctx, path, false);
    const json_t *image = image_by(root, "file", file);
    bool fits = image && (uint64_t)json_integer_value(json_object_get(image, "size")) == size;
    *out = read_regions(ctx, fits ? image : NULL);
    for (size_t i = 0; i < out->count && fits; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(out, i);
        fits = r->offset <= size && r->length <= size - r->offset;
    }
    json_decref(root);
    return fits;
}

/* false: one lies outside of the image, or is of no kind. */
static bool read_spans(struct mos_ctx *ctx, const json_t *image, uint64_t size,
                       struct mos_vec *out) {
    json_t *item;
    size_t i;
    *out = mos_vec_make(ctx->arena, sizeof(struct mos_ledger_span_last));
    json_array_foreach(json_object_get(image, "spans"), i, item) {
        json_int_t offset = json_integer_value(json_object_get(item, "offset"));
        json_int_t length = json_integer_value(json_object_get(item, "length"));
        const char *kind = json_string_value(json_object_get(item, "kind"));
        if (offset < 0 || length <= 0 || !kind || !strchr("dza", *kind) ||
            (uint64_t)offset > size || (uint64_t)length > size - (uint64_t)offset)
            return false;
        struct mos_ledger_span_last *s = mos_vec_push(out);
        *s = (struct mos_ledger_span_last){(uint64_t)offset, (uint64_t)length, *kind};
    }
    return true;
}

static bool regions_lie_within(const struct mos_vec *regions, uint64_t size) {
    for (size_t i = 0; i < regions->count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(regions, i);
        if (r->offset > size || r->length > size - r->offset)
            return false;
    }
    return true;
}

bool mos_ledger_image_last(struct mos_ctx *ctx, const char *path, const char *file,
                           struct mos_ledger_image_last *out) {
    if (!mos_exists(ctx, path))
        return false;
    json_t *root = load(ctx, path, false);
    const json_t *image = image_by(root, "file", file);
    bool is_one = json_is_array(json_object_get(root, "images"));
    *out = (struct mos_ledger_image_last){
        .workspace = text_in(ctx, root, "workspace"),
        .board = text_in(ctx, root, "board"),
        .stamp = text_in(ctx, root, "stamp"),
        .medium = text_in(ctx, image, "medium"),
        .kind = text_in(ctx, image, "kind"),
        .hash = text_in(ctx, image, "hash-of-chunks"),
        .size = (uint64_t)json_integer_value(json_object_get(image, "size")),
        .most = (uint64_t)json_integer_value(json_object_get(image, "at-most")),
        .sector = (uint32_t)json_integer_value(json_object_get(image, "sector")),
        .regions = read_regions(ctx, image)};
    bool whole = image && out->board && out->hash && out->sector &&
                 read_spans(ctx, image, out->size, &out->spans) &&
                 regions_lie_within(&out->regions, out->size);
    json_decref(root);
    if (!is_one || (image && !whole))
        return mos_fail(ctx->error, MOS_ERROR_USAGE, 0,
                        "%s is no ledger that can be used: it is damaged, or of another program",
                        path);
    return image != NULL;
}

struct mos_vec mos_ledger_image_names(struct mos_ctx *ctx, const char *path) {
    struct mos_vec out = mos_vec_make(ctx->arena, sizeof(char *));
    json_t *root = load(ctx, path, false), *image;
    size_t i;
    json_array_foreach(json_object_get(root, "images"), i, image) {
        const char *file = text_in(ctx, image, "file");
        if (file)
            mos_vec_push_pointer(&out, file);
    }
    json_decref(root);
    return out;
}

bool mos_ledger_last(struct mos_ctx *ctx, const char *folder, struct mos_ledger_last *out) {
    json_t *root = load(ctx, mos_path_join(ctx->arena, folder, "ledger.json"), false);
    if (!root)
        return false;
    const char *stamp = json_string_value(json_object_get(root, "stamp"));
    *out = (struct mos_ledger_last){.stamp = stamp ? mos_strdup(ctx->arena, stamp) : NULL,
                                    .budgets = mos_map_make(ctx->arena)};
    read_budgets(ctx, root, out);
    json_decref(root);
    return true;
}

static bool read_hash(const char *hex, uint8_t out[MOS_SHA256_SIZE]) {
    static const char digits[] = "0123456789abcdef";
    if (!hex || strlen(hex) != 2 * MOS_SHA256_SIZE || strspn(hex, digits) != 2 * MOS_SHA256_SIZE)
        return false;
    for (size_t i = 0; i < MOS_SHA256_SIZE; i++)
        out[i] = (uint8_t)((strchr(digits, hex[2 * i]) - digits) << 4 |
                           (strchr(digits, hex[2 * i + 1]) - digits));
    return true;
}

const uint8_t (*mos_ledger_chunks(struct mos_ctx *ctx, const char *path, const char *medium,
                                  size_t *count))[MOS_SHA256_SIZE] {
    json_t *root = load(ctx, path, false), *image;
    uint8_t(*out)[MOS_SHA256_SIZE] = NULL;
    size_t i;
    json_array_foreach(json_object_get(root, "images"), i, image) {
        const char *name = json_string_value(json_object_get(image, "medium"));
        const json_t *chunks = json_object_get(image, "chunks");
        if (out || !name || strcmp(name, medium) != 0 ||
            json_integer_value(json_object_get(image, "chunk-size")) != MOS_CHUNK_SIZE)
            continue;
        *count = json_array_size(chunks);
        out = mos_alloc_array(ctx->arena, *count + 1, sizeof *out);
        for (size_t k = 0; out && k < *count; k++)
            if (!read_hash(json_string_value(json_array_get(chunks, k)), out[k]))
                out = NULL;
    }
    json_decref(root);
    return (const uint8_t(*)[MOS_SHA256_SIZE])out;
}

bool mos_ledger_files(struct mos_ctx *ctx, const char *path, const char **board,
                      struct mos_map *names) {
    static const char *const lists[] = {"outputs", "images", "names"};
    char *data;
    size_t length;
    *board = NULL;
    *names = mos_map_make(ctx->arena);
    if (!mos_exists(ctx, path) || !mos_read_aside(ctx, path, LEDGER_LIMIT, &data, &length))
        return false;
    json_t *root = json_loadb(data, length, 0, NULL), *item;
    const char *selector = json_string_value(json_object_get(root, "board"));
    bool good = selector && json_integer_value(json_object_get(root, "mosaicum")) == 1 &&
                json_is_string(json_object_get(root, "built-by"));
    size_t i;
    for (size_t k = 0; good && k < sizeof lists / sizeof *lists; k++) {
        json_array_foreach(json_object_get(root, lists[k]), i, item) {
            const char *name = json_string_value(json_object_get(item, "file"));
            if (name)
                mos_map_set(names, mos_strdup(ctx->arena, name), names);
        }
    }
    *board = good ? mos_strdup(ctx->arena, selector) : NULL;
    json_decref(root);
    return good;
}

bool mos_ledger_listing(struct mos_ctx *ctx, const char *path, const char *stamp,
                        struct mos_vec *out) {
    static const char *const lists[] = {"images", "outputs"};
    json_t *root = load(ctx, path, false), *item;
    const char *its = json_string_value(json_object_get(root, "stamp"));
    bool good = its && strcmp(its, stamp) == 0;
    size_t i;
    *out = mos_vec_make(ctx->arena, sizeof(struct mos_ledger_file));
    for (size_t k = 0; good && k < 2; k++) {
        json_array_foreach(json_object_get(root, lists[k]), i, item) {
            const char *name = json_string_value(json_object_get(item, "file"));
            const char *hash =
                json_string_value(json_object_get(item, k ? "sha256" : "hash-of-chunks"));
            if (!name || !hash)
                continue;
            const char *whole = k ? NULL : json_string_value(json_object_get(item, "sha256"));
            *(struct mos_ledger_file *)mos_vec_push(out) = (struct mos_ledger_file){
                mos_strdup(ctx->arena, name), mos_strdup(ctx->arena, hash),
                whole ? mos_strdup(ctx->arena, whole) : NULL,
                (uint64_t)json_integer_value(json_object_get(item, "size")), k == 0};
        }
    }
    json_decref(root);
    return good;
}
