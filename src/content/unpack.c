/* Compressed images by offset: blocks that are not zero are kept, first in memory, then in a
 * temporary file without a name. */
#include "content/content.h"

#include "base/bytes.h"
#include "base/text.h"
#include "content/library.h"
#include "content/reader.h"

#include <errno.h>
#include <string.h>

enum { BLOCK = 64 << 10, IN_MEMORY = 64 << 20 };

static const struct {
    const char *name;
    uint8_t length;
    const char *magic;
} compressions[] = {{"gzip", 2, "\x1f\x8b"},         {"xz", 6, "\xfd\x37zXZ\0"},
                    {"zstd", 4, "\x28\xb5\x2f\xfd"}, {"bzip2", 3, "BZh"},
                    {"lzma", 3, "\x5d\0\0"},         {"lz4", 4, "\x04\x22\x4d\x18"}};

const char *mos_compression_of(const uint8_t *head, size_t length) {
    for (size_t i = 0; i < sizeof compressions / sizeof *compressions; i++)
        if (length >= compressions[i].length &&
            memcmp(head, compressions[i].magic, compressions[i].length) == 0)
            return compressions[i].name;
    return NULL;
}

/* A block: its bytes, or its number in the spill file plus one, or neither: zeros. */
struct block {
    uint8_t *bytes;
    uint32_t spilled;
};

struct unpacked {
    struct mos_ctx *ctx;
    struct mos_vec blocks; /* of struct block */
    uint64_t in_memory;
    uint32_t spilled;
    int spill;
    /* the source */
    int file;
    const uint8_t *bytes; /* in memory instead */
    uint64_t offset, size;
};

static int read_blocks(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct unpacked *u = io->self;
    uint8_t *out = to;
    while (length) {
        const struct block *b = mos_vec_at(&u->blocks, (size_t)(offset / BLOCK));
        size_t at = (size_t)(offset % BLOCK), n = (size_t)mos_min(BLOCK - at, length), got = n;
        if (b->bytes) {
            memcpy(out, b->bytes + at, n);
        } else if (b->spilled) {
            uint64_t from = (uint64_t)(b->spilled - 1) * BLOCK + at;
            int e = u->ctx->host->pread(u->ctx->host, u->spill, out, n, from, &got);
            if (e || got != n)
                return e ? e : EIO;
        } else {
            memset(out, 0, n);
        }
        out += n;
        offset += n;
        length -= n;
    }
    return 0;
}

static int next_block(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end) {
    const struct unpacked *u = io->self;
    size_t i = (size_t)(from / BLOCK), count = u->blocks.count;
    const struct block *b = u->blocks.items;
    while (i < count && !b[i].bytes && !b[i].spilled)
        i++;
    size_t k = i;
    while (k < count && (b[k].bytes || b[k].spilled))
        k++;
    *start = mos_min(mos_max(from, (uint64_t)i * BLOCK), io->size);
    *end = mos_min((uint64_t)k * BLOCK, io->size);
    return 0;
}

static bool keep(struct unpacked *u, const uint8_t *bytes) {
    struct block *b = mos_vec_push(&u->blocks);
    if (mos_all_zero(bytes, BLOCK))
        return true;
    if (u->in_memory + BLOCK <= IN_MEMORY) {
        b->bytes = mos_alloc(u->ctx->arena, BLOCK);
        memcpy(b->bytes, bytes, BLOCK);
        u->in_memory += BLOCK;
        return true;
    }
    const struct mos_host *h = u->ctx->host;
    int e = u->spill < 0 ? h->temporary(h, &u->spill) : 0;
    e = e ? e : h->pwrite(h, u->spill, bytes, BLOCK, (uint64_t)u->spilled * BLOCK);
    if (e)
        return mos_fail(u->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write a temporary file");
    b->spilled = ++u->spilled;
    return true;
}

static int read_file(void *self, void *to, size_t room, size_t *got) {
    struct unpacked *u = self;
    int e = u->ctx->host->pread(u->ctx->host, u->file, to, room, u->offset, got);
    u->offset += e ? 0 : *got;
    if (!e && u->ctx->progress)
        u->ctx->progress(u->ctx->progress_self, "unpacking", u->offset, u->size);
    return e;
}

static int read_memory(void *self, void *to, size_t room, size_t *got) {
    struct unpacked *u = self;
    *got = (size_t)mos_min(room, u->size - u->offset);
    memcpy(to, u->bytes + u->offset, *got);
    u->offset += *got;
    return 0;
}

/* Reads the whole stream; *size: its length.  false: *why, or ctx->error. */
static bool unpack_stream(struct unpacked *u, struct mos_reader *r, uint64_t limit, uint64_t *size,
                          const char **why) {
    uint8_t *block = mos_alloc(u->ctx->arena, BLOCK);
    struct archive *a = mos_reader_archive(r);
    struct archive_entry *e;
    size_t filled = 0;
    la_ssize_t n = 0;
    *size = 0;
    if (archive_read_next_header(a, &e) != ARCHIVE_OK) {
        *why = mos_strdup(u->ctx->arena, mos_reader_problem(r));
        return false;
    }
    while ((n = archive_read_data(a, block + filled, BLOCK - filled)) > 0) {
        filled += (size_t)n;
        *size += (uint64_t)n;
        if (*size > limit) {
            *why =
                mos_printf(u->ctx->arena,
                           "it is larger than %s once it is unpacked; --expand-to SIZE allows more",
                           mos_size_text(u->ctx->arena, limit));
            return false;
        }
        if (filled == BLOCK && !keep(u, block))
            return false;
        if (filled == BLOCK)
            filled = 0;
    }
    if (n < 0)
        *why = mos_strdup(u->ctx->arena, mos_reader_problem(r));
    memset(block + filled, 0, BLOCK - filled);
    return n == 0 && (!filled || keep(u, block));
}

static struct unpacked *unpack_new(struct mos_ctx *ctx) {
    struct unpacked *u = mos_alloc(ctx->arena, sizeof *u);
    u->ctx = ctx;
    u->file = u->spill = -1;
    u->blocks = mos_vec_make(ctx->arena, sizeof(struct block));
    return u;
}

static void use(struct unpacked *u, uint64_t size, struct mos_unpacked *out) {
    static const struct mos_io_driver driver = {
        .read = read_blocks, .write = NULL, .next_data = next_block};
    out->io = (struct mos_io){&driver, size, u};
    out->spill = u->spill;
}

static bool unpack(struct unpacked *u, int (*read)(void *, void *, size_t, size_t *),
                   uint64_t limit, uint64_t *size, const char **why) {
    const struct mos_packed_source source = {read, u};
    struct mos_reader *r = mos_reader_open(u->ctx, &source, false, why);
    bool ok = r && unpack_stream(u, r, limit, size, why);
    mos_reader_free(r);
    return ok;
}

static bool unpack_file(struct mos_ctx *ctx, const char *path, struct mos_unpacked *out) {
    struct unpacked *u = unpack_new(ctx);
    uint64_t size = 0;
    const char *why = NULL;
    u->file = out->file;
    u->size = out->stored;
    bool ok = unpack(u, read_file, ctx->expand_to ? ctx->expand_to : MOS_EXPAND_TO, &size, &why);
    if (!ok)
        mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "Cannot unpack %s: %s", path,
                 why ? why : "it is damaged");
    use(u, size, out);
    return ok;
}

bool mos_unpack_memory(struct mos_ctx *ctx, const void *bytes, size_t length, uint64_t limit,
                       struct mos_unpacked *out) {
    struct unpacked *u = unpack_new(ctx);
    uint64_t size = 0;
    const char *why;
    *out = (struct mos_unpacked){
        .host = ctx->host, .stored = length, .file = -1, .spill = -1, .device = -1};
    u->bytes = bytes;
    u->size = length;
    bool ok = unpack(u, read_memory, limit, &size, &why);
    out->compression = mos_compression_of(bytes, length);
    use(u, size, out);
    return ok;
}

/* A path that leads to no file: a storage device? */
static bool open_device(struct mos_ctx *ctx, const char *path, struct mos_unpacked *out) {
    const struct mos_computer *c = ctx->host->computer;
    struct mos_device_info info;
    int e = c ? c->open_to_look(c, path, &out->device) : MOS_NO_FILE;
    if (!e && (e = c->info(c, out->device, &info)) != 0)
        mos_unpack_close(out);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_USAGE, e, "Cannot open %s", path);
    out->is_device = true;
    out->stored = info.size;
    out->io = mos_io_device(ctx->arena, c, out->device, info.size);
    return true;
}

/* A file that is open, out->file: plain or compressed. */
static bool open_file(struct mos_ctx *ctx, const char *path, struct mos_unpacked *out) {
    const struct mos_host *h = ctx->host;
    struct mos_file_info info;
    uint8_t head[8];
    size_t got = 0;
    int e = h->file_info(h, out->file, &info);
    if (e || (e = h->pread(h, out->file, head, sizeof head, 0, &got)))
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path);
    if (!ctx->error->kind) {
        out->stored = info.size;
        out->compression = mos_compression_of(head, got);
        if (out->compression)
            unpack_file(ctx, path, out);
        else
            out->io = mos_io_file(ctx->arena, h, out->file, info.size);
    }
    if (ctx->error->kind)
        mos_unpack_close(out);
    return !ctx->error->kind;
}

bool mos_unpack_open(struct mos_ctx *ctx, const char *path, struct mos_unpacked *out) {
    const struct mos_host *h = ctx->host;
    *out = (struct mos_unpacked){.host = h, .file = -1, .spill = -1, .device = -1};
    if (ctx->error->kind)
        return false;
    int e = h->open(h, path, MOS_OPEN_READ, &out->file);
    if (e == MOS_NO_FILE)
        return open_device(ctx, path, out);
    if (e == EISDIR)
        return mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "%s is a folder, not an image", path);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_USAGE, e, "Cannot open %s", path);
    return open_file(ctx, path, out);
}

/* Fills a block as far as the input goes. */
static int fill_block(struct mos_ctx *ctx, uint8_t *block, size_t *filled) {
    size_t got = 1;
    int e = 0;
    for (*filled = 0; *filled < BLOCK && got && !e; *filled += e ? 0 : got)
        e = ctx->host->read_input(ctx->host, block + *filled, BLOCK - *filled, &got);
    return e;
}

bool mos_unpack_input(struct mos_ctx *ctx, const char *name, struct mos_unpacked *out) {
    const struct mos_host *h = ctx->host;
    uint64_t size = 0, limit = ctx->expand_to ? ctx->expand_to : MOS_EXPAND_TO;
    uint8_t *block = mos_alloc(ctx->arena, BLOCK);
    size_t filled = BLOCK;
    *out = (struct mos_unpacked){.host = h, .file = -1, .spill = -1, .device = -1};
    int e = ctx->error->kind ? 0 : h->temporary(h, &out->file);
    if (e)
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write a temporary file");
    while (!ctx->error->kind && filled == BLOCK) {
        e = fill_block(ctx, block, &filled);
        if (e)
            mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", name);
        else if (filled && !mos_all_zero(block, filled) /* zeros become a hole */ &&
                 (e = h->pwrite(h, out->file, block, filled, size)) != 0)
            mos_fail(ctx->error, MOS_ERROR_SYSTEM, e,
                     "Cannot keep %s in a temporary file (after %s)", name,
                     mos_size_text(ctx->arena, size));
        size += filled;
        if (size > limit)
            mos_fail(ctx->error, MOS_ERROR_USAGE, 0,
                     "%s is larger than %s; --expand-to SIZE allows more", name,
                     mos_size_text(ctx->arena, limit));
        if (ctx->progress)
            ctx->progress(ctx->progress_self, "taking", size, 0);
    }
    if (!ctx->error->kind && (e = h->resize(h, out->file, size)) != 0)
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot keep %s in a temporary file", name);
    if (!ctx->error->kind)
        return open_file(ctx, name, out);
    mos_unpack_close(out);
    return false;
}

void mos_unpack_close(struct mos_unpacked *u) {
    if (u->file >= 0)
        u->host->close(u->host, u->file);
    if (u->spill >= 0)
        u->host->close(u->host, u->spill);
    if (u->device >= 0)
        u->host->computer->close(u->host->computer, u->device);
    u->file = u->spill = u->device = -1;
}

bool mos_unpack_bytes(struct mos_ctx *ctx, const uint8_t **bytes, size_t *length, uint64_t limit) {
    struct mos_unpacked u;
    if (!mos_compression_of(*bytes, *length))
        return true;
    if (!mos_unpack_memory(ctx, *bytes, *length, limit, &u))
        return false;
    uint8_t *plain = mos_alloc(ctx->arena, (size_t)u.io.size + 1);
    int e = mos_io_read(&u.io, plain, (size_t)u.io.size, 0);
    *bytes = plain;
    *length = (size_t)u.io.size;
    mos_unpack_close(&u);
    return !e;
}
