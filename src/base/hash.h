/* Hashes and sums: SHA-256 (libcrypto), CRC-32 (zlib), CRC-32C and a fast content sum (ours),
 * name-based identifiers (libuuid). */
#ifndef MOS_BASE_HASH_H
#define MOS_BASE_HASH_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum { MOS_SHA256_SIZE = 32, MOS_CHUNK_SIZE = 4 << 20 };

struct mos_sha256;                       /* one running hash */
struct mos_sha256 *mos_sha256_new(void); /* NULL: no memory */
void mos_sha256_update(struct mos_sha256 *h, const void *bytes, size_t length);
void mos_sha256_zeros(struct mos_sha256 *h, uint64_t length); /* so many zero bytes */
void mos_sha256_final(struct mos_sha256 *h, uint8_t out[MOS_SHA256_SIZE]);
void mos_sha256_free(struct mos_sha256 *h);
bool mos_sha256(const void *bytes, size_t length, uint8_t out[MOS_SHA256_SIZE]);
/* 64 lower-case digits and a NUL. */
void mos_sha256_hex(const uint8_t hash[MOS_SHA256_SIZE], char hex[65]);

/* CRC-32 of IEEE 802.3 (reflected 0xedb88320), as GPT, the loader and gzip use it. */
uint32_t mos_crc32(uint32_t crc, const void *bytes, size_t length);
/* CRC-32C (reflected 0x82f63b78) without final inversion: ext4's running form, starts at ~0. */
uint32_t mos_crc32c(uint32_t crc, const void *bytes, size_t length);
/* A fast 64-bit sum of content, to tell whether two files are the same; not for safety.  Start
 * with 0; feeding a stream in pieces gives the same value only for the same pieces of 4 KiB. */
uint64_t mos_content_sum(uint64_t sum, const void *bytes, size_t length);

/* UUID version 5 (RFC 4122 section 4.3) of `name` in Mosaicum's own name space; 16 bytes in text
 * order (big-endian fields). */
void mos_uuid_from_name(const char *name, uint8_t out[16]);
/* Lower-case text, 36 characters and a NUL. */
void mos_uuid_text(const uint8_t uuid[16], char text[37]);
bool mos_uuid_parse(const char *text, uint8_t out[16]);

#endif
