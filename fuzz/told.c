/* libFuzzer target: what a board tells a gatherer, a topic and a message on two lines,
 * and what a gatherer asks a board. Whatever it is, what is kept is whole text below its
 * own limits, and a question names ranges that end. */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

#include "../src/deliver/retell.h"
#include "../src/gather/heard.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

/* UTF-8, as any data base wants it. */
static void check_text(const char *text)
{
    json_t *o = json_string(text);
    if (!o)
        abort();
    json_decref(o);
}

static void check_heard(const char *topic, const char *text)
{
    twi_heard h;
    if (twi_heard_read("lane", topic, text, strlen(text), &h) != TW_OK)
        return;
    if (!h.text || h.station[0] == '\0' || strpbrk(h.station, "/"))
        abort();
    if (h.kind == TWI_HEARD_SIGHTING && (h.number < 1 || h.start_us <= 0 || !h.series[0]))
        abort();
    if (h.kind == TWI_HEARD_SETTINGS && !h.name[0])
        abort();
    if (h.kind == TWI_HEARD_ANSWER && (h.number < 1 || (strcmp(h.state, "taken") != 0 &&
                                                        strcmp(h.state, "refused") != 0)))
        abort();
    check_text(h.series);
    check_text(h.name);
    check_text(h.state);
    check_text(h.mark);
    check_text(h.text);
    twi_heard_clear(&h);
}

static void check_asked(const char *text)
{
    twi_retelling r = {0};
    uint32_t number = 0;
    if (twi_retell_take(&r, "9f0c2a7be1d44c08", text, strlen(text)) != TW_OK)
        return;
    if (r.count > TWI_RETELL_RANGES)
        abort();
    for (int i = 0; i < 1000 && twi_retell_next(&r, &number); i++)
        if (number == 0)
            abort();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    char *text = malloc(bytes + 1);
    if (!text)
        return 0;
    memcpy(text, data, bytes);
    text[bytes] = '\0';
    char *end = strchr(text, '\n');
    if (end) {
        *end = '\0';
        check_heard(text, end + 1);
        check_asked(end + 1);
    }
    free(text);
    return 0;
}
