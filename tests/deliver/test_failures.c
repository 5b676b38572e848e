/* What goes wrong on the way, what is said of it, and what is done: tried again, given
 * up, or left alone until somebody has changed something. */
#include <signal.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include "../support/servers.h"
#include "../support/stored.h"
#include "tawny/settings.h"

/* Lines of a conversation. */
typedef struct heard {
    char text[32768];
} heard;

static void hear(void *ctx, char who, const char *line)
{
    heard *h = ctx;
    const size_t n = strlen(h->text);
    (void)snprintf(h->text + n, sizeof h->text - n, "%c %s\n", who, line);
}

static twi_send_outcome try_it(const char *destination, heard *h)
{
    twi_send_outcome out;
    tw_error err = {0};
    tw_settings *settings = sending_settings("there", destination);
    if (h)
        memset(h, 0, sizeof *h);
    if (twi_deliver_try(settings, "there", tw_linux_clock(), h ? hear : NULL, h, &out,
                        &err) != TW_OK)
        fail_msg("%s", err.text);
    tw_settings_free(settings);
    return out;
}

/* Fails unless a try ends so. */
static void check(const char *destination, twi_fault fault, const char *words)
{
    const twi_send_outcome out = try_it(destination, NULL);
    if (out.fault != fault || !strstr(out.text, words))
        fail_msg("%s\nfault %d, not %d; \"%s\" lacks \"%s\"", destination, out.fault,
                 fault, out.text, words);
    assert_int_equal(out.verdict, twi_fault_verdict(fault));
    assert_true(strlen(out.text) > 0 || fault == TWI_FAULT_NONE);
}

/* ---- answers of HTTP servers ------------------------------------------------------- */

static void test_answers_over_http(void **state)
{
    (void)state;
    static const struct {
        const char *act;
        twi_fault fault;
        const char *words;
    } cases[] = {
        {"200", TWI_FAULT_NONE, "200"},
        {"301:Location=http://elsewhere.example/", TWI_FAULT_MOVED, "it has moved"},
        {"400", TWI_FAULT_REFUSED, "it refuses this (HTTP/1.1 400"},
        {"401", TWI_FAULT_LOGIN, "look at user and secret_file"},
        {"403", TWI_FAULT_FOLDER, "at what the user may"},
        {"404", TWI_FAULT_FOLDER, "the folder is missing there"},
        {"405", TWI_FAULT_METHOD, "it cannot do that: look at by"},
        {"413", TWI_FAULT_TOO_LARGE, "send less"},
        {"429:Retry-After=7", TWI_FAULT_BUSY, "come back later"},
        {"500", TWI_FAULT_BUSY, "HTTP/1.1 500 it says so"},
        {"503", TWI_FAULT_BUSY, "come back later"},
        {"507", TWI_FAULT_FULL, "no room left"},
        {"reset", TWI_FAULT_BROKEN, "the connection broke"},
        {"short", TWI_FAULT_BROKEN, "the connection broke"},
        {"garbage", TWI_FAULT_OTHER, "it did not work"},
        {"stall", TWI_FAULT_TIMEOUT, "no sign from it in time (timeout)"}};
    char *folder = make_folder(), text[512];
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        server web = start_stand_in("odd_server.py", "http", folder, cases[i].act, NULL);
        (void)snprintf(text, sizeof text,
                       "[destination there]\nurl = http://127.0.0.1:%d/\nby = put\n"
                       "timeout = 1 s\n",
                       web.port);
        check(text, cases[i].fault, cases[i].words);
        end_server(&web);
    }
    remove_folder(folder);
}

/* ---- answers of mail servers ------------------------------------------------------- */

static void test_answers_to_mail(void **state)
{
    (void)state;
    static const struct {
        const char *act;
        twi_fault fault;
        const char *words;
    } cases[] = {
        {"fine", TWI_FAULT_NONE, "250 2.0.0 kept"},
        {"GREETING=421 4.3.2 going down", TWI_FAULT_BUSY, "421 4.3.2 going down"},
        {"AUTH=535 5.7.8 no", TWI_FAULT_LOGIN, "it refuses the login"},
        {"AUTH=454 4.7.0 not now", TWI_FAULT_BUSY, "454 4.7.0 not now"},
        {"MAIL=550 5.1.8 who are you", TWI_FAULT_SENDER, "look at from"},
        {"MAIL=552 5.3.4 too big", TWI_FAULT_TOO_LARGE, "too large for it"},
        {"RCPT=451 4.7.1 greylisted, come back", TWI_FAULT_BUSY, "greylisted"},
        {"RCPT=550 5.1.1 no such user", TWI_FAULT_RECIPIENT, "look at to"},
        {"RCPT=452 4.2.2 over quota", TWI_FAULT_MAILBOX, "the mailbox is full"},
        {"RCPT=452 4.3.1 disk", TWI_FAULT_FULL, "no room left"},
        {"END=552 5.2.2 mailbox full", TWI_FAULT_MAILBOX, "the mailbox is full"},
        {"END=552 message size", TWI_FAULT_TOO_LARGE, "send less"},
        {"END=554 5.7.1 looks like spam", TWI_FAULT_REFUSED, "looks like spam"},
        {"END=451 4.3.0 try later", TWI_FAULT_BUSY, "come back later"},
        {"reset", TWI_FAULT_BROKEN, "the connection broke"},
        {"stall", TWI_FAULT_TIMEOUT, "no sign from it in time"}};
    char *folder = make_folder(), text[1024];
    char *secret = join(folder, "good.secret");
    write_text(secret, "frogspawn\n");
    (void)chmod(secret, 0600);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        server post = start_stand_in("odd_server.py", "smtp", folder, cases[i].act, NULL);
        (void)snprintf(text, sizeof text,
                       "[destination there]\nurl = smtp://toad@127.0.0.1:%d\n"
                       "tls = none\nsecret_file = %s\nto = a@lane.example\n"
                       "from = b@lane.example\ntimeout = 1 s\n",
                       post.port, secret);
        check(text, cases[i].fault, cases[i].words);
        end_server(&post);
    }
    /* one that never ends its greeting does not hold us forever, nor fill memory */
    server post = start_stand_in("odd_server.py", "smtp", folder, "flood", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtp://127.0.0.1:%d\ntls = none\n"
                   "to = a@lane.example\nfrom = b@lane.example\ntimeout = 2 s\n",
                   post.port);
    assert_int_not_equal(try_it(text, NULL).verdict, TWI_DELIVERED);
    /* and one that does not encrypt gets nothing */
    end_server(&post);
    post = start_stand_in("odd_server.py", "smtp", folder, "fine", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtp://127.0.0.1:%d\n"
                   "to = a@lane.example\nfrom = b@lane.example\n",
                   post.port);
    check(text, TWI_FAULT_NO_TLS, "it does not encrypt");
    end_server(&post);
    free(secret);
    remove_folder(folder);
}

/* ---- before anything is said ------------------------------------------------------- */

static void test_what_is_wrong_on_the_way(void **state)
{
    (void)state;
    char *folder = make_folder(), text[2048], mail[1024];
    make_credentials(folder);
    server post = start_mail(folder);
    (void)snprintf(mail, sizeof mail,
                   "secret_file = %s/good.secret\nto = a@lane.example\n"
                   "from = b@lane.example\ntimeout = 5 s\n",
                   folder);
    /* a name that cannot be one, so that nobody is asked for it */
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = https://%064d.example/\n", 0);
    check(text, TWI_FAULT_HOST, "there is no such host, or no network");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = https://127.0.0.1:%d/\n", free_port());
    check(text, TWI_FAULT_CONNECT, "nobody answers there");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtp://toad@localhost:%d\n%s", post.port,
                   mail);
    check(text, TWI_FAULT_CERTIFICATE, "name that by trust = FILE");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtp://toad@127.0.0.2:%d\ntrust = "
                   "%s/cert.pem\n%s",
                   post.port, folder, mail);
    check(text, TWI_FAULT_CONNECT, "nobody answers there");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtp://toad@localhost:%d\ntrust = "
                   "%s/none.pem\n%s",
                   post.port, folder, mail);
    check(text, TWI_FAULT_TRUST_FILE, "cannot be read");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtps://toad@localhost:%d\ntrust = "
                   "%s/cert.pem\n%s",
                   post.port, folder, mail);
    check(text, TWI_FAULT_TLS, "is that the port for it?");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtp://toad@localhost:%d\ntls = "
                   "unverified\n%s",
                   post.port, mail);
    check(text, TWI_FAULT_NONE, "250");
    end_server(&post);
    remove_folder(folder);
}

/* A certificate that is another's, and one that is not valid yet by our clock. */
static void test_certificates(void **state)
{
    (void)state;
    char *folder = make_folder(), text[1024];
    make_credentials(folder);
    server hub = start_broker(folder, false, true); /* anything with TLS */
    outcome o = run_program(folder, "/bin/sh", "-c",
                            "openssl req -x509 -newkey rsa:2048 -nodes -keyout key.pem "
                            "-out other.pem -days 30 -subj /CN=marsh.example && cp "
                            "other.pem cert.pem",
                            NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    stop_server(&hub, SIGKILL);
    (void)chmod(folder, 0755);
    char *key = join(folder, "key.pem");
    (void)chmod(key, 0644);
    free(key);
    start_again(&hub);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = https://localhost:%d/\n"
                   "trust = %s/other.pem\n",
                   hub.port, folder);
    check(text, TWI_FAULT_CERT_NAME, "write url with the name that stands in it");
    end_server(&hub);
    remove_folder(folder);
}

static void test_sftp_keys(void **state)
{
    (void)state;
    char *folder = make_folder(), text[1024];
    if (geteuid() != 0)
        skip();
    make_credentials(folder);
    server ssh = start_sftp(folder);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = sftp://root@127.0.0.1:%d%s/sftp\n"
                   "key_file = %s/id\nhost_keys = %s/empty\n",
                   ssh.port, folder, folder, folder);
    check(text, TWI_FAULT_HOST_KEY, "as ssh-keyscan prints it");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = sftp://root@127.0.0.1:%d%s/sftp\n"
                   "key_file = %s/host\nhost_keys = %s/known_hosts\n",
                   ssh.port, folder, folder, folder);
    check(text, TWI_FAULT_LOGIN, "it refuses the login");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = sftp://root@127.0.0.1:%d/proc/lane\n"
                   "key_file = %s/id\nhost_keys = %s/known_hosts\n",
                   ssh.port, folder, folder);
    check(text, TWI_FAULT_FOLDER, "the folder is missing there");
    end_server(&ssh);
    remove_folder(folder);
}

static void test_object_storage_and_clocks(void **state)
{
    (void)state;
    char *folder = make_folder(), text[1024];
    make_credentials(folder);
    for (int wrong = 0; wrong < 2; wrong++) {
        server store =
            start_stand_in("object_store.py", folder, "0", wrong ? "0" : "4000", NULL);
        (void)snprintf(text, sizeof text,
                       "[destination there]\nurl = s3+http://127.0.0.1:%d/toads\n"
                       "user = key\nsecret_file = %s/%s.secret\n",
                       store.port, folder, wrong ? "bad" : "s3");
        if (wrong)
            check(text, TWI_FAULT_LOGIN, "it refuses the login");
        else
            check(text, TWI_FAULT_CLOCK, "the clock of this board is wrong");
        end_server(&store);
    }
    remove_folder(folder);
}

/* ---- secrets ----------------------------------------------------------------------- */

static void test_secrets_are_not_shown(void **state)
{
    (void)state;
    static const char WORDS[] = "frogspawn", BASE64[] = "AHRvYWQAZnJvZ3NwYXdu";
    char *folder = make_folder(), text[1024];
    heard h;
    make_credentials(folder);
    server post = start_mail(folder);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtp://toad@localhost:%d\n"
                   "secret_file = %s/good.secret\ntrust = %s/cert.pem\n"
                   "to = a@lane.example\nfrom = b@lane.example\n",
                   post.port, folder, folder);
    assert_int_equal(try_it(text, &h).verdict, TWI_DELIVERED);
    assert_has(h.text, "> AUTH ");
    assert_has(h.text, "***");
    assert_has(h.text, "< 250 2.0.0 kept as 000000");
    assert_null(strstr(h.text, WORDS));
    assert_null(strstr(h.text, BASE64));
    end_server(&post);
    server web = start_stand_in("odd_server.py", "http", folder, "200", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/\nby = json\n"
                   "headers = X-Token: {secret}\nsecret_file = %s/good.secret\n",
                   web.port, folder);
    assert_int_equal(try_it(text, &h).verdict, TWI_DELIVERED);
    assert_has(h.text, "> X-Token: ***");
    assert_null(strstr(h.text, WORDS));
    end_server(&web);
    remove_folder(folder);
}

static void test_secrets_that_cannot_be_had(void **state)
{
    (void)state;
    char *folder = make_folder(), text[1024], words[512];
    char *secret = join(folder, "secret");
    problems p = {0};
    write_text(secret, "frogspawn\n");
    (void)chmod(secret, 0640);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = https://127.0.0.1:1/\nsecret_file = %s\n",
                   secret);
    (void)snprintf(words, sizeof words,
                   "may be read by others than its owner: chmod 600 %s", secret);
    check(text, TWI_FAULT_SECRET, words);
    tw_settings *settings = sending_settings("there", text);
    assert_int_equal(twi_deliver_check(settings, collect_problem, &p), TW_EACCES);
    assert_has(p.text, words);
    tw_settings_free(settings);
    (void)chmod(secret, 0600);
    write_text(secret, "\n");
    check(text, TWI_FAULT_SECRET, "is empty");
    assert_int_equal(unlink(secret), 0);
    check(text, TWI_FAULT_SECRET, "No such file");
    check("[destination there]\nurl = https://127.0.0.1:1/\nsecret_env = TAWNY_NONE\n",
          TWI_FAULT_SECRET, "there is no variable TAWNY_NONE");
    free(secret);
    remove_folder(folder);
}

/* ---- what is done about it --------------------------------------------------------- */

/* A refused login: one try, told once, and nothing more until the secret is another. */
static void test_a_refused_login_is_not_tried_again(void **state)
{
    (void)state;
    char text[1024];
    stored *s = make_stored();
    make_credentials(s->folder);
    char *got = join(s->folder, "got");
    (void)mkdir(got, 0755);
    server web = start_stand_in("odd_server.py", "http", got, "401", "200", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/\nby = put\n"
                   "user = toad\nsecret_file = %s/bad.secret\n",
                   web.port, s->folder);
    deliver(s, "there", text);
    (void)sight(s, 0);
    WAIT_FOR(was_told(s, "there: it refuses the login"));
    (void)sight(s, 0);
    deliver(s, NULL, NULL);
    deliver(s, "there", text); /* a station that starts again does not try either */
    WAIT_FOR(was_told(s, "there: nothing is sent there: it refuses the login"));
    let_pass(2000000);
    char **files = list_files(got);
    const size_t tries = list_length(files);
    assert_int_equal(tries, 1);
    free_list(files);
    assert_int_equal(filled(s, "there").waiting, 2);
    char *bad = join(s->folder, "bad.secret");
    write_text(bad, "frogspawn\n");
    WAIT_FOR(filled(s, "there").waiting == 0);
    assert_int_equal(filled(s, "there").stopped_us, 0);
    free(bad);
    free(got);
    end_server(&web);
    leave_stored(s);
}

/* What will never work is given up, told, and does not hold up the rest. */
static void test_what_is_too_large_is_given_up(void **state)
{
    (void)state;
    char text[512];
    stored *s = make_stored();
    make_credentials(s->folder);
    server web = start_webdav(s->folder, false); /* takes 1 MB at most */
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/\nby = put\n"
                   "what = clip\n",
                   web.port);
    char *day = join(s->folder, "www/2027-03-13");
    (void)mkdir(day, 0777);
    free(day);
    deliver(s, "there", text);
    (void)sight(s, 1500000);
    (void)sight(s, 1000);
    WAIT_FOR(filled(s, "there").sent == 1);
    assert_int_equal(filled(s, "there").given_up, 1);
    assert_true(was_told(s, "given up on 1 of what waits: that is too large for it"));
    end_server(&web);
    leave_stored(s);
}

/* A server that asks to come back later is left alone for so long. */
static void test_retry_after_is_heeded(void **state)
{
    (void)state;
    char text[512];
    stored *s = make_stored();
    char *got = join(s->folder, "got");
    (void)mkdir(got, 0755);
    server web =
        start_stand_in("odd_server.py", "http", got, "503:Retry-After=9", "200", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/\nby = put\n"
                   "what = still\n",
                   web.port);
    deliver(s, "there", text);
    (void)sight(s, 0);
    WAIT_FOR(was_told(s, "trying again in 9 s"));
    WAIT_FOR(filled(s, "there").waiting == 0);
    assert_true(was_told(s, "there: works again"));
    free(got);
    end_server(&web);
    leave_stored(s);
}

static bool note_alarm(void *ctx, const tw_log_entry *entry)
{
    if (strcmp(entry->what, "alarm") == 0)
        collect_problem(ctx, entry->text);
    return true;
}

/* @return how many there are by now. */
static size_t alarms_by_now(const stored *s, problems *alarms)
{
    *alarms = (problems){0};
    assert_int_equal(tw_catalogue_log(s->catalogue, NULL, 0, 0, note_alarm, alarms, NULL),
                     TW_OK);
    return alarms->count;
}

/* What takes nothing for long is told of, and that it takes again. */
static void test_what_takes_nothing_for_long_is_an_alarm(void **state)
{
    (void)state;
    char text[512];
    problems alarms = {0};
    stored *s = make_stored();
    char *got = join(s->folder, "got");
    (void)mkdir(got, 0755);
    server web =
        start_stand_in("odd_server.py", "http", got, "503", "503", "503", "200", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/\nby = put\n"
                   "what = still\n[station]\nalarm_after = 11 s\n",
                   web.port);
    deliver(s, "there", text);
    (void)sight(s, 0);
    /* the third try fails 11.25 s after the first, or later: each pause is 5 s, then 10
     * s, give or take a quarter */
    WAIT_FOR(was_told(s, "there: works again"));
    WAIT_FOR(alarms_by_now(s, &alarms) == 2); /* the word comes before the alarm */
    assert_has(alarms.text, "there has taken nothing for 1");
    assert_has(alarms.text, "it asks to come back later (HTTP");
    assert_has(alarms.text, "there takes what is sent again");
    free(got);
    end_server(&web);
    leave_stored(s);
}

/* A clock that others may set on. */
static _Atomic int64_t ahead_us;

static int64_t ahead_now(void *ctx)
{
    return quick_clock().ops->now_us(ctx) + atomic_load(&ahead_us);
}

static size_t alarms_of(stored *s, problems *out)
{
    *out = (problems){.count = 0};
    assert_int_equal(tw_catalogue_log(s->catalogue, NULL, 0, 0, note_alarm, out, NULL),
                     TW_OK);
    return out->count;
}

/* What waits for over a day, though nothing is wrong where it goes: hours that are
 * closed, here. A digest a day is no such thing. */
static void test_a_queue_that_does_not_empty_is_an_alarm(void **state)
{
    (void)state;
    const int64_t hour_us = INT64_C(3600000000);
    char text[512];
    problems alarms;
    stored *s = make_stored();
    tw_clock_ops ops = *quick_clock().ops;
    ops.now_us = ahead_now;
    const time_t now = time(NULL);
    struct tm local;
    (void)localtime_r(&now, &local);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = file:%s/there\nwhat = still\nhours = %s\n",
                   s->folder, local.tm_hour < 12 ? "15:00-16:00" : "03:00-04:00");
    deliver(s, "there", text);
    twi_deliver_free(s->deliver);
    assert_int_equal(twi_deliver_new(s->settings, s->store, (tw_clock){&ops, NULL}, NULL,
                                     NULL, &s->deliver, NULL),
                     TW_OK);
    (void)sight(s, 0);
    atomic_store(&ahead_us, hour_us); /* looks, and remembers */
    let_pass(10000000);
    atomic_store(&ahead_us, 26 * hour_us);
    let_pass(10000000);
    assert_int_equal(alarms_of(s, &alarms), 0);
    atomic_store(&ahead_us, 28 * hour_us);
    WAIT_FOR(alarms_of(s, &alarms) == 1);
    assert_has(alarms.text, "what is sent to there comes later each day: something has "
                            "waited for over a day");
    atomic_store(&ahead_us, 80 * hour_us);
    let_pass(10000000);
    assert_int_equal(alarms_of(s, &alarms), 1); /* once */
    assert_int_equal(twi_outbox_drop(s->catalogue, "there", 0, NULL, NULL), TW_OK);
    atomic_store(&ahead_us, 81 * hour_us);
    WAIT_FOR(alarms_by_now(s, &alarms) == 2);
    assert_has(alarms.text, "what waited for there has been sent");
    atomic_store(&ahead_us, 0);
    leave_stored(s);
}

/* Destinations that the settings no more name, or of which they say something wrong: what
 * waits for them stays, and what is made for the latter waits as well. */
static void test_what_waits_outlives_its_settings(void **state)
{
    (void)state;
    char text[512];
    stored *s = make_stored();
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = file:%s/away\nwhat = still\n", s->folder);
    deliver(s, "there", text);
    (void)sight(s, 0);
    WAIT_FOR(was_told(s, "is its disk?"));
    deliver(s, NULL, NULL);
    tw_settings *wrong = tw_settings_new();
    static const char WRONG[] = "[camera kerb]\nsource = sim:kerb\nsend_to = there\n"
                                "[destination there]\nurl = file:\n";
    twi_deliver *none = NULL;
    (void)tw_settings_read_text(wrong, "test", WRONG, strlen(WRONG), NULL, NULL);
    (void)tw_settings_check(wrong, NULL, NULL);
    assert_int_equal(
        twi_deliver_new(wrong, s->store, tw_linux_clock(), NULL, NULL, &none, NULL),
        TW_OK);
    assert_null(none); /* there is nothing to serve */
    tw_settings_free(wrong);
    (void)sight(s, 0);
    assert_int_equal(filled(s, "there").waiting, 2);
    deliver(s, "", "");
    deliver(s, "other", "[destination other]\nurl = file:/nowhere\n");
    WAIT_FOR(was_told(s, "there: 2 wait for it, and there is no such destination any "
                         "more: tawny outbox --drop there"));
    (void)sight(s, 0);
    assert_int_equal(filled(s, "there").waiting, 2);
    leave_stored(s);
}

/* A capture that gets another name between two tries, as when the clock is set. */
static void test_a_file_that_was_renamed_is_found(void **state)
{
    (void)state;
    char text[512], from[512], to[512];
    stored *s = make_stored();
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = file:%s/disk\nwhat = still\n", s->folder);
    char *disk = join(s->folder, "disk");
    (void)mkdir(disk, 0755);
    deliver(s, "there", text);
    deliver(s, NULL, NULL);
    (void)sight(s, 0);
    (void)snprintf(from, sizeof from, "%s/2027-03-13/kerb+001-still.jpg", s->store);
    (void)snprintf(to, sizeof to, "%s/2027-03-13/right.jpg", s->store);
    assert_int_equal(rename(from, to), 0); /* the catalogue does not know it yet */
    deliver(s, "there", text);
    WAIT_FOR(was_told(s, "kerb+001-still.jpg is no more there; trying again"));
    assert_int_equal(
        twi_catalogue_rename(s->catalogue, 1, "2027-03-13/right.jpg", 1, 1, NULL), TW_OK);
    WAIT_FOR(filled(s, "there").sent == 1);
    free(disk);
    leave_stored(s);
}

static void test_a_stalled_server_does_not_hold_the_end(void **state)
{
    (void)state;
    char text[512];
    stored *s = make_stored();
    char *got = join(s->folder, "got");
    (void)mkdir(got, 0755);
    server web = start_stand_in("odd_server.py", "http", got, "stall", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/\nby = put\n"
                   "timeout = 1 h\nwhat = still\n",
                   web.port);
    deliver(s, "there", text);
    (void)sight(s, 0);
    char *first = join(got, "0000.request");
    WAIT_FOR(access(first, R_OK) == 0);
    const tw_clock clock = tw_linux_clock();
    const int64_t before_us = clock.ops->now_us(clock.ctx);
    deliver(s, NULL, NULL);
    assert_true(clock.ops->now_us(clock.ctx) - before_us < 15000000);
    assert_int_equal(filled(s, "there").waiting, 1);
    assert_true(filled(s, "there").begun);
    free(first);
    free(got);
    end_server(&web);
    leave_stored(s);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_answers_over_http),
        cmocka_unit_test(test_answers_to_mail),
        cmocka_unit_test(test_what_is_wrong_on_the_way),
        cmocka_unit_test(test_certificates),
        cmocka_unit_test(test_sftp_keys),
        cmocka_unit_test(test_object_storage_and_clocks),
        cmocka_unit_test(test_secrets_are_not_shown),
        cmocka_unit_test(test_secrets_that_cannot_be_had),
        cmocka_unit_test(test_a_refused_login_is_not_tried_again),
        cmocka_unit_test(test_what_is_too_large_is_given_up),
        cmocka_unit_test(test_retry_after_is_heeded),
        cmocka_unit_test(test_what_takes_nothing_for_long_is_an_alarm),
        cmocka_unit_test(test_a_queue_that_does_not_empty_is_an_alarm),
        cmocka_unit_test(test_what_waits_outlives_its_settings),
        cmocka_unit_test(test_a_file_that_was_renamed_is_found),
        cmocka_unit_test(test_a_stalled_server_does_not_hold_the_end),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
