/* Texts that lie in a ramdisk, whoever made it. */
#include "plan/bytes.h"

#include "base/bytes.h"
#include "content/content.h"
#include "fs/fs.h"

#include <string.h>

enum { MOST_TEXT = 64 << 10, MOST_RAMDISK = 512 << 20 };

struct texts {
    const char *const *paths;
    size_t count, current; /* current == count: none of them goes by */
    struct mos_buf *out;
};

static bool take_entry(void *self, const struct mos_entry *e) {
    struct texts *t = self;
    for (t->current = 0; t->current < t->count; t->current++)
        if (strcmp(e->path, t->paths[t->current]) == 0)
            break;
    if (e->type != MOS_ENTRY_FILE || e->size > MOST_TEXT)
        t->current = t->count;
    if (t->current < t->count)
        t->out[t->current].length = 0;
    return true;
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct texts *t = self;
    if (t->current == t->count || !bytes || offset + length > MOST_TEXT ||
        offset < t->out[t->current].length)
        return true;
    struct mos_buf *b = &t->out[t->current];
    mos_buf_zeros(b, (size_t)offset - b->length);
    mos_buf_add(b, bytes, length);
    return true;
}

static bool wants(void *self, const struct mos_entry *e) {
    const struct texts *t = self;
    for (size_t i = 0; i < t->count; i++)
        if (strcmp(e->path, t->paths[i]) == 0)
            return true;
    return false;
}

bool mos_plan_ramdisk_texts(struct mos_plan *plan, const struct mos_piece_plan *piece,
                            const char *const *paths, size_t count, struct mos_buf *out) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_error ignored = {0}, *saved = ctx->error;
    struct texts t = {paths, count, count, out};
    struct mos_sink sink = {&t, take_entry, take_data, mos_ignore_end};
    struct mos_vec problems = mos_vec_make(ctx->arena, sizeof(char *));
    struct mos_read_request request = {
        .sink = &sink, .wants = wants, .self = &t, .problems = &problems};
    ctx->error = &ignored;
    const uint8_t *bytes = mos_plan_piece_bytes(plan, piece);
    size_t length = (size_t)piece->size;
    bool ok = bytes && mos_unpack_bytes(ctx, &bytes, &length, MOST_RAMDISK);
    if (ok) {
        struct mos_io io = mos_io_memory(ctx->arena, (uint8_t *)(uintptr_t)bytes, length);
        ok = mos_fs_cpio.stream(ctx, &io, &request) && !problems.count;
    }
    ctx->error = saved;
    return ok;
}
