/* What is kept between runs, in the user's cache folder: never needed, only faster.  Everything is
 * named by content or checked when it is read; a damaged or missing file is as good as none. */
#ifndef MOS_STORE_STORE_H
#define MOS_STORE_STORE_H

#include "base/ctx.h"

/* A value by its key (letters, digits and -); false: not there. */
bool mos_store_get(struct mos_ctx *ctx, const char *key, char **data, size_t *length);
/* Keeps a value; failures are silent. */
void mos_store_put(struct mos_ctx *ctx, const char *key, const void *data, size_t length);

/* The hash of a file that has not changed since it was stored (size, times, inode). */
bool mos_store_known_hash(struct mos_ctx *ctx, const char *path, uint8_t out[MOS_SHA256_SIZE]);
/* Is a file what it was, and old enough that a change would show in its times? */
bool mos_store_is_still(const struct mos_ctx *ctx, const char *path,
                        const struct mos_file_info *before);
/* Remembers it; `before` is what the file was when hashing began. */
void mos_store_keep_hash(struct mos_ctx *ctx, const char *path, const struct mos_file_info *before,
                         const uint8_t hash[MOS_SHA256_SIZE]);

/* What is kept of it is wrong. */
void mos_store_forget_hash(struct mos_ctx *ctx, const char *path);

#endif
