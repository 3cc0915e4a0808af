#include "build/image.h"

#include "base/bytes.h"
#include "base/lanes.h"

#include <assert.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { WORKERS = 2, PIECE = 1 << 18, LANE_PIECE = 1 << 16, LEAST_LANES = 4 };
_Static_assert(MOS_CHUNK_SIZE % LANE_PIECE == 0, "lanes go through whole chunks");
_Static_assert(LANE_PIECE % MOS_LANE_UNIT == 0, "and through whole units of the hash");

/* Chunks that are handed to a worker together.  Only the worker touches them until it is joined. */
struct job {
    struct mos_image *image;
    size_t chunks[MOS_MOST_LANES];
    uint32_t versions[MOS_MOST_LANES];
    size_t count;
};

struct chunk {
    uint32_t version;        /* grows with every write; 0: never written, all zero */
    uint32_t hashed_version; /* what `hash` is of */
    uint8_t hash[MOS_SHA256_SIZE];
    bool queued; /* once while the image grows */
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
    size_t width;        /* chunks that are hashed fastest at once */
    struct job *pending; /* that is being filled; or NULL */
};

static uint64_t chunk_length(const struct mos_image *image, size_t chunk) {
    assert(chunk < image->count);
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

/* Several whole chunks side by side. */
static int hash_together(const struct mos_image *image, const struct job *job) {
    assert(job->count && job->count <= image->width && image->width <= MOS_MOST_LANES);
    const struct mos_host *h = image->ctx->host;
    struct mos_lanes lanes = mos_lanes_start((unsigned)image->width);
    uint8_t *bytes = malloc(job->count * LANE_PIECE), hashes[MOS_MOST_LANES][MOS_SHA256_SIZE];
    const uint8_t *pieces[MOS_MOST_LANES];
    int e = bytes ? 0 : ENOMEM;
    for (size_t i = 0; i < image->width; i++) /* lanes without a chunk do the first one's work */
        pieces[i] = bytes + (i < job->count ? i : 0) * LANE_PIECE;
    for (uint64_t at = 0; !e && at < MOS_CHUNK_SIZE; at += LANE_PIECE) {
        for (size_t i = 0; !e && i < job->count; i++) {
            size_t got = 0;
            e = h->pread(h, image->file, bytes + i * LANE_PIECE, LANE_PIECE,
                         (uint64_t)job->chunks[i] * MOS_CHUNK_SIZE + at, &got);
            e = !e && got != LANE_PIECE ? EIO : e;
        }
        if (!e)
            mos_lanes_update(&lanes, pieces, LANE_PIECE);
    }
    free(bytes);
    if (e)
        return e;
    mos_lanes_final(&lanes, hashes);
    for (size_t i = 0; i < job->count; i++)
        memcpy(image->chunks[job->chunks[i]].hash, hashes[i], MOS_SHA256_SIZE);
    return 0;
}

static void work(void *self, void *argument) {
    (void)self;
    struct job *job = argument;
    struct mos_image *image = job->image;
    bool whole = job->count >= LEAST_LANES;
    for (size_t i = 0; i < job->count; i++)
        whole &= chunk_length(image, job->chunks[i]) == MOS_CHUNK_SIZE;
    int e = whole ? hash_together(image, job) : 0;
    for (size_t i = 0; i < job->count; i++) {
        struct chunk *c = &image->chunks[job->chunks[i]];
        if (whole ? !e : !hash_chunk(image, job->chunks[i], c->hash))
            c->hashed_version = job->versions[i];
    }
}

/* Hands over what has been put together. */
static void submit(struct mos_image *image) {
    struct job *job = image->pending;
    image->pending = NULL;
    if (!job)
        return;
    struct mos_worker *w = image->workers[image->next_worker];
    image->next_worker = (image->next_worker + 1) % WORKERS;
    if (w)
        image->ctx->host->worker_submit(w, job);
    else
        work(image, job);
}

static void add(struct mos_image *image, size_t chunk) {
    if (!image->pending) {
        image->pending = mos_alloc(image->ctx->arena, sizeof *image->pending);
        image->pending->image = image;
    }
    struct job *job = image->pending;
    assert(job->count < image->width);
    job->chunks[job->count] = chunk;
    job->versions[job->count++] = image->chunks[chunk].version;
    if (job->count == image->width)
        submit(image);
}

static void queue(struct mos_image *image, size_t chunk) {
    assert(chunk < image->count);
    struct chunk *c = &image->chunks[chunk];
    if (c->queued || !c->version)
        return;
    c->queued = true;
    image->ctx->host->settle(image->ctx->host, image->file, (uint64_t)chunk * MOS_CHUNK_SIZE,
                             MOS_CHUNK_SIZE);
    add(image, chunk);
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
    assert(last < image->count);
    for (size_t i = first; i <= last; i++)
        image->chunks[i].version++;
    while (image->front < first) /* what lies behind us is probably done */
        queue(image, image->front++);
    return 0;
}

static void start_workers(struct mos_image *image) {
    for (size_t i = 0; i < WORKERS; i++)
        image->workers[i] = image->ctx->host->worker_start(image->ctx->host, work, image);
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
    image->width = mos_lanes_best();
    start_workers(image);
    return image;
}

/* The hash of a chunk that lies wholly in what was taken, and of which the rest is still empty, is
 * known. */
static void note_taken(struct mos_image *image, uint64_t from, uint64_t to,
                       const uint8_t (*hashes)[MOS_SHA256_SIZE], size_t count) {
    assert(from < to);
    for (size_t i = (size_t)(from / MOS_CHUNK_SIZE); i <= (to - 1) / MOS_CHUNK_SIZE; i++) {
        struct chunk *c = &image->chunks[i];
        uint64_t start = (uint64_t)i * MOS_CHUNK_SIZE, end = start + chunk_length(image, i);
        bool whole = start >= from && end <= to && i < count && !c->version && !c->queued;
        c->version++;
        if (!whole)
            continue;
        memcpy(c->hash, hashes[i], MOS_SHA256_SIZE);
        c->hashed_version = c->version;
        c->queued = true;
    }
}

int mos_image_take(struct mos_image *image, int file, uint64_t from, uint64_t to,
                   const uint8_t (*hashes)[MOS_SHA256_SIZE], size_t count) {
    const struct mos_host *h = image->ctx->host;
    assert(from < to && to <= image->io.size);
    note_taken(image, from, to, hashes, count);
    for (uint64_t at = from; at < to;) {
        uint64_t start, end;
        int e = h->next_data(h, file, at, &start, &end);
        if (e || start >= to)
            return e;
        start = mos_max(start, from);
        end = mos_min(end, to);
        if ((e = h->copy(h, file, start, image->file, start, end - start)))
            return e;
        at = end;
    }
    return 0;
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
    start_workers(image);
    for (size_t i = 0; i < image->count; i++)
        if (image->chunks[i].version && image->chunks[i].hashed_version != image->chunks[i].version)
            add(image, i);
    submit(image);
    join(image);
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

static void hash_list(const struct mos_image *image, uint8_t hash[MOS_SHA256_SIZE]) {
    struct mos_sha256 *list = mos_sha256_new();
    for (size_t i = 0; i < image->count && list; i++)
        mos_sha256_update(list, image->chunks[i].hash, MOS_SHA256_SIZE);
    if (list)
        mos_sha256_final(list, hash);
    mos_sha256_free(list);
}

bool mos_image_hash_of(struct mos_ctx *ctx, const char *path, uint8_t hash[MOS_SHA256_SIZE]) {
    const struct mos_host *h = ctx->host;
    struct mos_image *image = mos_alloc(ctx->arena, sizeof *image);
    struct mos_file_info info;
    image->ctx = ctx;
    int e = h->open(h, path, MOS_OPEN_READ, &image->file);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path);
    e = h->file_info(h, image->file, &info);
    image->io.size = e ? 0 : info.size;
    image->count = (size_t)mos_div_up(image->io.size, MOS_CHUNK_SIZE);
    image->chunks = mos_alloc_array(ctx->arena, image->count, sizeof *image->chunks);
    image->width = mos_lanes_best();
    for (size_t i = 0; i < image->count; i++) {
        uint64_t start, end, from = (uint64_t)i * MOS_CHUNK_SIZE;
        if (!e && (e = h->next_data(h, image->file, from, &start, &end)) == 0)
            image->chunks[i].version = start < from + MOS_CHUNK_SIZE;
    }
    e = e ? e : hash_rest(image);
    h->close(h, image->file);
    hash_list(image, hash);
    return e ? mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path) : true;
}

bool mos_image_hash_io(struct mos_ctx *ctx, struct mos_io *io, uint8_t hash[MOS_SHA256_SIZE]) {
    struct mos_image *image = mos_alloc(ctx->arena, sizeof *image);
    uint8_t *bytes = mos_alloc(ctx->arena, MOS_CHUNK_SIZE);
    image->ctx = ctx;
    image->count = (size_t)mos_div_up(io->size, MOS_CHUNK_SIZE);
    image->chunks = mos_alloc_array(ctx->arena, image->count, sizeof *image->chunks);
    int e = 0;
    for (size_t i = 0; i < image->count && !e; i++) {
        uint64_t at = (uint64_t)i * MOS_CHUNK_SIZE;
        size_t n = (size_t)mos_min(MOS_CHUNK_SIZE, io->size - at);
        e = mos_io_read(io, bytes, n, at);
        e = e ? e : mos_sha256(bytes, n, image->chunks[i].hash) ? 0 : ENOMEM;
    }
    hash_list(image, hash);
    return e ? mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "The image cannot be read") : true;
}

bool mos_image_finish(struct mos_image *image, uint8_t hash[MOS_SHA256_SIZE]) {
    assert(image->front <= image->count);
    const struct mos_host *h = image->ctx->host;
    while (image->front < image->count)
        queue(image, image->front++);
    submit(image);
    join(image);
    int e = hash_rest(image);
    if (!e)
        e = h->sync(h, image->file);
    h->close(h, image->file);
    hash_list(image, hash);
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
