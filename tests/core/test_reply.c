/* What servers' replies mean. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

static twi_fault mail(const char *line)
{
    const twi_reply r = twi_reply_read(line);
    return twi_reply_fault(TWI_PROTOCOL_SMTP, &r);
}

static void test_numbers_are_read(void **state)
{
    (void)state;
    twi_reply r = twi_reply_read("552-5.2.2 mailbox full");
    assert_int_equal(r.code, 552);
    assert_int_equal(r.enhanced[0], 5);
    assert_int_equal(r.enhanced[2], 2);
    assert_string_equal(r.text, "mailbox full");
    r = twi_reply_read("HTTP/1.1 507 Insufficient Storage");
    assert_int_equal(r.code, 507);
    assert_string_equal(r.text, "Insufficient Storage");
    r = twi_reply_read("550 1.2.3.4 is no number of mail");
    assert_int_equal(r.code, 550);
    static const char *const none[] = {"",         "55",   "5500 x", "abc",
                                       "HTTP/1.1", "-1 x", "HTTP/"};
    for (size_t i = 0; i < sizeof none / sizeof *none; i++)
        assert_int_equal(twi_reply_read(none[i]).code, 0);
    assert_int_equal(twi_reply_read(NULL).code, 0);
}

static void test_mail_servers(void **state)
{
    (void)state;
    assert_int_equal(mail("451 4.7.1 greylisted"), TWI_FAULT_BUSY);
    assert_int_equal(mail("550 5.1.1 unknown"), TWI_FAULT_RECIPIENT);
    assert_int_equal(mail("550 unknown"), TWI_FAULT_RECIPIENT);
    assert_int_equal(mail("550 5.7.1 we do not like it"), TWI_FAULT_REFUSED);
    assert_int_equal(mail("552 5.2.3 longer than the mailbox takes"),
                     TWI_FAULT_TOO_LARGE);
    assert_int_equal(mail("535 5.7.8 no"), TWI_FAULT_LOGIN);
    assert_int_equal(mail("no number at all"), TWI_FAULT_OTHER);
}

static void test_others(void **state)
{
    (void)state;
    const twi_reply denied = twi_reply_read("550 Permission denied."),
                    forbidden = twi_reply_read("HTTP/1.1 403 Forbidden");
    assert_int_equal(twi_reply_fault(TWI_PROTOCOL_FTP, &denied), TWI_FAULT_FOLDER);
    assert_int_equal(twi_reply_fault(TWI_PROTOCOL_S3, &forbidden), TWI_FAULT_LOGIN);
    assert_int_equal(twi_reply_fault(TWI_PROTOCOL_HTTP, &forbidden), TWI_FAULT_FOLDER);
    assert_int_equal(twi_reply_fault(TWI_PROTOCOL_FILE, &forbidden), TWI_FAULT_OTHER);
}

/* Each says what is wrong, in its own words, and something happens for each. */
static void test_each_fault_is_worded(void **state)
{
    (void)state;
    for (int a = 1; a < TWI_FAULT_COUNT; a++) {
        assert_true(strlen(twi_fault_text((twi_fault)a)) > 8);
        assert_int_not_equal(twi_fault_verdict((twi_fault)a), TWI_DELIVERED);
        for (int b = 1; b < a; b++)
            assert_string_not_equal(twi_fault_text((twi_fault)a),
                                    twi_fault_text((twi_fault)b));
    }
}

/* The page that lists them has them all as they are said. */
static void test_each_fault_is_documented(void **state)
{
    (void)state;
    char *page = read_file(SOURCE_DIR "/docs/sending.md", NULL);
    for (int a = 1; a < TWI_FAULT_COUNT; a++)
        assert_has(page, twi_fault_text((twi_fault)a));
    free(page);
}

static void test_lines_are_cleaned(void **state)
{
    (void)state;
    char out[16];
    static const char line[] = "250 \x1b[31m ok\x00more";
    assert_string_equal(twi_reply_shown(line, sizeof line - 1, out, sizeof out),
                        "250 [31m ok");
    assert_string_equal(twi_reply_shown("12345678901234567890", 20, out, 8), "1234567");
    assert_string_equal(twi_reply_shown("", 0, out, sizeof out), "");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_numbers_are_read),
        cmocka_unit_test(test_mail_servers),
        cmocka_unit_test(test_others),
        cmocka_unit_test(test_each_fault_is_worded),
        cmocka_unit_test(test_each_fault_is_documented),
        cmocka_unit_test(test_lines_are_cleaned),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
