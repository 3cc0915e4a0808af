/* The loader's legacy header: 64 bytes, big-endian, with a sum over itself and one over the
 * payload. */
#ifndef MOS_LOADERS_U_BOOT_LEGACY_H
#define MOS_LOADERS_U_BOOT_LEGACY_H

#include "base/buf.h"
#include "boot/dialect.h"

#include <stdbool.h>

enum { MOS_LEGACY_HEADER = 64, MOS_LEGACY_NAME = 32 };
enum mos_legacy_type { MOS_LEGACY_SCRIPT = 6 };

struct mos_legacy {
    uint32_t time; /* seconds since 1970 */
    uint32_t size; /* of the payload, bytes */
    uint32_t load, entry;
    uint32_t payload_crc;
    uint8_t os, cpu, type, compression;
    char name[MOS_LEGACY_NAME + 1];
};

/* Wraps a script's text: header, then two words (its length and 0), then the text. */
void mos_legacy_script(struct mos_buf *out, const char *name, uint32_t time, const char *text,
                       size_t length);
/* One thing behind the header; a sentence about what the header has no number for, or NULL. */
const char *mos_legacy_wrap(const struct mos_wrapped *what, struct mos_buf *out);
/* Makes size and sums of a header fit another payload. */
void mos_legacy_seal(uint8_t head[MOS_LEGACY_HEADER], const void *payload, size_t length);
/* Reads a header; *problem (never freed) says what is wrong when it returns false.  Checks the
 * header's sum, and the payload's when the whole file is given. */
bool mos_legacy_read(const uint8_t *data, size_t length, struct mos_legacy *out,
                     const char **problem);
bool mos_legacy_is(const uint8_t *data, size_t length);

#endif
