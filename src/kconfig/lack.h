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

/* The same for a value that nobody has asked for yet: put behind all requests, the settings (the
 * wanted one first) that bring `symbol` (with CONFIG_) to it.  NULL: none are known. */
const struct mos_setting *const *mos_kc_wish(struct mos_arena *arena,
                                             const struct mos_kc_tree *tree,
                                             const struct mos_kc_requests *all, const char *symbol,
                                             const char *value, size_t *count,
                                             const struct mos_kc_symbol **stuck);

/* A configuration with these requests, and behind them `more`, settled.  In `arena`. */
struct mos_kc_config *mos_kc_with(struct mos_arena *arena, const struct mos_kc_tree *tree,
                                  const struct mos_kc_requests *all,
                                  const struct mos_setting *const *more, size_t count);

/* minimal.c: pushes the settings (of const struct mos_setting *) that give the same configuration
 * over the same tree, and of which none can be left out: all others being as they are, the symbol
 * would have another value.  In rare cases (a number beyond its range) more are needed, and are
 * added until nothing differs.  Returns the number of symbols that differ all the same. */
size_t mos_kc_minimal(struct mos_kc_config *c, struct mos_vec *settings);

/* How two settled configurations of one tree differ. */
struct mos_kc_changes {
    size_t count;    /* symbols whose value is another one */
    size_t built_in; /* … that become y, and … */
    size_t modules;  /* … m */
};
struct mos_kc_changes mos_kc_changes(struct mos_kc_config *before, struct mos_kc_config *after);
/* "3 symbols change, 2 become built in, 1 becomes a module" */
const char *mos_kc_changes_text(struct mos_arena *arena, const struct mos_kc_changes *c);
/* Does a symbol have another value? */
bool mos_kc_differs(struct mos_kc_config *before, struct mos_kc_config *after,
                    const struct mos_kc_symbol *s);

#endif
