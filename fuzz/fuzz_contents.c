/* Tables of contents of packs; what can be read is written the same. */
#include "harness.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "boot/contents.h"

#include <string.h>

/* The right sum, as docs/contents.md has it: without it nothing behind it is ever looked at. */
static const uint8_t *with_sum(struct mos_arena *arena, const uint8_t *data, size_t size) {
    enum { COUNT = 24, SUM = 28, HEADER = 32, ROW = 104, FREE = 4 };
    size_t length = size < HEADER ? SIZE_MAX : HEADER + (size_t)mos_le32(data + COUNT) * ROW;
    if (length > size || data[SUM] == FREE) /* some stay as they came */
        return data;
    uint8_t *copy = mos_alloc(arena, size);
    memcpy(copy, data, size);
    mos_put_le32(copy + SUM, 0);
    mos_put_le32(copy + SUM, mos_crc32(0, copy, length));
    return copy;
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_contents c, again;
    data = with_sum(ctx->arena, data, size);
    const char *problem;
    uint64_t whole = size > 8 ? (uint64_t)data[size - 1] << 24 | size : size;
    if (!mos_contents_read(ctx->arena, data, size, whole, &c, &problem)) {
        if (!problem)
            __builtin_trap();
        return;
    }
    size_t room = mos_contents_room(c.count);
    uint8_t *bytes = mos_alloc(ctx->arena, room);
    mos_contents_write(&c, bytes);
    if (!mos_contents_read(ctx->arena, bytes, room, c.length, &again, &problem) ||
        again.count != c.count || again.length != c.length)
        __builtin_trap();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
