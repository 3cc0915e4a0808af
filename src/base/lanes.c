#include "base/lanes.h"

#include "base/bytes.h"

#include <assert.h>
#include <string.h>

static const uint32_t start[8] = {0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a,
                                  0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19};

#if defined(__x86_64__) && defined(__GNUC__)

#include <cpuid.h>

static const uint32_t constants[64] = {
    0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5,
    0xd807aa98, 0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174,
    0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da,
    0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967,
    0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
    0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070,
    0x19a4c116, 0x1e376c08, 0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3,
    0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2};

/* One lane of a vector a message: the same code for both widths. */
#define ROTATE(x, n) ((x) >> (n) | (x) << (32 - (n)))
#define SWAP_BYTES(x) ((ROTATE(x, 24) & 0x00ff00ff) | (ROTATE(x, 8) & 0xff00ff00))
#define MIX(a, b, c, d, e, f, g, h, word)                                                          \
    do {                                                                                           \
        vector t1 =                                                                                \
            h + (ROTATE(e, 6) ^ ROTATE(e, 11) ^ ROTATE(e, 25)) + (g ^ (e & (f ^ g))) + (word);     \
        vector t2 = (ROTATE(a, 2) ^ ROTATE(a, 13) ^ ROTATE(a, 22)) + ((a & b) | (c & (a | b)));    \
        h = g, g = f, f = e, e = d + t1, d = c, c = b, b = a, a = t1 + t2;                         \
    } while (0)
#define WORD(t)                                                                                    \
    (w[(t)&15] +=                                                                                  \
     (ROTATE(w[((t) + 1) & 15], 7) ^ ROTATE(w[((t) + 1) & 15], 18) ^ w[((t) + 1) & 15] >> 3) +     \
     w[((t) + 9) & 15] +                                                                           \
     (ROTATE(w[((t) + 14) & 15], 17) ^ ROTATE(w[((t) + 14) & 15], 19) ^ w[((t) + 14) & 15] >> 10))
#define BLOCK()                                                                                    \
    do {                                                                                           \
        vector a = s[0], b = s[1], c = s[2], d = s[3], e = s[4], f = s[5], g = s[6], h = s[7];     \
        for (unsigned t = 0; t < 16; t++) {                                                        \
            w[t] = SWAP_BYTES(w[t]);                                                               \
            MIX(a, b, c, d, e, f, g, h, w[t] + constants[t]);                                      \
        }                                                                                          \
        for (unsigned t = 16; t < 64; t++)                                                         \
            MIX(a, b, c, d, e, f, g, h, WORD(t) + constants[t]);                                   \
        s[0] += a, s[1] += b, s[2] += c, s[3] += d, s[4] += e, s[5] += f, s[6] += g, s[7] += h;    \
    } while (0)

typedef uint32_t vector_8 __attribute__((vector_size(32)));
typedef uint32_t vector_16 __attribute__((vector_size(64)));

__attribute__((target("avx2"))) static void update_8(struct mos_lanes *lanes,
                                                     const uint8_t *const *pieces, size_t length) {
    typedef vector_8 vector;
    vector s[8], w[16];
    for (unsigned i = 0; i < 8; i++)
        memcpy(&s[i], lanes->state[i], sizeof s[i]);
    for (size_t at = 0; at < length; at += MOS_LANE_UNIT) {
        /* rows of words become columns, by pairs, fours and eights */
        for (unsigned half = 0; half < 2; half++) {
            vector row[8], x, y;
            for (unsigned i = 0; i < 8; i++)
                memcpy(&row[i], pieces[i] + at + 32 * half, sizeof row[i]);
            for (unsigned i = 0; i < 8; i += 2) {
                x = row[i], y = row[i + 1];
                row[i] = __builtin_shufflevector(x, y, 0, 8, 2, 10, 4, 12, 6, 14);
                row[i + 1] = __builtin_shufflevector(x, y, 1, 9, 3, 11, 5, 13, 7, 15);
            }
            for (unsigned k = 0; k < 4; k++) {
                unsigned i = k / 2 * 4 + k % 2;
                x = row[i], y = row[i + 2];
                row[i] = __builtin_shufflevector(x, y, 0, 1, 8, 9, 4, 5, 12, 13);
                row[i + 2] = __builtin_shufflevector(x, y, 2, 3, 10, 11, 6, 7, 14, 15);
            }
            for (unsigned i = 0; i < 4; i++) {
                x = row[i], y = row[i + 4];
                w[8 * half + i] = __builtin_shufflevector(x, y, 0, 1, 2, 3, 8, 9, 10, 11);
                w[8 * half + i + 4] = __builtin_shufflevector(x, y, 4, 5, 6, 7, 12, 13, 14, 15);
            }
        }
        BLOCK();
    }
    for (unsigned i = 0; i < 8; i++)
        memcpy(lanes->state[i], &s[i], sizeof s[i]);
}

__attribute__((target("avx512f"))) static void
update_16(struct mos_lanes *lanes, const uint8_t *const *pieces, size_t length) {
    typedef vector_16 vector;
    vector s[8], w[16], x, y;
    for (unsigned i = 0; i < 8; i++)
        memcpy(&s[i], lanes->state[i], sizeof s[i]);
    for (size_t at = 0; at < length; at += MOS_LANE_UNIT) {
        for (unsigned i = 0; i < 16; i++)
            memcpy(&w[i], pieces[i] + at, sizeof w[i]);
        /* rows of words become columns, by pairs, fours, eights and all */
        for (unsigned i = 0; i < 16; i += 2) {
            x = w[i], y = w[i + 1];
            w[i] = __builtin_shufflevector(x, y, 0, 16, 2, 18, 4, 20, 6, 22, 8, 24, 10, 26, 12, 28,
                                           14, 30);
            w[i + 1] = __builtin_shufflevector(x, y, 1, 17, 3, 19, 5, 21, 7, 23, 9, 25, 11, 27, 13,
                                               29, 15, 31);
        }
        for (unsigned k = 0; k < 8; k++) {
            unsigned i = k / 2 * 4 + k % 2;
            x = w[i], y = w[i + 2];
            w[i] = __builtin_shufflevector(x, y, 0, 1, 16, 17, 4, 5, 20, 21, 8, 9, 24, 25, 12, 13,
                                           28, 29);
            w[i + 2] = __builtin_shufflevector(x, y, 2, 3, 18, 19, 6, 7, 22, 23, 10, 11, 26, 27, 14,
                                               15, 30, 31);
        }
        for (unsigned k = 0; k < 8; k++) {
            unsigned i = k / 4 * 8 + k % 4;
            x = w[i], y = w[i + 4];
            w[i] = __builtin_shufflevector(x, y, 0, 1, 2, 3, 16, 17, 18, 19, 8, 9, 10, 11, 24, 25,
                                           26, 27);
            w[i + 4] = __builtin_shufflevector(x, y, 4, 5, 6, 7, 20, 21, 22, 23, 12, 13, 14, 15, 28,
                                               29, 30, 31);
        }
        for (unsigned i = 0; i < 8; i++) {
            x = w[i], y = w[i + 8];
            w[i] = __builtin_shufflevector(x, y, 0, 1, 2, 3, 4, 5, 6, 7, 16, 17, 18, 19, 20, 21, 22,
                                           23);
            w[i + 8] = __builtin_shufflevector(x, y, 8, 9, 10, 11, 12, 13, 14, 15, 24, 25, 26, 27,
                                               28, 29, 30, 31);
        }
        BLOCK();
    }
    for (unsigned i = 0; i < 8; i++)
        memcpy(lanes->state[i], &s[i], sizeof s[i]);
}

/* Instructions for SHA-256 itself, which libcrypto uses: nothing is faster than these. */
static bool has_own_instructions(void) {
    unsigned a, b, c, d;
    return __get_cpuid_count(7, 0, &a, &b, &c, &d) && b >> 29 & 1;
}

bool mos_lanes_can(unsigned width) {
    return width == 16 ? __builtin_cpu_supports("avx512f")
                       : width == 8 && __builtin_cpu_supports("avx2");
}

unsigned mos_lanes_best(void) {
    return has_own_instructions() ? 1 : mos_lanes_can(16) ? 16 : mos_lanes_can(8) ? 8 : 1;
}

void mos_lanes_update(struct mos_lanes *h, const uint8_t *const *pieces, size_t length) {
    assert(length % MOS_LANE_UNIT == 0 && mos_lanes_can(h->width));
    (h->width == 16 ? update_16 : update_8)(h, pieces, length);
    h->length += length;
}

#else

bool mos_lanes_can(unsigned width) {
    (void)width;
    return false;
}

unsigned mos_lanes_best(void) {
    return 1;
}

void mos_lanes_update(struct mos_lanes *h, const uint8_t *const *pieces, size_t length) {
    (void)h, (void)pieces, (void)length;
    assert(!"no machine comes here: mos_lanes_can() says so");
}

#endif

struct mos_lanes mos_lanes_start(unsigned width) {
    assert(width <= MOS_MOST_LANES);
    struct mos_lanes h = {.width = width};
    assert(mos_lanes_can(width));
    for (unsigned i = 0; i < 8; i++)
        for (unsigned k = 0; k < width; k++)
            h.state[i][k] = start[i];
    return h;
}

/* All messages end at a whole block: what follows is the same for each. */
void mos_lanes_final(struct mos_lanes *h, uint8_t (*out)[MOS_SHA256_SIZE]) {
    assert(h->width && h->width <= MOS_MOST_LANES);
    uint8_t end[MOS_LANE_UNIT] = {0x80};
    const uint8_t *pieces[MOS_MOST_LANES];
    mos_put_be32(end + 56, (uint32_t)(h->length >> 29));
    mos_put_be32(end + 60, (uint32_t)(h->length << 3));
    for (unsigned k = 0; k < h->width; k++)
        pieces[k] = end;
    mos_lanes_update(h, pieces, sizeof end);
    for (unsigned k = 0; k < h->width; k++)
        for (unsigned i = 0; i < 8; i++)
            mos_put_be32(out[k] + 4 * i, h->state[i][k]);
}
