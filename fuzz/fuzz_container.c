/* Containers of volumes.  The sums of the headers and of the table are put right, so that what is
 * behind them is reached; everything that each volume holds is read. */
#include "volume_harness.h"

#include "base/hash.h"
#include "fs/container.h"

enum { STEP = 64, SUM = 60, ROW = 172, ROW_SUM = 168 };

static void seal(uint8_t *at, size_t length) {
    mos_put_be32(at + length, mos_crc32(0, at, length) ^ UINT32_MAX);
}

/* Every header of a block or of a part, and the table behind the first. */
static void put_sums_right(uint8_t *bytes, size_t size) {
    for (size_t at = 0; at + STEP <= size; at += STEP)
        if (memcmp(bytes + at, "UBI", 3) == 0)
            seal(bytes + at, SUM);
    for (size_t at = 128; at + ROW <= size && at < 4096; at += ROW)
        seal(bytes + at, ROW_SUM);
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    uint8_t *copy = mos_alloc(ctx->arena, size + 1);
    memcpy(copy, data, size);
    put_sums_right(copy, size);
    struct mos_io io = mos_io_memory(ctx->arena, copy, size);
    struct mos_vec problems = mos_vec_make(ctx->arena, sizeof(char *));
    struct mos_container c;
    if (!mos_container_open(&io, ctx->arena, &c, &problems))
        return;
    if (c.length > size || c.volumes.count > 128)
        __builtin_trap();
    for (size_t i = 0; i < c.volumes.count; i++) {
        struct mos_contained *v = mos_vec_at(&c.volumes, i);
        uint8_t piece[5000];
        struct mos_volume_info info;
        if (strlen(v->name) > 127 || v->io.size > (1ull << 54))
            __builtin_trap();
        for (uint64_t at = 0; at < v->io.size && at < 4 * sizeof piece;) {
            size_t n = (size_t)mos_min(sizeof piece, v->io.size - at);
            mos_io_read(&v->io, piece, n, at);
            at += n;
        }
        mos_fs_probe(&v->io, ctx->arena, &info);
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
