/* The record of a build, as JSON: inputs and outputs with size, hash and place; for every image
 * which bytes are data, must be zero, or do not matter.  No clock, host name or absolute path. */
#ifndef MOS_LEDGER_LEDGER_H
#define MOS_LEDGER_LEDGER_H

#include "base/buf.h"
#include "base/ctx.h"
#include "base/map.h"

struct mos_ledger;

/* An empty record of one build; NULL: no memory.  Texts are copied.  Free it with mos_ledger_free.
 */
struct mos_ledger *mos_ledger_new(const char *workspace, const char *board, const char *version);
void mos_ledger_free(struct mos_ledger *ledger);
/* Something that the build read: `file` as it is shown, `member` of an archive or NULL, size in
 * bytes, and where the definition names it. */
void mos_ledger_input(struct mos_ledger *ledger, const char *name, const char *file,
                      const char *member, uint64_t size, const uint8_t sha256[32],
                      const char *place);
/* Adds what is stated about the input that was noted last; NULL: nothing is. */
void mos_ledger_input_fact(struct mos_ledger *ledger, const char *key, const char *text);
/* A file that the build wrote, with its plain SHA-256. */
void mos_ledger_output(struct mos_ledger *ledger, const char *file, uint64_t size,
                       const uint8_t sha256[32]);
/* Another name for one of the files: a link. */
void mos_ledger_name(struct mos_ledger *ledger, const char *name, const char *of);
/* An image: its hash is that of the list of its chunks' hashes; whole: the plain SHA-256 of the
 * file, where that is known, or NULL. */
void mos_ledger_image(struct mos_ledger *ledger, const char *file, const char *medium,
                      uint64_t size, uint32_t sector, const uint8_t hash[32], const uint8_t *whole);
/* Of the last image: the kind of its medium (NULL: not stated), and the largest that the board may
 * have, bytes (0: not stated). */
void mos_ledger_medium(struct mos_ledger *ledger, const char *kind, uint64_t at_most);
/* Parts of the last image. */
void mos_ledger_chunk(struct mos_ledger *ledger, const uint8_t hash[32]);
void mos_ledger_region(struct mos_ledger *ledger, const char *name, const char *holds,
                       const char *owner, unsigned number, const char *id, uint64_t offset,
                       uint64_t length, const char *place);
/* Of the last region: it takes what a larger medium has more; a ROM starts what it holds. */
void mos_ledger_region_is(struct mos_ledger *ledger, bool grows, bool starts);
/* Of the last region, which begins with a block of `size` bytes of variables: one that each unit
 * has of its own, and the pattern of its value. */
void mos_ledger_region_unit(struct mos_ledger *ledger, uint64_t size, const char *name,
                            const char *pattern);
void mos_ledger_span(struct mos_ledger *ledger, uint64_t offset, uint64_t length,
                     const char *kind); /* "data", "zero", "any" */
/* Bytes that something takes, of those that it may. */
void mos_ledger_budget(struct mos_ledger *ledger, const char *name, uint64_t used, uint64_t limit);
/* The hash of everything that the board was made of. */
void mos_ledger_stamp(struct mos_ledger *ledger, const char *stamp);
/* All of it as JSON, keys in the order in which they were added: the same build gives the same
 * bytes. */
void mos_ledger_write(const struct mos_ledger *ledger, struct mos_buf *out);

/* What a ledger on disk says. */
struct mos_ledger_last {
    const char *stamp;      /* NULL: none */
    struct mos_map budgets; /* name -> uint64_t *: bytes used */
};
/* The regions of one medium in a ledger at `path`: name -> struct mos_ledger_region_last *.  false:
 * it cannot be read, or knows no such medium. */
struct mos_ledger_region_last {
    const char *name;
    const char *holds; /* "piece", "environment", a file system */
    const char *owner; /* "build", "factory", "device" */
    const char *from;  /* where its definition states it, "boards/curlew.yaml:58:17"; or NULL */
    unsigned number;
    bool grows, starts; /* as mos_ledger_region_is */
    uint64_t offset, length;
    struct mos_map units; /* variable -> const char *: its pattern; as mos_ledger_region_unit */
    uint64_t block;       /* … and bytes of the block; 0: there are none */
};
bool mos_ledger_regions(struct mos_ctx *ctx, const char *path, const char *medium,
                        struct mos_map *out);
/* The same of an image by its file's name, where its size is as stated: of struct
 * mos_ledger_region_last, in the ledger's order. */
bool mos_ledger_image_regions(struct mos_ctx *ctx, const char *path, const char *file,
                              uint64_t size, struct mos_vec *out);
/* What a ledger says of one image, for whoever puts it onto a medium. */
struct mos_ledger_span_last {
    uint64_t offset, length;
    char kind; /* 'd'ata, 'z'ero, 'a'ny */
};
struct mos_ledger_image_last {
    const char *workspace, *board, *stamp, *medium;
    const char *kind;    /* of the medium, "sd"; NULL: not stated */
    const char *hash;    /* of the list of its chunks' hashes: 64 digits */
    uint64_t size, most; /* bytes; most 0: not stated */
    uint32_t sector;
    struct mos_vec regions; /* of struct mos_ledger_region_last, in the ledger's order */
    struct mos_vec spans;   /* of struct mos_ledger_span_last, in the ledger's order */
};
/* The image of a file's name.  false: the ledger is not there, or is no ledger (ctx->error then),
 * or knows no such image; what it says lies within the image. */
bool mos_ledger_image_last(struct mos_ctx *ctx, const char *path, const char *file,
                           struct mos_ledger_image_last *out);
/* The names of the images in a ledger, of const char *; none when it cannot be read. */
struct mos_vec mos_ledger_image_names(struct mos_ctx *ctx, const char *path);
/* Whose output a ledger records (*board: the selector), and every name that it lists as a key of
 * *names.  false: it is no ledger, of a format that is not known, or cannot be read (ctx->error).
 */
bool mos_ledger_files(struct mos_ctx *ctx, const char *path, const char **board,
                      struct mos_map *names);
/* A file of an output, as its ledger has it. */
struct mos_ledger_file {
    const char *name, *hash; /* 64 digits: of an image that of the list of its chunks */
    const char *whole;       /* an image's plain SHA-256, where it is known, or NULL */
    uint64_t size;
    bool image;
};
/* All of them in the order of the ledger, which must have that stamp: of struct mos_ledger_file.
 * false: it is not there, or another. */
bool mos_ledger_listing(struct mos_ctx *ctx, const char *path, const char *stamp,
                        struct mos_vec *out);
/* The chunks' hashes of one medium's image, in order; NULL: it cannot be told. */
const uint8_t (*mos_ledger_chunks(struct mos_ctx *ctx, const char *path, const char *medium,
                                  size_t *count))[MOS_SHA256_SIZE];
/* false: there is none in that folder, or it cannot be read. */
bool mos_ledger_last(struct mos_ctx *ctx, const char *folder, struct mos_ledger_last *out);

#endif
