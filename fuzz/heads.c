/* libFuzzer target: what is sent to the page, byte for byte: heads of requests, bodies
 * and several in a row. Whatever it is, the page answers or closes, and answers the next
 * one. */
#include <arpa/inet.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <unistd.h>

#include "../src/page/page.h"
#include "tawny/tawny.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

enum { ANSWER_MOST = 1 << 20 };

static const char SETTINGS[] = "[station]\nname = hollin\nlisten = 127.0.0.1:0\n"
                               "accounts_file = /tmp/tawny-fuzz-none\n[camera kerb]\n"
                               "source = sim:kerb\n";

/* @return the port of a page that serves all inputs. */
static int serve(void)
{
    static tw_card card;
    static twi_page *page;
    static char folder[64], file[96];
    tw_error err = {0};
    if (page)
        return twi_page_port(page);
    tw_settings *settings = tw_settings_new();
    (void)snprintf(folder, sizeof folder, "/tmp/tawny-fuzz-%d", (int)getpid());
    (void)snprintf(file, sizeof file, "%s/station.ini", folder);
    (void)mkdir(folder, 0700);
    FILE *out = fopen(file, "wb");
    if (!out || fputs(SETTINGS, out) < 0 || fclose(out) != 0 || !settings ||
        tw_settings_read(settings, file, NULL, NULL) != TW_OK ||
        tw_linux_card(folder, &card, &err) != TW_OK)
        abort();
    const twi_page_host host = {
        .store = folder, .card = &card, .settings_file = file, .clock = tw_linux_clock()};
    if (twi_page_new(settings, &host, &page, &err) != TW_OK) {
        (void)fprintf(stderr, "%s\n", err.text);
        abort();
    }
    tw_settings_free(settings);
    return twi_page_port(page);
}

/* @return whether anything came back. */
static bool speak(int port, const void *data, size_t bytes)
{
    struct sockaddr_in at = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    const struct timeval patience = {30, 0};
    char piece[4096];
    size_t got = 0;
    ssize_t n = 0;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    const int s = socket(AF_INET, SOCK_STREAM, 0);
    if (s < 0 || connect(s, (struct sockaddr *)&at, sizeof at) != 0)
        abort(); /* it has gone */
    (void)setsockopt(s, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
    (void)send(s, data, bytes, MSG_NOSIGNAL);
    (void)shutdown(s, SHUT_WR);
    while (got < ANSWER_MOST && (n = recv(s, piece, sizeof piece, 0)) > 0)
        got += (size_t)n;
    (void)close(s);
    return got > 0;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    static const char after[] = "GET /api/me HTTP/1.1\r\nHost: 127.0.0.1\r\n"
                                "Connection: close\r\n\r\n";
    static unsigned count;
    const int port = serve();
    (void)speak(port, data, bytes);
    if (count++ % 16 == 0 && !speak(port, after, sizeof after - 1))
        abort();
    return 0;
}
