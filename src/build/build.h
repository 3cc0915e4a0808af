/* Step 7: carrying out a plan. */
#ifndef MOS_BUILD_BUILD_H
#define MOS_BUILD_BUILD_H

#include "plan/plan.h"

struct mos_build;

struct mos_built_file {
    const char *name; /* in the output folder */
    uint64_t size;
    uint8_t hash[MOS_SHA256_SIZE];
    bool image; /* hash is that of its chunk list, and not what hash tools show */
};

/* Starts: makes OUT/BOARD.part.  whole: images get their plain SHA-256, too (small ones always do).
 * NULL with ctx->error. */
struct mos_build *mos_build_begin(struct mos_plan *plan, const char *out_folder, bool whole);
/* Where volumes may be written while they are counted. */
struct mos_plan_target mos_build_target(struct mos_build *build);
/* Writes everything that is not written yet, then the ledger, and puts the folder in place.
 * stamp: the hash of everything the board is made of, for the ledger; or NULL. */
bool mos_build_finish(struct mos_build *build, const char *stamp);
/* Keeps, for the next run, that OUT/BOARD is what that stamp gives, and what its files look like
 * from outside.  stamp NULL: nothing is kept. */
void mos_build_remember(struct mos_plan *plan, const char *out_folder, const char *stamp);
/* Is it still so: the same stamp, every file there under the same size, times and inode, and
 * nothing else?  Then *files are they (of struct mos_ledger_file). */
bool mos_build_is_untouched(struct mos_plan *plan, const char *out_folder, const char *stamp,
                            struct mos_vec *files);
/* Is an output's folder as the build left it, whatever it was built from? */
bool mos_build_is_as_left(struct mos_ctx *ctx, const char *folder);
/* What the volumes of the output that stands there were made of, a line each ("card root HASH"),
 * when nobody has touched it since; NULL: nothing is known. */
const char *mos_build_former(struct mos_plan *plan, const char *out_folder);
/* Reads the files of an output and hashes them.  *wrong: the first that is not what the ledger
 * says, or NULL.  false with ctx->error. */
bool mos_build_verify(struct mos_plan *plan, const char *out_folder, const struct mos_vec *files,
                      const char **wrong);
/* Gives up; nothing under a final name has changed. */
void mos_build_abandon(struct mos_build *build);
/* The files, after finishing: of struct mos_built_file. */
const struct mos_vec *mos_build_files(const struct mos_build *build);
/* How many volumes were taken, unchanged, out of the output that was replaced. */
size_t mos_build_taken(const struct mos_build *build);
const char *mos_build_folder(const struct mos_build *build);

#endif
