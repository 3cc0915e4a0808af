/* The bytes of a plan, for whoever writes or looks at them (build/, trial/, rules about contents):
 * they are read, or made, when they are asked for. */
#ifndef MOS_PLAN_BYTES_H
#define MOS_PLAN_BYTES_H

#include "plan/plan.h"

/* Where content is written while it is counted: a region's window of an image. */
struct mos_plan_target {
    void *self;
    struct mos_io *(*open)(void *self, const struct mos_medium_plan *medium,
                           const struct mos_region_plan *region);
};
/* Fills a volume: counts when target is NULL, else writes too. */
bool mos_plan_fill(struct mos_plan *plan, const struct mos_medium_plan *medium,
                   struct mos_region_plan *region, const struct mos_plan_target *target);
/* The same file as the archive has it, where `text` holds tokens for its passwords; NULL: it cannot
 * be read. */
const char *mos_plan_text_again(const struct mos_plan *plan, const struct mos_region_plan *region,
                                const struct mos_text_file *file);
/* Must an archive be read to know this volume's content? */
bool mos_plan_unread(const struct mos_plan *plan, const struct mos_region_plan *region);
/* Streams what one fill brings; counting: without the bytes where an index tells the rest. */
bool mos_plan_stream_fill(struct mos_plan *plan, const struct mos_region_plan *region,
                          const struct mos_fill *fill, bool counting, const struct mos_sink *sink);
/* What will lie on the media.  The bytes of a file of a volume that is counted, by its
 * node (passwords in texts below etc/ may be tokens); false: they are not known. */
bool mos_plan_file_bytes(struct mos_plan *plan, const struct mos_region_plan *region,
                         uint32_t index, const uint8_t **bytes, size_t *length);
/* read-once.c: what the kernel modules below a folder of a volume say. */
struct mos_module_fact {
    const char *path;          /* below the folder */
    bool good;                 /* false: it is cut off, or no module */
    const char *cpu, *release; /* NULL: not known */
};
bool mos_plan_modules(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t folder,
                      struct mos_vec *out);
/* What modules below a folder of any stream say, for an index, as a text that stands for all of it
 * (false: the stream broke off), and what that text says, of struct mos_indexed_module *. */
bool mos_read_module_names(struct mos_ctx *ctx, const char *folder,
                           bool (*stream)(void *self, const struct mos_sink *sink), void *self,
                           struct mos_buf *out);
void mos_plan_read_module_names(struct mos_arena *arena, const char *text, struct mos_vec *out);
/* The programs that the services below a folder start. */
struct mos_unit_fact {
    const char *path, *program; /* below the folder; absolute */
};
bool mos_plan_units(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t folder,
                    struct mos_vec *out);
/* ramdisk-texts.c: small files of a ramdisk; out: one for each path, empty where there is none.
 * false: it cannot be read. */
bool mos_plan_ramdisk_texts(struct mos_plan *plan, const struct mos_piece_plan *piece,
                            const char *const *paths, size_t count, struct mos_buf *out);
/* The bytes from region->content_at on; *length 0: nobody writes there.  false: not known. */
bool mos_plan_region_bytes(struct mos_plan *plan, const struct mos_region_plan *region,
                           const uint8_t **bytes, size_t *length);
/* The partition table of a medium that has one. */
struct mos_table_data mos_plan_table(const struct mos_plan *plan,
                                     const struct mos_medium_plan *medium);
/* Every piece's hash, for pins and the ledger. */
bool mos_plan_hash(struct mos_plan *plan, struct mos_piece_plan *piece);
/* Streams a piece's bytes as the entry `as`. */
bool mos_plan_stream_piece(const struct mos_plan *plan, const struct mos_piece_plan *piece,
                           const struct mos_entry *as, const struct mos_sink *sink);
/* How many bytes a piece has once it is compressed ("gzip", "xz", "zstd"); false: not to be had. It
 * takes its time, the first time: the answer is kept. */
bool mos_plan_compressed_size(const struct mos_plan *plan, const struct mos_piece_plan *piece,
                              const char *kind, uint64_t *size);
/* Every byte of a piece of at most 256 MiB; NULL: ctx->error, or it is larger. */
const uint8_t *mos_plan_piece_bytes(struct mos_plan *plan, const struct mos_piece_plan *piece);

#endif
