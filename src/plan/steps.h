/* Between the files of plan/, and nobody else's: the steps in their order, and what they hand each
 * other. */
#ifndef MOS_PLAN_STEPS_H
#define MOS_PLAN_STEPS_H

#include "plan/bytes.h"

/* boot-files.c: what `made: boot` puts into its volume, each path once: of struct mos_boot_file. */
struct mos_boot_file {
    const char *path;
    const struct mos_piece_plan *piece; /* or */
    const void *bytes;
    size_t length;
};
struct mos_vec mos_plan_boot_files(const struct mos_plan *plan);
bool mos_plan_stream_boot_file(struct mos_plan *plan, const struct mos_boot_file *file,
                               bool counting, const struct mos_sink *sink);
bool mos_plan_stream_boot_files(struct mos_plan *plan, bool counting, const struct mos_sink *sink);
/* contents.c: while an archive is read for the first time, what a boot is likely to ask for is
 * kept: a sink before `through`, and its end once all has gone by. */
struct mos_collector;
struct mos_collector *mos_plan_collect(struct mos_plan *plan, const struct mos_sink *through,
                                       struct mos_sink *sink);
void mos_plan_collected(struct mos_plan *plan, const struct mos_collector *collector,
                        const struct mos_piece_plan *archive, const struct mos_fill *fill);
/* read-once.c: what the modules below a folder say for an index, as a text that stands for all of
 * it (damaged ones are not in it), NULL: not to be had. */
const char *mos_plan_module_names(struct mos_plan *plan, const struct mos_region_plan *region,
                                  uint32_t folder);
/* beside.c: files that boards may fetch, or that are needed to ask them. */
void mos_plan_beside(struct mos_plan *plan);
/* reach.c: a file or folder (`want`; MOS_FILE_OTHER: one or the other) that the definition names at
 * `place`.  false after a finding of piece.missing or piece.path that begins with `what`; else
 * *full is its path and *info about it. */
bool mos_plan_reach(struct mos_plan *plan, const char *path, enum mos_file_kind want,
                    const char *what, struct mos_place place, const char **full,
                    struct mos_file_info *info);
/* The same for a text that is read: NULL after a finding or an error. */
const struct mos_source *mos_plan_source(struct mos_plan *plan, const struct mos_value *path,
                                         const char *what);
/* Keeps an archive's index for the next run. */
void mos_plan_keep_index(struct mos_plan *plan, const struct mos_piece_plan *piece);
/* Streams what an archive holds: a file of the workspace, or a member of another archive, which is
 * read into memory.  As mos_archive_stream. */
bool mos_plan_stream_archive(const struct mos_plan *plan, const struct mos_piece_plan *archive,
                             struct mos_place place, const struct mos_sink *sink,
                             struct mos_archive_result *result);
/* Streams what an archive holds.  Its hash becomes known on the way, and in a build it must be the
 * one that is known.  false with ctx->error, or piece->damaged after a finding. */
bool mos_plan_read_archive(struct mos_plan *plan, struct mos_piece_plan *piece,
                           const struct mos_sink *sink);
/* mos_plan_stream_piece for counting: without its bytes where an index tells the rest. */
bool mos_plan_count_piece(struct mos_plan *plan, const struct mos_piece_plan *piece,
                          const struct mos_entry *as, const struct mos_sink *sink);
/* members.c: what an archive holds becomes known, if it is not; false with ctx->error. */
bool mos_plan_index(struct mos_plan *plan, struct mos_piece_plan *archive);
/* member-paths.c: the path of the file that a path inside an archive with an index leads to, by the
 * archive's own links; NULL: to none, *near is then a path that may be meant, or NULL. */
const char *mos_plan_member_path(struct mos_plan *plan, const struct mos_piece_plan *archive,
                                 const char *path, const char **near);
/* Its bytes are these from now on (they stay the caller's). */
void mos_plan_take_bytes(struct mos_piece_plan *piece, const void *bytes, size_t length);
/* parcel.c: kernel, trees and ramdisk of all entries in one file */
bool mos_plan_parcel(struct mos_plan *plan);
/* flash.c: adds the nodes with the partitions of flashes where the tree has none. */
void mos_plan_tell_flash(struct mos_plan *plan, struct mos_dt *dt);
/* system.c: streams what the definition says about the root file system. */
bool mos_plan_stream_system(struct mos_plan *plan, const struct mos_region_plan *region,
                            const struct mos_sink *sink);
/* module-index.c: streams the files by which modules are found, for every folder of modules that
 * the fills before have brought; they stay in plan->indexes. */
bool mos_plan_stream_module_index(struct mos_plan *plan, const struct mos_region_plan *region,
                                  const struct mos_fill *fill, const struct mos_sink *sink);
/* One of these files by its path in the volume; NULL: it is none. */
const struct mos_buf *mos_plan_module_index_file(const struct mos_plan *plan,
                                                 const struct mos_region_plan *region,
                                                 const char *path);
/* boot.c: what <name> stands for in free text: the console, a flash's partitions, a region; NULL:
 * nothing known. */
const char *mos_plan_meaning(struct mos_plan *plan, const char *name);
/* What <name> or a mount's region is called by the kernel: PARTUUID=…; NULL: it is no partition. */
const char *mos_plan_partition_name(const struct mos_plan *plan, const char *region);

/* ---- the steps, in their order (plan.c calls them) ----
 *
 * Each needs those before it; each adds findings where the definition is wrong and goes on with
 * what is right.  false: ctx->error, and nothing goes on. */

/* The dialect, and whether it can do what the boot asks for. */
void mos_plan_loader(struct mos_plan *plan);
/* Files that are there, their sizes and first bytes; commands that make them are run (plan/made).
 */
bool mos_plan_pieces(struct mos_plan *plan);
/* Pieces that are packed from others; the loader among them is locked before (plan/made). */
bool mos_plan_packs(struct mos_plan *plan);
/* How the loader was built, and its variables. */
bool mos_plan_environments(struct mos_plan *plan);
/* Numbers, identifiers and places of all regions. */
void mos_plan_layout(struct mos_plan *plan);
/* direct.c: a stage starts the kernel by itself: the entry's arguments go into its tree (before it
 * is given a place), and where the kernel's header says where it goes, that is so. */
void mos_plan_direct(struct mos_plan *plan, struct mos_entry_plan *e, struct mos_blob_plan *tree);
/* Regions that hold a tree get its bytes, once trees are compiled. */
void mos_plan_tree_regions(struct mos_plan *plan);
/* The kernel's configuration, merged. */
bool mos_plan_config(struct mos_plan *plan);
/* The same of the loader, into plan->loader_config. */
void mos_plan_loader_config(struct mos_plan *plan);
/* kconfig.c: works the configuration out over the kernel's sources, where they are there; and over
 * the loader's, which are. */
void mos_plan_kconfig(struct mos_plan *plan, struct mos_config_part *const *parts, size_t count);
void mos_plan_loader_kconfig(struct mos_plan *plan, struct mos_config_part *const *parts,
                             size_t count);
/* Device trees, with the overlays of the build applied and those of the boot tried. */
bool mos_plan_trees(struct mos_plan *plan);
/* Ramdisks that are made from lists. */
bool mos_plan_ramdisks(struct mos_plan *plan);
/* RAM, arguments, and what the loader is given. */
void mos_plan_boot(struct mos_plan *plan);
/* Texts of the definition that a firmware reads. */
void mos_plan_settings(struct mos_plan *plan);

#endif
