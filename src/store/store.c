#include "store/store.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

enum { LARGEST_VALUE = 256 << 20, IDENTITY = 48 };

static const char *place(struct mos_ctx *ctx, const char *key) {
    return mos_path_join(ctx->arena, ctx->cache_folder, key);
}

bool mos_store_get(struct mos_ctx *ctx, const char *key, char **data, size_t *length) {
    if (!ctx->cache_folder)
        return false;
    struct mos_error ignored = {0}, *saved = ctx->error;
    ctx->error = &ignored;
    bool ok = mos_read_file(ctx, place(ctx, key), LARGEST_VALUE, data, length);
    ctx->error = saved;
    return ok;
}

void mos_store_put(struct mos_ctx *ctx, const char *key, const void *data, size_t length) {
    const struct mos_host *h = ctx->host;
    int file;
    if (!ctx->cache_folder || h->make_folder(h, ctx->cache_folder))
        return;
    const char *path = place(ctx, key);
    const char *aside =
        mos_printf(ctx->arena, "%s.%llx.part", path, (unsigned long long)h->now_ns(h));
    if (h->open(h, aside, MOS_OPEN_NEW, &file))
        return;
    int e = h->pwrite(h, file, data, length, 0);
    h->close(h, file);
    if (e || h->rename(h, aside, path))
        h->remove_tree(h, aside);
}

static const char *hash_key(struct mos_ctx *ctx, const char *path) {
    uint8_t hash[MOS_SHA256_SIZE];
    char *real, hex[65];
    if (ctx->host->real_path(ctx->host, path, &real))
        return NULL;
    bool ok = mos_sha256(real, strlen(real), hash);
    free(real);
    mos_sha256_hex(hash, hex);
    return ok ? mos_printf(ctx->arena, "file-%s", hex) : NULL;
}

static void identify(const struct mos_file_info *info, uint8_t out[IDENTITY]) {
    mos_put_le64(out, info->size);
    mos_put_le64(out + 8, (uint64_t)info->mtime_s);
    mos_put_le64(out + 16, (uint64_t)info->ctime_s);
    mos_put_le32(out + 24, info->mtime_ns);
    mos_put_le32(out + 28, info->ctime_ns);
    mos_put_le64(out + 32, info->device);
    mos_put_le64(out + 40, info->inode);
}

bool mos_store_known_hash(struct mos_ctx *ctx, const char *path, uint8_t out[MOS_SHA256_SIZE]) {
    struct mos_file_info info;
    uint8_t identity[IDENTITY];
    char *data;
    size_t length;
    const char *key = ctx->cache_folder ? hash_key(ctx, path) : NULL;
    if (!key || ctx->host->info(ctx->host, path, true, &info) ||
        !mos_store_get(ctx, key, &data, &length) || length != IDENTITY + MOS_SHA256_SIZE)
        return false;
    identify(&info, identity);
    if (memcmp(identity, data, IDENTITY) != 0)
        return false;
    memcpy(out, data + IDENTITY, MOS_SHA256_SIZE);
    return true;
}

void mos_store_keep_hash(struct mos_ctx *ctx, const char *path, const struct mos_file_info *before,
                         const uint8_t hash[MOS_SHA256_SIZE]) {
    struct mos_file_info now;
    uint8_t data[IDENTITY + MOS_SHA256_SIZE], check[IDENTITY];
    const char *key = ctx->cache_folder ? hash_key(ctx, path) : NULL;
    if (!key || ctx->host->info(ctx->host, path, true, &now))
        return;
    identify(before, data);
    identify(&now, check);
    if (memcmp(data, check, IDENTITY) != 0) /* it changed while it was read */
        return;
    memcpy(data + IDENTITY, hash, MOS_SHA256_SIZE);
    mos_store_put(ctx, key, data, sizeof data);
}
