/* Writing media: what is old is made invalid first, what makes it whole comes last, and everything
 * is read back past the system's caches.  Several devices take part in one read of the image; one
 * that fails does not stop the others. */
#ifndef MOS_MEDIA_WRITE_H
#define MOS_MEDIA_WRITE_H

#include "io/io.h"
#include "media/storage.h"

#include <stdatomic.h>

/* When a span is written; a flush lies between any two. */
enum mos_media_phase {
    MOS_MEDIA_CONTENT,
    MOS_MEDIA_TABLE, /* what says where everything is */
    MOS_MEDIA_START, /* first sectors of what a ROM starts: from then on the medium can boot */
    MOS_MEDIA_PHASES,
};

struct mos_media_span {
    uint64_t offset, length;    /* whole sectors */
    bool zero;                  /* must be zero: nothing is read for it */
    enum mos_media_phase phase; /* never MOS_MEDIA_TABLE: tables belong to a target */
    bool may_stay;              /* a target that `keeps` is not touched here */
    const char *region;         /* for messages; NULL: none */
};

/* Bytes of one target's own: its table, which hangs on its size. */
struct mos_media_patch {
    uint64_t offset;
    size_t length;
    const uint8_t *bytes;
};

enum mos_media_step { /* what failed */
                      MOS_MEDIA_WRITES,
                      MOS_MEDIA_READS,
                      MOS_MEDIA_FLUSHES,
};

struct mos_media_target {
    const struct mos_computer *computer;
    int device;
    const struct mos_media_patch *patches; /* in order of offset */
    size_t patch_count;
    const struct mos_media_patch *voids; /* spans that make it invalid while it is written: their
                                            bytes are zeros */
    size_t void_count;
    bool keeps;             /* spans that may_stay do */
    bool compares;          /* what is there already stays: only what differs is written */
    uint64_t compare_until; /* without `compares`: bytes of the work that are compared first, since
                               an earlier run has written them */
    /* outcome */
    atomic_int errnum; /* 0: none */
    enum mos_media_step step;
    uint64_t error_at, error_length;
    const char *error_region;
    bool invalid; /* it was made so, and nothing takes it for whole */
    bool stuck;   /* … but not all of what makes it so could be written at the end */
    bool proved;  /* all of it was read back and is right */
    bool differs; /* what was read back is something else: … */
    uint64_t differs_at, differing; /* … from here on; bytes of the pieces that differ */
    const char *differs_region;
    uint64_t written, kept; /* bytes that were written; that were there already */
};

struct mos_media_job {
    struct mos_ctx *ctx;
    struct mos_io *content; /* what spans are read from */
    const struct mos_media_span *spans;
    size_t span_count;
    struct mos_media_target *targets;
    size_t target_count;
    /* Is the content still what it was when the job began?  Asked once all is written; may be NULL.
     */
    bool (*is_same)(void *self);
    /* Told now and then how many bytes of the writing are done for good; may be NULL. */
    void (*mark)(void *self, uint64_t done);
    void *self; /* of both */
};

/* Does all of it; every target's outcome is in the target.  false with ctx->error when the image
 * cannot be read: no target is whole then, but for those where nothing had to be written. */
bool mos_media_write(struct mos_media_job *job);
/* Reads only: is every target what the job would make of it (`proved`, `differs`)? */
bool mos_media_compare(struct mos_media_job *job);
/* Bytes that the job's spans have for a target; NULL: for one that keeps nothing. */
uint64_t mos_media_total(const struct mos_media_job *job, const struct mos_media_target *target);

#endif
