/* Cameras of the local network, as they tell of themselves. */
#include <jansson.h>
#include <stdio.h>
#include <string.h>

#include "../json/json.h"
#include "../net/finding.h"
#include "network.h"
#include "output.h"

static void say_stream(const twi_found_stream *s)
{
    g_autoptr(GString) text = g_string_new(s->codec[0] ? s->codec : "a stream");
    if (s->width > 0)
        g_string_append_printf(text, " %u x %u", s->width, s->height);
    if (s->fps > 0)
        g_string_append_printf(text, " at %u frames a second at most", s->fps);
    (void)printf("        %s: %s\n", text->str, s->url);
}

static void say_camera(const twi_found_camera *c, gboolean asked)
{
    (void)printf("%-7s camera %s: %s, by %s%s%s\n",
                 c->why[0] && c->stream_count == 0 ? "FAILED" : "ok", c->address, c->name,
                 c->probed ? "WS-Discovery" : "", c->probed && c->named ? " and " : "",
                 c->named ? "DNS-SD" : "");
    for (size_t i = 0; i < c->stream_count; i++)
        say_stream(&c->streams[i]);
    if (c->why[0])
        (void)printf("        %s\n", c->why);
    else if (c->stream_count == 0 && !asked)
        (void)printf("        for its streams: tawny check --cameras --network --at %s "
                     "--user NAME\n",
                     c->address);
}

/* The password is left to whoever pastes it: it is not shown. */
static void say_source(const char *key, const char *url, const char *user)
{
    char with[TWI_FOUND_LOGIN];
    if (user) {
        twi_found_login(url, user, "PASSWORD", with);
        url = with;
    }
    (void)printf("%s = %s\n", key, url);
}

static void say_section(const twi_found_camera *c, const char *user)
{
    char section[TWI_FOUND_SECTION];
    const twi_found_stream *second = twi_found_second(c);
    if (c->stream_count == 0)
        return;
    twi_found_section(c, section);
    (void)printf("\n[camera %s]\n", section);
    say_source("source", c->streams[0].url, user);
    if (second)
        say_source("detect_source", second->url, user);
}

static void say_all(const twi_finds *finds, const char *at, const char *user)
{
    gboolean any = FALSE;
    for (size_t i = 0; i < finds->count; i++) {
        say_camera(&finds->all[i], at != NULL);
        any |= finds->all[i].stream_count > 0;
    }
    if (finds->count == 0)
        (void)printf(
            "No camera answered%s%s on %zu network%s: it must be switched on, and "
            "in some its interface (ONVIF) must be.\n",
            at ? " at " : "", at ? at : "", finds->links, out_s((unsigned)finds->links));
    if (finds->dropped > 0 && !at)
        (void)printf("%zu answer%s made no sense, and %s left out.\n", finds->dropped,
                     out_s((unsigned)finds->dropped),
                     finds->dropped == 1 ? "was" : "were");
    if (any)
        (void)printf("\nTo watch, put this into the settings:\n");
    for (size_t i = 0; i < finds->count; i++)
        say_section(&finds->all[i], user);
}

static void say_json(const twi_finds *finds)
{
    for (size_t i = 0; i < finds->count; i++)
        out_json(twi_json_nearby(&finds->all[i]));
}

int cli_network(const cli_common *common, const char *at, const char *user)
{
    char password[TWI_PASSWORD_MAX + 2] = "";
    const twi_seeking how = {
        .only = at, .user = user, .password = password, .wait_ms = TWI_FOUND_WAIT_MS};
    tw_error err = {0};
    const twi_finding *finding = twi_finding_load(&err);
    twi_finds *finds = g_new0(twi_finds, 1);
    int code = CLI_DONE;
    if (!finding)
        code = cli_say(CLI_FAILED, "%s", err.text);
    else if (user && !cli_password("Password", password))
        code = cli_say(CLI_USAGE, "no password was given");
    else if (finding->seek(&how, finds, &err) != TW_OK)
        code = cli_say(err.status == TW_EINVAL ? CLI_USAGE : CLI_FAILED, "%s", err.text);
    else if (common->json)
        say_json(finds);
    else
        say_all(finds, at, user);
    if (code == CLI_DONE && at && (finds->count == 0 || finds->all[0].stream_count == 0))
        code = CLI_FAILED;
    explicit_bzero(password, sizeof password);
    g_free(finds);
    return code;
}
