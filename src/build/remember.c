/* Whether an output is still what it was built as, by what its files look like from outside. */
#include "build/build.h"

#include "base/bytes.h"
#include "build/image.h"
#include "ledger/ledger.h"
#include "store/store.h"

#include <stdlib.h>
#include <string.h>

/* Everything in the folder: names, kinds, sizes, times, inodes; NULL: it cannot be told. */
static const char *view_of(struct mos_ctx *ctx, const char *folder, const char *stamp) {
    const struct mos_host *h = ctx->host;
    struct mos_vec names;
    struct mos_buf all = {.arena = ctx->arena};
    if (mos_folder_names(ctx, folder, &names) || !names.count)
        return NULL;
    mos_buf_printf(&all, "%s %s\n", stamp, mos_revision); /* another program may build otherwise */
    for (size_t i = 0; i < names.count; i++) {
        struct mos_file_info info;
        const char *name = mos_vec_pointer(&names, i);
        if (h->info(h, mos_path_join(ctx->arena, folder, name), false, &info))
            return NULL;
        mos_buf_printf(&all, "%s\n%d %llu %lld %u %lld %u %llu %llu\n", name, (int)info.kind,
                       (unsigned long long)info.size, (long long)info.mtime_s, info.mtime_ns,
                       (long long)info.ctime_s, info.ctime_ns, (unsigned long long)info.device,
                       (unsigned long long)info.inode);
    }
    return mos_buf_string(&all);
}

static const char *key_of(struct mos_ctx *ctx, const char *folder) {
    uint8_t hash[MOS_SHA256_SIZE];
    char *real, hex[65];
    if (!ctx->cache_folder || ctx->host->real_path(ctx->host, folder, &real))
        return NULL;
    bool ok = mos_sha256(real, strlen(real), hash);
    free(real);
    mos_sha256_hex(hash, hex);
    return ok ? mos_printf(ctx->arena, "built-%s", hex) : NULL;
}

/* "card root 0123…": what each volume was made of, a line each. */
static const char *volumes_of(const struct mos_plan *plan) {
    struct mos_buf all = {.arena = plan->ctx->arena};
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        for (size_t k = 0; k < m->regions.count; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
            char hex[65];
            if (!r->has_key || !r->written)
                continue;
            mos_sha256_hex(r->key, hex);
            mos_buf_printf(&all, "%s %s %s\n", m->name, r->name, hex);
        }
    }
    return mos_buf_string(&all);
}

void mos_build_remember(struct mos_plan *plan, const char *out_folder, const char *stamp) {
    struct mos_ctx *ctx = plan->ctx;
    const char *folder = mos_path_join(ctx->arena, out_folder, plan->board->selector);
    const char *key = stamp ? key_of(ctx, folder) : NULL;
    const char *view = key ? view_of(ctx, folder, stamp) : NULL;
    if (!view)
        return;
    const char *volumes = volumes_of(plan);
    mos_store_put(ctx, key, view, strlen(view) + 1);
    mos_store_put(ctx, mos_printf(ctx->arena, "%s-volumes", key), volumes, strlen(volumes) + 1);
}

/* Is the folder what it was when it was built, whatever it was built from? */
static bool is_as_left(struct mos_ctx *ctx, const char *folder, const char *key) {
    struct mos_ledger_last last;
    char *kept;
    size_t length;
    if (!mos_store_get(ctx, key, &kept, &length) || !mos_ledger_last(ctx, folder, &last) ||
        !last.stamp)
        return false;
    const char *now = view_of(ctx, folder, last.stamp);
    return now && length == strlen(now) + 1 && memcmp(now, kept, length) == 0;
}

bool mos_build_is_as_left(struct mos_ctx *ctx, const char *folder) {
    struct mos_error ignored = {0}, *saved = ctx->error;
    const char *key = key_of(ctx, folder);
    ctx->error = &ignored;
    bool same = key && is_as_left(ctx, folder, key);
    ctx->error = saved;
    return same;
}

const char *mos_build_former(struct mos_plan *plan, const char *out_folder) {
    struct mos_ctx *ctx = plan->ctx;
    const char *folder = mos_path_join(ctx->arena, out_folder, plan->board->selector);
    const char *key = key_of(ctx, folder);
    char *volumes;
    size_t length;
    struct mos_error ignored = {0}, *saved = ctx->error;
    ctx->error = &ignored;
    bool same = key && is_as_left(ctx, folder, key) &&
                mos_store_get(ctx, mos_printf(ctx->arena, "%s-volumes", key), &volumes, &length);
    ctx->error = saved;
    return same && length && !volumes[length - 1] ? volumes : NULL;
}

bool mos_build_verify(struct mos_plan *plan, const char *out_folder, const struct mos_vec *files,
                      const char **wrong) {
    struct mos_ctx *ctx = plan->ctx;
    const char *folder = mos_path_join(ctx->arena, out_folder, plan->board->selector);
    *wrong = NULL;
    for (size_t i = 0; i < files->count && !*wrong; i++) {
        const struct mos_ledger_file *f = mos_vec_at(files, i);
        const char *path = mos_path_join(ctx->arena, folder, f->name);
        uint8_t hash[MOS_SHA256_SIZE];
        char hex[65];
        if (!(f->image ? mos_image_hash_of(ctx, path, hash)
                       : mos_hash_file(ctx->host, path, hash, ctx->error)))
            return false;
        mos_sha256_hex(hash, hex);
        if (strcmp(hex, f->hash) != 0)
            *wrong = f->name;
    }
    return true;
}

bool mos_build_is_untouched(struct mos_plan *plan, const char *out_folder, const char *stamp,
                            struct mos_vec *files) {
    struct mos_ctx *ctx = plan->ctx;
    const char *folder = mos_path_join(ctx->arena, out_folder, plan->board->selector);
    const char *key = key_of(ctx, folder), *now;
    char *kept;
    size_t length;
    return key && mos_store_get(ctx, key, &kept, &length) &&
           (now = view_of(ctx, folder, stamp)) != NULL && length == strlen(now) + 1 &&
           memcmp(now, kept, length) == 0 &&
           mos_ledger_listing(ctx, mos_path_join(ctx->arena, folder, "ledger.json"), stamp, files);
}
