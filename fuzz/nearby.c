/* libFuzzer target: what devices of the network answer. The first byte chooses who reads
 * it. Whatever it is, reading ends, and nothing comes of it that could not be shown. */
#include <arpa/inet.h>
#include <stdlib.h>
#include <string.h>

#include "../src/net/finding/parts.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

static void check_shown(const char *text)
{
    for (const char *c = text; *c; c++)
        if ((unsigned char)*c < ' ' || *c == 0x7F)
            abort();
}

static void check_url(const char *url)
{
    for (const char *c = url; *c; c++)
        if (*c <= ' ' || *c > '~')
            abort();
}

static void check_camera(void *ctx, const twi_found_camera *c)
{
    char section[TWI_FOUND_SECTION], login[TWI_FOUND_LOGIN];
    (void)ctx;
    check_shown(c->name);
    check_url(c->at);
    if (c->at[0] && !find_url_is_at(c->at, "10.7.0.2"))
        abort();
    twi_found_section(c, section);
    twi_found_login(c->at, "a:b", "c@d/", login);
    if (section[0] == '\0' || strlen(section) >= TWI_FOUND_SECTION)
        abort();
}

static void read_names(const uint8_t *data, size_t bytes)
{
    const find_link link = {{htonl(0x0A070001)}, {htonl(0xFFFFFF00)}};
    find_services *s = calloc(1, sizeof *s);
    if (s)
        (void)find_answer(s, data, bytes, 0x4A17, &link);
    for (size_t i = 0; s && i < s->count; i++) {
        twi_found_camera camera;
        if (find_service_camera(&s->all[i], &camera)) {
            check_shown(camera.name);
            check_url(camera.streams[0].url);
        }
    }
    free(s);
}

static void read_streams(const char *data, size_t bytes)
{
    twi_found_stream all[TWI_FOUND_STREAMS];
    char tokens[TWI_FOUND_STREAMS][TWI_FOUND_NAME];
    const size_t n = find_profiles_read(data, bytes, all, tokens);
    for (size_t i = 0; i < n; i++) {
        check_shown(tokens[i]);
        check_shown(all[i].name);
        check_shown(all[i].codec);
    }
}

static void read_words(const char *data, size_t bytes)
{
    char *text = calloc(1, bytes + 1), shown[64], url[TWI_FOUND_URL];
    if (!text)
        return;
    memcpy(text, data, bytes);
    find_text(text, shown, sizeof shown);
    check_shown(shown);
    if (find_url(text, "rtsp rtsps http", url)) {
        check_url(url);
        if (find_url_move(url, "10.7.0.2") && !find_url_is_at(url, "10.7.0.2"))
            abort();
    }
    free(text);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    char ids[1][FIND_ID] = {"urn:uuid:1"};
    if (bytes < 2)
        return 0;
    const char *text = (const char *)data + 1;
    if (data[0] == 'p')
        (void)find_probe_read(text, bytes - 1, ids, 1, "10.7.0.2", check_camera, NULL);
    else if (data[0] == 'd')
        read_names(data + 1, bytes - 1);
    else if (data[0] == 's')
        read_streams(text, bytes - 1);
    else
        read_words(text, bytes - 1);
    return 0;
}
