/* The stamp of a board: one hash of everything that it is made of.  What goes in is a set: each
 * thing once, under its name, whatever the order and however often it was read. */
#ifndef MOS_BASE_STAMP_H
#define MOS_BASE_STAMP_H

#include "base/arena.h"
#include "base/hash.h"

struct mos_stamp;

/* Empty: it has a text once something was added. */
struct mos_stamp *mos_stamp_new(struct mos_arena *arena);
/* stamp NULL: nothing to do.  A thing that is added again must be the same, or the stamp is that of
 * none (it was changed meanwhile). */
void mos_stamp_add(struct mos_stamp *stamp, const char *name, const void *bytes, size_t length);
void mos_stamp_add_hash(struct mos_stamp *stamp, const char *name,
                        const uint8_t hash[MOS_SHA256_SIZE]);
/* The stamp so far, in 64 digits; NULL: there is none. */
const char *mos_stamp_text(const struct mos_stamp *stamp);

#endif
