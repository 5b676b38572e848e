/* tawny gather --key. */
#include "gather_key.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "../net/broker.h"

/* @param open  Set to the key that others know; may be NULL. */
static tw_status read_key(const twi_broker_module *brokers, const char *file,
                          char secret[SECRET_BYTES], char *open, tw_error *err)
{
    const twi_destination_settings from = {
        .name = "gather", .secret_file = file, .secret_env = ""};
    char known[TWI_KEY_TEXT];
    const tw_status st = twi_secret_read(&from, secret, err);
    if (st == TW_OK && !brokers->open_key(secret, open ? open : known))
        return tw_fail(err, TW_EINVAL,
                       "%s holds no key: move it away, and tawny gather --key makes one",
                       file);
    return st;
}

tw_status gather_key_read(const twi_gather_settings *set, char secret[SECRET_BYTES],
                          tw_error *err)
{
    secret[0] = '\0';
    if (!set->settings_key[0])
        return TW_OK;
    const twi_broker_module *brokers = twi_broker_load(err);
    return brokers ? read_key(brokers, set->settings_key, secret, NULL, err) : TW_ENOTSUP;
}

/* Nobody else may read it, from its first byte on. */
static tw_status make_file(const char *file, const char *secret, tw_error *err)
{
    const int fd = g_open(file, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
    const size_t bytes = strlen(secret);
    bool good = fd >= 0 && write(fd, secret, bytes) == (ssize_t)bytes &&
                write(fd, "\n", 1) == 1 && fsync(fd) == 0;
    const int why = errno;
    if (fd >= 0 && close(fd) != 0)
        good = false;
    if (good)
        return TW_OK;
    if (fd >= 0)
        (void)g_unlink(file);
    return tw_fail(err, TW_EACCES, "%s: %s", file, g_strerror(why));
}

static tw_status make_key(const twi_broker_module *brokers, const char *file,
                          tw_error *err)
{
    char secret[TWI_KEY_TEXT];
    if (!brokers->make_key(secret))
        return tw_fail(err, TW_EIO, "there is no randomness to make a key of");
    const tw_status st = make_file(file, secret, err);
    explicit_bzero(secret, sizeof secret);
    return st;
}

int gather_key_show(const twi_gather_settings *set)
{
    char secret[SECRET_BYTES], open[TWI_KEY_TEXT];
    const char *file = set->settings_key;
    tw_error err = {0};
    if (!file[0])
        return cli_say(CLI_USAGE,
                       "where is the key kept? write settings_key = FILE below "
                       "[gather] in the settings");
    const twi_broker_module *brokers = twi_broker_load(&err);
    tw_status st = brokers ? TW_OK : TW_ENOTSUP;
    if (st == TW_OK && !g_file_test(file, G_FILE_TEST_EXISTS))
        st = make_key(brokers, file, &err);
    if (st == TW_OK)
        st = read_key(brokers, file, secret, open, &err);
    explicit_bzero(secret, sizeof secret);
    if (st != TW_OK)
        return cli_say(cli_exit(st), "%s", err.text);
    (void)printf("# Stations that write this below their broker's [destination] show "
                 "their settings to this\n# gatherer, and take them from it.\n"
                 "settings_from = %s\n",
                 open);
    return CLI_DONE;
}
