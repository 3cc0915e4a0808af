/* What a request lacks to be kept. */
#ifndef MOS_KCONFIG_LACK_H
#define MOS_KCONFIG_LACK_H

#include "kconfig/why.h"

/* All that is asked for, in order. */
struct mos_kc_requests {
    const struct mos_setting *const *settings;
    size_t count;
};

/* Settings that, put behind all requests, make `wanted` (one of them) come true: worked out again
 * with them, and with each of them left out, which breaks it.  So none is too many; of one it is
 * the smallest set.  NULL: none was found; *stuck is a symbol that nothing in the sources
 * can switch on, or NULL.  *count: at least 1.  In `arena`. */
const struct mos_setting *const *mos_kc_lack(struct mos_arena *arena,
                                             const struct mos_kc_tree *tree,
                                             const struct mos_kc_requests *all,
                                             const struct mos_setting *wanted, size_t *count,
                                             const struct mos_kc_symbol **stuck);

#endif
