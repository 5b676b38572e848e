/* Phones that want to be told: a file beside that of the accounts, which its owner alone
 * may read. It holds the key that stands for the station at push services, too. */
#ifndef TWI_PHONES_H
#define TWI_PHONES_H

#include "../net/transfer.h"
#include "tawny/error.h"

enum {
    TWI_PHONES_MAX = 64,
    TWI_PHONES_OF_ONE = 8, /* of an account; its oldest goes for a new one */
    TWI_PHONE_NAME = 64,
    TWI_PHONE_ENDPOINT = 1024,
    TWI_PHONE_KEY = 96,
    TWI_PHONE_SECRET = 32
};

typedef struct twi_phone {
    int64_t number, since_us; /* since when it wants to be told, by the wall */
    char account[64];         /* whose it is; "": there were no accounts */
    char name[TWI_PHONE_NAME];
    char endpoint[TWI_PHONE_ENDPOINT], key[TWI_PHONE_KEY], secret[TWI_PHONE_SECRET];
} twi_phone;

typedef struct twi_phones {
    char key[TWI_PUSH_KEY_BYTES]; /* PEM; "": none yet */
    twi_phone all[TWI_PHONES_MAX];
    size_t count;
    int64_t last; /* number that was given */
} twi_phones;

/** Where they are kept. */
void twi_phones_path(const char *accounts_file, char *out, size_t capacity);

/** @return TW_OK, also where there is no file; else err says what is wrong with it. */
tw_status twi_phones_read(const char *accounts_file, twi_phones *out, tw_error *err);

/** As above, with the station's key, which is made if there is none yet. */
tw_status twi_phones_ready(const char *accounts_file, const twi_transfer *transfer,
                           twi_phones *out, tw_error *err);

/** Keep a phone; its number is given. One of the same address is replaced.
 * @return TW_OK; TW_ESIZE: there are too many in all; TW_EINVAL: it is none. */
tw_status twi_phone_add(const char *accounts_file, twi_phone *phone, tw_error *err);

/** @param account  Whose phones alone may go; NULL: anybody's.
 * @return TW_OK; TW_ENOENT: there is no such phone. */
tw_status twi_phone_forget(const char *accounts_file, const char *account, int64_t number,
                           tw_error *err);

/** All of an account's. */
tw_status twi_phones_forget_account(const char *accounts_file, const char *account,
                                    tw_error *err);

#endif
