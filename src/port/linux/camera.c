/* Choosing the camera for a source. */
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "hearing_camera.h"
#include "linux.h"
#include "tawny/port_linux.h"
#include "v4l2.h"
#include "../../base/system_error.h"

static tw_status make_seeing(const tw_camera_request *request, tw_camera *out,
                             tw_error *err)
{
    static const char *const net[] = {"rtsp://", "rtsps://", "http://", "https://"};
    static const char scheme[] = "file:";
    if (request->fetch_every_us > 0 && strncmp(request->source, "http", 4) == 0)
        return twi_linux_fetch_camera(request, out, err);
    for (size_t i = 0; i < sizeof net / sizeof *net; i++)
        if (strncmp(request->source, net[i], strlen(net[i])) == 0)
            return twi_linux_net_camera(request, out, err);
    if (strcmp(request->source, "stdin:") == 0)
        return twi_linux_pipe_camera(request, out, err);
    if (strncmp(request->source, "v4l2:", 5) == 0)
        return twi_v4l2_camera(NULL, request, request->source + 5, out, err);
    if (strncmp(request->source, "inbox:", 6) == 0)
        return twi_linux_inbox_camera(request, request->source + 6, out, err);
    if (strncmp(request->source, scheme, sizeof scheme - 1) != 0)
        return TW_ENOTSUP;
    const char *path = request->source + sizeof scheme - 1;
    struct stat found;
    if (stat(path, &found) != 0)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    if (S_ISDIR(found.st_mode))
        return twi_linux_folder_camera(request, path, out, err);
    if (found.st_size == 0 && S_ISREG(found.st_mode))
        return tw_fail(err, TW_EDAMAGED, "%s: the file is empty", path);
    return twi_linux_file_camera(request, path, out, err);
}

tw_status tw_linux_camera_make(const tw_camera_request *request, tw_camera *out,
                               tw_error *err)
{
    static const char microphone[] = "alsa:";
    const size_t n = sizeof microphone - 1;
    const tw_status st = make_seeing(request, out, err);
    return st == TW_OK && request->sound && strncmp(request->sound, microphone, n) == 0
               ? twi_hearing_camera(request->sound + n, request->clock, out, err)
               : st;
}
