/* Blocks on their way through the compression.  Two batches: while the workers compress one, the
 * next is filled.  Blocks are written in the order in which they began, so the bytes are the same
 * on any number of cores. */
#include "fs/squashfs/squashfs_internal.h"

#include "base/bytes.h"

#include <assert.h>
#include <string.h>

enum { MOST_WORKERS = 8, BLOCKS_OF_ONE = 6, FRAGMENT_OWNER = 0 };

struct job {
    struct sq_pipe *pipe;
    uint8_t *in, *out;
    size_t length, packed; /* packed 0: stored as it is */
    uint32_t owner;        /* inventory index of the file; FRAGMENT_OWNER: a fragment */
    uint32_t number;       /* of the block in its file, or of the fragment */
};

struct batch {
    struct job *jobs;
    size_t count;
    bool running;
};

struct sq_pipe {
    struct sq_writer *v;
    struct batch batches[2];
    unsigned filling; /* which batch */
    size_t room;      /* jobs of a batch */
    unsigned worker_count;
    struct mos_worker *workers[MOST_WORKERS];
    uint8_t *tail; /* the fragment that is being filled */
    size_t tail_length;
    /* the file that comes */
    uint32_t owner;
    uint64_t size, at;
    bool block_open; /* a job is being filled */
};

static void compress_job(void *self, void *argument) {
    struct job *j = argument;
    assert(j->length && j->length <= j->pipe->v->block_size);
    const struct sq_writer *v = j->pipe->v;
    (void)self;
    j->packed = v->codec->encode(j->in, j->length, j->out, j->length - 1, v->block_size);
}

struct sq_pipe *sq_pipe_new(struct sq_writer *v) {
    struct mos_arena *arena = v->base.ctx->arena;
    const struct mos_host *h = v->base.ctx->host;
    struct sq_pipe *p = mos_alloc(arena, sizeof *p);
    p->v = v;
    p->worker_count = (unsigned)mos_min(mos_max(h->cores(h), 1), MOST_WORKERS);
    p->room = (size_t)p->worker_count * BLOCKS_OF_ONE;
    for (size_t b = 0; b < 2; b++) {
        p->batches[b].jobs = mos_alloc_array(arena, p->room, sizeof(struct job));
        for (size_t i = 0; i < p->room; i++) {
            struct job *j = &p->batches[b].jobs[i];
            *j = (struct job){.pipe = p,
                              .in = mos_alloc(arena, v->block_size),
                              .out = mos_alloc(arena, v->block_size)};
        }
    }
    p->tail = mos_alloc(arena, v->block_size);
    return p;
}

struct sq_content *sq_content_of(struct sq_writer *v, uint32_t index) {
    while (v->contents.count <= index)
        *(struct sq_content *)mos_vec_push(&v->contents) = (struct sq_content){.fragment = SQ_NONE};
    return mos_vec_at(&v->contents, index);
}

/* Puts a block where it belongs. */
static void settle(struct sq_writer *v, const struct job *j) {
    bool packed = j->packed != 0;
    size_t n = packed ? j->packed : j->length;
    assert(n && n <= v->block_size);
    uint32_t size = (uint32_t)n | (packed ? 0 : SQ_STORED_DATA);
    mos_volume_write(&v->base, packed ? j->out : j->in, n, v->at);
    if (j->owner == FRAGMENT_OWNER) {
        *(struct sq_fragment *)mos_vec_at(&v->fragments, j->number) =
            (struct sq_fragment){v->at, size};
    } else {
        struct sq_content *c = sq_content_of(v, j->owner);
        if (!c->start)
            c->start = v->at;
        c->blocks[j->number] = size;
    }
    v->at += n;
}

/* Waits for a batch, and writes it. */
static void collect(struct sq_pipe *p, struct batch *b) {
    assert(b->count <= p->room);
    if (!b->running)
        return;
    for (unsigned i = 0; i < p->worker_count; i++) {
        if (p->workers[i])
            p->v->base.ctx->host->worker_finish(p->workers[i]);
        p->workers[i] = NULL;
    }
    for (size_t i = 0; i < b->count; i++)
        settle(p->v, &b->jobs[i]);
    b->count = 0;
    b->running = false;
}

static void start(struct sq_pipe *p, struct batch *b) {
    assert(!b->running);
    const struct mos_host *h = p->v->base.ctx->host;
    for (unsigned i = 0; i < p->worker_count && p->worker_count > 1; i++)
        p->workers[i] = h->worker_start(h, compress_job, NULL);
    for (size_t i = 0; i < b->count; i++) {
        struct mos_worker *w = p->workers[i % p->worker_count];
        if (w)
            h->worker_submit(w, &b->jobs[i]);
        else
            compress_job(NULL, &b->jobs[i]);
    }
    b->running = true;
}

/* The batch that is filled is full: the other one is waited for, and they change places. */
static void turn(struct sq_pipe *p) {
    collect(p, &p->batches[!p->filling]);
    start(p, &p->batches[p->filling]);
    p->filling = !p->filling;
}

static struct job *open_job(struct sq_pipe *p, uint32_t owner, uint32_t number) {
    struct batch *b = &p->batches[p->filling];
    assert(!b->running);
    if (b->count == p->room) {
        turn(p);
        b = &p->batches[p->filling];
    }
    struct job *j = &b->jobs[b->count++];
    j->owner = owner;
    j->number = number;
    j->length = 0;
    return j;
}

static struct job *open_block(struct sq_pipe *p) {
    struct batch *b = &p->batches[p->filling];
    if (p->block_open)
        return &b->jobs[b->count - 1];
    uint64_t block = p->at / p->v->block_size;
    assert(p->at < p->size);
    struct job *j = open_job(p, p->owner, (uint32_t)block);
    memset(j->in, 0, p->v->block_size);
    j->length = (size_t)mos_min(p->v->block_size, p->size - block * p->v->block_size);
    p->block_open = true;
    return j;
}

/* ---- fragments ---- */

static void close_fragment(struct sq_pipe *p) {
    assert(p->tail_length <= p->v->block_size);
    if (!p->tail_length)
        return;
    struct job *j = open_job(p, FRAGMENT_OWNER, (uint32_t)p->v->fragments.count);
    mos_vec_push(&p->v->fragments);
    memcpy(j->in, p->tail, p->tail_length);
    j->length = p->tail_length;
    p->tail_length = 0;
}

/* The last block of the file, which is no whole one, becomes a part of a fragment.  Where it does
 * not fit any more, the block and the full fragment change places. */
static void make_tail(struct sq_pipe *p) {
    struct batch *b = &p->batches[p->filling];
    struct job *j = &b->jobs[b->count - 1];
    struct sq_content *c = sq_content_of(p->v, p->owner);
    size_t length = j->length;
    assert(p->block_open && length < p->v->block_size);
    if (p->tail_length + length <= p->v->block_size) {
        memcpy(p->tail + p->tail_length, j->in, length);
        b->count--;
    } else {
        uint8_t *full = p->tail;
        p->tail = j->in;
        j->in = full;
        j->owner = FRAGMENT_OWNER;
        j->number = (uint32_t)p->v->fragments.count;
        j->length = p->tail_length;
        mos_vec_push(&p->v->fragments);
        p->tail_length = 0;
    }
    c->offset = (uint32_t)p->tail_length;
    assert(p->tail_length + length <= p->v->block_size);
    c->fragment = (uint32_t)p->v->fragments.count;
    p->tail_length += length;
}

/* ---- files ---- */

void sq_pipe_begin(struct sq_pipe *p, uint32_t index, uint64_t size) {
    struct sq_content *c = sq_content_of(p->v, index);
    size_t count = (size_t)mos_div_up(size, p->v->block_size);
    assert(index != FRAGMENT_OWNER && !c->done);
    p->owner = index;
    p->size = size;
    p->at = 0;
    p->block_open = false;
    c->count = (uint32_t)count;
    c->blocks = count ? mos_alloc_array(p->v->base.ctx->arena, count, sizeof *c->blocks) : NULL;
}

void sq_pipe_data(struct sq_pipe *p, uint64_t offset, const uint8_t *bytes, size_t length) {
    uint32_t unit = p->v->block_size;
    assert(offset <= p->size && length <= p->size - offset);
    if (p->block_open && offset / unit != p->at / unit)
        p->block_open = false; /* what lies between is a hole */
    p->at = offset;
    while (length) {
        struct job *j = open_block(p);
        size_t within = (size_t)(p->at % unit), n = mos_min(length, unit - within);
        memcpy(j->in + within, bytes, n);
        bytes += n;
        length -= n;
        p->at += n;
        if (within + n == unit)
            p->block_open = false;
    }
}

void sq_pipe_end(struct sq_pipe *p) {
    assert(p->at <= p->size);
    struct sq_content *c = sq_content_of(p->v, p->owner);
    if (p->block_open && p->size % p->v->block_size &&
        (p->at - 1) / p->v->block_size == p->size / p->v->block_size) {
        make_tail(p);
        c->count--;
    }
    p->block_open = false;
    c->done = true;
}

void sq_pipe_finish(struct sq_pipe *p) {
    assert(!p->block_open);
    close_fragment(p);
    collect(p, &p->batches[!p->filling]);
    start(p, &p->batches[p->filling]);
    collect(p, &p->batches[p->filling]);
}
