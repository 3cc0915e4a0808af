/* A file that the user gets: made under another name beside its own, synced, and named only when it
 * is whole.  What already stands there is replaced only where that is asked for; what fails leaves
 * nothing, and nobody else's file is touched. */
#ifndef MOS_BASE_OUT_H
#define MOS_BASE_OUT_H

#include "base/ctx.h"

struct mos_out {
    struct mos_ctx *ctx;
    const char *path, *part; /* part NULL: standard output, or nothing is open */
    int file;
    bool stream;  /* standard output: bytes in order only */
    bool derived; /* it can be made again at once: it is named whole, and not synced */
    uint64_t at;  /* what the stream has been given, or the end of what was written: bytes */
};

/* Makes PATH.part (PATH.1.part … where that is somebody's).  path "-": the run's standard output.
 * With `fresh`, MOS_ERROR_SAFETY when PATH is there. */
bool mos_out_open(struct mos_out *o, struct mos_ctx *ctx, const char *path, bool fresh);
/* Bytes at an offset; a stream takes growing offsets only and fills what lies between with zeros.
 * An errno value (ESPIPE: a stream that would have to go back). */
int mos_out_write(struct mos_out *o, const void *bytes, size_t length, uint64_t offset);
/* Gives it its length, syncs it, names it.  fresh: never over anything.  false with ctx->error, and
 * nothing stays. */
bool mos_out_commit(struct mos_out *o, uint64_t size, bool fresh);
/* Gives it up; may be called after a failure, and twice. */
void mos_out_abandon(struct mos_out *o);

/* One name for the file system made of any text: what no name can or should hold (slashes, control
 * characters, a leading dot or dash) becomes a dash, and it ends before it is too long.  Every name
 * that comes from a definition, an image or an archive goes through here. */
const char *mos_file_name(struct mos_arena *arena, const char *text);

#endif
