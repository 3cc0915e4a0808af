/* What every step of the core is given: host, memory, the two channels for what goes wrong, and
 * the texts that places point into. */
#ifndef MOS_BASE_CTX_H
#define MOS_BASE_CTX_H

#include "base/error.h"
#include "base/finding.h"
#include "base/guard.h"
#include "base/hash.h"
#include "base/map.h"
#include "base/stamp.h"
#include "mosaicum/host.h"

/* A folder outside of the workspace that mosaicum.yaml allows to be read: paths in definitions
 * reach it as <name>/…. */
struct mos_root {
    const char *name, *stated; /* as it is written there, from the workspace */
    const char *path;          /* the same from the working directory */
};

/* What a compressed image may grow to unless more is asked for: 64 GiB. */
#define MOS_EXPAND_TO (64ull << 30)

struct mos_ctx {
    const struct mos_host *host;
    struct mos_arena *arena;
    struct mos_error *error;
    struct mos_findings findings;
    struct mos_vec not_proved; /* of const char *: facts that were unknown */
    struct mos_worker *busy;   /* a worker that must be joined before the arena may go; or NULL */
    int held; /* a lock that others wait for, + 1; closed when memory runs out.  0: none */
    unsigned source_count;
    const char *const
        *outside; /* NULL-terminated paths of files that are not the user's; or NULL */
    const struct mos_root *roots;
    size_t root_count;
    uint64_t expand_to;       /* bytes that an image may be unpacked to; 0: MOS_EXPAND_TO */
    bool no_run;              /* start no outside program */
    bool may_make;            /* commands that make pieces may run: a build */
    const char *cache_folder; /* NULL: keep nothing between runs */
    const char *out_folder;   /* where builds are; NULL: out/ in the workspace */
    struct mos_guard *guard;  /* what `host` may touch is named to it; NULL: there is none */
    /* Takes bytes for the run's standard output; false: they could not be written.  May be NULL. */
    bool (*stream)(void *self, const void *bytes, size_t length);
    void *stream_self;
    struct mos_stamp *stamp;   /* of the board: every file that is read for it goes in; or NULL */
    const char *workspace;     /* its folder; names in the stamp are from there */
    struct mos_shared *shared; /* what this worker knows from earlier selections; or NULL */
    void (*progress)(void *self, const char *what, uint64_t done, uint64_t total);
    void *progress_self;
};

/* A context for looking at what may be damaged: its findings and errors are nobody's. */
struct mos_ctx mos_ctx_quiet(const struct mos_ctx *ctx, struct mos_error *ignored);

/* Reads a whole file of at most `limit` bytes into the arena, NUL-terminated.  false with
 * ctx->error on failure (errnum tells why; EFBIG when over the limit). */
bool mos_read_file(struct mos_ctx *ctx, const char *path, size_t limit, char **data,
                   size_t *length);
/* The same for what Mosaicum itself keeps: a board is not made of it. */
bool mos_read_aside(struct mos_ctx *ctx, const char *path, size_t limit, char **data,
                    size_t *length);
/* What a file is called in a stamp. */
const char *mos_stamp_name(const struct mos_ctx *ctx, const char *path);
/* Writes a whole file aside, syncs it and puts it in place of what is there; folders are made.
 * false with ctx->error; what was there is unchanged then. */
bool mos_write_file(struct mos_ctx *ctx, const char *path, const void *bytes, size_t length);
/* Reads a file as a source whose places will be shown under `shown_path`. */
struct mos_source *mos_source_load(struct mos_ctx *ctx, const char *path, const char *shown_path,
                                   size_t limit);
/* The date of what is made where no definition states one: SOURCE_DATE_EPOCH, or a fixed one;
 * seconds since 1970. */
int64_t mos_date(const struct mos_ctx *ctx);
/* SHA-256 of a file's bytes. */
bool mos_hash_file(const struct mos_host *host, const char *path, uint8_t out[MOS_SHA256_SIZE],
                   struct mos_error *error);
/* "folder/name"; the name alone when the folder is "" or ".". */
const char *mos_path_join(struct mos_arena *arena, const char *folder, const char *name);
/* Where a path of a definition leads: below `root` (the workspace), or below one of ctx->roots when
 * it begins with <name>/.  NULL: there is no such root. */
const char *mos_workspace_path(const struct mos_ctx *ctx, const char *root, const char *path);
const char *mos_path_folder(struct mos_arena *arena, const char *path); /* "." without a slash */

/* Something is there, links followed.  What cannot be looked at counts as not there. */
static inline bool mos_exists(const struct mos_ctx *ctx, const char *path) {
    struct mos_file_info info;
    return ctx->host->info(ctx->host, path, true, &info) == 0;
}

/* A hash of the program's own sources: what is kept by what they came to is of no use to others. */
extern const char mos_revision[];

#endif
