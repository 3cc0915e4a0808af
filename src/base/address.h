/* IPv4 addresses as people write them. */
#ifndef MOS_BASE_ADDRESS_H
#define MOS_BASE_ADDRESS_H

#include "base/arena.h"

#include <stdbool.h>
#include <stdint.h>

/* "192.0.2.17" (prefix 32) or "192.0.2.17/24"; false: it is none, and nothing is written. */
bool mos_ipv4_read(const char *text, uint32_t *address, unsigned *prefix);
const char *mos_ipv4_text(struct mos_arena *arena, uint32_t address);
/* The bits of a network: 24 is 0xffffff00; 0 is 0. */
static inline uint32_t mos_ipv4_mask(unsigned prefix) {
    return prefix ? ~UINT32_C(0) << (32 - prefix) : 0;
}

#endif
