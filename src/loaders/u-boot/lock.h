/* The loader's own tree, wherever it is packed: behind its program, in a legacy file, in a parcel.
 * It is changed there, and what contains it is packed again. */
#ifndef MOS_LOADERS_U_BOOT_LOCK_H
#define MOS_LOADERS_U_BOOT_LOCK_H

#include "tree/tree.h"

/* `change` gets each tree that a loader in these bytes could use as its own; it returns false to
 * give up.  The whole file as it is then goes to *out; sums and hashes are made again.  false with
 * *problem, one sentence. */
bool mos_lock_loader(struct mos_ctx *ctx, const uint8_t *bytes, size_t length,
                     bool (*change)(void *self, struct mos_dt *dt), void *self, struct mos_buf *out,
                     const char **problem);

#endif
