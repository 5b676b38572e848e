/* What is in a store: its sightings, the oldest first, each with its captures. A station
 * may be writing to it meanwhile.
 *
 *     read_catalogue FOLDER */
#include <stdio.h>

#include "tawny/tawny.h"

static bool show_capture(void *ctx, const tw_capture_record *capture)
{
    unsigned *captures = ctx;
    (*captures)++;
    printf("  %s, %llu bytes\n", capture->file, (unsigned long long)capture->bytes);
    return true;
}

typedef struct reading {
    tw_catalogue *catalogue;
    unsigned sightings, captures;
    tw_error err;
} reading;

static bool show_sighting(void *ctx, const tw_sighting_record *sighting)
{
    reading *r = ctx;
    r->sightings++;
    printf("%s, sighting %u, %.1f s: %s\n", sighting->camera, (unsigned)sighting->number,
           (double)(sighting->end_us - sighting->start_us) / 1e6,
           sighting->why ? sighting->why : "");
    return tw_catalogue_captures(r->catalogue, sighting->id, show_capture, &r->captures,
                                 &r->err) == TW_OK;
}

int main(int argc, char **argv)
{
    reading r = {.sightings = 0};
    char path[4096];
    if (argc != 2 ||
        snprintf(path, sizeof path, "%s/catalogue.db", argv[1]) >= (int)sizeof path) {
        printf("read_catalogue FOLDER\n");
        return 1;
    }
    const tw_sighting_filter all = {.camera = NULL};
    tw_status st = tw_catalogue_open(path, false, &r.catalogue, &r.err);
    if (st == TW_OK)
        st = tw_catalogue_sightings(r.catalogue, &all, show_sighting, &r, &r.err);
    if (st == TW_OK)
        printf("%u sightings, %u captures\n", r.sightings, r.captures);
    else
        printf("%s\n", r.err.text);
    tw_catalogue_close(r.catalogue);
    return st == TW_OK ? 0 : 1;
}
