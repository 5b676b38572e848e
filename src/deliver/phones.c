/* Phones that want to be told: their file. */
#include "phones.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <unistd.h>

#include "../base/sync.h"
#include "../base/system_error.h"

void twi_phones_path(const char *accounts_file, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "%s.phones", accounts_file);
}

/* ---- reading ---------------------------------------------------------------------- */

/* @return false: it is missing, or too long. */
static bool take_text(const json_t *o, const char *key, char *out, size_t capacity)
{
    const char *text = json_string_value(json_object_get(o, key));
    return text && snprintf(out, capacity, "%s", text) < (int)capacity;
}

static bool take_phone(const json_t *o, twi_phone *out)
{
    out->number = json_integer_value(json_object_get(o, "number"));
    out->since_us = json_integer_value(json_object_get(o, "since")) * 1000000;
    return out->number > 0 &&
           take_text(o, "account", out->account, sizeof out->account) &&
           take_text(o, "name", out->name, sizeof out->name) &&
           take_text(o, "endpoint", out->endpoint, sizeof out->endpoint) &&
           take_text(o, "key", out->key, sizeof out->key) &&
           take_text(o, "secret", out->secret, sizeof out->secret);
}

static bool take_all(const json_t *o, twi_phones *out)
{
    const json_t *list = json_object_get(o, "phones");
    bool good = json_array_size(list) <= TWI_PHONES_MAX &&
                take_text(o, "key", out->key, sizeof out->key);
    out->last = json_integer_value(json_object_get(o, "last"));
    for (size_t i = 0; good && i < json_array_size(list); i++)
        good = take_phone(json_array_get(list, i), &out->all[out->count++]);
    return good;
}

static tw_status read_open(FILE *file, const char *path, twi_phones *out, tw_error *err)
{
    json_error_t fault;
    const tw_status st = twi_check_private(fileno(file), path, err);
    if (st != TW_OK)
        return st;
    json_t *o = json_loadf(file, JSON_REJECT_DUPLICATES, &fault);
    const bool good = o && take_all(o, out);
    const int line = o ? 1 : fault.line;
    json_decref(o);
    return good ? TW_OK
                : tw_fail(err, TW_EDAMAGED,
                          "%s:%d: these are no phones: mend the file, or remove it, and "
                          "tell each phone anew",
                          path, line);
}

tw_status twi_phones_read(const char *accounts_file, twi_phones *out, tw_error *err)
{
    char path[PATH_MAX];
    memset(out, 0, sizeof *out);
    twi_phones_path(accounts_file, path, sizeof path);
    FILE *file = fopen(path, "re");
    if (!file && errno == ENOENT)
        return TW_OK;
    if (!file)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    const tw_status st = read_open(file, path, out, err);
    (void)fclose(file);
    return st;
}

/* ---- writing ---------------------------------------------------------------------- */

static tw_status write_all(const char *accounts_file, const twi_phones *all,
                           tw_error *err)
{
    char path[PATH_MAX];
    json_t *list = json_array();
    for (size_t i = 0; i < all->count; i++) {
        const twi_phone *p = &all->all[i];
        (void)json_array_append_new(
            list, json_pack("{sI sI ss ss ss ss ss}", "number", (json_int_t)p->number,
                            "since", (json_int_t)(p->since_us / 1000000), "account",
                            p->account, "name", p->name, "endpoint", p->endpoint, "key",
                            p->key, "secret", p->secret));
    }
    json_t *o = json_pack("{ss sI so}", "key", all->key, "last", (json_int_t)all->last,
                          "phones", list);
    char *text = json_dumps(o, JSON_INDENT(1));
    twi_phones_path(accounts_file, path, sizeof path);
    const tw_status st =
        text && json_array_size(json_object_get(o, "phones")) == all->count
            ? twi_write_private(path, text, err)
            : tw_fail(err, TW_ENOMEM, "out of memory");
    free(text);
    json_decref(o);
    return st;
}

/* What is changed. @return TW_OK: it is written; TW_EEXIST: it is so already. */
typedef tw_status (*change_fn)(twi_phones *all, void *ctx, tw_error *err);

/* One after another, whichever program does it. */
static tw_status change(const char *accounts_file, change_fn edit, void *ctx,
                        tw_error *err)
{
    char path[PATH_MAX];
    twi_phones *all = malloc(sizeof *all);
    if (!all)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)snprintf(path, sizeof path, "%s.phones.lock", accounts_file);
    const int lock = open(path, O_RDWR | O_CREAT | O_CLOEXEC, 0600);
    tw_status st = TW_OK;
    if (lock < 0 || flock(lock, LOCK_EX) != 0)
        st = tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    if (st == TW_OK)
        st = twi_phones_read(accounts_file, all, err);
    if (st == TW_OK)
        st = edit(all, ctx, err);
    if (st == TW_OK)
        st = write_all(accounts_file, all, err);
    if (lock >= 0)
        (void)close(lock);
    free(all);
    return st == TW_EEXIST ? TW_OK : st;
}

typedef struct readying {
    const twi_transfer *transfer;
    twi_phones *out;
} readying;

static tw_status ready(twi_phones *all, void *ctx, tw_error *err)
{
    const readying *r = ctx;
    const bool there = all->key[0] != '\0';
    const tw_status st = there ? TW_EEXIST : r->transfer->push_key_new(all->key, err);
    *r->out = *all;
    return st;
}

tw_status twi_phones_ready(const char *accounts_file, const twi_transfer *transfer,
                           twi_phones *out, tw_error *err)
{
    readying r = {transfer, out};
    return change(accounts_file, ready, &r, err);
}

/* Where a phone goes: in the place of the one of the same address, of its account's
 * oldest where that has too many, else behind all. */
static size_t place_for(const twi_phones *all, const twi_phone *phone)
{
    size_t of_one = 0, oldest = all->count;
    for (size_t i = 0; i < all->count; i++) {
        const twi_phone *p = &all->all[i];
        if (strcmp(p->endpoint, phone->endpoint) == 0)
            return i;
        if (strcmp(p->account, phone->account) != 0)
            continue;
        of_one++;
        if (oldest == all->count || p->number < all->all[oldest].number)
            oldest = i;
    }
    return of_one >= TWI_PHONES_OF_ONE ? oldest : all->count;
}

static tw_status add(twi_phones *all, void *ctx, tw_error *err)
{
    twi_phone *phone = ctx;
    const size_t i = place_for(all, phone);
    if (i == TWI_PHONES_MAX)
        return tw_fail(err, TW_ESIZE, "there are %d phones already", TWI_PHONES_MAX);
    phone->number = ++all->last;
    all->all[i] = *phone;
    all->count += i == all->count;
    return TW_OK;
}

tw_status twi_phone_add(const char *accounts_file, twi_phone *phone, tw_error *err)
{
    if (strncmp(phone->endpoint, "https://", 8) != 0 || !phone->key[0] ||
        !phone->secret[0])
        return tw_fail(err, TW_EINVAL, "this is no phone");
    return change(accounts_file, add, phone, err);
}

typedef struct forgetting {
    const char *account; /* NULL: anybody's */
    int64_t number;      /* 0: all */
    bool found;
} forgetting;

static tw_status forget(twi_phones *all, void *ctx, tw_error *err)
{
    forgetting *f = ctx;
    size_t kept = 0;
    (void)err;
    for (size_t i = 0; i < all->count; i++) {
        const twi_phone *p = &all->all[i];
        const bool goes = (f->number == 0 || p->number == f->number) &&
                          (!f->account || strcmp(p->account, f->account) == 0);
        f->found = f->found || goes;
        if (!goes)
            all->all[kept++] = *p;
    }
    all->count = kept;
    return f->found ? TW_OK : TW_EEXIST;
}

tw_status twi_phone_forget(const char *accounts_file, const char *account, int64_t number,
                           tw_error *err)
{
    forgetting f = {account, number, false};
    if (number <= 0)
        return tw_fail(err, TW_ENOENT, "there is no such phone");
    const tw_status st = change(accounts_file, forget, &f, err);
    return st == TW_OK && !f.found
               ? tw_fail(err, TW_ENOENT, "there is no phone %lld", (long long)number)
               : st;
}

tw_status twi_phones_forget_account(const char *accounts_file, const char *account,
                                    tw_error *err)
{
    char path[PATH_MAX];
    forgetting f = {account, 0, false};
    twi_phones_path(accounts_file, path, sizeof path);
    return access(path, F_OK) == 0 ? change(accounts_file, forget, &f, err) : TW_OK;
}
