/* What is made of a camera that was found: a section of the settings. */
#include <ctype.h>
#include <stdio.h>

#include "finding.h"

const twi_found_stream *twi_found_second(const twi_found_camera *camera)
{
    enum { LEAST_WIDTH = 320 };
    const twi_found_stream *found = NULL, *first = &camera->streams[0];
    for (size_t i = 1; i < camera->stream_count; i++)
        if (camera->streams[i].width >= LEAST_WIDTH &&
            camera->streams[i].width < first->width)
            found = &camera->streams[i];
    return found;
}

void twi_found_section(const twi_found_camera *camera, char out[TWI_FOUND_SECTION])
{
    size_t n = 0;
    for (const char *c = camera->name; *c && n + 1 < TWI_FOUND_SECTION; c++) {
        const unsigned char u = (unsigned char)*c;
        if (u < 0x80 && isalnum(u))
            out[n++] = (char)tolower(u);
        else if (n > 0 && out[n - 1] != '-')
            out[n++] = '-';
    }
    while (n > 0 && out[n - 1] == '-')
        n--;
    out[n] = '\0';
    if (n == 0)
        (void)snprintf(out, TWI_FOUND_SECTION, "camera");
}

void twi_found_login(const char *url, const char *user, const char *password,
                     char out[TWI_FOUND_LOGIN])
{
    static const char HEX[] = "0123456789ABCDEF";
    const char *at = NULL, *parts[] = {user, password};
    size_t n = 0;
    for (at = url; *at && (at == url || at[-1] != '/' || at - url < 2 || at[-2] != '/');)
        out[n++] = *at++;
    for (size_t i = 0; i < 2; i++) {
        for (const char *c = parts[i]; *c && n + 5 < TWI_FOUND_LOGIN - TWI_FOUND_URL;
             c++) {
            const unsigned char u = (unsigned char)*c;
            if (isalnum(u) || *c == '-' || *c == '_' || *c == '.' || *c == '~') {
                out[n++] = *c;
            } else {
                out[n++] = '%';
                out[n++] = HEX[u >> 4];
                out[n++] = HEX[u & 15];
            }
        }
        out[n++] = i == 0 ? ':' : '@';
    }
    (void)snprintf(out + n, TWI_FOUND_LOGIN - n, "%s", at);
}
