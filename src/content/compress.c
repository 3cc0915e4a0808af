/* How large something is once it is compressed: the bytes go nowhere. */
#include "content/content.h"

#include "content/library.h"

#include <assert.h>
#include <string.h>

struct mos_compressor {
    struct archive *a;
    uint64_t written;
    uint64_t at; /* bytes taken in */
    bool failed;
};

static la_ssize_t count(struct archive *a, void *self, const void *bytes, size_t length) {
    struct mos_compressor *c = self;
    (void)a;
    (void)bytes;
    c->written += length;
    return (la_ssize_t)length;
}

static bool take_entry(void *self, const struct mos_entry *entry) {
    struct mos_compressor *c = self;
    struct archive_entry *e = archive_entry_new();
    archive_entry_set_filetype(e, AE_IFREG);
    archive_entry_set_pathname(e, "piece");
    archive_entry_set_size(e, (la_int64_t)entry->size);
    c->failed |= archive_write_header(c->a, e) != ARCHIVE_OK;
    archive_entry_free(e);
    return !c->failed;
}

static void put(struct mos_compressor *c, const void *bytes, size_t length) {
    c->failed |= archive_write_data(c->a, bytes, length) != (la_ssize_t)length;
    c->at += length;
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    static const char zeros[4096];
    struct mos_compressor *c = self;
    while (c->at < offset && !c->failed)
        put(c, zeros, offset - c->at < sizeof zeros ? (size_t)(offset - c->at) : sizeof zeros);
    put(c, bytes, length);
    return !c->failed;
}

static bool take_end(void *self, uint64_t sum) {
    (void)self;
    (void)sum;
    return true;
}

struct mos_compressor *mos_compressor_new(struct mos_ctx *ctx, const char *kind,
                                          struct mos_sink *sink) {
    assert(kind && sink);
    struct mos_compressor *c = mos_alloc(ctx->arena, sizeof *c);
    c->a = archive_write_new();
    if (!c->a)
        return NULL;
    archive_write_set_bytes_per_block(c->a, 0);
    if (archive_write_add_filter_by_name(c->a, kind) != ARCHIVE_OK ||
        archive_write_set_format_raw(c->a) != ARCHIVE_OK ||
        archive_write_open(c->a, c, NULL, count, NULL) != ARCHIVE_OK) {
        archive_write_free(c->a);
        return NULL;
    }
    *sink = (struct mos_sink){c, take_entry, take_data, take_end};
    return c;
}

bool mos_compressor_end(struct mos_compressor *c, uint64_t *size) {
    bool ok = archive_write_close(c->a) == ARCHIVE_OK && !c->failed;
    archive_write_free(c->a);
    *size = c->written;
    return ok;
}
