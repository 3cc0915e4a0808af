#include "store/store.h"

#include "base/bytes.h"
#include "base/out.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

/* A record: its own name and length, so that it cannot be taken for another or for part of one, and
 * a sum over all of it.  Records of another format have another magic, and are made anew. */
enum {
    LARGEST_VALUE = 256 << 20,
    MAGIC = 0,  /* 8 bytes */
    LENGTH = 8, /* 8: of the value */
    NAME = 16,  /* 32: SHA-256 of the key */
    SUM = 48,   /* 32: SHA-256 of everything else */
    HEADER = 80,
    IDENTITY = 48,
    SMALL = 4096,
    FRESH_NS = 50000000 /* a file that changed so lately may change again under the same times */
};
_Static_assert(SUM + MOS_SHA256_SIZE == HEADER && NAME + MOS_SHA256_SIZE == SUM, "no gap");
static const char magic[8] = "mosaic\0\3";

static const char *place(struct mos_ctx *ctx, const char *key) {
    assert(*key && !strchr(key, '/'));
    return mos_path_join(ctx->arena, ctx->cache_folder, mos_file_name(ctx->arena, key));
}

static bool seal(const uint8_t *record, size_t length, uint8_t out[MOS_SHA256_SIZE]) {
    assert(length >= HEADER);
    struct mos_sha256 *h = mos_sha256_new();
    if (!h)
        return false;
    mos_sha256_update(h, record, SUM);
    mos_sha256_update(h, record + HEADER, length - HEADER);
    mos_sha256_final(h, out);
    mos_sha256_free(h);
    return true;
}

bool mos_store_get(struct mos_ctx *ctx, const char *key, char **data, size_t *length) {
    uint8_t sum[MOS_SHA256_SIZE], name[MOS_SHA256_SIZE];
    char *record;
    size_t all;
    if (!ctx->cache_folder)
        return false;
    struct mos_error ignored = {0}, *saved = ctx->error;
    ctx->error = &ignored;
    bool ok = mos_read_aside(ctx, place(ctx, key), LARGEST_VALUE + HEADER, &record, &all);
    ctx->error = saved;
    if (!ok || all < HEADER || memcmp(record, magic, sizeof magic) != 0 ||
        mos_le64(record + LENGTH) != all - HEADER || !mos_sha256(key, strlen(key), name) ||
        memcmp(record + NAME, name, sizeof name) != 0 || !seal((uint8_t *)record, all, sum) ||
        memcmp(record + SUM, sum, sizeof sum) != 0)
        return false;
    *data = record + HEADER;
    *length = all - HEADER;
    return true;
}

/* The folder is nobody else's, whatever the umask is. */
static bool make_private(struct mos_ctx *ctx) {
    const struct mos_host *h = ctx->host;
    struct mos_file_info info;
    return h->make_folder(h, ctx->cache_folder) == 0 &&
           h->info(h, ctx->cache_folder, true, &info) == 0 &&
           (info.mode == 0700 || h->protect(h, ctx->cache_folder, 0700) == 0);
}

void mos_store_put(struct mos_ctx *ctx, const char *key, const void *data, size_t length) {
    assert(data || !length);
    char *there;
    size_t size;
    if (!ctx->cache_folder || length > LARGEST_VALUE ||
        (length < SMALL && mos_store_get(ctx, key, &there, &size) && size == length &&
         (!length || memcmp(there, data, length) == 0)) || /* it is kept already */
        !make_private(ctx))
        return;
    uint8_t *record = malloc(HEADER + length);
    if (!record)
        return;
    memcpy(record, magic, sizeof magic);
    mos_put_le64(record + LENGTH, length);
    if (length)
        memcpy(record + HEADER, data, length);
    struct mos_error ignored = {0}, *saved = ctx->error;
    ctx->error = &ignored; /* without a cache everything is only slower */
    struct mos_out o;
    if (mos_sha256(key, strlen(key), record + NAME) &&
        seal(record, HEADER + length, record + SUM) &&
        mos_out_open(&o, ctx, place(ctx, key), false)) {
        int e = ctx->host->protect(ctx->host, o.part, 0600);
        e = e ? e : mos_out_write(&o, record, HEADER + length, 0);
        if (e)
            mos_out_abandon(&o);
        else
            mos_out_commit(&o, HEADER + length, false);
    }
    ctx->error = saved;
    free(record);
}

/* ---- hashes of files ---- */

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

/* Did it change so lately that another change could leave the same times? */
static bool is_fresh(const struct mos_ctx *ctx, const struct mos_file_info *info) {
    int64_t changed = info->ctime_s * 1000000000 + info->ctime_ns;
    return ctx->host->wall_ns(ctx->host) - changed < FRESH_NS;
}

bool mos_store_is_still(const struct mos_ctx *ctx, const char *path,
                        const struct mos_file_info *before) {
    struct mos_file_info now;
    uint8_t was[IDENTITY], is[IDENTITY];
    if (ctx->host->info(ctx->host, path, true, &now))
        return false;
    identify(before, was);
    identify(&now, is);
    return memcmp(was, is, IDENTITY) == 0 && !is_fresh(ctx, &now);
}

void mos_store_keep_hash(struct mos_ctx *ctx, const char *path, const struct mos_file_info *before,
                         const uint8_t hash[MOS_SHA256_SIZE]) {
    uint8_t data[IDENTITY + MOS_SHA256_SIZE];
    const char *key = ctx->cache_folder ? hash_key(ctx, path) : NULL;
    if (!key || !mos_store_is_still(ctx, path, before))
        return;
    identify(before, data);
    memcpy(data + IDENTITY, hash, MOS_SHA256_SIZE);
    mos_store_put(ctx, key, data, sizeof data);
}

void mos_store_forget_hash(struct mos_ctx *ctx, const char *path) {
    const char *key = ctx->cache_folder ? hash_key(ctx, path) : NULL;
    if (key)
        ctx->host->remove_tree(ctx->host, place(ctx, key));
}
