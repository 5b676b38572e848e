/* Accounts: a file of names, rights and hashes. */
#include <ctype.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../base/sync.h"
#include "../deliver/phones.h"
#include "page_state.h"
#include "../base/system_error.h"

static const char HEAD[] = "# Accounts of a tawny station: name, what it may, hash. "
                           "Written by tawny account.\n";

static bool good_name(const char *name)
{
    const size_t n = strlen(name);
    if (n == 0 || n >= TWI_ACCOUNT_NAME_MAX)
        return false;
    return strspn(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_"
                        ".") == n;
}

static const char *word_may(twi_may may)
{
    return may == TWI_MAY_RUN ? "run" : "look";
}

/* ---- reading ---------------------------------------------------------------------- */

/* Names of cameras with one blank between. @return false: they are none, or too many. */
static bool read_cameras(const char *text, char out[TWI_ACCOUNT_CAMERAS_MAX])
{
    size_t n = 0;
    while (*(text += strspn(text, " "))) {
        const size_t length = strcspn(text, " ");
        if (n + length + 2 > TWI_ACCOUNT_CAMERAS_MAX)
            return false;
        for (size_t i = 0; i < length; i++)
            if (!isalnum((unsigned char)text[i]) && text[i] != '-' && text[i] != '_')
                return false;
        if (n > 0)
            out[n++] = ' ';
        memcpy(out + n, text, length);
        n += length;
        text += length;
    }
    out[n] = '\0';
    return true;
}

/* One line, "ann run HASH", or "bob look HASH kerb mere".
 * @return false: it is none of ours. */
static bool read_line(char *line, accounts *out)
{
    account a = {.may = TWI_MAY_LOOK};
    char may[8];
    int end = 0;
    if (line[0] == '#' || line[0] == '\n' || line[0] == '\0')
        return true;
    line[strcspn(line, "\n")] = '\0';
    if (out->count == TWI_ACCOUNTS_MAX ||
        sscanf(line, "%32s %7s %127s%n", a.name, may, a.hash, &end) != 3 ||
        !good_name(a.name) || !read_cameras(line + end, a.cameras))
        return false;
    if (strcmp(may, "run") == 0)
        a.may = TWI_MAY_RUN;
    else if (strcmp(may, "look") != 0)
        return false;
    out->all[out->count++] = a;
    return true;
}

tw_status twi_accounts_read(const char *path, accounts *out, tw_error *err)
{
    char line[1024];
    unsigned number = 0;
    memset(out, 0, sizeof *out);
    FILE *file = fopen(path, "re");
    if (!file && errno == ENOENT)
        return TW_OK;
    if (!file)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    out->made = true;
    tw_status st = twi_check_private(fileno(file), path, err);
    while (st == TW_OK && fgets(line, sizeof line, file)) {
        number++;
        if (!read_line(line, out))
            st = tw_fail(err, TW_EDAMAGED, "%s:%u: this is no account", path, number);
    }
    (void)fclose(file);
    return st;
}

const account *twi_accounts_find(const accounts *all, const char *name)
{
    for (size_t i = 0; i < all->count; i++)
        if (strcmp(all->all[i].name, name) == 0)
            return &all->all[i];
    return NULL;
}

tw_status twi_account_walk(const char *path,
                           void (*visit)(void *ctx, const char *name, twi_may may,
                                         const char *cameras),
                           void *ctx, tw_error *err)
{
    accounts *all = calloc(1, sizeof *all);
    if (!all)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const tw_status st = twi_accounts_read(path, all, err);
    for (size_t i = 0; st == TW_OK && i < all->count; i++)
        visit(ctx, all->all[i].name, all->all[i].may, all->all[i].cameras);
    free(all);
    return st;
}

/* ---- writing ---------------------------------------------------------------------- */

static tw_status write_all(const char *path, const accounts *all, tw_error *err)
{
    char *text = NULL;
    size_t bytes = 0;
    FILE *out = open_memstream(&text, &bytes);
    if (!out)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)fputs(HEAD, out);
    for (size_t i = 0; i < all->count; i++)
        (void)fprintf(out, "%s %s %s%s%s\n", all->all[i].name, word_may(all->all[i].may),
                      all->all[i].hash, all->all[i].cameras[0] ? " " : "",
                      all->all[i].cameras);
    const tw_status st = fclose(out) == 0 ? twi_write_private(path, text, err)
                                          : tw_fail(err, TW_ENOMEM, "out of memory");
    free(text);
    return st;
}

static tw_status check_words(const char *name, const char *password, tw_error *err)
{
    if (!good_name(name))
        return tw_fail(err, TW_EINVAL, "%s: a name is 1 to %d letters, digits, - _ or .",
                       name, TWI_ACCOUNT_NAME_MAX - 1);
    const size_t n = strlen(password);
    if (n < TWI_PASSWORD_LEAST || n >= TWI_PASSWORD_MAX)
        return tw_fail(err, TW_EINVAL, "a password has %d to %d letters",
                       TWI_PASSWORD_LEAST, TWI_PASSWORD_MAX - 1);
    return TW_OK;
}

static tw_status put(accounts *all, const char *name, twi_may may, const char *cameras,
                     const char *password, tw_error *err)
{
    const twi_web_module *web = twi_web_load(err);
    account *at = (account *)twi_accounts_find(all, name); /* NOLINT: all is ours */
    if (!web)
        return TW_ENOTSUP;
    if (!at && all->count == TWI_ACCOUNTS_MAX)
        return tw_fail(err, TW_ESIZE, "there are %d accounts already", TWI_ACCOUNTS_MAX);
    if (!at)
        at = &all->all[all->count++];
    (void)snprintf(at->name, sizeof at->name, "%s", name);
    at->may = may;
    if (!read_cameras(cameras, at->cameras))
        return tw_fail(err, TW_EINVAL,
                       "%.60s: cameras are names with blanks between, 255 bytes at most",
                       cameras);
    return web->hash(password, at->hash) ? TW_OK
                                         : tw_fail(err, TW_ENOMEM, "out of memory");
}

tw_status twi_account_set(const char *path, const char *name, twi_may may,
                          const char *cameras, const char *password, tw_error *err)
{
    if (!path || !name || !cameras || !password ||
        (may != TWI_MAY_LOOK && may != TWI_MAY_RUN))
        return tw_fail(err, TW_EINVAL, "no account");
    tw_status st = check_words(name, password, err);
    if (st != TW_OK)
        return st;
    accounts *all = calloc(1, sizeof *all);
    if (!all)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    st = twi_accounts_read(path, all, err);
    if (st == TW_OK)
        st = put(all, name, may, cameras, password, err);
    if (st == TW_OK)
        st = write_all(path, all, err);
    free(all);
    return st;
}

tw_status twi_account_remove(const char *path, const char *name, tw_error *err)
{
    if (!path || !name)
        return tw_fail(err, TW_EINVAL, "no account");
    accounts *all = calloc(1, sizeof *all);
    if (!all)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = twi_accounts_read(path, all, err);
    const account *at = st == TW_OK ? twi_accounts_find(all, name) : NULL;
    if (st == TW_OK && !at)
        st = tw_fail(err, TW_ENOENT, "there is no account %s", name);
    if (at) {
        const size_t i = (size_t)(at - all->all);
        memmove(&all->all[i], &all->all[i + 1],
                (all->count - i - 1) * sizeof all->all[0]);
        all->count--;
        st = write_all(path, all, err);
        if (st == TW_OK) /* nobody is told in his name any more */
            st = twi_phones_forget_account(path, name, err);
    }
    free(all);
    return st;
}
