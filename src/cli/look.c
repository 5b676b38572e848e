/* tawny look: one frame of a camera. */
#include <errno.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "footage.h"
#include "output.h"
#include "../settings/sections.h"
#include "../station/footage.h"
#include "tawny/draw.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Writes one frame of a camera as JPEG or PNG. With --overlay the detector watches "
    "first,\n"
    "for 12 s unless --after says otherwise, and zones, cells, blobs and the level are "
    "drawn.\n"
    "Sharpness tells how well the lens is focused: the higher of two pictures of the "
    "same\n"
    "place is the sharper one.\n"
    "CAMERA is one of the settings file, or a file such as\n"
    "yard.mp4, or a source such as sim:kerb or rtsp://192.0.2.7/main.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny look kerb\n"
    "  tawny look --overlay --after 35 --output kerb.png sim:kerb";

enum { OVERLAY_AFTER_S = 12 };

static int look(const twi_camera_settings *camera, const tw_look_options *options,
                const char *path, gboolean json)
{
    const tw_platform platform = cli_platform();
    tw_error err = {0};
    tw_reading reading;
    uint8_t *data = NULL;
    size_t bytes = 0;
    char size[24], percent[24];
    const tw_status st =
        twi_look(&platform, camera, options, &data, &bytes, &reading, &err);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    const int code = out_file(path, data, bytes);
    uint32_t sharpness = 0; /* what is drawn over a picture would count */
    const gboolean plain =
        !options->overlay && !options->png &&
        tw_picture_sharpness(data, bytes, NULL, &sharpness, NULL) == TW_OK;
    free(data);
    if (code != CLI_DONE)
        return code;
    if (json) {
        json_t *o =
            json_pack("{ss ss sI sf}", "type", "look", "camera", camera->name, "bytes",
                      (json_int_t)bytes, "activity", reading.activity_ppm / 1e4);
        if (plain)
            (void)json_object_set_new(o, "sharpness", json_real(sharpness / 256.0));
        out_json(o);
        return CLI_DONE;
    }
    (void)printf("%s: %s, activity %s, %u blob%s", path, out_bytes(bytes, size),
                 out_percent(reading.activity_ppm, percent), reading.blobs_found,
                 out_s(reading.blobs_found));
    if (plain)
        (void)printf(", sharpness %.2f", sharpness / 256.0);
    (void)printf("\n");
    return CLI_DONE;
}

int cli_look(int argc, char **argv)
{
    CLI_COMMON common = {0};
    g_autofree char *output = NULL;
    gboolean overlay = FALSE;
    double after = -1;
    const GOptionEntry own[] = {{"output", 'o', 0, G_OPTION_ARG_FILENAME, &output,
                                 "Where to write it; .png for PNG (CAMERA.jpg)", "FILE"},
                                {"overlay", 0, 0, G_OPTION_ARG_NONE, &overlay,
                                 "Draw zones, cells, blobs and the level", NULL},
                                {"after", 0, 0, G_OPTION_ARG_DOUBLE, &after,
                                 "Watch for so long first", "SECONDS"},
                                {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "CAMERA", ABOUT, EXAMPLE, own, &common);
    if (code == CLI_DONE && argc != 2)
        code = cli_say(CLI_USAGE, "name one camera: tawny look CAMERA");
    if (code == CLI_DONE && after > 86400)
        code = cli_say(CLI_USAGE, "--after %g: at most a day, 86400 seconds", after);
    if (code != CLI_DONE)
        return code;
    tw_settings *settings = NULL;
    twi_camera_settings camera;
    const gboolean source = strchr(argv[1], ':') || strchr(argv[1], '/') ||
                            g_file_test(argv[1], G_FILE_TEST_IS_REGULAR);
    g_autofree char *from = source ? cli_source_of(argv[1]) : NULL;
    if (cli_camera(&common, source ? NULL : argv[1], from, &settings, &camera) != TW_OK)
        return CLI_USAGE;
    char *path = output ? g_strdup(output) : g_strdup_printf("%s.jpg", camera.name);
    const double seconds = after >= 0 ? after : overlay ? OVERLAY_AFTER_S : 0;
    const tw_look_options options = {.after_us = (int64_t)(seconds * 1e6),
                                     .overlay = overlay,
                                     .png = g_str_has_suffix(path, ".png")};
    code = look(&camera, &options, path, common.json);
    g_free(path);
    tw_settings_free(settings);
    return code;
}
