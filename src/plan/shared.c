#include "plan/shared.h"

#include "store/store.h"

#include <string.h>

struct mos_shared mos_shared_make(struct mos_arena *arena) {
    return (struct mos_shared){.arena = arena,
                               .indexes = mos_vec_make(arena, sizeof(struct mos_shared_index)),
                               .volumes = mos_vec_make(arena, sizeof(struct mos_shared_volume)),
                               .hashes = mos_map_make(arena),
                               .kconfigs = mos_map_make(arena),
                               .kernels = mos_map_make(arena),
                               .builds = mos_map_make(arena),
                               .files = mos_map_make(arena)};
}

bool mos_shared_known_hash(const struct mos_ctx *ctx, const char *path,
                           uint8_t out[MOS_SHA256_SIZE]) {
    const struct mos_shared_hash *x = ctx->shared ? mos_map_get(&ctx->shared->hashes, path) : NULL;
    if (!x || !mos_store_is_still(ctx, path, &x->info))
        return false;
    memcpy(out, x->sha256, MOS_SHA256_SIZE);
    return true;
}

void mos_shared_keep_hash(struct mos_ctx *ctx, const char *path, const struct mos_file_info *before,
                          const uint8_t hash[MOS_SHA256_SIZE]) {
    struct mos_shared *s = ctx->shared;
    if (!s || !s->several || !mos_store_is_still(ctx, path, before))
        return;
    struct mos_shared_hash *x = mos_alloc(s->arena, sizeof *x);
    x->info = *before;
    memcpy(x->sha256, hash, MOS_SHA256_SIZE);
    mos_map_set(&s->hashes, mos_strdup(s->arena, path), x);
}

const struct mos_shared_index *mos_shared_index(const struct mos_shared *shared,
                                                const uint8_t sha256[MOS_SHA256_SIZE]) {
    for (size_t i = 0; i < shared->indexes.count; i++) {
        const struct mos_shared_index *x = mos_vec_at(&shared->indexes, i);
        if (memcmp(x->sha256, sha256, MOS_SHA256_SIZE) == 0)
            return x;
    }
    return NULL;
}

void mos_shared_keep_index(struct mos_shared *shared, const uint8_t sha256[MOS_SHA256_SIZE],
                           struct mos_index *index) {
    struct mos_shared_index *x = mos_vec_push(&shared->indexes);
    memcpy(x->sha256, sha256, MOS_SHA256_SIZE);
    x->index = index;
}

const struct mos_shared_volume *mos_shared_volume(const struct mos_shared *shared,
                                                  const uint8_t key[MOS_SHA256_SIZE]) {
    for (size_t i = 0; i < shared->volumes.count; i++) {
        const struct mos_shared_volume *x = mos_vec_at(&shared->volumes, i);
        if (memcmp(x->key, key, MOS_SHA256_SIZE) == 0)
            return x;
    }
    return NULL;
}

void mos_shared_keep_volume(struct mos_shared *shared, const uint8_t key[MOS_SHA256_SIZE],
                            struct mos_volume_base *volume, const struct mos_map *texts) {
    struct mos_shared_volume *x = mos_vec_push(&shared->volumes);
    memcpy(x->key, key, MOS_SHA256_SIZE);
    x->volume = volume;
    x->texts = *texts;
    shared->entries += volume->inventory->count;
}

/* ---- pieces ---- */

enum { MOST_PIECES = 256 << 20 };

static const char *piece_key(const struct mos_piece_plan *p, char hex[65]) {
    mos_sha256_hex(p->sha256, hex);
    return hex;
}

const struct mos_kept_bytes *mos_shared_piece(const struct mos_shared *shared,
                                              const struct mos_piece_plan *p) {
    char hex[65];
    const struct mos_kept_bytes *x =
        shared && p->hashed ? mos_map_get(&shared->files, piece_key(p, hex)) : NULL;
    return x && x->length == p->size ? x : NULL;
}

bool mos_shared_wants_piece(const struct mos_shared *shared, const struct mos_piece_plan *p) {
    return shared && p->hashed && p->size <= MOST_PIECES - shared->pieces;
}

void mos_shared_keep_piece(struct mos_shared *shared, const struct mos_piece_plan *p,
                           uint8_t *bytes) {
    char hex[65];
    struct mos_kept_bytes *x = mos_alloc(shared->arena, sizeof *x);
    *x = (struct mos_kept_bytes){bytes, (size_t)p->size};
    mos_map_set(&shared->files, mos_strdup(shared->arena, piece_key(p, hex)), x);
    shared->pieces += p->size;
}
