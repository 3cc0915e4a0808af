/* The only place that makes readers of libarchive: which formats and compressions there are is
 * stated here, and none of them starts a program.  Inside of src/content only. */
#ifndef MOS_CONTENT_READER_H
#define MOS_CONTENT_READER_H

#include "base/ctx.h"

/* Unpacking takes at most this much memory, whatever a stream asks for. */
enum { MOS_MOST_DECODER = 256 << 20 };

/* Where packed bytes come from.  Starts at offset 0; *got 0 at the end.  An errno value. */
struct mos_packed_source {
    int (*read)(void *self, void *to, size_t room, size_t *got);
    void *self;
};

struct mos_reader;

/* files: tar, cpio and zip; else the one stream that the bytes are once they are unpacked.  Opens
 * it.  NULL with *why (a text without a full stop; in the arena) when it is none of them, damaged,
 * or asks for too much memory.  Everything lives in the arena but the reader: mos_reader_free it.
 */
struct mos_reader *mos_reader_open(struct mos_ctx *ctx, const struct mos_packed_source *source,
                                   bool files, const char **why);
struct archive *mos_reader_archive(struct mos_reader *r);
/* What went wrong last, or what is always true of damage. */
const char *mos_reader_problem(struct mos_reader *r);
/* Did what was read end before it should, though its entries look whole? */
bool mos_reader_is_cut(const struct mos_reader *r);
/* An errno value of the source; 0: none.  Then the reader's problem is this computer's. */
int mos_reader_errnum(const struct mos_reader *r);
void mos_reader_free(struct mos_reader *r);

#endif
