/* The catalogue with a hundred thousand sightings: what it costs to write one with two
 * captures, and to list one day of them. Exit 1 if a limit is missed. */
#include <stdio.h>
#include <stdlib.h>

#include "seconds.h"
#include "../src/station/catalogue_write.h"
#include "tawny/tawny.h"

enum { SIGHTINGS = 100000, DAYS = 365, ROUNDS = 9, LIST_MS_MAX = 20 };

#define US INT64_C(1000000)

static void die(const tw_error *err)
{
    (void)fprintf(stderr, "bench: %s\n", err->text);
    exit(2);
}

static void write_one(tw_catalogue *c, uint32_t i)
{
    const int64_t step_us = DAYS * INT64_C(86400) * US / SIGHTINGS;
    const tw_sighting s = {.number = i + 1,
                           .part = 1,
                           .start_us = i * step_us,
                           .end_us = i * step_us + 20 * US,
                           .peak_ppm = 5000,
                           .frames = 200};
    const twi_sighting_entry entry = {.camera = i % 3 ? "kerb" : "mere",
                                      .sighting = &s,
                                      .wall_offset_us = US,
                                      .why = "0.50 % of the watched area moved",
                                      .over = true};
    tw_error err = {0};
    int64_t id = 0;
    if (twi_catalogue_put(c, &entry, &id, &err) != TW_OK)
        die(&err);
    for (int k = 0; k < 2; k++) {
        char file[64];
        (void)snprintf(file, sizeof file, "2027/%u.%s", i, k ? "mp4" : "jpg");
        const tw_capture_record r = {.sighting = id,
                                     .camera = entry.camera,
                                     .kind = k ? "clip" : "still",
                                     .file = file,
                                     .bytes = 100000,
                                     .start_us = s.start_us + US};
        if (twi_catalogue_add(c, &r, &err) != TW_OK)
            die(&err);
    }
}

static bool count(void *ctx, const tw_sighting_record *record)
{
    (void)record;
    ++*(int *)ctx;
    return true;
}

int main(void)
{
    tw_catalogue *c = NULL;
    tw_error err = {0};
    if (tw_catalogue_open(NULL, true, &c, &err) != TW_OK ||
        twi_catalogue_begin_run(c, US, "", &err) != TW_OK)
        die(&err);
    const double begun = seconds();
    for (uint32_t i = 0; i < SIGHTINGS; i++)
        write_one(c, i);
    const double written = (seconds() - begun) / SIGHTINGS;
    double best = 1e9;
    int found = 0;
    for (int i = 0; i < ROUNDS; i++) {
        const tw_sighting_filter day = {.from_us = 200 * INT64_C(86400) * US,
                                        .until_us = 201 * INT64_C(86400) * US};
        const double from = seconds();
        found = 0;
        if (tw_catalogue_sightings(c, &day, count, &found, &err) != TW_OK)
            die(&err);
        best = seconds() - from < best ? seconds() - from : best;
    }
    tw_catalogue_close(c);
    const bool good = best * 1e3 <= LIST_MS_MAX && found > 0;
    printf(
        "catalogue of %d sightings, in memory: %.0f us to write one with two captures; "
        "%.2f ms to list the %d of a day, at most %d: %s\n",
        SIGHTINGS, written * 1e6, best * 1e3, found, LIST_MS_MAX, good ? "ok" : "MISSED");
    return good ? 0 : 1;
}
