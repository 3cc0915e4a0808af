/* Volumes in memory for the targets that read and change them. */
#ifndef MOS_FUZZ_VOLUME_HARNESS_H
#define MOS_FUZZ_VOLUME_HARNESS_H

#include "harness.h"

#include "base/bytes.h"
#include "fs/fs.h"

/* A copy of the input.  An ext4 volume loses its sums, so that what follows them is reached. */
static inline struct mos_io volume_of(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    uint8_t *copy = mos_alloc(ctx->arena, size + 1);
    memcpy(copy, data, size);
    if (size > 2048 && mos_le16(copy + 1024 + 0x38) == 0xef53)
        mos_put_le32(copy + 1024 + 0x64, mos_le32(copy + 1024 + 0x64) & ~0x410u);
    return mos_io_memory(ctx->arena, copy, size);
}

static inline bool take_entry(void *self, const struct mos_entry *e) {
    (void)self;
    return strlen(e->path) < 1 << 20;
}

static inline bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    uint64_t *end = self;
    *end = offset + length;
    return bytes != NULL;
}

static inline bool take_end(void *self, uint64_t sum) {
    (void)self;
    return sum != 1;
}

/* Reads all of it, whatever it is. */
static inline void stream_all(struct mos_ctx *ctx, struct mos_io *io) {
    uint64_t end = 0;
    struct mos_vec problems = mos_vec_make(ctx->arena, sizeof(char *));
    struct mos_sink sink = {&end, take_entry, take_data, take_end};
    struct mos_read_request request = {.sink = &sink, .problems = &problems};
    const struct mos_fs_driver *d;
    for (size_t i = 0; (d = mos_fs_at(i)); i++)
        if (d->stream && i != 2 && i != 3) /* one of the three FAT drivers is enough */
            d->stream(ctx, io, &request);
}

#endif
