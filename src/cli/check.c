/* tawny check: what would happen, before it does. */
#include <inttypes.h>
#include <stdio.h>
#include <string.h>

#include "network.h"
#include "output.h"
#include "../settings/sections.h"
#include "../station/sense.h"
#include "../station/footage.h"
#include "../port/linux/devices.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Reads the settings, opens each camera once, tries the store, and says what would\n"
    "happen. Exit 0: all is well; 1: a camera or the store is not; 2: the settings are "
    "wrong.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny check\n"
    "  tawny check --cameras\n"
    "  tawny check --cameras --network\n"
    "  tawny check --cameras --network --at 192.0.2.7 --user ann\n"
    "  tawny check --settings /etc/tawny/station.ini";

/* One finding, as text or JSON. @return ok. */
static gboolean find(const cli_common *common, gboolean ok, const char *what,
                     const char *name, const char *text)
{
    if (common->json) {
        char *escaped = g_strescape(text, NULL);
        (void)printf("{\"type\":\"%s\",\"name\":\"%s\",\"ok\":%s,\"text\":\"%s\"}\n",
                     what, name, ok ? "true" : "false", escaped);
        g_free(escaped);
    } else {
        (void)printf("%-7s %s %s: %s\n", ok ? "ok" : "FAILED", what, name, text);
    }
    return ok;
}

/* Addresses of single pictures look like those of streams. */
static gboolean wants_fetching(const twi_camera_settings *camera)
{
    const gboolean http = g_str_has_prefix(camera->source, "http://") ||
                          g_str_has_prefix(camera->source, "https://");
    return http && camera->fetch_every_us == 0;
}

/* What comes, and what the setting fps made of it. */
static void add_rate(GString *text, const twi_camera_found *found, int64_t fps)
{
    const double promised = found->stream.fps_num > 0 ? (double)found->stream.fps_num /
                                                            (double)found->stream.fps_den
                                                      : 0;
    const double comes = found->own_milli > 0 ? found->own_milli / 1e3 : promised;
    if (comes > 0)
        g_string_append_printf(text, " at %.3g frames a second", comes);
    if (found->own_milli <= 1020 * fps || fps == 0)
        return;
    g_string_append_printf(text, ", of which %" PRId64 " are kept (fps)", fps);
    if (found->grouped)
        g_string_append(text,
                        ": the first of each group of pictures, then none until the "
                        "next; a lower rate set in the camera itself is better");
}

/* @return whether it is as it is wanted. */
static gboolean add_sound(GString *text, const twi_camera_found *found,
                          const char *wanted)
{
    const tw_sound *sound = &found->stream.sound;
    if (strcmp(wanted, "none") == 0)
        return TRUE;
    if (sound->codec == TW_SOUND_NONE)
        g_string_append(text, "; it has NO sound: write sound = none, or alsa: and a "
                              "microphone");
    else if (found->heard)
        g_string_append_printf(text, "; sound: %s, %u samples a second",
                               sound->codec == TW_SOUND_AAC ? "AAC" : "Opus",
                               (unsigned)sound->rate);
    else
        g_string_append_printf(text, "; NO sound came%s%s",
                               found->deaf.text[0] ? ": " : "", found->deaf.text);
    return found->heard;
}

/* What private zones cost, where H.264 or H.265 could be copied without them. */
static void add_private(GString *text, const twi_camera_found *found,
                        const twi_camera_settings *camera)
{
    enum { FPS_USUAL = 25 };
    const tw_stream *s = &found->stream;
    int64_t us = 0;
    tw_error err = {0};
    if (camera->private_count == 0)
        return;
    g_string_append_printf(text, "; private zones that are black: %zu",
                           camera->private_count);
    if (!twi_encodes_for_privacy(camera, s))
        return;
    const double fps = camera->fps > 0 ? (double)camera->fps
                       : s->fps_den > 0 && s->fps_num > 0
                           ? (double)s->fps_num / s->fps_den
                           : FPS_USUAL;
    if (twi_encoding_cost(s->width, s->height, (int)camera->clip_quality, &us, &err) ==
        TW_OK)
        g_string_append_printf(text,
                               ", for which clips are encoded anew: up to %.0f %% of a "
                               "processor while one is made",
                               (double)us * fps / 1e4);
    else
        g_string_append_printf(text, ", for which clips CANNOT be encoded: %s", err.text);
}

static gboolean check_camera(const cli_common *common, const tw_platform *platform,
                             const twi_camera_settings *camera)
{
    tw_error err = {0};
    twi_camera_found found;
    const tw_stream *stream = &found.stream;
    char start[24];
    const tw_status st = twi_camera_try(platform, camera, &found, &err);
    if (st != TW_OK && wants_fetching(camera)) {
        g_autofree char *line = g_strdup_printf(
            "%s; if this address gives one picture each time it is asked, "
            "write fetch_every = 2 s",
            err.text);
        return find(common, FALSE, "camera", camera->name, line);
    }
    if (st != TW_OK)
        return find(common, FALSE, "camera", camera->name, err.text);
    g_autoptr(GString) text = g_string_new(stream->codec_name);
    if (stream->width > 0)
        g_string_append_printf(text, " %u x %u", stream->width, stream->height);
    add_rate(text, &found, camera->fps);
    g_string_append_printf(
        text, ", %s at %s of activity%s%s",
        camera->armed ? "a sighting begins" : "disarmed; a sighting would begin",
        out_percent((uint32_t)camera->start_ppm, start),
        camera->clips ? ", clips" : ", no clips",
        camera->stills.which == TWI_STILLS_NONE ? ", no stills" : ", stills");
    const gboolean hears = add_sound(text, &found, camera->sound);
    add_private(text, &found, camera);
    return find(common, hears, "camera", camera->name, text->str);
}

/* Keys that do something for some sources alone, by how those begin. */
static const struct {
    const char *key, *sources;
} SOME[] = {{"format", "v4l2:"},
            {"controls", "v4l2:"},
            {"size", "v4l2: sim:"},
            {"transport", "rtsp:// rtsps://"},
            {"fetch_every", "http:// https://"},
            {"loop", "file: sim: folder:"},
            {"pace", "file: sim: folder:"}};

typedef struct useless {
    const cli_common *common;
    const twi_camera_settings *camera;
} useless;

/* Folders of pictures have no rate of their own, other files do. */
static gboolean is_one_of(const char *source, const char *sources)
{
    g_auto(GStrv) list = g_strsplit(sources, " ", 0);
    const gboolean folder = g_str_has_prefix(source, "file:") &&
                            g_file_test(source + strlen("file:"), G_FILE_TEST_IS_DIR);
    gboolean found = FALSE;
    for (char **one = list; *one; one++)
        found = found || (folder && strcmp(*one, "folder:") == 0) ||
                g_str_has_prefix(source, *one);
    return found;
}

/* A key that was set and does nothing for its source is said, or it is wondered at. */
static void say_useless(void *ctx, const tw_setting *s)
{
    const useless *u = ctx;
    g_autofree char *text = NULL;
    if (strcmp(s->origin, "built-in") == 0)
        return;
    for (gsize i = 0; i < G_N_ELEMENTS(SOME); i++) {
        if (strcmp(SOME[i].key, s->key) != 0 ||
            is_one_of(u->camera->source, SOME[i].sources))
            continue;
        text = g_strdup_printf("%s = %s (%s) does nothing for this source", s->key,
                               s->value, s->origin);
        (void)find(u->common, TRUE, "note", u->camera->name, text);
        return;
    }
}

/* The second stream is opened as well: it is what the detector looks at. */
static gboolean check_second(const cli_common *common, const tw_platform *platform,
                             const twi_camera_settings *camera)
{
    twi_camera_settings second = *camera;
    tw_error err = {0};
    twi_camera_found found;
    char text[256];
    if (camera->detect_source[0] == '\0')
        return TRUE;
    second.source = camera->detect_source;
    if (twi_camera_try(platform, &second, &found, &err) != TW_OK) {
        g_autofree char *line = g_strdup_printf("detect_source: %s", err.text);
        return find(common, FALSE, "camera", camera->name, line);
    }
    (void)snprintf(text, sizeof text, "detect_source: %s %u x %u is looked at",
                   found.stream.codec_name, found.stream.width, found.stream.height);
    return find(common, TRUE, "camera", camera->name, text);
}

static gboolean check_store(const cli_common *common, const twi_station_settings *station)
{
    tw_card card = {0};
    tw_error err = {0};
    uint64_t free_bytes = 0, total = 0;
    char text[128];
    tw_status st = tw_linux_card(station->store, &card, &err);
    if (st == TW_OK)
        st = twi_store_try(&card, station, &err);
    if (st == TW_OK)
        st = card.ops->space(card.ctx, &free_bytes, &total, &err);
    if (st == TW_OK)
        (void)snprintf(text, sizeof text, "can be written, %.1f of %.1f GB free",
                       (double)free_bytes / 1e9, (double)total / 1e9);
    if (card.ops)
        card.ops->destroy(card.ctx);
    return find(common, st == TW_OK, "store", station->store,
                st == TW_OK ? text : err.text);
}

static void say_device(void *ctx, const twi_linux_device *d)
{
    GString *text = g_string_new(d->name);
    if (d->modes[0])
        g_string_append_printf(text, ": %s", d->modes);
    if (d->choice[0])
        g_string_append_printf(text, "; takes %s", d->choice);
    if (d->controls[0])
        g_string_append_printf(text, "; controls: %s", d->controls);
    if (d->why_not[0])
        g_string_append_printf(text, "; no camera: %s", d->why_not);
    if (d->stable[0])
        g_string_append_printf(text, "; always found as %s", d->stable);
    (void)find(ctx, d->usable, "device", d->source, text->str);
    (void)g_string_free(text, TRUE);
}

static int list_devices(cli_common *common)
{
    if (twi_linux_devices(say_device, common) == 0 && !common->json)
        (void)printf("There are no video devices.\n");
    return CLI_DONE;
}

static void take_line(void *ctx, const char *line)
{
    g_string_append_printf(ctx, "%s%s", ((GString *)ctx)->len > 0 ? "; " : "", line);
}

static gboolean check_hooks(const cli_common *common, const tw_settings *settings)
{
    GString *text = g_string_new(NULL);
    const gboolean good = twi_hooks_try(settings, take_line, text) == TW_OK;
    (void)find(common, good, "hooks", "programs", good ? "are there" : text->str);
    (void)g_string_free(text, TRUE);
    return good;
}

/* Each is read once. */
static gboolean check_sensors(const cli_common *common, const tw_settings *settings)
{
    const tw_sensors port = tw_linux_sensors();
    twi_sensor_settings sensor;
    gboolean all = TRUE;
    for (size_t i = 0; twi_settings_sensor_name(settings, i); i++) {
        char words[64];
        int64_t value = 0;
        tw_error err = {0};
        (void)twi_settings_sensor(settings, twi_settings_sensor_name(settings, i),
                                  &sensor);
        const gboolean good = twi_sensor_read(&port, &sensor, &value, &err) == TW_OK;
        (void)find(common, good, "sensor", sensor.name,
                   good ? twi_sensor_words(value, sensor.unit, words) : err.text);
        all &= good;
    }
    return all;
}

static gboolean check_destinations(const cli_common *common, const tw_settings *settings)
{
    GString *text = g_string_new(NULL);
    const gboolean good = twi_deliver_check(settings, take_line, text) == TW_OK;
    (void)find(common, good, "sending", "secrets",
               good ? "are there; tawny send tries a destination" : text->str);
    (void)g_string_free(text, TRUE);
    return good;
}

/* @return whether all is well. */
static gboolean check_all(const cli_common *common, tw_settings *settings,
                          const char *path)
{
    const tw_platform platform = cli_platform();
    twi_station_settings station;
    twi_camera_settings camera;
    tw_error err = {0};
    gboolean good = find(common, tw_settings_camera_count(settings) > 0, "settings", path,
                         "no mistakes found");
    for (size_t i = 0; tw_settings_camera_name(settings, i); i++)
        if (twi_settings_camera(settings, tw_settings_camera_name(settings, i),
                                &camera) == TW_OK) {
            useless u = {common, &camera};
            good &= check_camera(common, &platform, &camera);
            good &= check_second(common, &platform, &camera);
            (void)tw_settings_walk(settings, camera.name, say_useless, &u);
        }
    twi_settings_station(settings, &station);
    good &= check_store(common, &station);
    if (twi_settings_hook_name(settings, 0))
        good &= check_hooks(common, settings);
    good &= check_sensors(common, settings);
    if (twi_settings_destination_name(settings, 0))
        good &= check_destinations(common, settings);
    if (!twi_clips_possible(&err))
        good &= find(common, FALSE, "module", "codecs", err.text);
    return good;
}

int cli_check(int argc, char **argv)
{
    CLI_COMMON common = {0};
    tw_settings *settings = NULL;
    char *path = NULL;
    gboolean cameras = FALSE, network = FALSE;
    g_autofree char *at = NULL, *user = NULL;
    const GOptionEntry own[] = {
        {"cameras", 0, 0, G_OPTION_ARG_NONE, &cameras,
         "List the machine's video devices and what they can do", NULL},
        {"network", 0, 0, G_OPTION_ARG_NONE, &network,
         "With --cameras: those of the local network instead", NULL},
        {"at", 0, 0, G_OPTION_ARG_STRING, &at,
         "With --network: one camera, with its streams", "ADDRESS"},
        {"user", 0, 0, G_OPTION_ARG_STRING, &user,
         "With --at: its user; the password is asked for", "NAME"},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, NULL, ABOUT, EXAMPLE, own, &common);
    if (code == CLI_DONE && argc > 1)
        code = cli_say(CLI_USAGE, "%s is not expected", argv[1]);
    if (code == CLI_DONE && ((network && !cameras) || (at && !network) || (user && !at)))
        code =
            cli_say(CLI_USAGE, "--network goes with --cameras, --at with --network, and "
                               "--user with --at");
    if (code != CLI_DONE)
        return code;
    if (network)
        return cli_network(&common, at, user);
    if (cameras)
        return list_devices(&common);
    if (cli_load(&common, TRUE, &settings, &path) != TW_OK)
        return CLI_USAGE;
    if (tw_settings_check(settings, cli_told, NULL) != TW_OK)
        code = CLI_USAGE;
    else
        code = check_all(&common, settings, path) ? CLI_DONE : CLI_FAILED;
    g_free(path);
    tw_settings_free(settings);
    return code;
}
