/* Is a medium what was built?  By the ledger beside the image, which knows what does not matter. */
#ifndef MOS_TESTS_SPANS_H
#define MOS_TESTS_SPANS_H

#include "support.h"

/* Has `storage` (of the image's size at least) everything that the ledger of `folder` calls data or
 * zero of the image of that name? */
bool is_as_built(const char *folder, const char *image, const uint8_t *storage);

#endif
