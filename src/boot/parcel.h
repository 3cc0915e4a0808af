/* Parcels: kernel, trees, ramdisk and scripts with their hashes and signatures in one file, the
 * loader's flattened image tree (doc/uImage.FIT in its sources: source_file_format, signature). */
#ifndef MOS_BOOT_PARCEL_H
#define MOS_BOOT_PARCEL_H

#include "tree/tree.h"

/* One payload. */
struct mos_parcel_part {
    const char *name; /* of its node below /images */
    const char *about, *type, *os, *cpu, *compression;
    uint64_t load, entry;
    bool has_load, has_entry;
    const uint8_t *data; /* NULL: its place is not in the file */
    size_t length;
    const struct mos_dt_node *node;
};

/* One way to combine them. */
struct mos_parcel_choice {
    const char *name, *about, *kernel, *firmware, *ramdisk, *compatible;
    struct mos_vec trees, loadables; /* of const char *: a tree, then overlays over it */
    const struct mos_dt_node *node;
};

struct mos_parcel {
    struct mos_dt *dt;
    const uint8_t *bytes;
    size_t length, tree_length; /* the whole file, and the tree in front of outside data */
    struct mos_vec parts;       /* of struct mos_parcel_part */
    struct mos_vec choices;     /* of struct mos_parcel_choice */
    const char *usual;          /* the choice when none is asked for; NULL: none */
};

/* What the format calls a processor of ours ("arm64", "riscv", "x86_64"). */
const char *mos_parcel_cpu(const char *cpu);
bool mos_parcel_is(const void *bytes, size_t length); /* a tree with /images */
/* NULL with *problem (one sentence).  Bytes stay the caller's and are pointed into. */
struct mos_parcel *mos_parcel_read(struct mos_ctx *ctx, const void *bytes, size_t length,
                                   const char **problem);
const struct mos_parcel_part *mos_parcel_part(const struct mos_parcel *p, const char *name);
/* The choice by name; NULL: the usual one. */
const struct mos_parcel_choice *mos_parcel_choice(const struct mos_parcel *p, const char *name);

/* The parts that a choice uses, in this order: kernel, firmware, ramdisk, trees, loadables; of
 * const char *. */
struct mos_vec mos_parcel_uses(struct mos_arena *arena, const struct mos_parcel_choice *choice);

/* Every hash of a part against its bytes.  *names: "sha256+ crc32+ ", as far as it went.  A part
 * without hashes passes with an empty text. */
bool mos_parcel_check_part(struct mos_arena *arena, const struct mos_parcel_part *part,
                           const char **names);

enum mos_parcel_trust {
    MOS_PARCEL_NOT_ASKED, /* no key says that choices must be signed */
    MOS_PARCEL_TRUSTED,
    MOS_PARCEL_REFUSED,
};
/* The signature of a choice, by every key of `keys` (a tree with /signature) that is required of
 * choices.  *why says what is wrong. */
enum mos_parcel_trust mos_parcel_check_choice(struct mos_arena *arena, const struct mos_parcel *p,
                                              const struct mos_parcel_choice *choice,
                                              const struct mos_dt *keys, const char **why);

/* ---- making them ---- */

struct mos_parcel_item {
    const char *name, *about, *type, *os, *cpu, *compression;
    uint64_t load, entry;
    bool has_load, has_entry;
    const void *data;
    size_t length;
    const char *hash; /* "sha256", "crc32"; NULL: none */
};

/* Signs the SHA-256 of something: PKCS#1 v1.5, so the same bytes give the same signature. */
struct mos_signer {
    void *self;
    const char *key_name;
    unsigned bits; /* 2048, 3072, 4096 */
    /* digest: 32 bytes; out: bits / 8 bytes.  false with ctx->error. */
    bool (*sign)(void *self, const uint8_t digest[32], uint8_t *out);
};

struct mos_parcel_wish {
    const char *about;
    int64_t date;
    const struct mos_parcel_item *items;
    size_t item_count;
    struct mos_vec choices;          /* of struct mos_parcel_choice; the first is the usual one */
    const struct mos_signer *signer; /* NULL: unsigned */
};
/* false with ctx->error (the signer's). */
bool mos_parcel_write(struct mos_ctx *ctx, const struct mos_parcel_wish *wish, struct mos_buf *out);

/* parcel-keys.c: a private key from a PEM text; NULL with *problem. */
struct mos_signer *mos_signer_from_pem(struct mos_ctx *ctx, const char *name, const char *pem,
                                       size_t length, const char **problem);
void mos_signer_free(struct mos_signer *signer);
/* Adds a public key (PEM, private ones will do) to a tree, so that every choice must be signed
 * with it; false with *problem. */
bool mos_parcel_add_key(struct mos_ctx *ctx, struct mos_dt *dt, const char *name, const char *pem,
                        size_t length, const char **problem);

/* The bytes of a blob that a signature covers: the named nodes with their properties but for the
 * data itself, the tags of what lies around them, and the texts.  Feeds `take` in order; false:
 * the blob is damaged. */
bool mos_parcel_covered(const uint8_t *blob, size_t length, const char *const *nodes,
                        size_t node_count, uint32_t strings,
                        void (*take)(void *self, const void *bytes, size_t length), void *self);
/* SHA-256 over that. */
bool mos_parcel_digest(const uint8_t *blob, size_t length, const char *const *nodes,
                       size_t node_count, uint32_t strings, uint8_t digest[32]);
/* Is `value` the signature of a digest by the key of this node? */
bool mos_parcel_signed_by(const struct mos_dt_node *key, const uint8_t digest[32],
                          const uint8_t *value, size_t length);

#endif
