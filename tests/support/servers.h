/* Real servers on loopback, and stand-ins, for tests of what is sent. */
#ifndef TW_TEST_SERVERS_H
#define TW_TEST_SERVERS_H

#include <sys/types.h>
#include <time.h>

#include "support.h"

typedef struct server {
    pid_t pid; /* 0: not running */
    int port;
    char *argv[16]; /* to start it again on the same port; owned */
} server;

/** A folder of the tests' own: certificate, keys and secrets are made in it. cert.pem and
 * key.pem (localhost and 127.0.0.1), id, id.pub, host and host.pub, known_hosts is
 * written by start_sftp; "frogspawn" in good.secret, "tadpole" in bad.secret, "secret" in
 * s3.secret. */
void make_credentials(const char *folder);

/** Start a Python stand-in of tests/support that prints its port. NULL ends the
 * arguments. */
server start_stand_in(const char *script, ...);

/** Mail that wants STARTTLS and a login, "toad", "frogspawn"; kept in mail/. */
server start_mail(const char *folder);
server start_smtps(const char *folder); /* the same, encrypted from the beginning */
server start_ftp(const char *folder, bool tls);    /* vsftpd: ftp/up/ may be written */
server start_sftp(const char *folder);             /* OpenSSH, by key */
server start_webdav(const char *folder, bool tls); /* nginx: files below www/ */
/** mosquitto; with a login as for mail, or TLS, if wanted. */
server start_broker(const char *folder, bool login, bool tls);
/** The same, that has its subscribers and what waits for them when it starts again. */
server start_broker_that_keeps(const char *folder, bool login);

void stop_server(server *s, int signal); /* and wait for it */
void start_again(server *s);             /* on the same port */
void end_server(server *s);              /* stop it for good */

/** A port of loopback that nobody listens at. */
int free_port(void);

/** Wait until a condition holds; fails the test if it takes too long. */
#define WAIT_FOR(condition)                                                              \
    do {                                                                                 \
        const time_t until_ = time(NULL) + 40;                                           \
        while (!(condition)) {                                                           \
            if (time(NULL) > until_)                                                     \
                fail_msg("waited too long for " #condition);                             \
            (void)usleep(20000);                                                         \
        }                                                                                \
    } while (0)

#endif
