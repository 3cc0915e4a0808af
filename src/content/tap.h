/* SHA-256 of what is read, made on another core while it is used on this one: so a hash is always
 * that of the very bytes that were taken. */
#ifndef MOS_CONTENT_TAP_H
#define MOS_CONTENT_TAP_H

#include "base/ctx.h"

struct mos_tap;

/* Lives in the arena; its worker is noted in ctx->busy, since running out of memory jumps past
 * mos_tap_end.  One at a time in a context; without a worker it hashes on this core. */
struct mos_tap *mos_tap_new(struct mos_ctx *ctx);
/* The next bytes; they may change as soon as this returns. */
void mos_tap_feed(struct mos_tap *tap, const void *bytes, size_t length);
/* false: there was no memory for all of them.  Once. */
bool mos_tap_end(struct mos_tap *tap, uint8_t out[MOS_SHA256_SIZE]);

#endif
