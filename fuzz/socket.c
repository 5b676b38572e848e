/* libFuzzer target: the socket of a station that runs, byte for byte. Each line that is
 * sent is answered with lines of JSON, or the connection is closed; the next is heard. */
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include "../src/cli/common.h"
#include "../src/cli/control.h"
#include "tawny/port.h"
#include "tawny/settings.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

static char folder[64];

/* What the tool would print. */
int cli_say(int code, const char *format, ...)
{
    va_list args;
    va_start(args, format);
    (void)vfprintf(stderr, format, args);
    va_end(args);
    return code;
}

static void begin(void)
{
    static const tw_camera_make_fn makers[] = {tw_sim_camera_make, NULL};
    static const char text[] = "[camera kerb]\nsource = sim:kerb\n";
    static tw_card card;
    tw_station *station = NULL;
    tw_settings *settings = tw_settings_new();
    (void)snprintf(folder, sizeof folder, "/tmp/tawny-fuzz-%d", (int)getpid());
    (void)mkdir(folder, 0700);
    (void)setenv("XDG_RUNTIME_DIR", folder, 1);
    if (!settings ||
        tw_settings_read_text(settings, "fuzz", text, strlen(text), NULL, NULL) !=
            TW_OK ||
        tw_sim_card(NULL, &card) != TW_OK)
        abort();
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, NULL, NULL, &station, NULL) != TW_OK)
        abort();
    (void)control_begin("fuzz", station);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    struct sockaddr_un at = {.sun_family = AF_UNIX};
    char answer[1 << 16];
    size_t used = 0;
    ssize_t n = 0;
    if (!folder[0])
        begin();
    (void)snprintf(at.sun_path, sizeof at.sun_path, "%s/tawny-fuzz.sock", folder);
    const int s = socket(AF_UNIX, SOCK_STREAM, 0);
    if (s < 0 || connect(s, (const struct sockaddr *)&at, sizeof at) != 0)
        abort();
    (void)send(s, data, bytes, MSG_NOSIGNAL);
    (void)shutdown(s, SHUT_WR);
    while (used + 1 < sizeof answer &&
           (n = recv(s, answer + used, sizeof answer - 1 - used, 0)) > 0)
        used += (size_t)n;
    (void)close(s);
    if (used > 0 && (answer[0] != '{' || answer[used - 1] != '\n'))
        abort();
    return 0;
}
