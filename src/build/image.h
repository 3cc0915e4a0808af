/* One output image: a sparse file whose chunks are hashed on other cores while it grows. */
#ifndef MOS_BUILD_IMAGE_H
#define MOS_BUILD_IMAGE_H

#include "base/ctx.h"
#include "io/io.h"

struct mos_image;

/* Creates the file (it must not exist).  NULL with ctx->error. */
struct mos_image *mos_image_create(struct mos_ctx *ctx, const char *path, uint64_t size);
struct mos_io *mos_image_io(struct mos_image *image);
/* Takes the bytes [from, to) of an open file that is laid out the same, sharing its blocks where
 * that can be; `hashes` are those of its chunks, `count` of them.  An errno value. */
int mos_image_take(struct mos_image *image, int file, uint64_t from, uint64_t to,
                   const uint8_t (*hashes)[MOS_SHA256_SIZE], size_t count);
/* Waits for all hashes, syncs and closes.  hash is that of the list of chunk hashes. */
bool mos_image_finish(struct mos_image *image, uint8_t hash[MOS_SHA256_SIZE]);
/* Closes after a failure. */
void mos_image_abandon(struct mos_image *image);
/* The same hash of an image that is there already, which is only read.  false with ctx->error. */
bool mos_image_hash_of(struct mos_ctx *ctx, const char *path, uint8_t hash[MOS_SHA256_SIZE]);
/* The same of bytes that are not a file. */
bool mos_image_hash_io(struct mos_ctx *ctx, struct mos_io *io, uint8_t hash[MOS_SHA256_SIZE]);
size_t mos_image_chunks(const struct mos_image *image);
const uint8_t *mos_image_chunk_hash(const struct mos_image *image, size_t chunk);

#endif
