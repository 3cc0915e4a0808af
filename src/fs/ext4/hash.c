/* The hash of names in indexed folders: half of MD4's rounds over 32 bytes at a time ("Hash Tree
 * Directories"). */
#include "fs/ext4/ext4_internal.h"

#include "base/bytes.h"

#include <string.h>

static uint32_t turn(uint32_t x, unsigned bits) {
    return x << bits | x >> (32 - bits);
}
static uint32_t choose(uint32_t x, uint32_t y, uint32_t z) {
    return z ^ (x & (y ^ z));
}
static uint32_t majority(uint32_t x, uint32_t y, uint32_t z) {
    return (x & y) + ((x ^ y) & z);
}
static uint32_t parity(uint32_t x, uint32_t y, uint32_t z) {
    return x ^ y ^ z;
}

static void mix(uint32_t state[4], const uint32_t in[8]) {
    static const struct {
        uint32_t (*f)(uint32_t, uint32_t, uint32_t);
        uint32_t constant;
        uint8_t order[8], bits[4];
    } rounds[] = {
        {choose, 0, {0, 1, 2, 3, 4, 5, 6, 7}, {3, 7, 11, 19}},
        {majority, 0x5a827999, {1, 3, 5, 7, 0, 2, 4, 6}, {3, 5, 9, 13}},
        {parity, 0x6ed9eba1, {3, 7, 2, 6, 1, 5, 0, 4}, {3, 9, 11, 15}},
    };
    uint32_t s[4];
    memcpy(s, state, sizeof s);
    for (size_t r = 0; r < 3; r++)
        for (size_t i = 0; i < 8; i++) {
            uint32_t *a = &s[(4 - i % 4) % 4]; /* a, d, c, b, a … */
            uint32_t b = s[(5 - i % 4) % 4], c = s[(6 - i % 4) % 4], d = s[(7 - i % 4) % 4];
            *a = turn(*a + rounds[r].f(b, c, d) + in[rounds[r].order[i]] + rounds[r].constant,
                      rounds[r].bits[i % 4]);
        }
    for (size_t i = 0; i < 4; i++)
        state[i] += s[i];
}

/* Eight words of a name; what is missing is its length, repeated.  Characters are signed, as the
 * superblock says. */
static void take_words(const char *name, size_t length, uint32_t out[8]) {
    uint32_t pad = (uint32_t)(length | length << 8);
    pad |= pad << 16;
    size_t n = length < 32 ? length : 32, word = 0;
    uint32_t value = pad;
    for (size_t i = 0; i < n; i++) {
        value = (uint32_t)(int32_t)(signed char)name[i] + (value << 8);
        if (i % 4 == 3) {
            out[word++] = value;
            value = pad;
        }
    }
    if (word < 8)
        out[word++] = value;
    while (word < 8)
        out[word++] = pad;
}

uint32_t ext4_name_hash(const uint8_t seed[16], const char *name, size_t length, uint32_t *minor) {
    static const uint32_t end = 0x7fffffffu << 1;
    uint32_t state[4] = {0x67452301, 0xefcdab89, 0x98badcfe, 0x10325476}, in[8];
    static const uint8_t none[16];
    if (memcmp(seed, none, 16) != 0)
        for (size_t i = 0; i < 4; i++)
            state[i] = mos_le32(seed + 4 * i);
    for (size_t at = 0; at < length; at += 32) {
        take_words(name + at, length - at, in);
        mix(state, in);
    }
    *minor = state[2];
    uint32_t hash = state[1] & ~1u;
    return hash == end ? (0x7fffffffu - 1) << 1 : hash;
}

uint32_t ext4_inode_seed(const struct ext4 *v, uint32_t inode) {
    uint8_t number[8] = {0}; /* and its generation, 0 */
    mos_put_le32(number, inode);
    return mos_crc32c(v->csum_seed, number, sizeof number);
}
