/* Kernel images: what their headers say.  One row a format. */
#ifndef MOS_LINUX_IMAGE_H
#define MOS_LINUX_IMAGE_H

#include "base/ctx.h"

enum { MOS_KERNEL_HEAD = 4096 }; /* bytes of a file that a reader may look at */

/* How a loader has to start it. */
enum mos_kernel_form {
    MOS_KERNEL_OTHER,   /* it cannot be started as it is */
    MOS_KERNEL_IMAGE,   /* Image: text_offset from an aligned place */
    MOS_KERNEL_ZIMAGE,  /* it expands itself, 32-bit Arm */
    MOS_KERNEL_WRAPPED, /* behind a legacy header */
    MOS_KERNEL_FORMS,
};

struct mos_kernel_header {
    const char *format; /* "arm64 Image" */
    const char *cpu;    /* "arm64"; NULL: cannot be told (compressed) */
    enum mos_kernel_form form;
    uint64_t text_offset;  /* from a place aligned to `alignment` to its first byte */
    uint64_t alignment;    /* of that place */
    uint64_t running_size; /* bytes of RAM from its first byte, zero-initialised tail included */
    uint64_t stated_size;  /* bytes that it must have to be whole; 0: not stated */
    uint64_t held_size;    /* … and those that are there, of the same thing: outside or inside */
    /* Known after mos_kernel_apply only: */
    uint64_t expanded_size;  /* it unpacks itself: how much that takes, with what it clears; or 0 */
    uint64_t expands_to;     /* … to this many bytes behind a multiple of 128 MiB */
    uint64_t plain_size;     /* of what is compressed: its bytes once expanded */
    const char *compression; /* "gzip" …; NULL: none */
    bool wrapped;            /* behind a legacy header, which says where it is put and started: */
    uint64_t load, entry;
    bool anywhere; /* may lie anywhere in RAM; else near its start */
};

struct mos_kernel_format {
    const char *name;
    /* Reads the first `length` (up to MOS_KERNEL_HEAD) of `file_size` bytes; false: not this. */
    bool (*read)(const uint8_t *head, size_t length, uint64_t file_size,
                 struct mos_kernel_header *out);
};

extern const struct mos_kernel_format mos_kernel_arm64, mos_kernel_riscv, mos_kernel_zimage,
    mos_kernel_bzimage, mos_kernel_elf, mos_kernel_legacy, mos_kernel_compressed;

/* What only the whole file tells. */
struct mos_kernel_facts {
    uint64_t plain_size, expanded_size, expands_to;
    uint64_t head_length;
    uint8_t head[MOS_KERNEL_HEAD]; /* of what is inside */
};
/* `bytes` is the whole file, *h what mos_kernel_read said of it.  false: it cannot be expanded. */
bool mos_kernel_measure(struct mos_ctx *ctx, const uint8_t *bytes, size_t length,
                        const struct mos_kernel_header *h, struct mos_kernel_facts *out);
/* The kernel as it lies in memory once it runs: *bytes and *length, of a whole file, become those
 * of what is inside; *wide: a kernel of 64 bits.  false: it cannot be expanded here, and is no
 * plain one. */
bool mos_kernel_expand(struct mos_ctx *ctx, const uint8_t **bytes, size_t *length, bool *wide);
/* Adds the facts to a header: of something compressed or wrapped it becomes the header of what is
 * inside.  false: that is no kernel. */
bool mos_kernel_apply(struct mos_kernel_header *h, const struct mos_kernel_facts *facts);

/* The first format that fits; false when none does. */
bool mos_kernel_read(const uint8_t *head, size_t length, uint64_t file_size,
                     struct mos_kernel_header *out);

#endif
