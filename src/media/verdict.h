/* May a device be written?  Every reason against it, the weightiest first. */
#ifndef MOS_MEDIA_VERDICT_H
#define MOS_MEDIA_VERDICT_H

#include "media/storage.h"

enum { MOS_TOKEN_LETTERS = 4 };

/* What is to be done to a device. */
struct mos_media_wish {
    uint64_t least;    /* bytes that are needed; 0: not known yet */
    uint64_t most;     /* the largest medium that the board allows; 0: MOS_MOST_MEDIUM */
    uint32_t sector;   /* bytes of a sector as the image counts; 0: whatever it has */
    bool volume;       /* one file system without a table: it belongs into a partition */
    bool also;         /* it was named twice */
    const char *image; /* the real path of what is written; NULL: not known */
};
#define MOS_MOST_MEDIUM (256ull << 30)

/* What its content says, read from the device itself. */
struct mos_media_look {
    const char *member; /* what it, or one of its partitions, is a part of; NULL: of nothing */
    int errnum;         /* its first MiB cannot be read; 0: it can */
};

struct mos_objection {
    enum mos_rule_id rule;
    const char *brief;   /* a few words: "mounted at /media/card" */
    const char *message; /* one sentence */
    const char *why, *remedy;
};

/* Of struct mos_objection, in the arena of ctx; none: it may be written. */
struct mos_vec mos_media_judge(struct mos_ctx *ctx, const struct mos_storage *s,
                               const struct mos_block *b, const struct mos_media_look *look,
                               const struct mos_media_wish *wish);
/* The four letters that stand for this medium in this place: from port, unit, model, serial, size,
 * the kernel's number of the medium and its first bytes.  false: no memory. */
bool mos_media_token(struct mos_arena *arena, const struct mos_block *b, const void *head,
                     size_t length, char out[MOS_TOKEN_LETTERS + 1]);
/* Is that what somebody typed, in letters of either size? */
bool mos_media_token_is(const char *token, const char *typed);

#endif
