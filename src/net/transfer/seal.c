/* Keys, signatures and encryption of Web Push, by libcrypto: RFC 8291 (with RFC 8188) and
 * RFC 8292. */
#include <openssl/bn.h>
#include <openssl/core_names.h>
#include <openssl/ec.h>
#include <openssl/evp.h>
#include <openssl/kdf.h>
#include <openssl/pem.h>
#include <openssl/rand.h>
#include <stdlib.h>
#include <string.h>

#include "wire.h"

enum {
    POINT = 65,  /* bytes of a public key of P-256, uncompressed */
    SHARED = 32, /* of what two keys agree on */
    SECRET = 16, /* of a phone, for authentication */
    KEY = 16,    /* of AES-128 */
    NONCE = 12,
    TAG = 16,
    RECORD = 4096, /* a message is one record */
    HEAD = TWI_PUSH_SALT + 4 + 1 + POINT,
    LAST = 2, /* what ends the last record */
    HALF = 32 /* of a signature */
};

/* ---- base64url --------------------------------------------------------------------- */

/* @param out  Room for 4 * (bytes + 2) / 3 + 1. */
static void encode(const uint8_t *data, size_t bytes, char *out)
{
    (void)EVP_EncodeBlock((unsigned char *)out, data, (int)bytes);
    for (char *c = out; *c; c++)
        *c = (char)(*c == '+' ? '-' : *c == '/' ? '_' : *c == '=' ? '\0' : *c);
}

/* @return whether the text is so many bytes. */
static bool decode(const char *text, uint8_t *out, size_t bytes)
{
    char padded[128];
    uint8_t all[96];
    const size_t n = strlen(text), length = strcspn(text, "="),
                 wanted = (4 * bytes + 2) / 3;
    if (length != wanted || n > wanted + 2 || wanted + 4 > sizeof padded)
        return false;
    for (size_t i = 0; i < length; i++)
        padded[i] = (char)(text[i] == '-' ? '+' : text[i] == '_' ? '/' : text[i]);
    memset(padded + length, '=', 3);
    const size_t whole = (length + 3) / 4 * 4;
    padded[whole] = '\0';
    if (EVP_DecodeBlock(all, (const unsigned char *)padded, (int)whole) < (int)bytes)
        return false;
    memcpy(out, all, bytes);
    return true;
}

/* ---- keys -------------------------------------------------------------------------- */

static EVP_PKEY *read_key(const char *pem)
{
    BIO *bio = BIO_new_mem_buf(pem, -1);
    EVP_PKEY *key = bio ? PEM_read_bio_PrivateKey(bio, NULL, NULL, NULL) : NULL;
    (void)BIO_free(bio);
    return key;
}

tw_status push_key_new(char pem[TWI_PUSH_KEY_BYTES], tw_error *err)
{
    BIO *bio = BIO_new(BIO_s_mem());
    EVP_PKEY *key = EVP_EC_gen("P-256");
    int n = 0;
    if (bio && key && PEM_write_bio_PrivateKey(bio, key, NULL, NULL, 0, NULL, NULL) == 1)
        n = BIO_read(bio, pem, TWI_PUSH_KEY_BYTES - 1);
    pem[n > 0 ? n : 0] = '\0';
    EVP_PKEY_free(key);
    (void)BIO_free(bio);
    return n > 0 ? TW_OK : tw_fail(err, TW_ENOMEM, "no key can be made");
}

static bool point_of(const EVP_PKEY *key, uint8_t out[POINT])
{
    unsigned char *point = NULL;
    /* NOLINTNEXTLINE: the library does not change it */
    const bool good = EVP_PKEY_get1_encoded_public_key((EVP_PKEY *)key, &point) == POINT;
    if (good)
        memcpy(out, point, POINT);
    OPENSSL_free(point);
    return good;
}

tw_status push_key_public(const char *pem, char out[TWI_PUSH_PUBLIC], tw_error *err)
{
    uint8_t point[POINT];
    char text[4 * (POINT + 2) / 3 + 1];
    EVP_PKEY *key = read_key(pem);
    const bool good = key && point_of(key, point);
    if (good) {
        encode(point, POINT, text);
        (void)snprintf(out, TWI_PUSH_PUBLIC, "%s", text);
    }
    EVP_PKEY_free(key);
    return good ? TW_OK : tw_fail(err, TW_EDAMAGED, "it is no key of P-256");
}

/* The public key of another, of which the library sees that it is on the curve. */
static EVP_PKEY *key_of_point(uint8_t point[POINT])
{
    char curve[] = "prime256v1";
    OSSL_PARAM params[] = {
        OSSL_PARAM_construct_utf8_string(OSSL_PKEY_PARAM_GROUP_NAME, curve, 0),
        OSSL_PARAM_construct_octet_string(OSSL_PKEY_PARAM_PUB_KEY, point, POINT),
        OSSL_PARAM_construct_end()};
    EVP_PKEY *key = NULL;
    EVP_PKEY_CTX *ctx = EVP_PKEY_CTX_new_from_name(NULL, "EC", NULL);
    if (!ctx || EVP_PKEY_fromdata_init(ctx) != 1 ||
        EVP_PKEY_fromdata(ctx, &key, EVP_PKEY_PUBLIC_KEY, params) != 1)
        key = NULL;
    EVP_PKEY_CTX_free(ctx);
    return key;
}

static bool agree(EVP_PKEY *ours, EVP_PKEY *theirs, uint8_t out[SHARED])
{
    size_t bytes = SHARED;
    EVP_PKEY_CTX *ctx = EVP_PKEY_CTX_new(ours, NULL);
    const bool good = ctx && EVP_PKEY_derive_init(ctx) == 1 &&
                      EVP_PKEY_derive_set_peer(ctx, theirs) == 1 &&
                      EVP_PKEY_derive(ctx, out, &bytes) == 1 && bytes == SHARED;
    EVP_PKEY_CTX_free(ctx);
    return good;
}

/* ---- encryption -------------------------------------------------------------------- */

/* Bytes that are borrowed. */
typedef struct span {
    void *data;
    size_t bytes;
} span;

/* HKDF with SHA-256 (RFC 5869), both steps. */
static bool stretch(span salt, span secret, span info, uint8_t *out, size_t bytes)
{
    char digest[] = "SHA256";
    OSSL_PARAM params[] = {
        OSSL_PARAM_construct_utf8_string(OSSL_KDF_PARAM_DIGEST, digest, 0),
        OSSL_PARAM_construct_octet_string(OSSL_KDF_PARAM_KEY, secret.data, secret.bytes),
        OSSL_PARAM_construct_octet_string(OSSL_KDF_PARAM_SALT, salt.data, salt.bytes),
        OSSL_PARAM_construct_octet_string(OSSL_KDF_PARAM_INFO, info.data, info.bytes),
        OSSL_PARAM_construct_end()};
    EVP_KDF *kdf = EVP_KDF_fetch(NULL, "HKDF", NULL);
    EVP_KDF_CTX *ctx = kdf ? EVP_KDF_CTX_new(kdf) : NULL;
    const bool good = ctx && EVP_KDF_derive(ctx, out, bytes, params) == 1;
    EVP_KDF_CTX_free(ctx);
    EVP_KDF_free(kdf);
    return good;
}

/* A phone, and the pair of keys of one message. */
typedef struct sealing {
    uint8_t salt[TWI_PUSH_SALT];
    uint8_t phone[POINT], ours[POINT], secret[SECRET];
    uint8_t shared[SHARED];
    uint8_t key[KEY], nonce[NONCE];
} sealing;

/* RFC 8291, 3.4. */
static bool derive_keys(sealing *s)
{
    char words[] = "WebPush: info", key[] = "Content-Encoding: aes128gcm",
         nonce[] = "Content-Encoding: nonce";
    uint8_t info[sizeof words + 2 * POINT], material[SHARED];
    const span salt = {s->salt, sizeof s->salt}, mixed = {material, sizeof material};
    memcpy(info, words, sizeof words); /* with its 0 */
    memcpy(info + sizeof words, s->phone, POINT);
    memcpy(info + sizeof words + POINT, s->ours, POINT);
    return stretch((span){s->secret, SECRET}, (span){s->shared, SHARED},
                   (span){info, sizeof info}, material, sizeof material) &&
           stretch(salt, mixed, (span){key, sizeof key}, s->key, KEY) &&
           stretch(salt, mixed, (span){nonce, sizeof nonce}, s->nonce, NONCE);
}

/* AES-128-GCM over the message and what ends it. @param out  bytes + 1 + TAG. */
static bool encrypt(const sealing *s, const void *data, size_t bytes, uint8_t *out)
{
    const uint8_t last = LAST;
    int n = 0, more = 0, rest = 0;
    EVP_CIPHER_CTX *ctx = EVP_CIPHER_CTX_new();
    const bool good =
        ctx && EVP_EncryptInit_ex(ctx, EVP_aes_128_gcm(), NULL, s->key, s->nonce) == 1 &&
        EVP_EncryptUpdate(ctx, out, &n, data, (int)bytes) == 1 &&
        EVP_EncryptUpdate(ctx, out + n, &more, &last, 1) == 1 &&
        EVP_EncryptFinal_ex(ctx, out + n + more, &rest) == 1 &&
        EVP_CIPHER_CTX_ctrl(ctx, EVP_CTRL_AEAD_GET_TAG, TAG, out + bytes + 1) == 1;
    EVP_CIPHER_CTX_free(ctx);
    return good;
}

/* RFC 8188, 2.1: salt, size of a record, key. */
static void put_head(const sealing *s, uint8_t out[HEAD])
{
    memcpy(out, s->salt, TWI_PUSH_SALT);
    out[TWI_PUSH_SALT] = 0;
    out[TWI_PUSH_SALT + 1] = 0;
    out[TWI_PUSH_SALT + 2] = RECORD >> 8;
    out[TWI_PUSH_SALT + 3] = RECORD & 0xFF;
    out[TWI_PUSH_SALT + 4] = POINT;
    memcpy(out + TWI_PUSH_SALT + 5, s->ours, POINT);
}

/* A secret that both have, and only they. */
static bool share_secret(sealing *s, const char *pem)
{
    EVP_PKEY *ours = pem ? read_key(pem) : EVP_EC_gen("P-256");
    EVP_PKEY *theirs = key_of_point(s->phone);
    const bool good =
        ours && theirs && point_of(ours, s->ours) && agree(ours, theirs, s->shared);
    EVP_PKEY_free(ours);
    EVP_PKEY_free(theirs);
    return good;
}

tw_status push_seal(const twi_push_phone *phone, const void *data, size_t bytes,
                    const uint8_t salt[TWI_PUSH_SALT], const char *pem,
                    uint8_t out[TWI_PUSH_SEALED], size_t *out_bytes, tw_error *err)
{
    sealing s;
    if (bytes > TWI_PUSH_MOST)
        return tw_fail(err, TW_ESIZE, "a message has at most %d bytes", TWI_PUSH_MOST);
    if (!decode(phone->key, s.phone, POINT) || !decode(phone->secret, s.secret, SECRET))
        return tw_fail(err, TW_EINVAL, "these are no keys of a browser");
    if (salt)
        memcpy(s.salt, salt, sizeof s.salt);
    const bool good = (salt || RAND_bytes(s.salt, sizeof s.salt) == 1) &&
                      share_secret(&s, pem) && derive_keys(&s) &&
                      encrypt(&s, data, bytes, out + HEAD);
    if (good)
        put_head(&s, out);
    *out_bytes = good ? HEAD + bytes + 1 + TAG : 0;
    OPENSSL_cleanse(&s, sizeof s);
    return good ? TW_OK : tw_fail(err, TW_EINVAL, "nothing can be encrypted for it");
}

/* ---- signing ----------------------------------------------------------------------- */

/* Of DER the two numbers, side by side. */
static bool take_halves(const unsigned char *der, size_t bytes, uint8_t out[2 * HALF])
{
    ECDSA_SIG *pair = d2i_ECDSA_SIG(NULL, &der, (long)bytes);
    const bool good = pair && BN_bn2binpad(ECDSA_SIG_get0_r(pair), out, HALF) == HALF &&
                      BN_bn2binpad(ECDSA_SIG_get0_s(pair), out + HALF, HALF) == HALF;
    ECDSA_SIG_free(pair);
    return good;
}

static bool sign(EVP_PKEY *key, const char *text, uint8_t out[2 * HALF])
{
    unsigned char der[128];
    size_t bytes = sizeof der;
    EVP_MD_CTX *ctx = EVP_MD_CTX_new();
    const bool good =
        ctx && EVP_DigestSignInit(ctx, NULL, EVP_sha256(), NULL, key) == 1 &&
        EVP_DigestSign(ctx, der, &bytes, (const unsigned char *)text, strlen(text)) ==
            1 &&
        take_halves(der, bytes, out);
    EVP_MD_CTX_free(ctx);
    return good;
}

/* In base64url, with what ends it. @return past that. */
static char *add_part(const uint8_t *data, size_t bytes, char end, char *out)
{
    encode(data, bytes, out);
    char *at = out + strlen(out);
    *at++ = end;
    return at;
}

char *push_sign(const char *pem, const char *claims)
{
    static const char HEADER[] = "{\"typ\":\"JWT\",\"alg\":\"ES256\"}";
    const size_t room = (sizeof HEADER + strlen(claims)) * 4 / 3 + 128;
    char *out = malloc(room);
    uint8_t both[2 * HALF] = {0};
    EVP_PKEY *key = read_key(pem);
    bool good = out && key;
    if (good) {
        char *at = add_part((const uint8_t *)HEADER, sizeof HEADER - 1, '.', out);
        at = add_part((const uint8_t *)claims, strlen(claims), '\0', at);
        good = sign(key, out, both);
        at[-1] = '.';
        (void)add_part(both, sizeof both, '\0', at);
    }
    if (!good) {
        free(out);
        out = NULL;
    }
    EVP_PKEY_free(key);
    return out;
}
