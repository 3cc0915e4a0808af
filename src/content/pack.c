/* Compresses a whole image on its way out.  The same bytes come whatever the number of cores. */
#include "content/content.h"

#include "base/bytes.h"
#include "content/library.h"

#include <assert.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <zlib.h>

enum { PIECE = 1 << 20, BATCH = 16, WORKERS = 2 };

struct packing {
    struct mos_ctx *ctx;
    struct mos_io *from;
    const char *path;
    int file, errnum;
    struct mos_buf *to; /* instead of the file */
    uint64_t written;
};

static bool put(struct packing *p, const void *bytes, size_t length) {
    if (p->to)
        mos_buf_add(p->to, bytes, length);
    else if (!p->errnum)
        p->errnum = p->ctx->host->pwrite(p->ctx->host, p->file, bytes, length, p->written);
    p->written += length;
    return !p->errnum;
}

static void tell(struct packing *p, uint64_t at) {
    if (p->ctx->progress)
        p->ctx->progress(p->ctx->progress_self, "compressing", at, p->from->size);
}

/* Reads a piece; spans that are not stored are zeros without reading. */
static bool read_piece(struct packing *p, uint8_t *to, size_t n, uint64_t at) {
    uint64_t start, end;
    p->errnum = mos_io_next_data(p->from, at, &start, &end);
    if (!p->errnum && start >= at + n)
        memset(to, 0, n);
    else if (!p->errnum)
        p->errnum = mos_io_read(p->from, to, n, at);
    return !p->errnum;
}

/* ---- gzip: pieces compressed on all cores, one stream ---- */

struct piece {
    uint8_t *in, *out;
    size_t length, packed, room;
    uint32_t sum;
    bool last, failed;
};

static void deflate_piece(void *self, void *job) {
    struct piece *x = job;
    z_stream z = {0};
    (void)self;
    x->failed = deflateInit2(&z, Z_DEFAULT_COMPRESSION, Z_DEFLATED, -MAX_WBITS, 8,
                             Z_DEFAULT_STRATEGY) != Z_OK;
    if (x->failed)
        return;
    z.next_in = x->in;
    z.avail_in = (uInt)x->length;
    z.next_out = x->out;
    z.avail_out = (uInt)x->room;
    int r = deflate(&z, x->last ? Z_FINISH : Z_FULL_FLUSH);
    x->failed = x->last ? r != Z_STREAM_END : r != Z_OK || !z.avail_out;
    x->packed = x->room - z.avail_out;
    x->sum = (uint32_t)crc32(0, x->in, (uInt)x->length);
    deflateEnd(&z);
}

static bool run_batch(struct packing *p, struct piece *pieces, size_t count) {
    assert(count && count <= BATCH);
    const struct mos_host *h = p->ctx->host;
    struct mos_worker *workers[WORKERS];
    for (size_t i = 0; i < WORKERS; i++)
        workers[i] = h->worker_start(h, deflate_piece, NULL);
    for (size_t i = 0; i < count; i++)
        if (workers[i % WORKERS])
            h->worker_submit(workers[i % WORKERS], &pieces[i]);
        else
            deflate_piece(NULL, &pieces[i]);
    for (size_t i = 0; i < WORKERS; i++)
        if (workers[i])
            h->worker_finish(workers[i]);
    for (size_t i = 0; i < count; i++)
        if (pieces[i].failed || !put(p, pieces[i].out, pieces[i].packed))
            return false;
    return true;
}

static bool pack_gzip(struct packing *p) {
    static const uint8_t head[10] = {0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 255}; /* no date, no system */
    struct piece pieces[BATCH] = {0};
    size_t room = PIECE + PIECE / 64 + 4096;
    uint32_t sum = (uint32_t)crc32(0, NULL, 0);
    uint8_t tail[8];
    for (size_t i = 0; i < BATCH && i * PIECE < p->from->size; i++) {
        pieces[i].in = mos_alloc(p->ctx->arena, PIECE);
        pieces[i].out = mos_alloc(p->ctx->arena, room);
        pieces[i].room = room;
    }
    put(p, head, sizeof head);
    for (uint64_t at = 0; at < p->from->size && !p->errnum;) {
        size_t count = 0;
        for (; count < BATCH && at < p->from->size; count++) {
            struct piece *x = &pieces[count];
            x->length = (size_t)mos_min(PIECE, p->from->size - at);
            if (!read_piece(p, x->in, x->length, at))
                return false;
            at += x->length;
            x->last = at == p->from->size;
        }
        if (!run_batch(p, pieces, count))
            return false;
        for (size_t i = 0; i < count; i++)
            sum = (uint32_t)crc32_combine(sum, pieces[i].sum, (z_off_t)pieces[i].length);
        tell(p, at);
    }
    mos_put_le32(tail, sum);
    mos_put_le32(tail + 4, (uint32_t)p->from->size);
    return put(p, tail, sizeof tail);
}

/* ---- xz and zstd: their libraries share the work ---- */

static la_ssize_t take_packed(struct archive *a, void *self, const void *bytes, size_t length) {
    struct packing *p = self;
    if (put(p, bytes, length))
        return (la_ssize_t)length;
    archive_set_error(a, p->errnum, "%s", strerror(p->errnum));
    return -1;
}

static bool pack_stream(struct packing *p, struct archive *a) {
    uint8_t *bytes = mos_alloc(p->ctx->arena, PIECE);
    struct archive_entry *e = archive_entry_new();
    archive_entry_set_filetype(e, AE_IFREG);
    archive_entry_set_pathname(e, "image");
    archive_entry_set_size(e, (la_int64_t)p->from->size);
    bool ok = archive_write_header(a, e) == ARCHIVE_OK;
    archive_entry_free(e);
    for (uint64_t at = 0; ok && at < p->from->size;) {
        size_t n = (size_t)mos_min(PIECE, p->from->size - at);
        ok = read_piece(p, bytes, n, at) && archive_write_data(a, bytes, n) == (la_ssize_t)n;
        at += n;
        tell(p, at);
    }
    return ok;
}

static bool pack_archive(struct packing *p, const char *filter) {
    struct archive *a = archive_write_new();
    if (!a)
        return false;
    archive_write_set_bytes_per_block(a, 0);
    bool ok = archive_write_add_filter_by_name(a, filter) == ARCHIVE_OK &&
              archive_write_set_format_raw(a) == ARCHIVE_OK;
    /* two threads always: what comes out depends on whether there are any, not on how many */
    archive_write_set_options(a, "threads=2");
    ok = ok && archive_write_open(a, p, NULL, take_packed, NULL) == ARCHIVE_OK && pack_stream(p, a);
    ok = archive_write_close(a) == ARCHIVE_OK && ok;
    archive_write_free(a);
    return ok;
}

static bool pack(struct packing *p, const char *kind) {
    assert(strcmp(kind, "gz") == 0 || strcmp(kind, "xz") == 0 || strcmp(kind, "zst") == 0);
    return strcmp(kind, "gz") == 0   ? pack_gzip(p)
           : strcmp(kind, "xz") == 0 ? pack_archive(p, "xz")
                                     : pack_archive(p, "zstd");
}

bool mos_pack_memory(struct mos_ctx *ctx, const char *kind, void *bytes, size_t length,
                     struct mos_buf *out) {
    struct mos_io from = mos_io_memory(ctx->arena, bytes, length);
    struct packing p = {.ctx = ctx, .from = &from, .to = out};
    return pack(&p, kind) && !p.errnum
               ? true
               : mos_fail(ctx->error, MOS_ERROR_SYSTEM, p.errnum, "Cannot compress with %s", kind);
}

bool mos_pack_file(struct mos_ctx *ctx, struct mos_io *from, const char *path, const char *kind,
                   uint64_t *size) {
    const struct mos_host *h = ctx->host;
    struct packing p = {.ctx = ctx, .from = from, .path = path};
    int e = h->open(h, path, MOS_OPEN_NEW, &p.file);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot create %s", path);
    bool ok = pack(&p, kind);
    if (ok)
        p.errnum = h->sync(h, p.file);
    h->close(h, p.file);
    *size = p.written;
    return ok && !p.errnum
               ? true
               : mos_fail(ctx->error, MOS_ERROR_SYSTEM, p.errnum, "Cannot compress to %s", path);
}
