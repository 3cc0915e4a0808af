#include "base/stamp.h"

#include "base/map.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

struct mos_stamp {
    struct mos_arena *arena;
    struct mos_map things; /* name -> uint8_t[32] */
    bool changed;
};

struct mos_stamp *mos_stamp_new(struct mos_arena *arena) {
    struct mos_stamp *s = mos_alloc(arena, sizeof *s);
    *s = (struct mos_stamp){arena, mos_map_make(arena), false};
    return s;
}

void mos_stamp_add_hash(struct mos_stamp *stamp, const char *name,
                        const uint8_t hash[MOS_SHA256_SIZE]) {
    if (!stamp)
        return;
    uint8_t *known = mos_map_get(&stamp->things, name);
    if (known) {
        stamp->changed |= memcmp(known, hash, MOS_SHA256_SIZE) != 0;
        return;
    }
    known = mos_alloc(stamp->arena, MOS_SHA256_SIZE);
    memcpy(known, hash, MOS_SHA256_SIZE);
    mos_map_set(&stamp->things, mos_strdup(stamp->arena, name), known);
}

void mos_stamp_add(struct mos_stamp *stamp, const char *name, const void *bytes, size_t length) {
    assert(name && (bytes || !length));
    uint8_t hash[MOS_SHA256_SIZE];
    if (stamp && mos_sha256(bytes, length, hash))
        mos_stamp_add_hash(stamp, name, hash);
    else if (stamp)
        stamp->changed = true;
}

static int by_name(const void *a, const void *b) {
    return strcmp((*(const struct mos_map_item *const *)a)->key,
                  (*(const struct mos_map_item *const *)b)->key);
}

const char *mos_stamp_text(const struct mos_stamp *stamp) {
    char hex[65];
    uint8_t hash[MOS_SHA256_SIZE];
    struct mos_sha256 *h = stamp && !stamp->changed ? mos_sha256_new() : NULL;
    if (!h)
        return NULL;
    size_t count = stamp->things.count;
    const struct mos_map_item **sorted = mos_alloc_array(stamp->arena, count + 1, sizeof *sorted);
    for (size_t i = 0; i < count; i++)
        sorted[i] = &stamp->things.items[i];
    qsort(sorted, count, sizeof *sorted, by_name);
    for (size_t i = 0; i < count; i++) {
        mos_sha256_update(h, sorted[i]->key, strlen(sorted[i]->key) + 1);
        mos_sha256_update(h, sorted[i]->value, MOS_SHA256_SIZE);
    }
    mos_sha256_final(h, hash);
    mos_sha256_free(h);
    mos_sha256_hex(hash, hex);
    return mos_strdup(stamp->arena, hex);
}
