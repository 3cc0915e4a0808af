#include "model/slots.h"

#include "base/text.h"

#include <string.h>

static struct mos_node *copy_of(struct mos_ctx *ctx, const struct mos_node *node) {
    struct mos_node *n = mos_alloc(ctx->arena, sizeof *n);
    *n = *node;
    n->items = mos_alloc_array(ctx->arena, node->count, sizeof *n->items);
    if (node->count)
        memcpy(n->items, node->items, node->count * sizeof *n->items);
    return n;
}

/* A scalar with another text at the same place. */
static struct mos_node *with_text(struct mos_ctx *ctx, const struct mos_node *scalar,
                                  const char *text) {
    struct mos_node *n = copy_of(ctx, scalar);
    n->text = text;
    return n;
}

static bool is_scalar(const struct mos_node *map, size_t i, const char *key) {
    return strcmp(map->items[i]->key, key) == 0 && map->items[i]->kind == MOS_NODE_SCALAR;
}

/* Labels tell slots apart too. */
static void suffix_labels(struct mos_ctx *ctx, struct mos_node *map, const char *slot) {
    for (size_t i = 0; i < map->count; i++) {
        struct mos_node *item = map->items[i];
        bool named = is_scalar(map, i, "partition-name") || is_scalar(map, i, "label");
        if (named && *item->text)
            map->items[i] = with_text(ctx, item, mos_printf(ctx->arena, "%s-%s", item->text, slot));
        else if (strcmp(item->key, "volume") == 0 && item->kind == MOS_NODE_MAP)
            suffix_labels(ctx, map->items[i] = copy_of(ctx, item), slot);
    }
}

/* One region of several equal ones: NAME-SLOT, with a number of its own.  Only the first is where
 * the user says; the others follow it. */
static struct mos_node *slot_region(struct mos_ctx *ctx, const struct mos_node *region,
                                    const char *slot, size_t index) {
    struct mos_node *n = copy_of(ctx, region);
    n->key = mos_printf(ctx->arena, "%s-%s", region->key, slot);
    n->count = 0;
    for (size_t i = 0; i < region->count; i++) {
        struct mos_node *item = region->items[i];
        uint64_t number;
        bool dropped = strcmp(item->key, "slots") == 0 || (index && strcmp(item->key, "at") == 0);
        if (!dropped && is_scalar(region, i, "number") &&
            mos_integer_parse(item->text, &number) == MOS_NUMBER_OK)
            item = with_text(ctx, item,
                             mos_printf(ctx->arena, "%llu", (unsigned long long)number + index));
        if (!dropped)
            n->items[n->count++] = item;
    }
    suffix_labels(ctx, n, slot);
    return n;
}

static const struct mos_node *slots_of(const struct mos_node *region) {
    const struct mos_node *slots =
        region->kind == MOS_NODE_MAP ? mos_node_get(region, "slots") : NULL;
    return slots && slots->kind == MOS_NODE_LIST && slots->count ? slots : NULL;
}

static struct mos_node *apart(struct mos_ctx *ctx, const struct mos_node *regions) {
    struct mos_node *n = copy_of(ctx, regions);
    struct mos_vec out = mos_vec_make(ctx->arena, sizeof(void *));
    for (size_t i = 0; i < regions->count; i++) {
        const struct mos_node *slots = slots_of(regions->items[i]);
        if (!slots)
            mos_vec_push_pointer(&out, regions->items[i]);
        for (size_t k = 0; slots && k < slots->count; k++)
            if (slots->items[k]->kind == MOS_NODE_SCALAR)
                mos_vec_push_pointer(&out,
                                     slot_region(ctx, regions->items[i], slots->items[k]->text, k));
    }
    n->items = out.items;
    n->count = out.count;
    return n;
}

/* The item of a map, copied so that it may be changed; NULL: not there, or no map. */
static struct mos_node *own_item(struct mos_ctx *ctx, struct mos_node *map, size_t i) {
    if (map->items[i]->kind != MOS_NODE_MAP)
        return NULL;
    return map->items[i] = copy_of(ctx, map->items[i]);
}

struct mos_node *mos_slots_apart(struct mos_ctx *ctx, struct mos_node *board) {
    if (!board || board->kind != MOS_NODE_MAP)
        return board;
    struct mos_node *out = copy_of(ctx, board);
    for (size_t b = 0; b < out->count; b++) {
        struct mos_node *layout =
            strcmp(out->items[b]->key, "layout") == 0 ? own_item(ctx, out, b) : NULL;
        for (size_t m = 0; layout && m < layout->count; m++) {
            struct mos_node *medium = own_item(ctx, layout, m);
            for (size_t k = 0; medium && k < medium->count; k++)
                if (strcmp(medium->items[k]->key, "regions") == 0 &&
                    medium->items[k]->kind == MOS_NODE_MAP)
                    medium->items[k] = apart(ctx, medium->items[k]);
        }
    }
    return out;
}
