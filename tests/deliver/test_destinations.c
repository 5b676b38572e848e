/* What arrives at each kind of destination: at real servers, or, for object storage, at a
 * stand-in that works out the signature itself. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../../src/media/drawing.h"
#include "../../src/media/jpeg.h"
#include "../support/servers.h"
#include "../support/stored.h"

/* Fails unless a file has the bytes of a capture of the store. */
static void check_same(const stored *s, const char *place, const char *name)
{
    char there[512];
    size_t bytes = 0, kept = 0;
    (void)snprintf(there, sizeof there, "%s/%s/%s", s->folder, place, name);
    if (access(there, R_OK) != 0)
        fail_msg("%s is not there; told: %s", there, s->told);
    char *path = join(s->store, name), *got = read_file(there, &bytes),
         *had = read_file(path, &kept);
    assert_int_equal(bytes, kept);
    assert_memory_equal(got, had, kept);
    free(path);
    free(got);
    free(had);
}

/* Nothing is there but so many files, and none that is half there. */
static void check_count(const stored *s, const char *place, size_t wanted)
{
    char *folder = join(s->folder, place), **files = list_files(folder);
    assert_int_equal(count_ending(files, ".part"), 0);
    assert_int_equal(list_length(files), wanted);
    free_list(files);
    free(folder);
}

/* Two sightings, the second one while the station was away, and both arrive. */
static void check_files(stored *s, const char *destination, const char *place)
{
    deliver(s, "there", destination);
    (void)sight(s, 300000);
    WAIT_FOR(filled(s, "there").sent == 3);
    deliver(s, NULL, NULL);
    (void)sight(s, 20);
    deliver(s, "there", destination);
    WAIT_FOR(filled(s, "there").sent == 6);
    assert_int_equal(filled(s, "there").given_up, 0);
    check_same(s, place, "2027-03-13/kerb+001-still.jpg");
    check_same(s, place, "2027-03-13/kerb+001-clip.mp4");
    check_same(s, place, "2027-03-13/kerb+002-clip.mp4");
    check_count(s, place, 6);
}

#define WHAT "what = still, clip, record\n"

static void test_a_folder(void **state)
{
    (void)state;
    char text[1024];
    stored *s = make_stored();
    char *disk = join(s->folder, "disk");
    (void)snprintf(text, sizeof text, "[destination there]\nurl = file:%s\n" WHAT, disk);
    (void)mkdir(disk, 0755);
    check_files(s, text, "disk");
    char *record = join(disk, "2027-03-13/kerb/"
                              "kerb-20270313T203100.000+0000-001-record.json");
    char *json = read_file(record, NULL);
    assert_has(json,
               "{\"type\":\"sighting\",\"number\":1,\"camera\":\"kerb\",\"part\":1,");
    assert_has(json, "\"station\":\"hollin\"");
    assert_has(json, "\"phase\":\"end\"");
    assert_has(json, "\"start\":\"2027-03-13T20:31:00.000Z\"");
    assert_has(json, "\"end\":\"2027-03-13T20:31:12.000Z\",\"seconds\":12.0,");
    assert_has(json, "\"stills\":1,\"clips\":1,");
    assert_has(json, "\"file\":\"2027-03-13/kerb+001-still.jpg\"");
    assert_has(json, "\"file\":\"2027-03-13/kerb+001-clip.mp4\"");
    free(json);
    free(record);
    /* the disk is taken away: nothing is written in its place, and it comes back */
    char *away = join(s->folder, "away");
    assert_int_equal(rename(disk, away), 0);
    (void)sight(s, 20);
    WAIT_FOR(was_told(s, "disk is not there: is its disk?"));
    assert_int_not_equal(access(disk, F_OK), 0);
    assert_int_equal(rename(away, disk), 0);
    WAIT_FOR(filled(s, "there").waiting == 0);
    check_count(s, "disk", 9);
    free(away);
    free(disk);
    leave_stored(s);
}

static void check_webdav(bool tls)
{
    char text[1024];
    stored *s = make_stored();
    make_credentials(s->folder);
    server web = start_webdav(s->folder, tls);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http%s://localhost:%d/lane/deep er  \n"
                   "trust = %s/cert.pem\n" WHAT,
                   tls ? "s" : "", web.port, s->folder);
    /* a blank in a url is written so */
    char *blank = strstr(text, "deep er");
    memcpy(blank + 4, "%20er", 5);
    check_files(s, text, "www/lane/deep er");
    end_server(&web);
    leave_stored(s);
}

static void test_webdav(void **state)
{
    (void)state;
    check_webdav(false);
    check_webdav(true);
}

static void check_ftp(bool tls)
{
    char text[1024];
    stored *s = make_stored();
    make_credentials(s->folder);
    server ftp = start_ftp(s->folder, tls);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = ftp%s://ftp@localhost:%d/up/lane\n"
                   "trust = %s/cert.pem\n" WHAT,
                   tls ? "s" : "", ftp.port, s->folder);
    check_files(s, text, "ftp/up/lane");
    end_server(&ftp);
    leave_stored(s);
}

static void test_ftp(void **state)
{
    (void)state;
    if (geteuid() != 0)
        skip(); /* that server wants to be root */
    check_ftp(false);
    check_ftp(true);
}

static void test_sftp(void **state)
{
    (void)state;
    char text[2048];
    if (geteuid() != 0)
        skip();
    stored *s = make_stored();
    make_credentials(s->folder);
    server ssh = start_sftp(s->folder);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = sftp://root@127.0.0.1:%d%s/sftp/lane\n"
                   "key_file = %s/id\nhost_keys = %s/known_hosts\n" WHAT,
                   ssh.port, s->folder, s->folder, s->folder);
    check_files(s, text, "sftp/lane");
    end_server(&ssh);
    leave_stored(s);
}

static void test_object_storage(void **state)
{
    (void)state;
    char text[1024];
    stored *s = make_stored();
    make_credentials(s->folder);
    char *objects = join(s->folder, "objects");
    (void)mkdir(objects, 0755);
    server store = start_stand_in("object_store.py", objects, NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = s3+http://127.0.0.1:%d/toads/lane\n"
                   "user = key\nsecret_file = %s/s3.secret\nregion = eu-west-1\n" WHAT,
                   store.port, s->folder);
    check_files(s, text, "objects/toads/lane");
    end_server(&store);
    free(objects);
    leave_stored(s);
}

/* ---- mail -------------------------------------------------------------------------- */

/* Take out what quoted-printable breaks lines with, wherever that falls. */
static void unfold(char *text)
{
    for (char *at = strstr(text, "=\r\n"); at; at = strstr(at, "=\r\n"))
        memmove(at, at + 3, strlen(at + 3) + 1);
}

static char *mail_number(const stored *s, int number)
{
    char name[32];
    (void)snprintf(name, sizeof name, "mail/%06d.eml", number);
    char *path = join(s->folder, name);
    WAIT_FOR(access(path, R_OK) == 0);
    char *text = read_file(path, NULL);
    free(path);
    unfold(text);
    return text;
}

static void mail_settings(const stored *s, int port, const char *more, char out[2048])
{
    (void)snprintf(out, 2048,
                   "[destination there]\nurl = smtp://toad@localhost:%d\n"
                   "secret_file = %s/good.secret\ntrust = %s/cert.pem\n"
                   "to = Ann <ann@lane.example>, bob@lane.example\n"
                   "from = Tr\xC3\xB6te <toads@lane.example>\n%s",
                   port, s->folder, s->folder, more);
}

/* Value of a header's first place; in out. */
static const char *header(const char *mail, const char *name, char out[256])
{
    const char *at = strstr(mail, name);
    if (!at)
        fail_msg("no %s in %.600s", name, mail);
    at += strlen(name);
    (void)snprintf(out, 256, "%.*s", (int)strcspn(at, "\r\n"), at);
    return out;
}

static void test_mail(void **state)
{
    (void)state;
    char text[2048], thread[256], other[256];
    stored *s = make_stored();
    make_credentials(s->folder);
    server post = start_mail(s->folder);
    mail_settings(s, post.port, "attach_below = 100 kB\n", text);
    deliver(s, "there", text);
    deliver(s, NULL, NULL); /* a slow disk must not make two mails of it */
    (void)sight(s, 5000);
    deliver(s, "there", text);
    char *mail = mail_number(s, 0);
    assert_has(mail, "X-From: toads@lane.example\r\n"
                     "X-To: ann@lane.example,bob@lane.example\r\n");
    assert_has(mail, "From: =?UTF-8?B?VHLDtnRl?= <toads@lane.example>\r\n");
    assert_has(mail, "To: Ann <ann@lane.example>, bob@lane.example\r\n");
    assert_has(mail, "Subject: kerb: sighting 1, 20:31\r\n");
    assert_has(mail, "Auto-Submitted: auto-generated");
    assert_has(mail, "13 Mar 2027, 20:31:00\r\nkerb, sighting 1, 12 s, peak 0.42 %\r\n");
    assert_has(mail, "&lt;at&gt; the &quot;left&quot;");
    assert_has(mail, "Content-ID: <picture0>\r\n");
    assert_has(mail, "filename=\"kerb+001-clip.mp4\"");
    (void)header(mail, "References: ", thread);
    free(mail);
    (void)sight(s, 200000); /* too large: named */
    mail = mail_number(s, 1);
    assert_null(strstr(mail, "filename=\"kerb+002-clip.mp4\""));
    assert_has(mail, "2027-03-13/kerb+002-clip.mp4 (200 kB) is not in this mail");
    assert_string_not_equal(header(mail, "References: ", other), thread);
    free(mail);
    WAIT_FOR(was_told(s, "sent, nothing waits")); /* once or twice */
    end_server(&post);
    leave_stored(s);
}

static void test_mail_encrypted_from_the_beginning(void **state)
{
    (void)state;
    char text[2048];
    stored *s = make_stored();
    make_credentials(s->folder);
    server post = start_smtps(s->folder);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = smtps://toad@localhost:%d\n"
                   "secret_file = %s/good.secret\ntrust = %s/cert.pem\n"
                   "to = ann@lane.example\nfrom = toads@lane.example\n",
                   post.port, s->folder, s->folder);
    deliver(s, "there", text);
    (void)sight(s, 100);
    char *mail = mail_number(s, 0);
    assert_has(mail, "Subject: kerb: sighting 1, 20:31\r\n");
    free(mail);
    end_server(&post);
    leave_stored(s);
}

/* Whoever gets mails may wait for what another destination does not get any more. */
static void test_mail_tells_of_a_destination_that_stopped(void **state)
{
    (void)state;
    char text[2048];
    stored *s = make_stored();
    make_credentials(s->folder);
    server post = start_mail(s->folder);
    assert_int_equal(twi_outbox_stop(s->catalogue, "shed", INT64_C(1804966260) * 1000000,
                                     "x", "the password <old> is not taken", NULL),
                     TW_OK);
    const twi_route route = {"kerb", "segment", "shed", "segment"};
    mail_settings(s, post.port, "", text);
    deliver(s, "there", text);
    assert_int_equal(
        twi_outbox_route(s->catalogue, &route, 1, (const char *[]){"there", NULL}, NULL),
        TW_OK);
    (void)sight(s, 100);
    char *mail = mail_number(s, 0);
    assert_has(mail,
               "Sending to shed stopped on 13 Mar 19:31: the password <old> is not");
    assert_has(mail, "shed stopped</b>");
    assert_has(mail, "&lt;old&gt;");
    free(mail);
    assert_int_equal(twi_outbox_retry(s->catalogue, "shed", NULL, NULL), TW_OK);
    (void)sight(s, 100);
    mail = mail_number(s, 1);
    assert_null(strstr(mail, "stopped"));
    free(mail);
    end_server(&post);
    leave_stored(s);
}

/* A destination that has stopped is an alarm to the others, not to itself; and an alarm
 * is mailed at once, alone, whatever else waits. */
static void test_alarms_are_mailed(void **state)
{
    (void)state;
    char text[2048], both[4096];
    stored *s = make_stored();
    make_credentials(s->folder);
    server post = start_mail(s->folder);
    mail_settings(s, post.port, "on = alarms\nwhen = digest 1 h\n", text);
    (void)snprintf(both, sizeof both,
                   "%s[destination shed]\nurl = http://localhost:9/\nby = form\n"
                   "secret_file = %s/no.secret\non = sightings, alarms\n",
                   text, s->folder);
    deliver(s, "there, shed", both);
    const tw_log_entry entry = {.camera = "mere",
                                .at_us = INT64_C(1804966260) * 1000000,
                                .what = "alarm",
                                .text = "it has given no picture for <12> min"};
    assert_int_equal(twi_catalogue_happened(s->catalogue, &entry, NULL), TW_OK);
    char *mail = mail_number(s, 0);
    assert_has(mail, "Subject: hollin: mere: it has given no picture for <12> min\r\n");
    assert_has(mail, "mere, 2027-03-13 19:31: it has given no picture for <12> min\r\n");
    assert_has(mail, "no picture for &lt;12&gt; min</p>");
    free(mail);
    (void)sight(s, 100); /* of that the shed is to hear, which cannot be had */
    mail = mail_number(s, 1);
    assert_has(mail, "nothing is sent to shed any more: ");
    assert_null(strstr(mail, "sighting 1"));
    free(mail);
    /* the first alarm, the still and the clip; it is not told of itself */
    assert_int_equal(filled(s, "shed").waiting, 3);
    WAIT_FOR(filled(s, "there").waiting == 0); /* nor is it told of itself */
    end_server(&post);
    leave_stored(s);
}

/* Who wants the word of the day gets that, and no alarm; and the other way round. */
static void test_the_word_of_the_day_is_mailed(void **state)
{
    (void)state;
    char text[2048], both[4096];
    stored *s = make_stored();
    make_credentials(s->folder);
    server post = start_mail(s->folder);
    mail_settings(s, post.port, "on = daily\n[station]\ndaily_word = 08:00\n", text);
    (void)snprintf(
        both, sizeof both,
        "%s[destination shed]\nurl = http://localhost:9/\nby = form\non = alarms\n",
        text);
    deliver(s, "there, shed", both);
    tw_log_entry entry = {.at_us = INT64_C(1804966260) * 1000000,
                          .what = "alarm",
                          .text = "the card will be full in 9 h"};
    assert_int_equal(twi_catalogue_happened(s->catalogue, &entry, NULL), TW_OK);
    entry.what = "daily";
    entry.text = "all is well: 2 cameras, 14 sightings, card for 41 days";
    assert_int_equal(twi_catalogue_happened(s->catalogue, &entry, NULL), TW_OK);
    char *mail = mail_number(s, 0);
    assert_has(
        mail,
        "Subject: hollin: all is well: 2 cameras, 14 sightings, card for 41 days\r\n");
    assert_null(strstr(mail, "the card will be full"));
    free(mail);
    assert_int_equal(filled(s, "shed").waiting, 1); /* the alarm */
    WAIT_FOR(filled(s, "there").waiting == 0);
    end_server(&post);
    leave_stored(s);
}

/* A first still leaves while the sighting runs; the rest follows in the same thread. */
static void test_mail_while_it_runs(void **state)
{
    (void)state;
    char text[2048], thread[256], again[256], id[256], other[256];
    stored *s = make_stored();
    make_credentials(s->folder);
    server post = start_mail(s->folder);
    mail_settings(s, post.port, "what = small, record\nsmall_side = 100\n", text);
    deliver(s, "there", text);
    const int64_t running = begin_sighting(s);
    add_still(s, running);
    char *mail = mail_number(s, 0);
    assert_has(mail, "and still going on");
    assert_null(strstr(mail, "Bufo"));
    (void)header(mail, "References: ", thread);
    (void)header(mail, "Message-ID: ", id);
    free(mail);
    const tw_naming toads = {
        .size = sizeof toads, .name = "Bufo bufo <b>", .count = 2, .at_us = 1};
    assert_int_equal(tw_catalogue_name(s->catalogue, running, &toads, NULL), TW_OK);
    end_sighting(s, running);
    mail = mail_number(s, 1);
    assert_has(mail, "2 Bufo bufo <b>, 13 Mar 2027, "); /* in its text ... */
    assert_has(mail, ">2 Bufo bufo &lt;b&gt;</i>");     /* ... and in HTML */
    assert_string_equal(header(mail, "References: ", again), thread);
    assert_string_not_equal(header(mail, "Message-ID: ", other), id);
    assert_has(mail, "filename=\"sighting.json\"");
    free(mail);
    end_server(&post);
    leave_stored(s);
}

/* How often a text stands in another. */
static int times_in(const char *text, const char *what)
{
    int n = 0;
    for (const char *at = strstr(text, what); at; at = strstr(at + 1, what))
        n++;
    return n;
}

/* Each sighting has one line in the text, and one with its picture in the HTML. */
static void each_once(const char *mail, int first, int last)
{
    char line[64];
    for (int i = first; i <= last; i++) {
        (void)snprintf(line, sizeof line, "kerb, sighting %d, ", i);
        assert_int_equal(times_in(mail, line), 2);
        (void)snprintf(line, sizeof line, "Content-ID: <picture%d>\r\n", i - first);
        assert_int_equal(times_in(mail, line), 1);
        (void)snprintf(line, sizeof line, "src=3D\"cid:picture%d\"", i - first);
        assert_int_equal(times_in(mail, line), 1);
    }
    assert_int_equal(times_in(mail, "13 Mar 2027"), 2); /* the day, above them */
    assert_null(strstr(mail, "<picture5>"));
}

/* One mail with a picture and a line of each that came in between. */
static void test_mail_that_a_limit_held_back_is_joined(void **state)
{
    (void)state;
    char text[2048];
    stored *s = make_stored();
    make_credentials(s->folder);
    server post = start_mail(s->folder);
    mail_settings(s, post.port, "limit = 2/h\nwhat = still\n", text);
    for (int i = 0; i < 3; i++)
        (void)sight(s, 0);
    deliver(s, "there", text); /* nothing was routed before */
    assert_int_equal(filled(s, "there").waiting, 0);
    deliver(s, NULL, NULL);
    for (int i = 0; i < 5; i++)
        (void)sight(s, 0);
    deliver(s, "there", text);
    char *mail = mail_number(s, 0);
    assert_has(mail, "Subject: hollin: 5 sightings, 13 Mar 20:34 to 20:38\r\n");
    each_once(mail, 4, 8);
    free(mail);
    (void)sight(s, 0);
    mail = mail_number(s, 1);
    assert_has(mail, "Subject: kerb: sighting 9, 20:39\r\n");
    free(mail);
    (void)sight(s, 0); /* held for an hour */
    let_pass(3000000);
    assert_int_equal(filled(s, "there").waiting, 1);
    end_server(&post);
    leave_stored(s);
}

/* What a name could do to a header or a command. */
static void test_nothing_is_injected(void **state)
{
    (void)state;
    char text[2048];
    stored *s = make_stored();
    make_credentials(s->folder);
    server post = start_mail(s->folder);
    mail_settings(s, post.port, "subject = %n{camera}%n%nBcc: eve@marsh.example\n", text);
    deliver(s, "there", text);
    (void)sight(s, 0);
    char *mail = mail_number(s, 0);
    assert_has(mail, "X-To: ann@lane.example,bob@lane.example\r\n");
    assert_null(strstr(mail, "\nBcc:"));
    assert_has(mail, "Subject:  kerb  Bcc: eve@marsh.example\r\n");
    free(mail);
    end_server(&post);
    leave_stored(s);
}

/* ---- forms ------------------------------------------------------------------------- */

/* A request that was kept, what is no text in it left out. */
static char *request(const char *folder, int number)
{
    char name[32];
    size_t bytes = 0;
    (void)snprintf(name, sizeof name, "%04d.request", number);
    char *path = join(folder, name), *text = read_file(path, &bytes);
    for (size_t i = 0; i < bytes; i++)
        if (text[i] == '\0')
            text[i] = '.';
    free(path);
    return text;
}

static void test_forms(void **state)
{
    (void)state;
    char text[1024], key[256], again[256];
    stored *s = make_stored();
    make_credentials(s->folder);
    char *got = join(s->folder, "got");
    (void)mkdir(got, 0755);
    server web = start_stand_in("odd_server.py", "http", got, "503", "200", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/hook/in\nby = form\n"
                   "headers = Authorization: Bearer {secret} | X-Place: lane\n"
                   "secret_file = %s/good.secret\n",
                   web.port, s->folder);
    deliver(s, "there", text);
    deliver(s, NULL, NULL); /* a slow disk must not make two messages of it */
    (void)sight(s, 3000);
    deliver(s, "there", text);
    WAIT_FOR(filled(s, "there").waiting == 0);
    char *one = request(got, 0), *two = request(got, 1);
    assert_has(two, "POST /hook/in HTTP/1.1\r\n");
    assert_has(two, "Authorization: Bearer frogspawn\r\nX-Place: lane\r\n");
    assert_has(two, "name=\"record\"");
    assert_has(two, "{\"type\":\"sighting\",\"number\":1,");
    assert_has(two, "\"phase\":\"end\",\"series\":\"");
    assert_has(two, "name=\"file\"; filename=\"kerb+001-still.jpg\"");
    assert_has(two, "name=\"file\"; filename=\"kerb+001-clip.mp4\"");
    assert_string_equal(header(one, "Idempotency-Key: ", key),
                        header(two, "Idempotency-Key: ", again));
    free(one);
    free(two);
    deliver(s, NULL, NULL);
    char *by = strstr(text, "by = form");
    memcpy(by, "by = json", 9);
    (void)sight(s, 0);
    deliver(s, "there", text);
    WAIT_FOR(filled(s, "there").sent == 2);
    char *three = request(got, 2);
    assert_has(three, "Content-Type: application/json\r\n");
    assert_has(three, "\r\n\r\n{\"type\":\"sighting\",\"number\":2,");
    assert_has(three, "\"phase\":\"end\",\"series\":\"");
    free(three);
    free(got);
    end_server(&web);
    leave_stored(s);
}

/* ---- when, and what ---------------------------------------------------------------- */

static void folder_settings(const stored *s, const char *more, char out[1024])
{
    char *disk = join(s->folder, "disk");
    (void)mkdir(disk, 0755);
    (void)snprintf(out, 1024, "[destination there]\nurl = file:%s\n%s", disk, more);
    free(disk);
}

static void test_stills_are_reduced(void **state)
{
    (void)state;
    char text[1024];
    size_t bytes = 0;
    uint8_t *pixels = NULL;
    uint16_t width = 0, height = 0;
    if (!twi_drawing_load(NULL))
        skip(); /* without it they go as they are */
    stored *s = make_stored();
    folder_settings(s, "what = small\nsmall_side = 100\n", text);
    deliver(s, "there", text);
    (void)sight(s, 0);
    WAIT_FOR(filled(s, "there").sent == 1);
    char *path = join(s->folder, "disk/2027-03-13/kerb+001-still-small.jpg");
    char *jpeg = read_file(path, &bytes);
    assert_int_equal(
        twi_jpeg_pixels((uint8_t *)jpeg, bytes, 0, &pixels, &width, &height, NULL),
        TW_OK);
    assert_int_equal(width, 100);
    assert_int_equal(height, 75);                              /* of 320 x 240 */
    assert_true(pixels[4 * 50] >= 58 && pixels[4 * 50] <= 62); /* as grey as it was */
    free(pixels);
    free(jpeg);
    free(path);
    leave_stored(s);
}

static void test_nothing_goes_until_so_many_have_come(void **state)
{
    (void)state;
    char text[1024];
    stored *s = make_stored();
    folder_settings(s, "when = after 2\n", text);
    deliver(s, "there", text);
    (void)sight(s, 100);
    let_pass(2000000);
    assert_int_equal(filled(s, "there").waiting, 2);
    (void)sight(s, 100);
    WAIT_FOR(filled(s, "there").sent == 4); /* all of both, one by one */
    (void)sight(s, 100);
    let_pass(2000000);
    assert_int_equal(filled(s, "there").waiting, 2);
    leave_stored(s);
}

/* Three clips use most of a budget up: then records alone go; without it, the rest. */
static void test_a_budget_leaves_clips_for_later(void **state)
{
    (void)state;
    char text[1024], more[1100];
    stored *s = make_stored();
    make_credentials(s->folder);
    server web = start_webdav(s->folder, false);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://localhost:%d/lane\n" WHAT,
                   web.port);
    (void)snprintf(more, sizeof more, "%sbudget = 1 MB/d\n", text);
    deliver(s, "there", more);
    for (int i = 0; i < 5; i++)
        (void)sight(s, 300000);
    WAIT_FOR(was_told(s, "of its budget of 1 MB in 24 h is used: clips and stills wait"));
    WAIT_FOR(filled(s, "there").sent == 11);
    assert_int_equal(filled(s, "there").waiting, 4);
    assert_int_equal(filled(s, "there").given_up, 0);
    check_same(s, "www/lane", "2027-03-13/kerb+003-clip.mp4");
    deliver(s, NULL, NULL);
    deliver(s, "there", more); /* a new start does not bring another budget */
    WAIT_FOR(was_told(s, "nothing is encrypted"));
    (void)usleep(500000);
    assert_int_equal(filled(s, "there").sent, 11);
    deliver(s, NULL, NULL);
    deliver(s, "there", text);
    WAIT_FOR(filled(s, "there").sent == 15);
    check_same(s, "www/lane", "2027-03-13/kerb+005-clip.mp4");
    end_server(&web);
    leave_stored(s);
}

static void test_nothing_goes_outside_its_hours(void **state)
{
    (void)state;
    char text[1024], hours[64];
    stored *s = make_stored();
    const int now_h = (int)(time(NULL) / 3600 % 24); /* UTC, as the test runs in */
    (void)snprintf(hours, sizeof hours, "hours = %02d:00-%02d:30\n", (now_h + 2) % 24,
                   (now_h + 2) % 24);
    folder_settings(s, hours, text);
    deliver(s, "there", text);
    (void)sight(s, 100);
    let_pass(2000000);
    assert_int_equal(filled(s, "there").waiting, 2);
    folder_settings(s, "", text);
    deliver(s, "there", text);
    WAIT_FOR(filled(s, "there").waiting == 0);
    leave_stored(s);
}

static void test_the_newest_goes_first_if_wanted(void **state)
{
    (void)state;
    char text[1024];
    stored *s = make_stored();
    char *got = join(s->folder, "got");
    (void)mkdir(got, 0755);
    server web = start_stand_in("odd_server.py", "http", got, "200", NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/\nby = put\n"
                   "what = still\norder = newest-first\n",
                   web.port);
    deliver(s, "there", text); /* for its routes */
    deliver(s, NULL, NULL);
    for (int i = 0; i < 3; i++)
        (void)sight(s, 0);
    deliver(s, "there", text);
    WAIT_FOR(filled(s, "there").waiting == 0);
    for (int i = 0; i < 3; i++) {
        char words[64], *one = request(got, i);
        (void)snprintf(words, sizeof words, "PUT /2027-03-13/kerb%%2B%03d-still.jpg ",
                       3 - i);
        assert_has(one, words);
        free(one);
    }
    free(got);
    end_server(&web);
    leave_stored(s);
}

/* What trusts more than it should is said at every start. */
static void test_what_is_not_safe_is_said(void **state)
{
    (void)state;
    static const struct {
        const char *lines, *told; /* NULL: nothing */
    } cases[] = {
        {"url = https://127.0.0.1:1/\n", NULL},
        {"url = https://127.0.0.1:1/\ntls = unverified\n", "whoever answers there"},
        {"url = http://127.0.0.1:1/\n", "nothing is encrypted"},
        {"url = ftp://127.0.0.1:1/\n", "nothing is encrypted"},
        {"url = mqtt://127.0.0.1:1/\n", "nothing is encrypted"},
        {"url = smtp://127.0.0.1:1\nto = a@b.example\nfrom = a@b.example\n", NULL},
        {"url = smtp://127.0.0.1:1\nto = a@b.example\nfrom = a@b.example\ntls = none\n",
         "nothing is encrypted"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[512];
        stored *s = make_stored();
        (void)snprintf(text, sizeof text, "[destination there]\n%s", cases[i].lines);
        for (int starts = 0; starts < 2; starts++) {
            s->told[0] = '\0';
            deliver(s, "there", text);
            deliver(s, NULL, NULL);
            assert_int_equal(was_told(s, "there: nothing is encrypted") ||
                                 was_told(s, "there: tls = unverified"),
                             cases[i].told != NULL);
            if (cases[i].told)
                assert_true(was_told(s, cases[i].told));
        }
        leave_stored(s);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_folder),
        cmocka_unit_test(test_webdav),
        cmocka_unit_test(test_ftp),
        cmocka_unit_test(test_sftp),
        cmocka_unit_test(test_object_storage),
        cmocka_unit_test(test_mail),
        cmocka_unit_test(test_mail_encrypted_from_the_beginning),
        cmocka_unit_test(test_mail_tells_of_a_destination_that_stopped),
        cmocka_unit_test(test_alarms_are_mailed),
        cmocka_unit_test(test_the_word_of_the_day_is_mailed),
        cmocka_unit_test(test_mail_while_it_runs),
        cmocka_unit_test(test_mail_that_a_limit_held_back_is_joined),
        cmocka_unit_test(test_nothing_is_injected),
        cmocka_unit_test(test_forms),
        cmocka_unit_test(test_stills_are_reduced),
        cmocka_unit_test(test_nothing_goes_until_so_many_have_come),
        cmocka_unit_test(test_a_budget_leaves_clips_for_later),
        cmocka_unit_test(test_nothing_goes_outside_its_hours),
        cmocka_unit_test(test_the_newest_goes_first_if_wanted),
        cmocka_unit_test(test_what_is_not_safe_is_said),
    };
    (void)setenv("TZ", "UTC", 1);
    return cmocka_run_group_tests(tests, NULL, NULL);
}
