/* Programs that a tree of Kconfig files has run while it is read: $(shell,COMMAND). */
#ifndef MOS_KCONFIG_PROBE_H
#define MOS_KCONFIG_PROBE_H

#include "base/ctx.h"
#include "base/map.h"

/* What commands printed, by their text.  One such list is for one tree and one environment. */
struct mos_kc_probes {
    struct mos_ctx *ctx;
    const char *const *environment; /* NAME=VALUE, NULL-terminated */
    const char *folder;             /* they run in */
    struct mos_map results;         /* command -> const char * */
    struct mos_vec waiting;         /* of const char *: commands that nobody knows yet */
    bool guess; /* those get the sign below as their result, and wait; else they run at once */
    size_t runs;
};

/* Stands for what is not known yet; no command that has it in its text is run. */
#define MOS_KC_GUESS '\x01'

/* An empty list for commands in that environment and folder; both must outlive it. */
struct mos_kc_probes mos_kc_probes_make(struct mos_ctx *ctx, const char *const *environment,
                                        const char *folder);
/* The result of a command: newlines are blanks, the last ones are cut off.  NULL with ctx->error:
 * it cannot be run, or takes too long. */
const char *mos_kc_probe(struct mos_kc_probes *probes, const char *command);
/* Runs all that wait, on all cores; false with ctx->error. */
bool mos_kc_probe_waiting(struct mos_kc_probes *probes);

/* What is known as a text to be kept: a line for each command whose programs and files still are
 * what they were when it ran. */
const char *mos_kc_probes_text(struct mos_kc_probes *probes, size_t *length);
/* Takes back what such a text says of commands whose programs and files have not changed since. */
void mos_kc_probes_take(struct mos_kc_probes *probes, const char *text, size_t length);
/* Everything that results hang on but the command itself: the environment, and the programs that it
 * names as they lie in PATH; 64 digits and a NUL. */
void mos_kc_probes_key(struct mos_kc_probes *probes, char key[65]);

#endif
