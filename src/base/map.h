/* A map from strings to pointers that keeps the order of first insertion. */
#ifndef MOS_BASE_MAP_H
#define MOS_BASE_MAP_H

#include "base/arena.h"

#include <stdint.h>

struct mos_map_item {
    const char *key;
    void *value;
    uint32_t hash;
};

struct mos_map {
    struct mos_arena *arena;
    struct mos_map_item *items; /* in order of insertion */
    size_t count, capacity;
    uint32_t *slots; /* index + 1, 0 is empty */
    size_t slot_count;
};

/* Empty; nothing is allocated before the first key. */
struct mos_map mos_map_make(struct mos_arena *arena);
void *mos_map_get(const struct mos_map *map, const char *key); /* NULL: not there */
/* Sets a key (the string is kept by reference); replacing keeps the first position. */
void mos_map_set(struct mos_map *map, const char *key, void *value);
/* The same with something that whoever gets it out again must not change either. */
void mos_map_set_const(struct mos_map *map, const char *key, const void *value);
/* FNV-1a, mixed: for tables in memory only, never stored. */
uint32_t mos_text_hash(const char *text, size_t length);

#endif
