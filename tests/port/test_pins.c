/* Pins: those that follow a script, and the board's, against a stand-in for the library's
 * calls: this program's own come before the library's. */
#include <errno.h>
#include <gpiod.h>
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "../../src/base/system_error.h"

/* ---- the stand-in: one chip with four lines -----------------------------------------
 */

enum { LINES = 4 };

struct gpiod_chip {
    int open;
};

struct gpiod_line {
    bool requested, output, low;
    int level; /* electrical */
};

static struct gpiod_chip chip;
static struct gpiod_line lines[LINES];
static int fail_value; /* errno of the next reading or switching */

struct gpiod_chip *gpiod_chip_open_lookup(const char *description)
{
    if (strcmp(description, "gpiochip9") == 0) { /* of root alone */
        errno = EACCES;
        return NULL;
    }
    if (strcmp(description, "gpiochip0") != 0) {
        errno = ENOENT;
        return NULL;
    }
    chip.open++;
    return &chip;
}

struct gpiod_line *gpiod_chip_get_line(struct gpiod_chip *of, unsigned int offset)
{
    assert_ptr_equal(of, &chip);
    if (offset >= LINES) {
        errno = EINVAL;
        return NULL;
    }
    return &lines[offset];
}

struct gpiod_line *gpiod_line_find(const char *name)
{
    if (strcmp(name, "SENSOR") != 0) {
        errno = ENOENT;
        return NULL;
    }
    chip.open++;
    return &lines[3];
}

static int request(struct gpiod_line *line, bool output, int flags)
{
    if (line->requested) {
        errno = EBUSY;
        return -1;
    }
    line->requested = true;
    line->output = output;
    line->low = flags == GPIOD_LINE_REQUEST_FLAG_ACTIVE_LOW;
    return 0;
}

int gpiod_line_request_input_flags(struct gpiod_line *line, const char *consumer,
                                   int flags)
{
    assert_string_equal(consumer, "tawny");
    return request(line, false, flags);
}

int gpiod_line_request_output_flags(struct gpiod_line *line, const char *consumer,
                                    int flags, int value)
{
    assert_string_equal(consumer, "tawny");
    const int code = request(line, true, flags);
    if (code == 0)
        line->level = value != line->low;
    return code;
}

int gpiod_line_get_value(struct gpiod_line *line)
{
    assert_true(line->requested && !line->output);
    errno = fail_value;
    return fail_value ? -1 : line->level != line->low;
}

int gpiod_line_set_value(struct gpiod_line *line, int value)
{
    assert_true(line->requested && line->output);
    errno = fail_value;
    if (fail_value)
        return -1;
    line->level = value != line->low;
    return 0;
}

void gpiod_chip_close(struct gpiod_chip *of)
{
    assert_ptr_equal(of, &chip);
    chip.open--;
}

void gpiod_line_close_chip(struct gpiod_line *line)
{
    line->requested = false;
    chip.open--;
}

/* ---- the board's --------------------------------------------------------------------
 */

static void begin(tw_pins *pins)
{
    memset(&chip, 0, sizeof chip);
    memset(lines, 0, sizeof lines);
    fail_value = 0;
    assert_int_equal(tw_linux_pins(pins, NULL), TW_OK);
}

static void end(tw_pins *pins)
{
    pins->ops->destroy(pins->ctx);
    assert_int_equal(chip.open, 0);
}

static void check_read(const tw_pins *pins, const char *line, bool expected)
{
    bool active = !expected;
    assert_int_equal(pins->ops->read(pins->ctx, line, &active, NULL), TW_OK);
    assert_int_equal(active, expected);
}

static void test_lines_of_the_board(void **state)
{
    (void)state;
    tw_pins pins;
    begin(&pins);
    check_read(&pins, "gpiochip0/0", false);
    lines[0].level = 1;
    check_read(&pins, "gpiochip0/0", true);
    check_read(&pins, "!gpiochip0/1", true); /* active when it is low */
    lines[1].level = 1;
    check_read(&pins, "!gpiochip0/1", false);
    check_read(&pins, "SENSOR", false);
    assert_int_equal(pins.ops->write(pins.ctx, "gpiochip0/2", true, NULL), TW_OK);
    assert_int_equal(lines[2].level, 1);
    assert_int_equal(pins.ops->write(pins.ctx, "gpiochip0/2", false, NULL), TW_OK);
    assert_int_equal(lines[2].level, 0);
    end(&pins);
}

static void check_failure(const tw_pins *pins, const char *line, bool output,
                          tw_status expected, const char *words)
{
    bool active = false;
    tw_error err = {0};
    const tw_status st = output ? pins->ops->write(pins->ctx, line, true, &err)
                                : pins->ops->read(pins->ctx, line, &active, &err);
    assert_int_equal(st, expected);
    assert_has(err.text, words);
    assert_false(active);
}

static void test_lines_that_cannot_be_used(void **state)
{
    (void)state;
    tw_pins pins;
    begin(&pins);
    check_failure(&pins, "gpiochip7/1", false, TW_ENOENT,
                  "pin gpiochip7/1: there is no such line");
    check_failure(&pins, "gpiochip0/9", true, TW_ENOENT, "there is no such line");
    check_failure(&pins, "gpiochip0/x", true, TW_ENOENT, "there is no such line");
    check_failure(&pins, "LAMP", true, TW_ENOENT, "pin LAMP: there is no such line");
    check_failure(&pins, "gpiochip9/1", false, TW_EACCES,
                  "pin gpiochip9/1: its chip cannot be opened: Permission denied");
    lines[1].requested = true;
    check_failure(&pins, "gpiochip0/1", false, TW_EACCES, "another program has it");
    lines[1].requested = false;
    check_read(&pins, "gpiochip0/0", false);
    check_failure(&pins, "gpiochip0/0", true, TW_EINVAL, "is an input and an output");
    fail_value = ENODEV;
    check_failure(&pins, "gpiochip0/0", false, twi_status_of_errno(ENODEV),
                  "it cannot be read");
    check_failure(&pins, "gpiochip0/2", true, twi_status_of_errno(ENODEV),
                  "it cannot be switched");
    end(&pins);
}

/* ---- by a script --------------------------------------------------------------------
 */

static void test_pins_by_a_script(void **state)
{
    (void)state;
    static const tw_sim_signal signals[] = {{"sensor", 100, 200}, {"sensor", 300, 400}};
    tw_sim_time time = {0};
    tw_pins pins;
    uint32_t switched = 9;
    assert_int_equal(tw_sim_pins(signals, 2, tw_sim_clock(&time), &pins), TW_OK);
    check_read(&pins, "sensor", false);
    time.now_us = 100;
    check_read(&pins, "sensor", true);
    time.now_us = 200;
    check_read(&pins, "sensor", false);
    time.now_us = 399;
    check_read(&pins, "sensor", true);
    check_failure(&pins, "door", false, TW_ENOENT, "pin door: there is no such line");
    assert_false(tw_sim_pins_output(&pins, "lamp", &switched));
    assert_int_equal(switched, 0);
    assert_int_equal(pins.ops->write(pins.ctx, "lamp", true, NULL), TW_OK);
    assert_int_equal(pins.ops->write(pins.ctx, "lamp", true, NULL), TW_OK);
    assert_true(tw_sim_pins_output(&pins, "lamp", &switched));
    assert_int_equal(switched, 1);
    pins.ops->destroy(pins.ctx);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_lines_of_the_board),
        cmocka_unit_test(test_lines_that_cannot_be_used),
        cmocka_unit_test(test_pins_by_a_script),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
