#include "content/reader.h"

#include "base/bytes.h"
#include "content/library.h"
#include "content/package.h"

#include <errno.h>
#include <lzma.h>
#include <stdlib.h>
#include <string.h>

enum { READ_SIZE = 1 << 20, HEAD = 8 };

struct mos_reader {
    struct mos_ctx *ctx;
    struct mos_packed_source source;
    struct archive *a;
    struct mos_package package; /* in use where it has bytes */
    uint8_t *in, *out;          /* READ_SIZE bytes each; out: what xz gave */
    size_t held;                /* bytes of `in` that were read to look at them */
    lzma_stream lzma;
    bool xz, ended;
    int errnum;
    const char *problem;
};

/* ---- xz and lzma, whose decoders take what memory a stream asks for unless they are told ---- */

static bool fill(struct mos_reader *r) {
    size_t got = r->held;
    r->held = 0;
    if (!got)
        r->errnum = r->source.read(r->source.self, r->in, READ_SIZE, &got);
    r->lzma.next_in = r->in;
    r->lzma.avail_in = got;
    r->ended = got == 0;
    return !r->errnum;
}

static const char *lzma_problem(struct mos_reader *r, lzma_ret result) {
    if (result == LZMA_MEMLIMIT_ERROR)
        return mos_printf(r->ctx->arena, "it takes %llu MiB to unpack, and at most %d are given",
                          (unsigned long long)(lzma_memusage(&r->lzma) >> 20),
                          MOS_MOST_DECODER >> 20);
    return result == LZMA_BUF_ERROR ? "it is cut off" : "its compressed data is damaged";
}

static la_ssize_t read_xz(struct archive *a, void *self, const void **block) {
    struct mos_reader *r = self;
    r->lzma.next_out = r->out;
    r->lzma.avail_out = READ_SIZE;
    while (r->lzma.avail_out == READ_SIZE) {
        if (!r->lzma.avail_in && !r->ended && !fill(r)) {
            archive_set_error(a, r->errnum, "%s", mos_errno_text(r->errnum));
            return ARCHIVE_FATAL;
        }
        lzma_ret result = lzma_code(&r->lzma, r->ended ? LZMA_FINISH : LZMA_RUN);
        if (result == LZMA_STREAM_END)
            break;
        if (result != LZMA_OK) {
            r->problem = lzma_problem(r, result);
            archive_set_error(a, EINVAL, "%s", r->problem);
            return ARCHIVE_FATAL;
        }
    }
    *block = r->out;
    return (la_ssize_t)(READ_SIZE - r->lzma.avail_out);
}

static la_ssize_t read_plain(struct archive *a, void *self, const void **block) {
    struct mos_reader *r = self;
    size_t got = r->held;
    r->held = 0;
    if (!got)
        r->errnum = r->source.read(r->source.self, r->in, READ_SIZE, &got);
    if (r->errnum) {
        archive_set_error(a, r->errnum, "%s", mos_errno_text(r->errnum));
        return ARCHIVE_FATAL;
    }
    *block = r->in;
    return (la_ssize_t)got;
}

/* ---- what may be read ---- */

/* A filter that the library would start a program for answers ARCHIVE_WARN: it is not used. */
static void allow_filters(struct archive *a) {
    int (*const filters[])(struct archive *) = {
        archive_read_support_filter_gzip, archive_read_support_filter_bzip2,
        archive_read_support_filter_zstd, archive_read_support_filter_lz4};
    for (size_t i = 0; i < sizeof filters / sizeof *filters; i++) {
        struct archive *trial = archive_read_new();
        bool built_in = trial && filters[i](trial) == ARCHIVE_OK;
        if (trial)
            archive_read_free(trial);
        if (built_in)
            filters[i](a);
    }
}

static void allow_formats(struct archive *a, bool files) {
    if (files) {
        archive_read_support_format_tar(a);
        archive_read_support_format_cpio(a);
        archive_read_support_format_zip(a);
    } else {
        archive_read_support_format_raw(a);
    }
}

static bool begin_lzma(struct mos_reader *r, bool xz) {
    r->lzma = (lzma_stream)LZMA_STREAM_INIT;
    r->xz = true;
    r->out = malloc(READ_SIZE);
    return r->out && (xz ? lzma_stream_decoder(&r->lzma, MOS_MOST_DECODER, LZMA_CONCATENATED)
                         : lzma_alone_decoder(&r->lzma, MOS_MOST_DECODER)) == LZMA_OK;
}

static bool look(struct mos_reader *r, bool *xz, bool *alone) {
    r->errnum = r->source.read(r->source.self, r->in, READ_SIZE, &r->held);
    *xz = r->held >= 6 && memcmp(r->in, "\xfd\x37zXZ\0", 6) == 0;
    /* properties, a dictionary of a power of two, a size that is not known or below 1 TiB */
    *alone = r->held >= 13 && r->in[0] == 0x5d && mos_is_power_of_two(mos_le32(r->in + 1)) &&
             (mos_le64(r->in + 5) == UINT64_MAX || mos_le64(r->in + 5) < 1ull << 40);
    return !r->errnum;
}

/* Of a package, its data is what is read. */
static bool enter_package(struct mos_reader *r, const char **why) {
    r->package = (struct mos_package){.outer = r->source, .bytes = r->in, .held = r->held};
    r->in = malloc(READ_SIZE);
    r->held = 0;
    r->source = (struct mos_packed_source){mos_package_read, &r->package};
    r->errnum = r->in ? mos_package_open(&r->package, why) : 0;
    return r->in && !r->errnum;
}

struct mos_reader *mos_reader_open(struct mos_ctx *ctx, const struct mos_packed_source *source,
                                   bool files, const char **why) {
    struct mos_reader *r = mos_alloc(ctx->arena, sizeof *r);
    bool xz, alone;
    r->ctx = ctx;
    r->source = *source;
    r->in = malloc(READ_SIZE); /* not of the arena: a ramdisk unpacks thousands of modules */
    *why = NULL;
    xz = alone = false;
    bool ok = r->in && look(r, &xz, &alone);
    if (ok && files && mos_is_package(r->in, r->held))
        ok = enter_package(r, why) && (*why || look(r, &xz, &alone));
    if (ok && !*why && !r->held)
        *why = "it is empty";
    r->a = archive_read_new();
    if (ok && r->a && !*why) {
        ok = !(xz || alone) || begin_lzma(r, xz);
        allow_formats(r->a, files);
        allow_filters(r->a);
        ok = ok &&
             archive_read_open(r->a, r, NULL, r->xz ? read_xz : read_plain, NULL) == ARCHIVE_OK;
    }
    if (ok && r->a && !*why)
        return r;
    if (!*why)
        *why =
            mos_strdup(ctx->arena, r->errnum ? mos_errno_text(r->errnum) : mos_reader_problem(r));
    mos_reader_free(r);
    return NULL;
}

struct archive *mos_reader_archive(struct mos_reader *r) {
    return r->a;
}

const char *mos_reader_problem(struct mos_reader *r) {
    const char *text = r->problem ? r->problem
                       : r->a     ? archive_error_string(r->a)
                                  : mos_archive_missing();
    return text ? text : "it is damaged, or of a kind that is not read here";
}

bool mos_reader_is_cut(const struct mos_reader *r) {
    return r->package.cut;
}

int mos_reader_errnum(const struct mos_reader *r) {
    return r->errnum;
}

void mos_reader_free(struct mos_reader *r) {
    if (!r)
        return;
    if (r->a)
        archive_read_free(r->a);
    if (r->xz)
        lzma_end(&r->lzma);
    free(r->package.bytes);
    free(r->in);
    free(r->out);
    r->in = r->out = r->package.bytes = NULL;
}
