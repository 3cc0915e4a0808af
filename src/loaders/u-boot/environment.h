/* The loader's stored environment: CRC-32 (little-endian) over the rest, an optional flag byte,
 * then NAME=VALUE texts, each ended by a NUL, and one more NUL; the rest of the block is zero. */
#ifndef MOS_LOADERS_U_BOOT_ENVIRONMENT_H
#define MOS_LOADERS_U_BOOT_ENVIRONMENT_H

#include "boot/variables.h"

/* Bytes that the variables need in a block, header included. */
uint64_t mos_environment_size(const struct mos_map *variables, bool flag_byte);
/* Writes a block of `size` bytes (at least the needed ones); names in alphabetical order, as the
 * loader itself stores them. */
void mos_environment_write(struct mos_buf *out, const struct mos_map *variables, uint64_t size,
                           bool flag_byte);
/* Reads a block.  The form is found by trying both; false when neither sum is right. */
bool mos_environment_read(struct mos_arena *arena, const uint8_t *data, size_t length,
                          struct mos_map *out, bool *flag_byte);
/* The variables that are compiled into a loader's binary: NAME=VALUE texts, one behind the other,
 * bootcmd or bootdelay among them.  false: there are none. */
bool mos_environment_find(struct mos_arena *arena, const uint8_t *binary, size_t length,
                          struct mos_map *out);

#endif
