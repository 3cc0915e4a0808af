/* Byte order, rounding and checked sums.  Every size or offset that comes from outside goes
 * through mos_add/mos_mul; formats are read and written by offset, never through structs. */
#ifndef MOS_BASE_BYTES_H
#define MOS_BASE_BYTES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <string.h>

/* Is none of them anything but zero?  Of no bytes it is true. */
static inline bool mos_all_zero(const uint8_t *bytes, size_t length) {
    return !length || (!bytes[0] && memcmp(bytes, bytes + 1, length - 1) == 0);
}

/* Numbers to and from bytes, little-endian (le) or big-endian (be): two, four or eight of them, at
 * any address. */
static inline void mos_put_le16(void *p, uint16_t v) {
    uint8_t *b = p;
    b[0] = (uint8_t)v;
    b[1] = (uint8_t)(v >> 8);
}
static inline void mos_put_le32(void *p, uint32_t v) {
    mos_put_le16(p, (uint16_t)v);
    mos_put_le16((uint8_t *)p + 2, (uint16_t)(v >> 16));
}
static inline void mos_put_le64(void *p, uint64_t v) {
    mos_put_le32(p, (uint32_t)v);
    mos_put_le32((uint8_t *)p + 4, (uint32_t)(v >> 32));
}
static inline void mos_put_be16(void *p, uint16_t v) {
    uint8_t *b = p;
    b[0] = (uint8_t)(v >> 8);
    b[1] = (uint8_t)v;
}
static inline void mos_put_be32(void *p, uint32_t v) {
    uint8_t *b = p;
    b[0] = (uint8_t)(v >> 24);
    b[1] = (uint8_t)(v >> 16);
    b[2] = (uint8_t)(v >> 8);
    b[3] = (uint8_t)v;
}
static inline void mos_put_be64(void *p, uint64_t v) {
    mos_put_be32(p, (uint32_t)(v >> 32));
    mos_put_be32((uint8_t *)p + 4, (uint32_t)v);
}
static inline uint16_t mos_le16(const void *p) {
    const uint8_t *b = p;
    return (uint16_t)(b[0] | b[1] << 8);
}
static inline uint32_t mos_le32(const void *p) {
    const uint8_t *b = p;
    return mos_le16(b) | (uint32_t)mos_le16(b + 2) << 16;
}
static inline uint64_t mos_le64(const void *p) {
    const uint8_t *b = p;
    return mos_le32(b) | (uint64_t)mos_le32(b + 4) << 32;
}
static inline uint16_t mos_be16(const void *p) {
    const uint8_t *b = p;
    return (uint16_t)(b[0] << 8 | b[1]);
}
static inline uint32_t mos_be32(const void *p) {
    const uint8_t *b = p;
    return (uint32_t)b[0] << 24 | (uint32_t)b[1] << 16 | (uint32_t)b[2] << 8 | b[3];
}
static inline uint64_t mos_be64(const void *p) {
    const uint8_t *b = p;
    return (uint64_t)mos_be32(b) << 32 | mos_be32(b + 4);
}

/* *out = a + b; false and *out untouched if that does not fit. */
static inline bool mos_add(uint64_t a, uint64_t b, uint64_t *out) {
    if (a > UINT64_MAX - b)
        return false;
    *out = a + b;
    return true;
}
static inline bool mos_mul(uint64_t a, uint64_t b, uint64_t *out) {
    if (b && a > UINT64_MAX / b)
        return false;
    *out = a * b;
    return true;
}

/* The next multiple of `unit` (not 0) at or above `v`; `v` must be at least `unit` below 2^64. */
static inline uint64_t mos_round_up(uint64_t v, uint64_t unit) {
    return (v + unit - 1) / unit * unit;
}
static inline uint64_t mos_round_down(uint64_t v, uint64_t unit) {
    return v / unit * unit;
}
static inline uint64_t mos_div_up(uint64_t v, uint64_t unit) {
    return v / unit + (v % unit != 0);
}
static inline uint64_t mos_min(uint64_t a, uint64_t b) {
    return a < b ? a : b;
}
static inline uint64_t mos_max(uint64_t a, uint64_t b) {
    return a > b ? a : b;
}
static inline bool mos_is_power_of_two(uint64_t v) {
    return v && !(v & (v - 1));
}

#endif
