/* What a request lacks to be kept. */
#ifndef MOS_KCONFIG_LACK_H
#define MOS_KCONFIG_LACK_H

#include "kconfig/why.h"

/* All that is asked for, in order. */
struct mos_kc_requests {
    const struct mos_setting *const *settings;
    size_t count;
};

/* How two settled configurations of one tree differ. */
struct mos_kc_changes {
    size_t count;    /* symbols whose value is another one */
    size_t built_in; /* … that become y, and … */
    size_t modules;  /* … m */
};

/* A way to bring a request about. */
struct mos_kc_way {
    const struct mos_setting *const *set; /* NULL: none was found */
    size_t count;
    bool smallest;                     /* all sets of fewer settings were tried, none would do */
    const struct mos_kc_symbol *stuck; /* where none was found: nothing in the sources switches
                                          this on; or NULL */
    struct mos_kc_changes changes;     /* lack: what comes of it; wish: not of more than one */
};
/* Settings that, put behind all requests of a settled configuration, make `wanted` (one of them)
 * come true: worked out again with them, and with each of them left out, which breaks it.  Up to
 * three of them all smaller sets out of what the request hangs on are tried, where these are not
 * too many.  In `arena`. */
struct mos_kc_way mos_kc_lack(struct mos_arena *arena, struct mos_kc_config *c,
                              const struct mos_setting *wanted);
/* The same for a value that nobody has asked for yet: the wanted setting (symbol with CONFIG_)
 * first, then what it needs. */
struct mos_kc_way mos_kc_wish(struct mos_arena *arena, struct mos_kc_config *c, const char *symbol,
                              const char *value);

/* A configuration with these requests, and behind them `more`, settled.  In `arena`. */
struct mos_kc_config *mos_kc_with(struct mos_arena *arena, const struct mos_kc_tree *tree,
                                  const struct mos_kc_requests *all,
                                  const struct mos_setting *const *more, size_t count);

/* minimal.c: pushes the settings (of const struct mos_setting *) that give the same configuration
 * over the same tree, and of which none can be left out: all others being as they are, the symbol
 * would have another value.  In rare cases (a number beyond its range) more are needed, and are
 * added until nothing differs.  Returns the number of symbols that differ all the same. */
size_t mos_kc_minimal(struct mos_kc_config *c, struct mos_vec *settings);

/* Both are settled. */
struct mos_kc_changes mos_kc_changes(struct mos_kc_config *before, struct mos_kc_config *after);
/* "3 symbols change, 2 become built in, 1 becomes a module" */
const char *mos_kc_changes_text(struct mos_arena *arena, const struct mos_kc_changes *c);
/* Does a symbol have another value? */
bool mos_kc_differs(struct mos_kc_config *before, struct mos_kc_config *after,
                    const struct mos_kc_symbol *s);

#endif
