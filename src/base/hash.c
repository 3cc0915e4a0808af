#include "base/hash.h"

#include "base/bytes.h"

#include <assert.h>
#include <ctype.h>
#include <openssl/evp.h>
#include <string.h>
#include <uuid/uuid.h>
#include <zlib.h>

/* The opaque type is libcrypto's context itself. */
static EVP_MD_CTX *context(struct mos_sha256 *h) {
    return (EVP_MD_CTX *)(void *)h;
}

struct mos_sha256 *mos_sha256_new(void) {
    EVP_MD_CTX *c = EVP_MD_CTX_new();
    if (c && !EVP_DigestInit_ex(c, EVP_sha256(), NULL)) {
        EVP_MD_CTX_free(c);
        c = NULL;
    }
    return (struct mos_sha256 *)(void *)c;
}

void mos_sha256_update(struct mos_sha256 *h, const void *bytes, size_t length) {
    assert(h && (bytes || !length));
    EVP_DigestUpdate(context(h), bytes, length);
}

void mos_sha256_zeros(struct mos_sha256 *h, uint64_t length) {
    static const uint8_t zeros[4096];
    while (length) {
        size_t n = length < sizeof zeros ? (size_t)length : sizeof zeros;
        mos_sha256_update(h, zeros, n);
        length -= n;
    }
}

void mos_sha256_final(struct mos_sha256 *h, uint8_t out[MOS_SHA256_SIZE]) {
    EVP_DigestFinal_ex(context(h), out, NULL);
}

void mos_sha256_free(struct mos_sha256 *h) {
    EVP_MD_CTX_free(context(h));
}

bool mos_sha256(const void *bytes, size_t length, uint8_t out[MOS_SHA256_SIZE]) {
    struct mos_sha256 *h = mos_sha256_new();
    if (!h)
        return false;
    mos_sha256_update(h, bytes, length);
    mos_sha256_final(h, out);
    mos_sha256_free(h);
    return true;
}

void mos_sha256_hex(const uint8_t hash[MOS_SHA256_SIZE], char hex[65]) {
    static const char digits[] = "0123456789abcdef";
    for (size_t i = 0; i < MOS_SHA256_SIZE; i++) {
        hex[2 * i] = digits[hash[i] >> 4];
        hex[2 * i + 1] = digits[hash[i] & 15];
    }
    hex[64] = 0;
}

uint32_t mos_crc32(uint32_t crc, const void *bytes, size_t length) {
    assert(bytes || !length);
    return (uint32_t)crc32_z(crc, bytes, length);
}

/* Eight tables for eight bytes a step, made once by the compiler's own arithmetic: entry n of
 * table k is the sum of byte n followed by k zero bytes. */
#define STEP(c) ((c) >> 1 ^ ((c)&1 ? 0x82f63b78u : 0u))

struct crc_tables {
    uint32_t t[8][256];
};

static struct crc_tables make_tables(void) {
    struct crc_tables tables;
    for (uint32_t n = 0; n < 256; n++) {
        uint32_t c = n;
        for (int k = 0; k < 8; k++)
            c = STEP(c);
        tables.t[0][n] = c;
    }
    for (uint32_t n = 0; n < 256; n++)
        for (int k = 1; k < 8; k++)
            tables.t[k][n] = tables.t[0][tables.t[k - 1][n] & 255] ^ tables.t[k - 1][n] >> 8;
    return tables;
}

uint32_t mos_crc32c(uint32_t crc, const void *bytes, size_t length) {
    assert(bytes || !length);
    static _Thread_local struct crc_tables tables;
    static _Thread_local bool ready;
    if (!ready) {
        tables = make_tables();
        ready = true;
    }
    const uint8_t *p = bytes;
    for (; length >= 8; p += 8, length -= 8) {
        uint32_t a = crc ^ mos_le32(p), b = mos_le32(p + 4);
        crc = tables.t[7][a & 255] ^ tables.t[6][a >> 8 & 255] ^ tables.t[5][a >> 16 & 255] ^
              tables.t[4][a >> 24] ^ tables.t[3][b & 255] ^ tables.t[2][b >> 8 & 255] ^
              tables.t[1][b >> 16 & 255] ^ tables.t[0][b >> 24];
    }
    for (; length; p++, length--)
        crc = tables.t[0][(crc ^ *p) & 255] ^ crc >> 8;
    return crc;
}

uint64_t mos_content_sum(uint64_t sum, const void *bytes, size_t length) {
    assert(bytes || !length);
    const uint8_t *p = bytes;
    uint64_t lanes[4] = {sum ^ 0x9e3779b97f4a7c15u, sum + 0x7f4a7c159e3779b9u, ~sum, sum * 3 + 1};
    size_t left = length;
    for (; left >= 32; p += 32, left -= 32)
        for (int i = 0; i < 4; i++) { /* four chains, so that multiplications overlap */
            lanes[i] = (lanes[i] ^ mos_le64(p + 8 * i)) * 0xff51afd7ed558ccdu;
            lanes[i] ^= lanes[i] >> 32;
        }
    uint64_t h = (uint64_t)length * 0xc4ceb9fe1a85ec53u;
    for (; left; p++, left--)
        h = (h ^ *p) * 0x100000001b3u;
    for (int i = 0; i < 4; i++) {
        h = (h ^ lanes[i]) * 0xc4ceb9fe1a85ec53u;
        h ^= h >> 29;
    }
    return h;
}

void mos_uuid_from_name(const char *name, uint8_t out[16]) {
    /* the name space of all derived identities; chosen once, never to change */
    static const uint8_t space[16] = {0x5d, 0x1c, 0x0b, 0x9e, 0x7a, 0x42, 0x4f, 0x1d,
                                      0x9b, 0x63, 0x2e, 0x80, 0xa4, 0xd7, 0x16, 0xc3};
    uuid_generate_sha1(out, space, name, strlen(name));
}

void mos_uuid_text(const uint8_t uuid[16], char text[37]) {
    uuid_unparse_lower(uuid, text);
}

bool mos_uuid_parse(const char *text, uint8_t out[16]) {
    return uuid_parse(text, out) == 0;
}
