#include "base/map.h"

#include <assert.h>
#include <string.h>

uint32_t mos_text_hash(const char *text, size_t length) {
    uint32_t h = 2166136261u; /* FNV-1a */
    for (size_t i = 0; i < length; i++)
        h = (h ^ (uint8_t)text[i]) * 16777619u;
    return h ^ h >> 15;
}

struct mos_map mos_map_make(struct mos_arena *arena) {
    return (struct mos_map){.arena = arena};
}

static uint32_t *find_slot(const struct mos_map *map, const char *key, uint32_t hash) {
    assert(map->slot_count && (map->slot_count & (map->slot_count - 1)) == 0);
    assert(map->count < map->slot_count);
    size_t mask = map->slot_count - 1;
    for (size_t i = hash & mask;; i = (i + 1) & mask) {
        uint32_t *slot = &map->slots[i];
        if (!*slot)
            return slot;
        const struct mos_map_item *item = &map->items[*slot - 1];
        if (item->hash == hash && strcmp(item->key, key) == 0)
            return slot;
    }
}

void *mos_map_get(const struct mos_map *map, const char *key) {
    assert(key);
    if (!map->slot_count)
        return NULL;
    uint32_t slot = *find_slot(map, key, mos_text_hash(key, strlen(key)));
    return slot ? map->items[slot - 1].value : NULL;
}

static void grow(struct mos_map *map) {
    size_t capacity = map->capacity ? map->capacity * 2 : 8;
    struct mos_map_item *items = map->items;
    size_t held = map->count * sizeof *items;
    map->items = items = mos_grow(map->arena, items, held, held, capacity * sizeof *items);
    map->capacity = capacity;
    mos_drop(map->arena, map->slots, map->slot_count * sizeof *map->slots);
    map->slot_count = capacity * 2;
    map->slots = mos_alloc_array(map->arena, map->slot_count, sizeof *map->slots);
    for (size_t i = 0; i < map->count; i++)
        *find_slot(map, items[i].key, items[i].hash) = (uint32_t)i + 1;
}

void mos_map_set(struct mos_map *map, const char *key, void *value) {
    assert(key && map->arena && map->count <= map->capacity);
    if (map->count == map->capacity)
        grow(map);
    uint32_t hash = mos_text_hash(key, strlen(key));
    uint32_t *slot = find_slot(map, key, hash);
    if (!*slot) {
        map->items[map->count++] = (struct mos_map_item){.key = key, .hash = hash};
        *slot = (uint32_t)map->count;
    }
    map->items[*slot - 1].value = value;
}

void mos_map_set_const(struct mos_map *map, const char *key, const void *value) {
    union {
        const void *kept;
        void *stored;
    } same = {value};
    mos_map_set(map, key, same.stored);
}
