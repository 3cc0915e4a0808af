#include "content/tap.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

struct block {
    size_t length;
    uint8_t bytes[];
};

struct mos_tap {
    struct mos_ctx *ctx;
    struct mos_worker *worker; /* NULL: none is to be had */
    struct mos_sha256 *hash;
    bool failed;
};

static void hash_block(void *self, void *job) {
    struct mos_tap *tap = self;
    struct block *b = job;
    if (tap->hash)
        mos_sha256_update(tap->hash, b->bytes, b->length);
    free(b);
}

struct mos_tap *mos_tap_new(struct mos_ctx *ctx) {
    struct mos_tap *tap = mos_alloc(ctx->arena, sizeof *tap);
    tap->ctx = ctx;
    tap->hash = mos_sha256_new();
    tap->failed = !tap->hash;
    if (!ctx->busy)
        tap->worker = ctx->busy = ctx->host->worker_start(ctx->host, hash_block, tap);
    return tap;
}

void mos_tap_feed(struct mos_tap *tap, const void *bytes, size_t length) {
    assert(tap->hash || tap->failed);
    struct block *b = tap->worker ? malloc(sizeof *b + length) : NULL;
    if (b) {
        b->length = length;
        memcpy(b->bytes, bytes, length);
        tap->ctx->host->worker_submit(tap->worker, b); /* its queue is bounded */
    } else if (tap->worker) {
        tap->failed = true; /* what is queued comes first: it cannot be hashed here */
    } else if (tap->hash) {
        mos_sha256_update(tap->hash, bytes, length);
    }
}

bool mos_tap_end(struct mos_tap *tap, uint8_t out[MOS_SHA256_SIZE]) {
    assert(!tap->worker || tap->ctx->busy == tap->worker);
    if (tap->worker) {
        tap->ctx->busy = NULL;
        tap->ctx->host->worker_finish(tap->worker);
        tap->worker = NULL;
    }
    if (tap->hash && !tap->failed)
        mos_sha256_final(tap->hash, out);
    mos_sha256_free(tap->hash);
    tap->hash = NULL;
    return !tap->failed;
}
