/* tawny reel: a time-lapse from stills, or one video from clips. */
#include <stdio.h>
#include <string.h>

#include "output.h"
#include "store.h"
#include "../core/naming.h"

static const char ABOUT[] = "Makes one H.264 video from what a store holds: a time-lapse "
                            "from its timed stills, or\n"
                            "with --stills from those of sightings, or with --clips the "
                            "clips joined, in the order\n"
                            "of their times. Files that are named are taken instead. "
                            "Nothing in the store changes.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny reel mere.mp4 --camera mere --day 2027-03-13 --fps 24\n"
    "  tawny reel night.mp4 --clips --speed 4 --caption '%H:%M:%S {camera}'\n"
    "  tawny reel toads.mp4 --width 1280 still1.jpg still2.jpg still3.jpg";

typedef struct reeling {
    cli_common common;
    char *store, *camera, *day, *caption;
    gboolean stills, clips;
    int fps, width, quality;
    double speed;
    tw_clock clock;
    int64_t from_us, until_us;
    GArray *parts; /* of twi_reel_part, texts their own */
    out_progress progress;
    const volatile int *stop;
} reeling;

/* ---- what goes in ---------------------------------------------------------------- */

static void add_part(reeling *r, const char *path, int64_t wall_us, const char *camera,
                     int64_t sighting)
{
    const twi_reel_part part = {g_strdup(path), wall_us, g_strdup(camera),
                                (uint32_t)sighting};
    g_array_append_val(r->parts, part);
}

static void drop_part(gpointer data)
{
    const twi_reel_part *part = data;
    g_free((char *)part->path);
    g_free((char *)part->camera);
}

static bool take_capture(void *ctx, const tw_capture_record *c)
{
    reeling *r = ctx;
    const twi_kind wanted = r->clips    ? TWI_KIND_CLIP
                            : r->stills ? TWI_KIND_STILL
                                        : TWI_KIND_TIMED_STILL;
    if (twi_kind_find(c->kind) != wanted || c->start_us < r->from_us ||
        (r->until_us > 0 && c->start_us >= r->until_us) ||
        (r->camera && strcmp(r->camera, c->camera) != 0))
        return true;
    g_autofree char *path = g_build_filename(r->store, c->file, NULL);
    add_part(r, path, c->start_us, c->camera, c->sighting);
    return true;
}

static int take_from_store(reeling *r)
{
    tw_catalogue *catalogue = NULL;
    tw_error err = {0};
    int code = store_find(&r->common, &r->store);
    if (code == CLI_DONE)
        code = store_day(&r->clock, r->day, &r->from_us, &r->until_us);
    if (code == CLI_DONE)
        code = store_open(r->store, &catalogue);
    if (code == CLI_DONE &&
        tw_catalogue_captures(catalogue, 0, take_capture, r, &err) != TW_OK)
        code = cli_say(CLI_FAILED, "%s", err.text);
    tw_catalogue_close(catalogue);
    if (code == CLI_DONE && r->parts->len == 0)
        code = cli_say(CLI_FAILED, "%s has no %s of that camera and time", r->store,
                       r->clips    ? "clips"
                       : r->stills ? "stills"
                                   : "timed stills (timed_still = 5 min makes some)");
    return code;
}

/* ---- making ---------------------------------------------------------------------- */

static int on_part(void *ctx, uint32_t done, uint32_t of)
{
    reeling *r = ctx;
    (void)of;
    out_progress_at(&r->progress, (int64_t)done * G_USEC_PER_SEC);
    return !*r->stop;
}

static int make(reeling *r, const char *path)
{
    tw_error err = {0};
    uint32_t skipped = 0;
    const twi_reel_spec spec = {.fps = (uint32_t)MAX(r->fps, 0),
                                .speed_pct = (uint32_t)(r->speed * 100 + 0.5),
                                .width = (uint16_t)CLAMP(r->width, 0, UINT16_MAX),
                                .quality = (uint32_t)MAX(r->quality, 0),
                                .caption = r->caption,
                                .offset_s = r->clock.ops->offset_s,
                                .offset_ctx = r->clock.ctx};
    r->stop = cli_catch_signals(NULL);
    out_progress_start(&r->progress, "making the reel",
                       (int64_t)r->parts->len * G_USEC_PER_SEC);
    const tw_status st =
        twi_reel_write(&spec, (const twi_reel_part *)(const void *)r->parts->data,
                       r->parts->len, path, on_part, r, &skipped, &err);
    out_progress_clear(&r->progress);
    if (st != TW_OK && st != TW_ESTOPPED)
        return cli_say(cli_exit(st), "%s", err.text);
    (void)printf("%s: made of %u %s%s\n", path, r->parts->len - skipped,
                 r->clips ? "clips" : "pictures",
                 st == TW_ESTOPPED ? ", as far as it got" : "");
    if (skipped > 0)
        (void)cli_say(CLI_DONE, "%u could not be read, such as: %s", (unsigned)skipped,
                      err.text);
    return CLI_DONE;
}

static int run(reeling *r, int count, char **files)
{
    if (count < 1)
        return cli_say(CLI_USAGE,
                       "name the video that is to be made: tawny reel OUT.mp4");
    if (r->stills && r->clips)
        return cli_say(CLI_USAGE, "either --stills or --clips");
    if (r->speed < 0.01 || r->speed > 100)
        return cli_say(CLI_USAGE, "--speed: 0.01 to 100 times is possible");
    for (int i = 1; i < count; i++)
        add_part(r, files[i], 0, "", 0);
    const int code = count > 1 ? CLI_DONE : take_from_store(r);
    return code == CLI_DONE ? make(r, files[0]) : code;
}

int cli_reel(int argc, char **argv)
{
    reeling r = {.fps = 12, .quality = 70, .speed = 1, .clock = tw_linux_clock()};
    const GOptionEntry own[] = {
        {"store", 'd', 0, G_OPTION_ARG_FILENAME, &r.store,
         "The store (else that of the settings)", "DIR"},
        {"camera", 'c', 0, G_OPTION_ARG_STRING, &r.camera, "Of this camera only", "NAME"},
        {"day", 0, 0, G_OPTION_ARG_STRING, &r.day, "Captured on this day", "YYYY-MM-DD"},
        {"stills", 0, 0, G_OPTION_ARG_NONE, &r.stills, "From the stills of sightings",
         NULL},
        {"clips", 0, 0, G_OPTION_ARG_NONE, &r.clips, "From the clips of sightings", NULL},
        {"fps", 0, 0, G_OPTION_ARG_INT, &r.fps, "Pictures a second (12)", "N"},
        {"speed", 0, 0, G_OPTION_ARG_DOUBLE, &r.speed, "Of clips: so many times as fast",
         "X"},
        {"width", 0, 0, G_OPTION_ARG_INT, &r.width, "Width of the video, pixels", "N"},
        {"quality", 0, 0, G_OPTION_ARG_INT, &r.quality, "1 to 100 (70)", "N"},
        {"caption", 0, 0, G_OPTION_ARG_STRING, &r.caption,
         "Text in the picture: strftime conversions and {camera}, {sighting}", "TEXT"},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    r.parts = g_array_new(FALSE, FALSE, sizeof(twi_reel_part));
    g_array_set_clear_func(r.parts, drop_part);
    int code = cli_parse(&argc, &argv, "OUT.mp4 [FILE…]", ABOUT, EXAMPLE, own, &r.common);
    if (code == CLI_DONE)
        code = run(&r, argc - 1, argv + 1);
    (void)g_array_free(r.parts, TRUE);
    cli_clear(&r.common);
    g_free(r.store);
    g_free(r.camera);
    g_free(r.day);
    g_free(r.caption);
    return code;
}
