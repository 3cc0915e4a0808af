/* written.jsonl: what a workspace knows of the media that were written from it, a line each. */
#ifndef MOS_LEDGER_WRITTEN_H
#define MOS_LEDGER_WRITTEN_H

#include "base/ctx.h"

/* One write of one device.  Texts are NULL where nothing is known. */
struct mos_written {
    const char *date; /* "2026-01-05" */
    const char *board, *medium, *image, *stamp, *hash;
    const char *unit;                         /* what it was written for */
    const char *path, *model, *serial, *port; /* the device */
    const char *result;                       /* in words */
    uint64_t size, bytes, tenths; /* of the device; that were written; tenths of seconds it took */
    bool proved;                  /* all of it was read back and is right */
};

/* The day of today, "2026-01-05". */
const char *mos_written_today(const struct mos_ctx *ctx);
/* Adds a line at the end; one that was cut off stays a line of its own.  false with ctx->error. */
bool mos_written_append(struct mos_ctx *ctx, const char *path, const struct mos_written *line);
/* All of them in their order, of struct mos_written; none where the file is not there.  *bad: lines
 * that cannot be read, or all of it. */
struct mos_vec mos_written_read(struct mos_ctx *ctx, const char *path, size_t *bad);

#endif
