/* Kernel configuration files (.config and fragments of it): reading and merging.
 * Format: the kernel's Documentation/kbuild/kconfig-language and what `make oldconfig` writes:
 * NAME=value lines, `# NAME is not set`, comments. */
#ifndef MOS_KCONFIG_FRAGMENT_H
#define MOS_KCONFIG_FRAGMENT_H

#include "base/ctx.h"
#include "base/map.h"

struct mos_setting {
    const char *symbol; /* with its CONFIG_ */
    const char *value;  /* "y", "m", "n" (is not set), a number, or a text with its quotes */
    struct mos_place place;
    const struct mos_setting *replaced;
    const struct mos_config_part *part;
};

/* One file, in order of its lines. */
struct mos_config_part {
    const char *name;
    const struct mos_source *source;
    const struct mos_config_part *contradicts; /* an earlier one it may contradict */
    bool start;              /* the start configuration: anything may override it */
    struct mos_vec settings; /* of struct mos_setting * */
};

/* Parses; malformed lines are findings (rule kernel.malformed) and left out. */
struct mos_config_part *mos_config_read(struct mos_ctx *ctx, const char *name,
                                        const struct mos_source *source);
/* Merges parts in order into symbol -> struct mos_setting *.  Two fragments that differ are a
 * finding (kernel.conflict) unless the later one contradicts the earlier. */
struct mos_map mos_config_merge(struct mos_ctx *ctx, struct mos_config_part *const *parts,
                                size_t count);
/* The merged configuration as text, in order of first appearance. */
const char *mos_config_text(struct mos_ctx *ctx, const struct mos_map *merged, size_t *length);

#endif
