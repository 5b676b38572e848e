/* Signatures of what goes by brokers: Ed25519, by libsodium. Keys are texts. */
#include <sodium.h>
#include <string.h>

#include "wire.h"

enum { VARIANT = sodium_base64_VARIANT_ORIGINAL, DIGEST_BYTES = 8 };

/* @return false: it is no text of so many bytes. */
static bool read_text(const char *text, unsigned char *out, size_t bytes)
{
    size_t got = 0;
    const char *end = NULL;
    return sodium_base642bin(out, bytes, text, strlen(text), NULL, &got, &end, VARIANT) ==
               0 &&
           got == bytes && *end == '\0';
}

static void write_text(const unsigned char *from, size_t bytes, char *out,
                       size_t capacity)
{
    (void)sodium_bin2base64(out, capacity, from, bytes, VARIANT);
}

bool broker_make_key(char secret[TWI_KEY_TEXT])
{
    unsigned char seed[crypto_sign_SEEDBYTES];
    if (sodium_init() < 0)
        return false;
    randombytes_buf(seed, sizeof seed);
    write_text(seed, sizeof seed, secret, TWI_KEY_TEXT);
    sodium_memzero(seed, sizeof seed);
    return true;
}

/* @param whole  Wipe it. @return false: the text is no key. */
static bool open_key(const char *secret, unsigned char open[crypto_sign_PUBLICKEYBYTES],
                     unsigned char whole[crypto_sign_SECRETKEYBYTES])
{
    unsigned char seed[crypto_sign_SEEDBYTES];
    const bool good = sodium_init() >= 0 && read_text(secret, seed, sizeof seed) &&
                      crypto_sign_seed_keypair(open, whole, seed) == 0;
    sodium_memzero(seed, sizeof seed);
    return good;
}

bool broker_open_key(const char *secret, char out[TWI_KEY_TEXT])
{
    unsigned char open[crypto_sign_PUBLICKEYBYTES], whole[crypto_sign_SECRETKEYBYTES];
    const bool good = open_key(secret, open, whole);
    if (good)
        write_text(open, sizeof open, out, TWI_KEY_TEXT);
    sodium_memzero(whole, sizeof whole);
    return good;
}

bool broker_sign(const char *secret, const char *text, char out[TWI_SIGNATURE_TEXT])
{
    unsigned char open[crypto_sign_PUBLICKEYBYTES], whole[crypto_sign_SECRETKEYBYTES],
        made[crypto_sign_BYTES];
    const bool good = open_key(secret, open, whole) &&
                      crypto_sign_detached(made, NULL, (const unsigned char *)text,
                                           strlen(text), whole) == 0;
    if (good)
        write_text(made, sizeof made, out, TWI_SIGNATURE_TEXT);
    sodium_memzero(whole, sizeof whole);
    return good;
}

bool broker_verify(const char *key, const char *text, const char *signature)
{
    unsigned char open[crypto_sign_PUBLICKEYBYTES], made[crypto_sign_BYTES];
    return sodium_init() >= 0 && read_text(key, open, sizeof open) &&
           read_text(signature, made, sizeof made) &&
           crypto_sign_verify_detached(made, (const unsigned char *)text, strlen(text),
                                       open) == 0;
}

void broker_digest(const char *text, char out[TWI_DIGEST_TEXT])
{
    unsigned char made[crypto_generichash_BYTES_MIN];
    out[0] = '\0';
    if (sodium_init() >= 0 &&
        crypto_generichash(made, sizeof made, (const unsigned char *)text, strlen(text),
                           NULL, 0) == 0)
        (void)sodium_bin2hex(out, TWI_DIGEST_TEXT, made, DIGEST_BYTES);
}
