/* Where content comes from: archives (libarchive), folders, single files; filters; the index. */
#ifndef MOS_CONTENT_CONTENT_H
#define MOS_CONTENT_CONTENT_H

#include "base/buf.h"
#include "content/entry.h"
#include "io/io.h"

/* Streams an archive: tar, cpio or zip, plain or in gzip, xz, zstd, bzip2, lz4 or lzma; of a Debian
 * package the files that it installs (content/package.h).  Paths that leave it are findings of
 * piece.path at `place`.  false: the sink stopped it, ctx->error (also
 * when the file changed meanwhile), or it is damaged: with a result that is a finding of
 * piece.format at `place` and result->damaged, else an error. */
struct mos_archive_result {
    bool wanted; /* set before: hash it */
    bool damaged, hashed;
    struct mos_file_info info;       /* of the file */
    uint8_t sha256[MOS_SHA256_SIZE]; /* of the whole file, of the very bytes that were read */
};
bool mos_archive_stream(struct mos_ctx *ctx, const char *path, struct mos_place place,
                        const struct mos_sink *sink, struct mos_archive_result *result);
/* The same of one in memory, which has a name for messages only; result->hashed stays false. */
bool mos_archive_stream_bytes(struct mos_ctx *ctx, const char *name, const void *bytes,
                              size_t length, struct mos_place place, const struct mos_sink *sink,
                              struct mos_archive_result *result);
/* Is an open file still what it was before it was read?  false with ctx->error. */
bool mos_file_unchanged(struct mos_ctx *ctx, int file, const struct mos_file_info *before,
                        const char *path);
/* The names in a folder of the host (const char *, in the arena), sorted by bytes.  Returns an
 * errno value; *out then has what was seen before. */
int mos_folder_names(struct mos_ctx *ctx, const char *path, struct mos_vec *out);
/* Streams a folder of the host in order of names; owners become 0:0, times `date`. */
bool mos_folder_stream(struct mos_ctx *ctx, const char *path, int64_t date,
                       const struct mos_sink *sink);
/* Streams one file of the host as the entry `as`.  sha256: gets the hash of the bytes that were
 * streamed; may be NULL.  A file that changes meanwhile is an error. */
bool mos_file_stream(struct mos_ctx *ctx, const char *path, const struct mos_entry *as,
                     const struct mos_sink *sink, uint8_t *sha256);
/* Streams bytes in memory as the entry `as` (its size is taken from length). */
bool mos_bytes_stream(const struct mos_entry *as, const void *bytes, size_t length,
                      const struct mos_sink *sink);

/* Cuts data of any length into runs and leaves out zero ones; feed with mos_runs_add, finish with
 * mos_runs_end. */
struct mos_runs {
    const struct mos_sink *sink;
    uint64_t offset; /* of the next byte */
    uint64_t sum;
    uint8_t partial[MOS_RUN_UNIT];
    size_t partial_length;
};
bool mos_runs_add(struct mos_runs *r, const void *bytes, size_t length);
/* Goes on at a later offset; what lies between is a hole. */
bool mos_runs_seek(struct mos_runs *r, uint64_t offset);
bool mos_runs_end(struct mos_runs *r, uint64_t *sum);

/* Passes on only what a fill asks for, at the place it asks for. */
struct mos_texts {
    const char *const *items;
    size_t count;
};
struct mos_filter {
    const struct mos_sink *to;
    const char *prefix; /* put in front of every path, in normal form; may be "" */
    struct mos_texts only, except;
    struct mos_buf path, target; /* scratch; set their arena */
    bool passing;
};
/* A pattern fits a path when it equals it, or a folder above it, or matches with * and ?. */
bool mos_pattern_fits(const char *pattern, const char *path);
struct mos_sink mos_filter_sink(struct mos_filter *filter);

/* Takes one file into *sink and counts what a compression ("gzip", "xz", "zstd") makes of it.
 * NULL: that compression is not to be had.  Always end it. */
struct mos_compressor;
struct mos_compressor *mos_compressor_new(struct mos_ctx *ctx, const char *kind,
                                          struct mos_sink *sink);
bool mos_compressor_end(struct mos_compressor *c, uint64_t *size);

/* An image that may be compressed (gzip, xz, zstd, bzip2, lz4), or a storage device, as bytes by
 * offset.  What does not stay in memory goes into a temporary file that has no name.  Close it when
 * it was opened. */
struct mos_unpacked {
    struct mos_io io;
    bool is_device;          /* … which may be huge, and tells of no byte that nobody wrote it */
    const char *compression; /* NULL: none */
    uint64_t stored;         /* bytes of the file itself */
    const struct mos_host *host;
    int file, spill, device; /* -1: none */
};
bool mos_unpack_open(struct mos_ctx *ctx, const char *path, struct mos_unpacked *out);
/* The same from standard input, all of which is taken first; `name` is for messages. */
bool mos_unpack_input(struct mos_ctx *ctx, const char *name, struct mos_unpacked *out);
void mos_unpack_close(struct mos_unpacked *u);
/* The same from memory, at most `limit` bytes of content; NULL: damaged, or larger. */
bool mos_unpack_memory(struct mos_ctx *ctx, const void *bytes, size_t length, uint64_t limit,
                       struct mos_unpacked *out);
/* Bytes that are compressed become what they hold, in ctx->arena; others stay as they are.  false:
 * damaged, or more than `limit`. */
bool mos_unpack_bytes(struct mos_ctx *ctx, const uint8_t **bytes, size_t *length, uint64_t limit);
/* What a file's first bytes say of its compression ("gzip", …); NULL: none. */
const char *mos_compression_of(const uint8_t *head, size_t length);

/* Compresses a whole image ("gz", "xz", "zst") into a new file, on all cores; *size: what came of
 * it.  false with ctx->error. */
bool mos_pack_file(struct mos_ctx *ctx, struct mos_io *from, const char *path, const char *kind,
                   uint64_t *size);

/* The same from memory into memory.  The kernel takes its ramdisk in xz only with a CRC-32 sum, so
 * "xz" is not for that. */
bool mos_pack_memory(struct mos_ctx *ctx, const char *kind, void *bytes, size_t length,
                     struct mos_buf *out);

/* Writes what it is fed into an archive file at `path` (.tar, .tar.gz, .tar.xz, .tar.zst), which
 * must not be there yet ("-": standard output, plain).  NULL with ctx->error.  Always end it; when
 * it was not good the file is gone. */
struct mos_tar;
struct mos_tar *mos_tar_new(struct mos_ctx *ctx, const char *path, struct mos_sink *sink);
bool mos_tar_end(struct mos_tar *tar, bool good);

/* Small files below etc/ may matter to rules.  Of most of them only the hash is kept between runs;
 * a few are read, and the passwords in them are replaced then: the cache holds no secret. */
enum mos_text_kind {
    MOS_TEXT_NONE,
    MOS_TEXT_HASH,  /* only that it is there, and its SHA-256 */
    MOS_TEXT_PLAIN, /* it is read */
    MOS_TEXT_USERS, /* it is read, and its second field is a password */
};
enum mos_text_kind mos_text_kind(const struct mos_entry *entry);
/* Stands for a password of `length` bytes in a text of the same length: begins with MOS_TOKEN (what
 * it stands for has the form of a hash) or MOS_TOKEN + 1, and two that are equal have equal ones.
 */
enum { MOS_TOKEN = 1 };
void mos_text_token(const char *password, size_t length, char *out);
/* Puts tokens for the passwords of a text of users. */
void mos_text_redact(char *text, size_t length);

/* The index of an archive: every entry and the runs of its data, without the bytes (but for texts
 * that rules read, with tokens for the passwords in them). */
struct mos_index;
/* A recorder: what is streamed into *sink is recorded and passed on to `through` (may be NULL). */
struct mos_index *mos_index_new(struct mos_ctx *ctx);
struct mos_sink mos_index_recorder(struct mos_index *index, const struct mos_sink *through);
bool mos_index_replay(struct mos_ctx *ctx, const struct mos_index *index,
                      const struct mos_sink *sink);
size_t mos_index_count(const struct mos_index *index);
void mos_index_save(const struct mos_index *index, struct mos_buf *out);
/* The bytes stay where they are. */
struct mos_index *mos_index_load(struct mos_ctx *ctx, void *data, size_t length);

#endif
