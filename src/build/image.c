#include "build/image.h"

#include "base/bytes.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { WORKERS = 2, PIECE = 1 << 18 };

/* A chunk that is handed to a worker.  Only the worker touches it until it is joined. */
struct job {
    struct mos_image *image;
    size_t chunk;
    uint32_t version;
};

struct chunk {
    uint32_t version;        /* grows with every write; 0: never written, all zero */
    uint32_t hashed_version; /* what `hash` is of */
    uint8_t hash[MOS_SHA256_SIZE];
    struct job job; /* one at a time: a chunk is queued once while the image grows */
    bool queued;
};

struct mos_image {
    struct mos_ctx *ctx;
    const char *path;
    int file;
    struct mos_io io;
    struct chunk *chunks;
    size_t count, front; /* chunks below `front` have been passed */
    struct mos_worker *workers[WORKERS];
    size_t next_worker;
};

static uint64_t chunk_length(const struct mos_image *image, size_t chunk) {
    uint64_t start = (uint64_t)chunk * MOS_CHUNK_SIZE;
    return mos_min(MOS_CHUNK_SIZE, image->io.size - start);
}

static int hash_chunk(const struct mos_image *image, size_t chunk, uint8_t out[MOS_SHA256_SIZE]) {
    const struct mos_host *h = image->ctx->host;
    uint64_t offset = (uint64_t)chunk * MOS_CHUNK_SIZE, left = chunk_length(image, chunk);
    struct mos_sha256 *hash = mos_sha256_new();
    uint8_t *piece = malloc(PIECE);
    int e = hash && piece ? 0 : ENOMEM;
    while (!e && left) {
        size_t got = 0, n = (size_t)mos_min(left, PIECE);
        e = h->pread(h, image->file, piece, n, offset, &got);
        if (!e && got != n)
            e = EIO;
        if (!e)
            mos_sha256_update(hash, piece, n);
        offset += n;
        left -= n;
    }
    if (!e)
        mos_sha256_final(hash, out);
    mos_sha256_free(hash);
    free(piece);
    return e;
}

static void work(void *self, void *argument) {
    (void)self;
    struct job *job = argument;
    struct chunk *c = &job->image->chunks[job->chunk];
    if (hash_chunk(job->image, job->chunk, c->hash) == 0)
        c->hashed_version = job->version;
}

static void queue(struct mos_image *image, size_t chunk) {
    struct chunk *c = &image->chunks[chunk];
    struct mos_worker *w = image->workers[image->next_worker];
    if (c->queued || !c->version || !w)
        return;
    c->queued = true;
    c->job = (struct job){image, chunk, c->version};
    image->ctx->host->settle(image->ctx->host, image->file, (uint64_t)chunk * MOS_CHUNK_SIZE,
                             MOS_CHUNK_SIZE);
    image->ctx->host->worker_submit(w, &c->job);
    image->next_worker = (image->next_worker + 1) % WORKERS;
}

static int image_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct mos_image *image = io->self;
    size_t got = 0;
    int e = image->ctx->host->pread(image->ctx->host, image->file, to, length, offset, &got);
    return e ? e : got == length ? 0 : EIO;
}

static int image_write(struct mos_io *io, const void *from, size_t length, uint64_t offset) {
    struct mos_image *image = io->self;
    int e = image->ctx->host->pwrite(image->ctx->host, image->file, from, length, offset);
    if (e || !length)
        return e;
    size_t first = (size_t)(offset / MOS_CHUNK_SIZE);
    size_t last = (size_t)((offset + length - 1) / MOS_CHUNK_SIZE);
    for (size_t i = first; i <= last; i++)
        image->chunks[i].version++;
    while (image->front < first) /* what lies behind us is probably done */
        queue(image, image->front++);
    return 0;
}

struct mos_image *mos_image_create(struct mos_ctx *ctx, const char *path, uint64_t size) {
    static const struct mos_io_driver driver = {image_read, image_write};
    const struct mos_host *h = ctx->host;
    struct mos_image *image = mos_alloc(ctx->arena, sizeof *image);
    image->ctx = ctx;
    image->path = path;
    image->io = (struct mos_io){&driver, size, image};
    image->count = (size_t)mos_div_up(size, MOS_CHUNK_SIZE);
    image->chunks = mos_alloc_array(ctx->arena, image->count, sizeof *image->chunks);
    int e = h->open(h, path, MOS_OPEN_NEW, &image->file);
    if (!e && (e = h->resize(h, image->file, size)))
        h->close(h, image->file);
    if (e) {
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot create %s", path);
        return NULL;
    }
    for (size_t i = 0; i < WORKERS; i++)
        image->workers[i] = h->worker_start(h, work, image);
    return image;
}

struct mos_io *mos_image_io(struct mos_image *image) {
    return &image->io;
}

static void join(struct mos_image *image) {
    for (size_t i = 0; i < WORKERS; i++) {
        if (image->workers[i])
            image->ctx->host->worker_finish(image->workers[i]);
        image->workers[i] = NULL;
    }
}

/* Hashes what has changed since it was queued, on all cores; zero chunks share one hash. */
static int hash_rest(struct mos_image *image) {
    const struct mos_host *h = image->ctx->host;
    struct mos_worker *workers[WORKERS];
    for (size_t i = 0; i < WORKERS; i++)
        workers[i] = h->worker_start(h, work, image);
    for (size_t i = 0, n = 0; i < image->count; i++) {
        struct chunk *c = &image->chunks[i];
        if (!c->version || c->hashed_version == c->version)
            continue;
        c->job = (struct job){image, i, c->version};
        if (workers[n % WORKERS])
            h->worker_submit(workers[n % WORKERS], &c->job);
        else
            work(image, &c->job);
        n++;
    }
    for (size_t i = 0; i < WORKERS; i++)
        if (workers[i])
            h->worker_finish(workers[i]);
    const uint8_t *zero = NULL;
    for (size_t i = 0; i < image->count; i++) {
        struct chunk *c = &image->chunks[i];
        if (c->version) {
            if (c->hashed_version != c->version)
                return EIO;
            continue;
        }
        int e = 0;
        if (zero && chunk_length(image, i) == MOS_CHUNK_SIZE)
            memcpy(c->hash, zero, MOS_SHA256_SIZE);
        else
            e = hash_chunk(image, i, c->hash);
        if (e)
            return e;
        if (chunk_length(image, i) == MOS_CHUNK_SIZE)
            zero = c->hash;
    }
    return 0;
}

bool mos_image_finish(struct mos_image *image, uint8_t hash[MOS_SHA256_SIZE]) {
    const struct mos_host *h = image->ctx->host;
    while (image->front < image->count)
        queue(image, image->front++);
    join(image);
    int e = hash_rest(image);
    if (!e)
        e = h->sync(h, image->file);
    h->close(h, image->file);
    struct mos_sha256 *list = mos_sha256_new();
    for (size_t i = 0; i < image->count && list; i++)
        mos_sha256_update(list, image->chunks[i].hash, MOS_SHA256_SIZE);
    if (list)
        mos_sha256_final(list, hash);
    mos_sha256_free(list);
    return e ? mos_fail(image->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", image->path)
             : true;
}

void mos_image_abandon(struct mos_image *image) {
    if (!image)
        return;
    join(image);
    image->ctx->host->close(image->ctx->host, image->file);
}

size_t mos_image_chunks(const struct mos_image *image) {
    return image->count;
}

const uint8_t *mos_image_chunk_hash(const struct mos_image *image, size_t chunk) {
    return image->chunks[chunk].hash;
}
