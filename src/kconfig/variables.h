/* The variables that a tree's makefiles hand to its Kconfig files. */
#ifndef MOS_KCONFIG_VARIABLES_H
#define MOS_KCONFIG_VARIABLES_H

#include "kconfig/kconfig.h"
#include "kconfig/probe.h"

struct mos_kc_world {
    const char *source;      /* folder of the tree */
    const char *shown;       /* the same as its user knows it */
    const char *arch;        /* as in ARCH=; NULL: the tree asks for none */
    const char *compiler;    /* the command; NULL: gcc */
    const char *const *vars; /* NAME=VALUE that count more than what is made here; or NULL */
};

/* Makefiles call some architectures by two names: that of the folder below arch/. */
const char *mos_kc_arch_folder(const char *arch);
/* Fills `vars` with them but for CC_VERSION_TEXT; false with ctx->error. */
bool mos_kc_variables(struct mos_ctx *ctx, const struct mos_kc_world *world, struct mos_map *vars);
/* That one: the first line that the compiler says of its version.  false with ctx->error. */
bool mos_kc_version_text(struct mos_kc_probes *probes, struct mos_map *vars);
/* How this tree's own resolver works, by its version and its writer's form; false with ctx->error.
 */
bool mos_kc_manner(struct mos_ctx *ctx, const char *source, const struct mos_map *vars,
                   struct mos_kc_manner *out);
/* The variables as an environment: NAME=VALUE, NULL-terminated. */
const char *const *mos_kc_environment(struct mos_arena *arena, const struct mos_map *vars);

#endif
