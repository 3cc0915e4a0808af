/* Packs with a table of contents: stages, pictures and settings of a flash one behind the other,
 * each with name, kind, place, compression, address and sum, so that a small program finds what it
 * wants. The form is ours: docs/contents.md. */
#ifndef MOS_BOOT_CONTENTS_H
#define MOS_BOOT_CONTENTS_H

#include "base/buf.h"

enum { MOS_CONTENTS_NAME = 31, MOS_CONTENTS_KIND = 15 }; /* most characters of each */
enum { MOS_CONTENTS_ROWS = 4096 };                       /* most parts of a pack */

struct mos_contents_row {
    const char *name, *kind, *compression; /* "none", "gz", "xz", "zst" */
    uint64_t offset;                       /* of its first byte, from the pack's */
    uint64_t stored, size;                 /* bytes in the pack, and once it is unpacked */
    bool has_load, has_entry;
    uint64_t load, entry; /* addresses */
    uint32_t sum;         /* CRC-32 of the stored bytes */
};

struct mos_contents {
    uint64_t length; /* bytes of the whole pack */
    size_t count;
    struct mos_contents_row *rows; /* in the order of the table */
};

/* Does a table of contents stand at the start of these bytes? */
bool mos_contents_is(const void *bytes, size_t length);
/* Bytes that a table of so many rows takes. */
size_t mos_contents_room(size_t count);
/* Writes the table: mos_contents_room(c->count) bytes.  Names and kinds fit. */
void mos_contents_write(const struct mos_contents *c, uint8_t *to);
/* Reads a table at the start of `length` bytes, in front of `whole` bytes altogether; what is in
 * the arena stays.  false with *problem, one sentence without an end. */
bool mos_contents_read(struct mos_arena *arena, const uint8_t *bytes, size_t length, uint64_t whole,
                       struct mos_contents *out, const char **problem);

#endif
