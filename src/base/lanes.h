/* SHA-256 (FIPS 180-4) of several messages of one length at once: where a processor has wide
 * vectors and no instructions for SHA-256 itself, that is several times as fast as one after the
 * other. */
#ifndef MOS_BASE_LANES_H
#define MOS_BASE_LANES_H

#include "base/hash.h"

enum { MOS_MOST_LANES = 16, MOS_LANE_UNIT = 64 };

/* Hashes that run side by side.  All memory is in here; it may be copied. */
struct mos_lanes {
    unsigned width;  /* how many there are: 8 or 16 */
    uint64_t length; /* bytes of each so far */
    uint32_t state[8][MOS_MOST_LANES];
};

/* How many messages at once this machine hashes fastest; 1: use mos_sha256_new(), one at a time. */
unsigned mos_lanes_best(void);
/* Can it do that many at once?  (8: AVX2, 16: AVX-512.) */
bool mos_lanes_can(unsigned width);
/* width: one that mos_lanes_can. */
struct mos_lanes mos_lanes_start(unsigned width);
/* The next `length` bytes of each message, a multiple of MOS_LANE_UNIT; pieces[0 … width - 1], some
 * of which may be the same. */
void mos_lanes_update(struct mos_lanes *h, const uint8_t *const *pieces, size_t length);
void mos_lanes_final(struct mos_lanes *h, uint8_t (*out)[MOS_SHA256_SIZE]);

#endif
