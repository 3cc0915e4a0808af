/* Keys of parcels: RSA by libcrypto, in the form that the loader reads. */
#include "boot/parcel.h"

#include "base/bytes.h"

#include <openssl/bn.h>
#include <openssl/core_names.h>
#include <openssl/evp.h>
#include <openssl/pem.h>
#include <string.h>

enum { LEAST_BITS = 2048, MOST_BITS = 4096 };

/* The DER header of a SHA-256 digest in PKCS#1 v1.5 (RFC 8017, section 9.2, note 1). */
static const uint8_t digest_header[] = {0x30, 0x31, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01,
                                        0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20};

/* ---- verifying ---- */

/* EMSA-PKCS1-v1_5: 00 01 ff … ff 00, header, digest. */
static bool padded_right(const uint8_t *block, size_t length, const uint8_t digest[32]) {
    size_t tail = sizeof digest_header + 32, fill = length - tail - 3;
    if (length < tail + 11 || block[0] || block[1] != 1 || block[length - tail - 1])
        return false;
    for (size_t i = 0; i < fill; i++)
        if (block[2 + i] != 0xff)
            return false;
    return memcmp(block + length - tail, digest_header, sizeof digest_header) == 0 &&
           memcmp(block + length - 32, digest, 32) == 0;
}

bool mos_parcel_signed_by(const struct mos_dt_node *key, const uint8_t digest[32],
                          const uint8_t *value, size_t length) {
    const struct mos_dt_property *modulus = mos_dt_property(key, "rsa,modulus");
    const struct mos_dt_property *exponent = mos_dt_property(key, "rsa,exponent");
    uint8_t block[MOST_BITS / 8];
    if (!modulus || modulus->length != length || length < LEAST_BITS / 8 || length > sizeof block ||
        (exponent && exponent->length != 8))
        return false;
    BN_CTX *ctx = BN_CTX_new();
    BIGNUM *n = BN_bin2bn(modulus->data, (int)modulus->length, NULL);
    BIGNUM *e = BN_new(), *s = BN_bin2bn(value, (int)length, NULL), *r = BN_new();
    bool good = ctx && n && e && s && r && BN_is_odd(n) && BN_cmp(s, n) < 0 &&
                (exponent ? BN_bin2bn(exponent->data, 8, e) != NULL : BN_set_word(e, 65537)) &&
                !BN_is_zero(e) && BN_mod_exp(r, s, e, n, ctx) &&
                BN_bn2binpad(r, block, (int)length) == (int)length &&
                padded_right(block, length, digest);
    BN_free(n);
    BN_free(e);
    BN_free(s);
    BN_free(r);
    BN_CTX_free(ctx);
    return good;
}

/* ---- signing ---- */

struct pem_signer {
    struct mos_signer signer;
    struct mos_ctx *ctx;
    EVP_PKEY *key;
};

static bool sign(void *self, const uint8_t digest[32], uint8_t *out) {
    struct pem_signer *p = self;
    size_t length = p->signer.bits / 8;
    EVP_PKEY_CTX *c = EVP_PKEY_CTX_new(p->key, NULL);
    bool good = c && EVP_PKEY_sign_init(c) > 0 &&
                EVP_PKEY_CTX_set_rsa_padding(c, RSA_PKCS1_PADDING) > 0 &&
                EVP_PKEY_CTX_set_signature_md(c, EVP_sha256()) > 0 &&
                EVP_PKEY_sign(c, out, &length, digest, 32) > 0;
    EVP_PKEY_CTX_free(c);
    return good || mos_fail(p->ctx->error, MOS_ERROR_SYSTEM, 0, "The key %s cannot sign",
                            p->signer.key_name);
}

static char no_password[1]; /* an empty one: nobody is asked */

static EVP_PKEY *read_key(const char *pem, size_t length, bool private) {
    BIO *b = BIO_new_mem_buf(pem, (int)mos_min(length, 1 << 20));
    EVP_PKEY *k = b ? PEM_read_bio_PrivateKey(b, NULL, NULL, no_password) : NULL;
    BIO_free(b);
    if (!k && !private) {
        b = BIO_new_mem_buf(pem, (int)mos_min(length, 1 << 20));
        k = b ? PEM_read_bio_PUBKEY(b, NULL, NULL, no_password) : NULL;
        BIO_free(b);
    }
    int bits = k && EVP_PKEY_is_a(k, "RSA") ? EVP_PKEY_get_bits(k) : 0;
    if (bits != 2048 && bits != 3072 && bits != 4096) {
        EVP_PKEY_free(k);
        return NULL;
    }
    return k;
}

struct mos_signer *mos_signer_from_pem(struct mos_ctx *ctx, const char *name, const char *pem,
                                       size_t length, const char **problem) {
    EVP_PKEY *k = read_key(pem, length, true);
    *problem = "it is no private RSA key of 2048, 3072 or 4096 bits without a pass phrase";
    if (!k)
        return NULL;
    struct pem_signer *p = mos_alloc(ctx->arena, sizeof *p);
    *p = (struct pem_signer){.signer = {.key_name = name, .sign = sign}, .ctx = ctx, .key = k};
    p->signer.self = p;
    p->signer.bits = (unsigned)EVP_PKEY_get_bits(k);
    return &p->signer;
}

void mos_signer_free(struct mos_signer *signer) {
    if (signer && signer->sign == sign)
        EVP_PKEY_free(((struct pem_signer *)signer->self)->key);
}

/* ---- the public key in the loader's tree ---- */

static void set_number(struct mos_dt *dt, struct mos_dt_node *n, const char *name, uint64_t value,
                       size_t bytes) {
    uint8_t b[8];
    mos_put_be64(b, value);
    mos_dt_set_copy(dt, n, name, b + 8 - bytes, bytes);
}

/* R² mod n with R = 2^bits, and -1/n mod 2^32: what the loader multiplies with. */
static bool add_numbers(struct mos_dt *dt, struct mos_dt_node *node, const BIGNUM *n,
                        const BIGNUM *e, unsigned bits) {
    uint8_t bytes[MOST_BITS / 8];
    BN_CTX *ctx = BN_CTX_new();
    BIGNUM *r = BN_new();
    bool good = ctx && r && BN_set_word(r, 1) && BN_lshift(r, r, (int)(2 * bits)) &&
                BN_mod(r, r, n, ctx) && BN_bn2binpad(n, bytes, (int)(bits / 8)) > 0;
    if (good) {
        uint32_t low = mos_be32(bytes + bits / 8 - 4), inverse = 1;
        for (int i = 0; i < 5; i++) /* Newton: each step doubles the right bits */
            inverse *= 2 - low * inverse;
        set_number(dt, node, "rsa,num-bits", bits, 4);
        set_number(dt, node, "rsa,n0-inverse", 0 - inverse, 4);
        set_number(dt, node, "rsa,exponent", BN_get_word(e), 8);
        mos_dt_set_copy(dt, node, "rsa,modulus", bytes, bits / 8);
        good = BN_bn2binpad(r, bytes, (int)(bits / 8)) > 0;
        mos_dt_set_copy(dt, node, "rsa,r-squared", bytes, bits / 8);
    }
    BN_free(r);
    BN_CTX_free(ctx);
    return good;
}

bool mos_parcel_add_key(struct mos_ctx *ctx, struct mos_dt *dt, const char *name, const char *pem,
                        size_t length, const char **problem) {
    EVP_PKEY *k = read_key(pem, length, false);
    BIGNUM *n = NULL, *e = NULL;
    *problem = "it is no RSA key of 2048, 3072 or 4096 bits";
    if (!k)
        return false;
    unsigned bits = (unsigned)EVP_PKEY_get_bits(k);
    struct mos_dt_node *all = mos_dt_child(dt->root, "signature");
    if (!all)
        all = mos_dt_add_node(dt, dt->root, "signature");
    struct mos_dt_node *node = mos_dt_add_node(dt, all, mos_printf(ctx->arena, "key-%s", name));
    mos_dt_set_text(dt, node, "required", "conf");
    mos_dt_set_text(dt, node, "algo", mos_printf(ctx->arena, "sha256,rsa%u", bits));
    mos_dt_set_text(dt, node, "key-name-hint", name);
    bool good = EVP_PKEY_get_bn_param(k, OSSL_PKEY_PARAM_RSA_N, &n) > 0 &&
                EVP_PKEY_get_bn_param(k, OSSL_PKEY_PARAM_RSA_E, &e) > 0 &&
                add_numbers(dt, node, n, e, bits);
    BN_free(n);
    BN_free(e);
    EVP_PKEY_free(k);
    return good;
}
