/* What a gatherer notices is told by mail and to a program, and waits for both. */
#include "../support/servers.h"
#include "../support/support.h"
#include "../../src/gather/alarms.h"
#include "tawny/port_linux.h"

#include <signal.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static void count(void *ctx, tw_status st, const char *line)
{
    (void)line;
    atomic_fetch_add((atomic_int *)ctx, st != TW_OK);
}

static void test_silence_is_mailed_and_starts_a_hook(void **state)
{
    (void)state;
    char *folder = make_folder(), *mail = join(folder, "mail/000000.eml"),
         *rung = join(folder, "rung"), text[2048];
    atomic_int faults = 0;
    tw_error err = {0};
    twi_gather_alarms *a = NULL;
    make_credentials(folder);
    server post = start_mail(folder);
    const int port = post.port;
    stop_server(&post, SIGKILL); /* it is down when it happens */
    (void)snprintf(text, sizeof text,
                   "[station]\nname = lane\n[hook ring]\non = alarm\nrun = /bin/sh -c "
                   "\"printenv TAWNY_TEXT > %s\"\n[destination post]\n"
                   "url = smtp://toad@localhost:%d\nsecret_file = %s/good.secret\n"
                   "trust = %s/cert.pem\nto = ann@lane.example\n"
                   "from = toads@lane.example\non = alarms\n",
                   rung, port, folder, folder);
    tw_settings *settings = settings_of(text);
    if (twi_gather_alarms_new(settings, folder, tw_linux_clock(), count, &faults, &a,
                              &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(twi_gather_alarms_tell(
                         a, "nothing has come of north since 2027-03-13 21:04", &err),
                     TW_OK);
    WAIT_FOR(access(rung, R_OK) == 0);
    WAIT_FOR(atomic_load(&faults) > 0); /* nobody answers there */
    twi_gather_alarms_free(a);
    start_again(&post);
    assert_int_equal(twi_gather_alarms_new(settings, folder, tw_linux_clock(), count,
                                           &faults, &a, &err),
                     TW_OK); /* what waited goes now */
    WAIT_FOR(access(mail, R_OK) == 0);
    char *sent = read_file(mail, NULL), *heard = read_file(rung, NULL);
    assert_has(sent,
               "Subject: lane: nothing has come of north since 2027-03-13 21:04\r\n");
    assert_string_equal(heard, "nothing has come of north since 2027-03-13 21:04\n");
    twi_gather_alarms_free(a);
    tw_settings_free(settings);
    end_server(&post);
    free(sent);
    free(heard);
    free(mail);
    free(rung);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_silence_is_mailed_and_starts_a_hook),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
