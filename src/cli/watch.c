/* tawny watch: the station in the foreground. */
#include <stdio.h>
#include <string.h>

#include "../json/json.h"
#include "control.h"
#include "notify.h"
#include "output.h"
#include "reload.h"
#include "store.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "propose.h"
#include "../station/why.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Watches all cameras of the settings file, or the sources that are named in its\n"
    "place, until Ctrl-C or SIGTERM, one line for each thing that happens. Captures "
    "that\n"
    "are being written are completed first. On SIGHUP the settings are read again: what\n"
    "differs holds with the next frame, or the camera is opened again for it once no\n"
    "sighting runs.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny watch\n"
    "  tawny watch v4l2:/dev/video0\n"
    "  tawny watch --settings station.ini --set kerb.start_at=0.5%\n"
    "  tawny watch --json | tee sightings.jsonl";

/* Signal handlers can reach nothing but what is static. */
static tw_station *running;

static void stop_running(void)
{
    tw_station_stop(running);
}

typedef struct watching {
    const cli_common *common;
    tw_settings *settings;
    tw_clock clock;
    gboolean json;
    gint problems;  /* a camera has ended with an error, or something cannot begin */
    int name_width; /* of the longest camera's name */
    char *report;   /* --report */
    int64_t report_us, report_next_us;
    char *settings_file;
    const char *store;   /* folder; borrowed */
    gboolean is_private; /* memory is kept out of swap and core files */
} watching;

static const char *time_of_day(const watching *w, int64_t wall_us, char buffer[24])
{
    twi_civil t;
    if (wall_us == 0)
        return "            ";
    twi_civil_split(wall_us, w->clock.ops->offset_s(w->clock.ctx, wall_us), &t);
    (void)snprintf(buffer, 24, "%02u:%02u:%02u.%03u", t.hour, t.minute, t.second,
                   (unsigned)(t.microsecond / 1000));
    return buffer;
}

static void print_opened(const watching *w, const tw_event *e, const char *time)
{
    (void)printf("%s  %-*s  watching", time, w->name_width, e->camera);
    if (e->stream->width > 0)
        (void)printf(" %u x %u", e->stream->width, e->stream->height);
    (void)printf(" %s", e->stream->codec_name);
    if (e->stream->fps_num > 0)
        (void)printf(" at %.3g frames a second",
                     (double)e->stream->fps_num / (double)e->stream->fps_den);
    if (e->stream->sound.codec != TW_SOUND_NONE)
        (void)printf(", with sound");
    (void)printf("\n");
}

static void print_event(watching *w, const tw_event *e)
{
    char clock[24], size[24], why[256];
    const char *time = time_of_day(w, e->wall_us, clock);
    switch ((enum tw_event_kind_values)e->kind) {
    case TW_EVENT_OPENED:
        print_opened(w, e, time_of_day(w, w->clock.ops->wall_us(w->clock.ctx), clock));
        break;
    case TW_EVENT_BEGAN:
        (void)printf("%s  %-*s  sighting %u begins: %s\n", time, w->name_width, e->camera,
                     e->sighting->number, twi_why_began(e->sighting, why, sizeof why));
        break;
    case TW_EVENT_ENDED:
        (void)printf("%s  %-*s  sighting %u ends after %.1f s, peak %.2f %%\n", time,
                     w->name_width, e->camera, e->sighting->number,
                     (double)(e->sighting->end_us - e->sighting->start_us) / 1e6,
                     e->sighting->peak_ppm / 1e4);
        break;
    case TW_EVENT_STORED:
        (void)printf("%s  %-*s  %s stored: %s (%s)\n", time, w->name_width, e->camera,
                     e->file_kind, e->file, out_bytes(e->bytes, size));
        break;
    case TW_EVENT_LOST:
    case TW_EVENT_PROBLEM:
    case TW_EVENT_BACK:
    case TW_EVENT_RELOADED:
    case TW_EVENT_ORDERED:
    case TW_EVENT_STOPPED:
    case TW_EVENT_ALARM:
    case TW_EVENT_HOLDS:
    case TW_EVENT_DAILY:
    case TW_EVENT_FREED:
        (void)printf("%s%s  %-*s  %s\n",
                     e->status == TW_OK ? "" : notify_level(stdout, NOTIFY_WARNING), time,
                     w->name_width, e->camera ? e->camera : "station", e->text);
        break;
    case TW_EVENT_CLOSED:
        if (e->status == TW_OK)
            (void)printf("%s  %-*s  closed\n", time, w->name_width, e->camera);
        else
            (void)cli_say(CLI_FAILED, "camera %s: %s", e->camera, e->text);
        break;
    case TW_EVENT_READING: break;
    }
}

/* "armed", or what keeps it from that, and until when. */
static const char *word_state(const watching *w, const tw_camera_status *c, char out[96])
{
    char clock[24];
    if (c->arming == TW_ARMED_BY_SETTING || c->state == TW_SIGHTING)
        return tw_camera_state_name(c);
    (void)snprintf(out, 96, "%s%s%.8s", tw_arming_name(c->arming),
                   c->arming_until_us > 0 ? " until " : "",
                   c->arming_until_us > 0 ? time_of_day(w, c->arming_until_us, clock)
                                          : "");
    return out;
}

/* How a camera fares, for the log. */
static void print_report(const watching *w, const tw_camera_status *c)
{
    char clock[24], size[24], lost[160], state[96], wanted[24] = "";
    const char *time = time_of_day(w, w->clock.ops->wall_us(w->clock.ctx), clock);
    if (!c->open)
        return;
    if (c->wanted_milli > 0)
        (void)snprintf(wanted, sizeof wanted, " of %.3g", c->wanted_milli / 1e3);
    (void)printf("%s  %-*s  %s, %.1f%s frames a second, %.1f %% of a processor, %s kept, "
                 "light %.0f %%, noise %.1f levels, %u sighting%s; %s\n",
                 time, w->name_width, c->name, word_state(w, c, state),
                 c->real_milli / 1e3, wanted, c->busy_ppm / 1e4,
                 out_bytes(c->kept_bytes, size), c->light_ppm / 1e4, c->noise / 16.0,
                 c->sightings, out_s(c->sightings),
                 out_lost(c->dropped, c->damaged, c->lost_frames, lost));
    (void)fflush(stdout);
}

static void print_stopped(void *ctx, const char *destination, const twi_outbox_fill *f)
{
    const watching *w = ctx;
    char clock[24];
    (void)printf("%s%s  %-*s  nothing is sent to %s, %u waiting: %s\n",
                 notify_level(stdout, NOTIFY_WARNING),
                 time_of_day(w, w->clock.ops->wall_us(w->clock.ctx), clock),
                 w->name_width, "station", destination, (unsigned)f->waiting, f->why);
}

static void print_reports(watching *w)
{
    tw_camera_status camera;
    for (size_t i = 0; tw_station_camera(running, i, &camera) == TW_OK; i++)
        print_report(w, &camera);
    store_stopped(w->store, print_stopped, w);
    (void)fflush(stdout);
}

/* The report, if it is due. @return when it is next, milliseconds from now. */
static int report(void *ctx)
{
    enum { LONGEST_MS = 3600000 };
    watching *w = ctx;
    const int64_t now_us = w->clock.ops->now_us(w->clock.ctx);
    if (w->json || w->report_us == 0)
        return -1;
    if (now_us >= w->report_next_us) {
        w->report_next_us = now_us + w->report_us;
        print_reports(w);
    }
    const int64_t ms = (w->report_next_us - now_us + 999) / 1000;
    return ms > LONGEST_MS ? LONGEST_MS : (int)ms;
}

/* What hooks and destinations tell. */
static void on_outward(void *ctx, const char *type, tw_status st, const char *line)
{
    const watching *w = ctx;
    char clock[24];
    if (w->json)
        out_json(twi_json_notice(type, st == TW_OK, line));
    else
        (void)printf("%s%s  %-*s  %s\n",
                     st == TW_OK ? "" : notify_level(stdout, NOTIFY_WARNING),
                     time_of_day(w, w->clock.ops->wall_us(w->clock.ctx), clock),
                     w->name_width, "station", line);
    (void)fflush(stdout);
}

/* A hook, a destination or the page cannot begin. */
static void on_failed(void *ctx, const char *line)
{
    watching *w = ctx;
    (void)cli_say(CLI_FAILED, "%s", line);
    g_atomic_int_set(&w->problems, TRUE);
}

/* Where there are private zones, memory holds what nobody may see. */
static void keep_private(watching *w, const tw_settings *from)
{
    tw_settings *settings = tw_settings_copy(from);
    tw_error err = {0};
    twi_camera_settings camera;
    gboolean any = FALSE;
    for (size_t i = 0; tw_settings_camera_name(settings, i); i++)
        any |= twi_settings_camera(settings, tw_settings_camera_name(settings, i),
                                   &camera) == TW_OK &&
               camera.private_count > 0;
    tw_settings_free(settings);
    if (!any || w->is_private)
        return;
    w->is_private = TRUE;
    if (tw_linux_keep_private(&err) != TW_OK)
        (void)fprintf(stderr, "%stawny: %s\n", notify_level(stderr, NOTIFY_WARNING),
                      err.text);
}

static void on_event(void *ctx, const tw_event *e)
{
    watching *w = ctx;
    if (e->kind == TW_EVENT_RELOADED && e->settings)
        keep_private(w, e->settings);
    if (e->kind == TW_EVENT_CLOSED && e->status != TW_OK)
        g_atomic_int_set(&w->problems, TRUE);
    if (e->kind == TW_EVENT_READING)
        return;
    if (w->json)
        out_json(twi_json_event(e, NULL, 0));
    else
        print_event(w, e);
    (void)fflush(stdout);
}

/* As wide as the longest name. */
static void find_width(watching *w)
{
    for (size_t i = 0; tw_settings_camera_name(w->settings, i); i++) {
        const int n = (int)strlen(tw_settings_camera_name(w->settings, i));
        w->name_width = n > w->name_width ? n : w->name_width;
    }
}

static tw_status on_propose(void *ctx, const char *camera, const volatile int *stop,
                            char **out, tw_error *err)
{
    const watching *w = ctx;
    return propose(w->common, w->settings_file, camera, stop, out, err);
}

static tw_outward *begin_outward(watching *w, const tw_card *card)
{
    g_autofree char *store = g_canonicalize_filename(w->store, NULL);
    g_autofree char *file =
        w->settings_file ? g_canonicalize_filename(w->settings_file, NULL) : NULL;
    const tw_outward_host host = {.store = store,
                                  .card = card,
                                  .settings_file = file,
                                  .clock = w->clock,
                                  .callback = on_outward,
                                  .failed = on_failed,
                                  .propose = on_propose,
                                  .ctx = w};
    tw_outward *outward = NULL;
    tw_error err = {0};
    if (tw_outward_begin(running, w->settings, &host, &outward, &err) != TW_OK)
        (void)cli_say(CLI_FAILED, "%s", err.text);
    return outward;
}

/* Run the station until it ends or is told to. */
static tw_status run_station(watching *w, const tw_card *card)
{
    twi_station_settings station;
    tw_status st = TW_ENOMEM;
    w->report_next_us = w->clock.ops->now_us(w->clock.ctx) + w->report_us;
    reloading *again = reload_begin(w->common, running, report, w);
    tw_outward *outward = begin_outward(w, card);
    if (!outward)
        goto done;
    (void)cli_catch_signals(stop_running);
    if (!w->json)
        (void)printf("Captures go to the folder %s; Ctrl-C ends.\n",
                     card->ops->place(card->ctx));
    (void)fflush(stdout);
    twi_settings_station(w->settings, &station);
    control *socket = control_begin(station.name, running);
    st = tw_station_run(running);
    notify_state("STOPPING=1");
    control_end(socket);
done:
    reload_end(again);
    tw_outward_end(outward);
    (void)cli_catch_signals(NULL);
    tw_station_free(running);
    running = NULL;
    return st;
}

static int run(watching *w, const tw_card *card)
{
    tw_platform platform = cli_platform();
    tw_error err = {0};
    tw_pins pins = {0};
    const tw_sensors sensors = tw_linux_sensors();
    platform.card = card;
    platform.sensors = &sensors;
    w->store = card->ops->place(card->ctx);
    if (tw_linux_pins(&pins, NULL) == TW_OK)
        platform.pins = &pins;
    w->clock = platform.clock;
    find_width(w);
    keep_private(w, w->settings);
    tw_status st = tw_station_new(&platform, w->settings, on_event, w, &running, &err);
    const int code = st == TW_OK ? CLI_DONE : cli_say(cli_exit(st), "%s", err.text);
    if (st == TW_OK)
        st = run_station(w, card);
    if (pins.ops)
        pins.ops->destroy(pins.ctx);
    if (code != CLI_DONE)
        return code;
    return st == TW_OK && !g_atomic_int_get(&w->problems) ? CLI_DONE : CLI_FAILED;
}

int cli_watch(int argc, char **argv)
{
    CLI_COMMON common = {0};
    watching w = {0};
    tw_card card = {0};
    tw_error err = {0};
    const GOptionEntry own[] = {{"report", 0, 0, G_OPTION_ARG_STRING, &w.report,
                                 "Say how each camera fares so often (1h); 0s: never",
                                 "TIME"},
                                {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "[SOURCE…]", ABOUT, EXAMPLE, own, &common);
    if (code == CLI_DONE)
        code = cli_read_time("--report", w.report ? w.report : "1h", &w.report_us);
    g_free(w.report);
    if (code == CLI_DONE && argc > 1 && common.settings_path)
        code =
            cli_say(CLI_USAGE, "%s is not expected: the settings file names the cameras",
                    argv[1]);
    if (code != CLI_DONE)
        return code;
    w.json = common.json;
    common.sources = argc > 1 ? argv + 1 : NULL;
    if (cli_load_sound(&common, &w.settings, &w.settings_file) != TW_OK)
        return CLI_USAGE;
    w.common = &common;
    twi_station_settings station;
    twi_settings_station(w.settings, &station);
    if (code == CLI_DONE && tw_linux_card(station.store, &card, &err) != TW_OK)
        code = cli_say(CLI_FAILED, "%s", err.text);
    if (code == CLI_DONE)
        code = run(&w, &card);
    if (card.ops)
        card.ops->destroy(card.ctx);
    tw_settings_free(w.settings);
    g_free(w.settings_file);
    return code;
}
