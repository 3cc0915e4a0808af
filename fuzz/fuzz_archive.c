/* Archives and Debian packages: each entry comes whole and in order, within its size, and none
 * leaves the archive. */
#include "harness.h"

#include "content/content.h"

struct watch {
    uint64_t size, at, all;
    bool open;
};

static bool watch_entry(void *self, const struct mos_entry *e) {
    struct watch *w = self;
    if (w->open || !e->path || *e->path == '/' || strncmp(e->path, "../", 3) == 0 ||
        strstr(e->path, "/../"))
        __builtin_trap();
    *w = (struct watch){.size = e->size, .all = w->all + 1, .open = true};
    return w->all < 4096;
}

static bool watch_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct watch *w = self;
    if (!w->open || offset < w->at || offset > w->size || length > w->size - offset)
        __builtin_trap();
    w->at = offset + length;
    return !bytes || ((const uint8_t *)bytes)[length ? length - 1 : 0] != 0x7f || w->at < 1 << 24;
}

static bool watch_end(void *self, uint64_t sum) {
    struct watch *w = self;
    (void)sum;
    w->open = false;
    return true;
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct watch w = {0};
    struct mos_sink sink = {&w, watch_entry, watch_data, watch_end};
    struct mos_archive_result r;
    mos_archive_stream_bytes(ctx, "input", data, size, (struct mos_place){0}, &sink, &r);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
