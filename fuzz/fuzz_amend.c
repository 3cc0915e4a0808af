/* Changing volumes in place: a file replaced, one added in new folders, one removed; then all of it
 * is read again. */
#include "volume_harness.h"

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    static uint8_t content[5000];
    static const struct mos_fs_driver *const drivers[] = {&mos_fs_ext4, &mos_fs_fat16};
    for (size_t i = 0; i < 2; i++) {
        struct mos_io io = volume_of(ctx, data, size);
        struct mos_io file = mos_io_memory(ctx->arena, content, sizeof content);
        const char *why;
        uint64_t before;
        struct mos_editor *e = drivers[i]->edit(ctx, &io, 1767225600, &why);
        if (e && e->put(e, "etc/name", &file, 0644, &before) &&
            e->put(e, "new folder/with a long name/file.txt", &file, 0644, &before) &&
            e->remove(e, "etc/name", &before) && e->put(e, "etc/name", &file, 0644, &before))
            e->finish(e);
        ctx->error->kind = MOS_ERROR_NONE;
        stream_all(ctx, &io);
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
