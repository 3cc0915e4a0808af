#include "media/write.h"

#include "base/bytes.h"

#include <errno.h>
#include <string.h>

/* A piece is small enough that all that wait in the queues of the workers fit into 10 MiB. */
enum { PIECE = 512 << 10, RING = MOS_WORKER_SLOTS + 2, ALIGNED = 4096, GRAIN = 4096 };
#define MARK_EVERY (256ull << 20)

enum mode {
    WRITE,
    PROBE,   /* writes nothing, but what differs makes the target invalid */
    COMPARE, /* … is noted */
};

struct piece {
    uint64_t offset;
    size_t length;
    const uint8_t *bytes;
    uint64_t at;    /* bytes of the work before it */
    size_t ordinal; /* of all pieces of the job */
    bool may_stay;
    const char *region;
};

/* One target in one pass over the spans. */
struct lane {
    struct mos_media_target *target;
    enum mode mode;
    uint8_t *own;  /* PIECE bytes, for what is read */
    uint8_t *kept; /* a bit for each piece that was read and is right; NULL: all are read back */
    struct mos_worker *worker;
};

struct pass {
    struct mos_media_job *job;
    struct lane *lanes;
    uint8_t *ring, *zeros;
    struct piece pieces[RING];
    size_t next, ordinal; /* slot of the ring; piece of the job */
    uint64_t done;
    const char *what;
};

static uint8_t *aligned(struct mos_arena *arena, size_t size) {
    uint8_t *p = mos_alloc(arena, size + ALIGNED);
    return p + (ALIGNED - (uintptr_t)p % ALIGNED) % ALIGNED;
}

static void fail(struct mos_media_target *t, int e, enum mos_media_step step, uint64_t at,
                 uint64_t length, const char *region) {
    if (!e || atomic_load(&t->errnum))
        return;
    t->step = step;
    t->error_at = at;
    t->error_length = length;
    t->error_region = region;
    atomic_store(&t->errnum, e);
}

static bool is_alive(const struct mos_media_target *t) {
    return !atomic_load(&t->errnum);
}

/* ---- one target ---- */

static void put(struct mos_media_target *t, const void *bytes, size_t length, uint64_t offset,
                const char *region) {
    fail(t, t->computer->write(t->computer, t->device, bytes, length, offset), MOS_MEDIA_WRITES,
         offset, length, region);
    t->written += length;
}

static void flush(struct mos_media_target *t) {
    if (is_alive(t))
        fail(t, t->computer->flush(t->computer, t->device), MOS_MEDIA_FLUSHES, 0, 0, NULL);
}

/* From here on nothing takes it for whole, and it does not start. */
static void make_invalid(struct mos_media_target *t) {
    if (t->invalid)
        return;
    t->invalid = true; /* also when it fails half-way */
    for (size_t i = 0; i < t->void_count && is_alive(t); i++)
        put(t, t->voids[i].bytes, t->voids[i].length, t->voids[i].offset, NULL);
    flush(t);
}

/* The same of one that failed or came back wrong: as well as it goes. */
static void void_again(struct mos_media_target *t) {
    for (size_t i = 0; i < t->void_count; i++) {
        const struct mos_media_patch *v = &t->voids[i];
        int e = t->computer->write(t->computer, t->device, v->bytes, v->length, v->offset);
        t->stuck |= e != 0;
    }
    t->stuck |= t->computer->flush(t->computer, t->device) != 0;
    t->invalid = true;
}

static void note_difference(struct mos_media_target *t, const struct piece *p, size_t from) {
    if (!t->differs) {
        t->differs_at = p->offset + from;
        t->differs_region = p->region;
    }
    t->differs = true;
    t->differing += p->length;
}

/* The bytes [*from, *to) in whole grains are all that differs; false: nothing does. */
static bool difference(const struct piece *p, const uint8_t *found, size_t *from, size_t *to) {
    size_t a = 0, b = p->length;
    if (memcmp(p->bytes, found, p->length) == 0)
        return false;
    while (a + GRAIN < b && memcmp(p->bytes + a, found + a, GRAIN) == 0)
        a += GRAIN;
    while (b > a + GRAIN) {
        size_t last = mos_round_down(b - 1, GRAIN);
        if (last <= a || memcmp(p->bytes + last, found + last, b - last) != 0)
            break;
        b = last;
    }
    *from = a;
    *to = b;
    return true;
}

static bool is_kept(const struct lane *lane, size_t ordinal) {
    return lane->kept && lane->kept[ordinal / 8] >> ordinal % 8 & 1;
}

static void write_piece(struct lane *lane, const struct piece *p, size_t from, size_t to) {
    struct mos_media_target *t = lane->target;
    if (from == to && lane->kept)
        lane->kept[p->ordinal / 8] |= (uint8_t)(1u << p->ordinal % 8);
    t->kept += p->length - (to - from);
    if (from == to)
        return;
    make_invalid(t);
    if (is_alive(t))
        put(t, p->bytes + from, to - from, p->offset + from, p->region);
}

/* Reads a piece and says which bytes of it differ; none where it cannot be read. */
static bool read_piece(struct lane *lane, const struct piece *p, size_t *from, size_t *to) {
    struct mos_media_target *t = lane->target;
    int e = t->computer->read(t->computer, t->device, lane->own, p->length, p->offset);
    if (e && lane->mode == WRITE && !t->compares)
        return true; /* all of it is written again */
    fail(t, e, MOS_MEDIA_READS, p->offset, p->length, p->region);
    if (!e && !difference(p, lane->own, from, to))
        *from = *to = 0;
    return !e;
}

static void take_piece(struct lane *lane, const struct piece *p) {
    struct mos_media_target *t = lane->target;
    size_t from = 0, to = p->length;
    bool reads = lane->mode != WRITE || t->compares || p->at < t->compare_until;
    if (!is_alive(t) || (p->may_stay && t->keeps) ||
        (lane->mode == COMPARE && is_kept(lane, p->ordinal)) ||
        (lane->mode == PROBE && t->invalid) || (reads && !read_piece(lane, p, &from, &to)))
        return;
    if (lane->mode == WRITE)
        write_piece(lane, p, from, to);
    else if (from < to && lane->mode == PROBE)
        make_invalid(t);
    else if (from < to)
        note_difference(t, p, from);
}

static void work(void *self, void *job) {
    take_piece(self, job);
}

/* ---- a pass over the spans ---- */

/* Is there a target that still wants a piece? */
static bool is_wanted(const struct pass *pass, size_t ordinal, bool may_stay) {
    for (size_t i = 0; i < pass->job->target_count; i++) {
        const struct lane *lane = &pass->lanes[i];
        if (is_alive(lane->target) && !(may_stay && lane->target->keeps) &&
            (lane->mode != COMPARE || !is_kept(lane, ordinal)))
            return true;
    }
    return false;
}

static void start_pass(struct pass *pass, enum mode mode) {
    const struct mos_host *h = pass->job->ctx->host;
    for (size_t i = 0; i < pass->job->target_count; i++) {
        struct lane *lane = &pass->lanes[i];
        lane->mode = mode;
        lane->worker = h->worker_start(h, work, lane); /* NULL: the work is done here */
    }
}

static void end_pass(struct pass *pass) {
    const struct mos_host *h = pass->job->ctx->host;
    for (size_t i = 0; i < pass->job->target_count; i++) {
        if (pass->lanes[i].worker)
            h->worker_finish(pass->lanes[i].worker);
        pass->lanes[i].worker = NULL;
    }
}

/* Gives a piece to every target.  Its bytes must stay until RING more were given. */
static void give(struct pass *pass, const struct piece *p) {
    for (size_t i = 0; i < pass->job->target_count; i++) {
        struct lane *lane = &pass->lanes[i];
        if (!lane->worker)
            take_piece(lane, p);
        else if (is_alive(lane->target))
            pass->job->ctx->host->worker_submit(lane->worker, (void *)(uintptr_t)p);
    }
}

static void tell(struct pass *pass, size_t n) {
    struct mos_media_job *job = pass->job;
    uint64_t before = pass->done;
    pass->done += n;
    if (job->ctx->progress)
        job->ctx->progress(job->ctx->progress_self, pass->what, pass->done,
                           mos_media_total(job, NULL));
    if (job->mark && pass->lanes[0].mode == WRITE && before / MARK_EVERY != pass->done / MARK_EVERY)
        job->mark(job->self, pass->done);
}

static bool give_span(struct pass *pass, const struct mos_media_span *span) {
    struct mos_media_job *job = pass->job;
    uint64_t end = span->offset + span->length;
    for (uint64_t at = span->offset; at < end; pass->ordinal++) {
        size_t n = (size_t)mos_min(PIECE - at % PIECE, end - at);
        if (is_wanted(pass, pass->ordinal, span->may_stay)) {
            uint8_t *bytes = pass->ring + pass->next % RING * PIECE;
            struct piece *p = &pass->pieces[pass->next++ % RING];
            *p = (struct piece){.offset = at,
                                .length = n,
                                .bytes = span->zero ? pass->zeros : bytes,
                                .at = pass->done,
                                .ordinal = pass->ordinal,
                                .may_stay = span->may_stay,
                                .region = span->region};
            int e = span->zero ? 0 : mos_io_read(job->content, bytes, n, at);
            if (e)
                return mos_fail(job->ctx->error, MOS_ERROR_SYSTEM, e,
                                "The image cannot be read at byte %llu", (unsigned long long)at);
            give(pass, p);
        }
        tell(pass, n);
        at += n;
    }
    return true;
}

static bool run_phase(struct pass *pass, enum mode mode, enum mos_media_phase phase) {
    const struct mos_media_job *job = pass->job;
    bool ok = true;
    start_pass(pass, mode);
    for (size_t i = 0; i < job->span_count && ok; i++)
        if (job->spans[i].phase == phase && job->spans[i].length)
            ok = give_span(pass, &job->spans[i]);
    end_pass(pass);
    return ok;
}

/* ---- tables ---- */

/* Is a patch on the device already?  What cannot be read is not. */
static bool has_patch(struct lane *lane, const struct mos_media_patch *patch) {
    const struct mos_media_target *t = lane->target;
    for (size_t at = 0, n; at < patch->length; at += n) {
        n = mos_min(PIECE, patch->length - at);
        if (t->computer->read(t->computer, t->device, lane->own, n, patch->offset + at) ||
            memcmp(lane->own, patch->bytes + at, n) != 0)
            return false;
    }
    return true;
}

static void write_patches(struct mos_media_target *t) {
    for (size_t i = t->patch_count; i-- > 0 && is_alive(t);) /* the copy at the end comes first */
        put(t, t->patches[i].bytes, t->patches[i].length, t->patches[i].offset, "table");
    flush(t);
}

static void compare_patches(struct lane *lane) {
    struct mos_media_target *t = lane->target;
    for (size_t i = 0; i < t->patch_count && is_alive(t); i++) {
        const struct mos_media_patch *patch = &t->patches[i];
        for (size_t at = 0, n, from, to; at < patch->length && is_alive(t); at += n) {
            n = mos_min(PIECE, patch->length - at);
            struct piece p = {.offset = patch->offset + at,
                              .length = n,
                              .bytes = patch->bytes + at,
                              .region = "table"};
            fail(t, t->computer->read(t->computer, t->device, lane->own, n, p.offset),
                 MOS_MEDIA_READS, p.offset, n, p.region);
            if (is_alive(t) && difference(&p, lane->own, &from, &to))
                note_difference(t, &p, from);
        }
    }
}

/* ---- all of it ---- */

static size_t count_pieces(const struct mos_media_job *job) {
    size_t count = 0;
    for (size_t i = 0; i < job->span_count; i++)
        count += (size_t)(job->spans[i].length / PIECE) + 2;
    return count;
}

static struct pass make_pass(struct mos_media_job *job) {
    struct mos_arena *arena = job->ctx->arena;
    struct pass pass = {.job = job,
                        .lanes = mos_alloc_array(arena, job->target_count + 1, sizeof *pass.lanes),
                        .ring = aligned(arena, (size_t)RING * PIECE),
                        .zeros = aligned(arena, PIECE)};
    for (size_t i = 0; i < job->target_count; i++) {
        pass.lanes[i].target = &job->targets[i];
        pass.lanes[i].own = aligned(arena, PIECE);
        if (job->targets[i].compares)
            pass.lanes[i].kept = mos_alloc(arena, count_pieces(job) / 8 + 1);
    }
    return pass;
}

uint64_t mos_media_total(const struct mos_media_job *job, const struct mos_media_target *t) {
    uint64_t total = 0;
    for (size_t i = 0; i < job->span_count; i++)
        total += job->spans[i].may_stay && t && t->keeps ? 0 : job->spans[i].length;
    return total;
}

static bool compare_all(struct pass *pass) {
    struct mos_media_job *job = pass->job;
    pass->what = "read back";
    pass->done = 0;
    pass->ordinal = 0;
    bool ok =
        run_phase(pass, COMPARE, MOS_MEDIA_CONTENT) && run_phase(pass, COMPARE, MOS_MEDIA_START);
    for (size_t i = 0; i < job->target_count; i++) {
        struct mos_media_target *t = &job->targets[i];
        if (ok)
            compare_patches(&pass->lanes[i]);
        t->proved = ok && is_alive(t) && !t->differs;
    }
    return ok;
}

bool mos_media_compare(struct mos_media_job *job) {
    struct pass pass = make_pass(job);
    return compare_all(&pass);
}

static void make_what_changes_invalid(struct lane *lane) {
    struct mos_media_target *t = lane->target;
    bool same = t->compares;
    for (size_t k = 0; k < t->patch_count && is_alive(t) && same; k++)
        same = has_patch(lane, &t->patches[k]);
    if (!same && is_alive(t))
        make_invalid(t);
}

static bool write_all(struct pass *pass) {
    struct mos_media_job *job = pass->job;
    pass->what = "write";
    for (size_t i = 0; i < job->target_count; i++)
        make_what_changes_invalid(&pass->lanes[i]);
    if (!run_phase(pass, WRITE, MOS_MEDIA_CONTENT))
        return false;
    uint64_t done = pass->done;
    size_t ordinal = pass->ordinal;
    /* a start that differs must be found before a table is there again */
    if (!run_phase(pass, PROBE, MOS_MEDIA_START))
        return false;
    pass->done = done;
    pass->ordinal = ordinal;
    for (size_t i = 0; i < job->target_count; i++) {
        flush(&job->targets[i]);
        if (job->targets[i].invalid)
            write_patches(&job->targets[i]);
    }
    if (!run_phase(pass, WRITE, MOS_MEDIA_START))
        return false;
    for (size_t i = 0; i < job->target_count; i++) {
        flush(&job->targets[i]);
        if (is_alive(&job->targets[i]))
            job->targets[i].invalid = false;
    }
    return true;
}

bool mos_media_write(struct mos_media_job *job) {
    struct pass pass = make_pass(job);
    bool ok = write_all(&pass) && compare_all(&pass);
    bool same = !job->is_same || job->is_same(job->self);
    for (size_t i = 0; i < job->target_count; i++) {
        struct mos_media_target *t = &job->targets[i];
        t->proved &= same;
        if (!t->proved && t->written)
            void_again(t); /* it was whole for as long as nobody had looked */
    }
    return ok;
}
