/* libFuzzer target: what a broker's messages say to a station. Whatever it is, it is an
 * order that is taken, or refused with a line that can be shown. */
#include <stdlib.h>
#include <string.h>

#include "../src/deliver/deliver.h"
#include "../src/deliver/said.h"
#include "tawny/tawny.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

static const char SETTINGS[] = "[camera kerb]\nsource = sim:kerb\n";

/* One that is never run, for all inputs. */
static tw_station *make_station(void)
{
    static const tw_camera_make_fn makers[] = {tw_sim_camera_make, NULL};
    static tw_card card;
    tw_station *station = NULL;
    tw_settings *settings = tw_settings_new();
    if (!settings || tw_settings_read_text(settings, "fuzz", SETTINGS, strlen(SETTINGS),
                                           NULL, NULL) != TW_OK)
        abort();
    if (tw_sim_card(NULL, &card) != TW_OK)
        abort();
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, NULL, NULL, &station, NULL) != TW_OK)
        abort();
    return station;
}

static bool verify_nothing(const char *key, const char *text, const char *signature)
{
    (void)key;
    (void)text;
    (void)signature;
    return false;
}

/* Settings that nobody signed are refused, in words, and so is what is said of sightings
 * where there is no catalogue. */
static void check_others(const uint8_t *data, size_t bytes)
{
    static const twi_broker_module brokers = {.verify = verify_nothing};
    static const twi_afar nowhere;
    const twi_afar_way way = {&brokers, "key", "fuzz", NULL};
    twi_draft_word word;
    twi_said said;
    const tw_status st = twi_afar_take(&nowhere, &way, data, bytes, &word, NULL);
    if (st != TW_OK && st != TW_ENOTSUP && st != TW_ESYNTAX)
        abort();
    if (st == TW_OK && (word.taken || word.id < 1 || !word.text[0]))
        abort();
    if (twi_said_take(NULL, "9f0c2a7be1d44c08", data, bytes, 0, &said, NULL) == TW_OK)
        abort();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    static tw_station *station;
    tw_error err = {0};
    check_others(data, bytes);
    if (!station)
        station = make_station();
    const tw_status st = twi_deliver_order(station, data, bytes, NULL, &err);
    if (st != TW_OK && st != TW_ESYNTAX && st != TW_ENOENT)
        abort();
    if (strlen(err.text) == 0 || strpbrk(err.text, "\r\n\x1b"))
        abort();
    return 0;
}
