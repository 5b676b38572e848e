/* WS-Discovery: what is asked of all, and what is answered. By the names of 2005, which
 * cameras use, and of the standard of 2009 (OASIS WS-Discovery 1.1). */
#include <stdio.h>
#include <string.h>
#include <sys/random.h>

#include "parts.h"

static const struct {
    const char *addressing, *discovery, *to;
} BY[] = {{"http://schemas.xmlsoap.org/ws/2004/08/addressing",
           "http://schemas.xmlsoap.org/ws/2005/04/discovery",
           "urn:schemas-xmlsoap-org:ws:2005:04:discovery"},
          {"http://www.w3.org/2005/08/addressing",
           "http://docs.oasis-open.org/ws-dd/ns/discovery/2009/01",
           "urn:docs-oasis-open-org:ws-dd:ns:discovery:2009:01"}};

void find_id(char out[FIND_ID])
{
    uint8_t b[16] = {0};
    (void)!getrandom(b, sizeof b, 0);
    b[6] = (uint8_t)((b[6] & 0x0F) | 0x40); /* RFC 4122: by chance */
    b[8] = (uint8_t)((b[8] & 0x3F) | 0x80);
    (void)snprintf(out, FIND_ID,
                   "urn:uuid:%02x%02x%02x%02x-%02x%02x-%02x%02x-%02x%02x-"
                   "%02x%02x%02x%02x%02x%02x",
                   b[0], b[1], b[2], b[3], b[4], b[5], b[6], b[7], b[8], b[9], b[10],
                   b[11], b[12], b[13], b[14], b[15]);
}

size_t find_probe_write(const find_type *type, bool oasis, const char *id,
                        char out[FIND_PROBE_BYTES])
{
    const int n = snprintf(
        out, FIND_PROBE_BYTES,
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>"
        "<s:Envelope xmlns:s=\"http://www.w3.org/2003/05/soap-envelope\" "
        "xmlns:a=\"%s\" xmlns:d=\"%s\" xmlns:%s=\"%s\">"
        "<s:Header><a:Action>%s/Probe</a:Action><a:MessageID>%s</a:MessageID>"
        "<a:To>%s</a:To></s:Header>"
        "<s:Body><d:Probe><d:Types>%s:%s</d:Types></d:Probe></s:Body></s:Envelope>",
        BY[oasis].addressing, BY[oasis].discovery, type->prefix, type->space,
        BY[oasis].discovery, id, BY[oasis].to, type->prefix, type->name);
    return n > 0 && n < FIND_PROBE_BYTES ? (size_t)n : 0;
}

/* One word of a list; the rest follows. @return NULL: no more. */
static const char *next_word(const char *list, char *out, size_t room)
{
    list += strspn(list, " ");
    const size_t n = strcspn(list, " ");
    if (n == 0)
        return NULL;
    (void)snprintf(out, room, "%.*s", (int)n, list);
    return list + n;
}

/* "%20" in a scope's name is a blank. */
static void unescape(char *text)
{
    char *to = text;
    for (const char *c = text; *c; c++) {
        unsigned byte = 0;
        if (*c == '%' && sscanf(c + 1, "%2x", &byte) == 1 && c[1] && c[2] && byte > 0) {
            *to++ = (char)byte;
            c += 2;
        } else {
            *to++ = *c;
        }
    }
    *to = '\0';
}

/* What scopes say: "onvif://www.onvif.org/name/Pond onvif://www.onvif.org/hardware/B3".
 * @return whether there is such a scope. */
static bool scope(const char *scopes, const char *kind, char *out, size_t room)
{
    static const char START[] = "onvif://www.onvif.org/";
    char word[256];
    for (const char *s = scopes; (s = next_word(s, word, sizeof word));) {
        const char *after = word + sizeof START - 1;
        const size_t n = strlen(kind);
        if (strncmp(word, START, sizeof START - 1) == 0 && strncmp(after, kind, n) == 0 &&
            after[n] == '/' && after[n + 1]) {
            char name[256];
            (void)snprintf(name, sizeof name, "%s", after + n + 1);
            unescape(name);
            find_text(name, out, room);
            return out[0] != '\0';
        }
    }
    return false;
}

/* "dn:NetworkVideoTransmitter tds:Device": of some name, whatever its prefix; or a scope
 * says so. */
static bool is_camera(const char *types, const char *scopes)
{
    char word[128];
    for (const char *t = types; (t = next_word(t, word, sizeof word));) {
        const char *colon = strchr(word, ':'), *name = colon ? colon + 1 : word;
        if (strcmp(name, "NetworkVideoTransmitter") == 0)
            return true;
    }
    return strstr(scopes, "onvif://www.onvif.org/type/video_encoder") ||
           strstr(scopes, "onvif://www.onvif.org/Profile/Streaming");
}

/* Of several addresses that one which answered; another's requests are not sent to. */
static void choose_address(const char *addresses, const char *from,
                           char out[TWI_FOUND_URL])
{
    char word[TWI_FOUND_URL], url[TWI_FOUND_URL];
    out[0] = '\0';
    for (const char *a = addresses; (a = next_word(a, word, sizeof word));) {
        if (!find_url(word, "http https", url))
            continue;
        const bool own = find_url_is_at(url, from);
        if (!own && (out[0] || !find_url_move(url, from)))
            continue;
        memcpy(out, url, sizeof url);
        if (own)
            return;
    }
}

static bool read_match(const xmlNode *match, const char *from, twi_found_camera *out)
{
    enum { LIST = 4096 };
    char text[LIST], scopes[LIST];
    memset(out, 0, sizeof *out);
    find_text_below(match, "Types", text, sizeof text);
    find_text_below(match, "Scopes", scopes, sizeof scopes);
    if (!is_camera(text, scopes))
        return false;
    (void)snprintf(out->address, sizeof out->address, "%s", from);
    out->probed = true;
    if (!scope(scopes, "name", out->name, sizeof out->name) &&
        !scope(scopes, "hardware", out->name, sizeof out->name))
        (void)snprintf(out->name, sizeof out->name, "a camera without a name");
    find_text_below(match, "XAddrs", text, sizeof text);
    choose_address(text, from, out->at);
    return true;
}

static bool is_ours(const xmlNode *root, char ids[][FIND_ID], size_t id_count)
{
    char to[128];
    find_text_below(root, "RelatesTo", to, sizeof to);
    for (size_t i = 0; i < id_count; i++)
        if (strcmp(to, ids[i]) == 0)
            return true;
    return false;
}

bool find_probe_read(const char *data, size_t bytes, char ids[][FIND_ID], size_t id_count,
                     const char *from,
                     void (*visit)(void *ctx, const twi_found_camera *camera), void *ctx)
{
    enum { MOST = 16 };
    xmlDoc *doc = find_xml(data, bytes);
    const xmlNode *root = doc ? xmlDocGetRootElement(doc) : NULL;
    const bool ours = root && is_ours(root, ids, id_count);
    const xmlNode *match = ours ? find_below(root, "ProbeMatch") : NULL;
    for (int i = 0; match && i < MOST; i++, match = find_beside(match)) {
        twi_found_camera camera;
        if (read_match(match, from, &camera))
            visit(ctx, &camera);
    }
    xmlFreeDoc(doc);
    return ours;
}
