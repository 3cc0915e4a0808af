/* What one worker has read and counted already, for the selections that it comes to next: equal
 * content is counted once.  Not for several threads at a time. */
#ifndef MOS_PLAN_SHARED_H
#define MOS_PLAN_SHARED_H

#include "content/content.h"
#include "fs/fs.h"
#include "plan/plan.h"

struct mos_bindings;
struct mos_shared {
    struct mos_arena *arena; /* outlives the selections */
    struct mos_vec indexes;  /* of struct mos_shared_index */
    struct mos_vec volumes;  /* of struct mos_shared_volume */
    size_t entries;          /* of all volumes */
    uint64_t pieces;         /* bytes of pieces that are kept */
    bool several;            /* more selections than one will come */
    struct mos_map hashes;   /* path -> struct mos_shared_hash *: of files, where no store knows */
    struct mos_bindings *bindings; /* of the kernel that the last board named; or NULL */
    const char *bindings_folder;   /* … where they are */
    struct mos_map kconfigs;       /* architecture, sources, compiler -> struct mos_kc_tree * */
    struct mos_map kernels;        /* hash of a kernel -> struct mos_kernel_inside * */
    struct mos_map builds;         /* architecture, sources -> struct mos_kc_build * */
    struct mos_map files;          /* key -> struct mos_kept_bytes *: of archives, see contents.c */
};

/* Nodes of all volumes together that a worker keeps, about 200 bytes each; further volumes are
 * counted anew for each selection. */
enum { MOS_MOST_SHARED = 256 << 10 };

struct mos_shared_hash {
    struct mos_file_info info;
    uint8_t sha256[MOS_SHA256_SIZE];
};

struct mos_shared_index {
    uint8_t sha256[MOS_SHA256_SIZE]; /* of the archive */
    struct mos_index *index;         /* NULL: read the archive */
};

/* A volume of which the first fills are counted, and nothing else. */
struct mos_shared_volume {
    uint8_t key[MOS_SHA256_SIZE]; /* of all that these depend on */
    struct mos_volume_base *volume;
    struct mos_map texts; /* as in a region */
};

/* The bytes of a file, by a hash of where they come from. */
struct mos_kept_bytes {
    uint8_t *bytes;
    size_t length;
};

/* Empty; everything that is kept lives in the arena. */
struct mos_shared mos_shared_make(struct mos_arena *arena);
/* The hash of a file as it stands there now, kept by its path; false: it is not known, or it is
 * another file by now. */
bool mos_shared_known_hash(const struct mos_ctx *ctx, const char *path,
                           uint8_t out[MOS_SHA256_SIZE]);
/* `before` is what the file was when reading began; one that has changed is not kept. */
void mos_shared_keep_hash(struct mos_ctx *ctx, const char *path, const struct mos_file_info *before,
                          const uint8_t hash[MOS_SHA256_SIZE]);
/* What is known of an archive that has this hash; NULL: nothing.  Borrowed until the next one. */
const struct mos_shared_index *mos_shared_index(const struct mos_shared *shared,
                                                const uint8_t sha256[MOS_SHA256_SIZE]);
/* The index lives in shared->arena; NULL: what the cache has of it is damaged. */
void mos_shared_keep_index(struct mos_shared *shared, const uint8_t sha256[MOS_SHA256_SIZE],
                           struct mos_index *index);
/* Borrowed until the next one is kept; NULL: none has that key. */
const struct mos_shared_volume *mos_shared_volume(const struct mos_shared *shared,
                                                  const uint8_t key[MOS_SHA256_SIZE]);
/* All of it lives in shared->arena. */
void mos_shared_keep_volume(struct mos_shared *shared, const uint8_t key[MOS_SHA256_SIZE],
                            struct mos_volume_base *volume, const struct mos_map *texts);

/* The bytes of a piece whose hash is known, up to 256 MiB of all of them.  shared may be NULL. */
const struct mos_kept_bytes *mos_shared_piece(const struct mos_shared *shared,
                                              const struct mos_piece_plan *piece);
/* Is it worth keeping: known by its hash, and within what is left? */
bool mos_shared_wants_piece(const struct mos_shared *shared, const struct mos_piece_plan *piece);
/* They live in shared->arena. */
void mos_shared_keep_piece(struct mos_shared *shared, const struct mos_piece_plan *piece,
                           uint8_t *bytes);

#endif
