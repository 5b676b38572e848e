/* What comes from outside, as it may be shown and used. */
#include <stdio.h>
#include <string.h>
#include <strings.h>

#include "parts.h"

/* Length of the character at text in UTF-8. @return 0: it is none that may be shown. */
static size_t character(const unsigned char *text)
{
    const unsigned char c = text[0];
    const size_t n = c < 0x80                ? 1
                     : c >= 0xC2 && c < 0xE0 ? 2
                     : c >= 0xE0 && c < 0xF0 ? 3
                     : c >= 0xF0 && c < 0xF5 ? 4
                                             : 0;
    if (n == 1)
        return c >= 0x20 && c != 0x7F;
    for (size_t i = 1; i < n; i++)
        if ((text[i] & 0xC0) != 0x80)
            return 0;
    /* Controls of the second half, those that turn the direction of writing, surrogates,
     * and forms that are too long. */
    if ((n == 2 && c == 0xC2 && text[1] < 0xA0) ||
        (n == 3 && c == 0xE0 && text[1] < 0xA0) ||
        (n == 3 && c == 0xED && text[1] > 0x9F) ||
        (n == 3 && c == 0xE2 && (text[1] == 0x80 || text[1] == 0x81)) ||
        (n == 4 && c == 0xF0 && text[1] < 0x90) ||
        (n == 4 && c == 0xF4 && text[1] > 0x8F))
        return 0;
    return n;
}

void find_text(const char *text, char *out, size_t room)
{
    const unsigned char *t = (const unsigned char *)text;
    size_t n = 0;
    while (*t && strchr(" \t\r\n", *t))
        t++;
    for (; *t; t++) {
        const size_t length = character(t), more = length > 0 ? length : 1;
        if (n + more >= room)
            break;
        if (length > 0)
            memcpy(out + n, t, length);
        else
            out[n] = strchr("\t\r\n", *t) ? ' ' : '?';
        n += more;
        t += more - 1;
    }
    while (n > 0 && out[n - 1] == ' ')
        n--;
    out[n] = '\0';
}

/* @return the length of the scheme, "://" included; 0: it is none of these. */
static size_t scheme_of(const char *text, const char *schemes)
{
    const char *end = strstr(text, "://");
    const size_t n = end ? (size_t)(end - text) : 0;
    for (const char *s = schemes; n > 0 && *s; s += strcspn(s, " "), s += *s == ' ')
        if (strcspn(s, " ") == n && strncasecmp(s, text, n) == 0)
            return n + 3;
    return 0;
}

/* Where the host begins and ends; the user and password before it are stepped over. */
static void host_of(const char *url, size_t *from, size_t *to)
{
    const char *at = strstr(url, "://");
    const size_t begin = at ? (size_t)(at - url) + 3 : 0;
    const size_t end = begin + strcspn(url + begin, "/?#");
    *from = begin;
    for (size_t i = begin; i < end; i++)
        if (url[i] == '@')
            *from = i + 1;
    *to = *from;
    while (*to < end && url[*to] != ':')
        (*to)++;
}

bool find_url(const char *text, const char *schemes, char out[TWI_FOUND_URL])
{
    const size_t scheme = scheme_of(text, schemes), n = strlen(text);
    size_t from = 0, to = 0;
    out[0] = '\0';
    if (scheme == 0 || n >= TWI_FOUND_URL)
        return false;
    for (size_t i = 0; i < n; i++)
        if (text[i] <= ' ' || text[i] > '~' || strchr("\"'<>\\`#", text[i]))
            return false;
    host_of(text, &from, &to);
    if (to == from)
        return false;
    memcpy(out, text, scheme);
    memcpy(out + scheme, text + from, n - from + 1);
    return true;
}

bool find_url_is_at(const char *url, const char *address)
{
    size_t from = 0, to = 0;
    host_of(url, &from, &to);
    return to - from == strlen(address) && strncmp(url + from, address, to - from) == 0;
}

bool find_url_move(char url[TWI_FOUND_URL], const char *address)
{
    char moved[TWI_FOUND_URL];
    size_t from = 0, to = 0;
    host_of(url, &from, &to);
    const int n =
        snprintf(moved, sizeof moved, "%.*s%s%s", (int)from, url, address, url + to);
    if (n < 0 || (size_t)n >= sizeof moved)
        return false;
    memcpy(url, moved, (size_t)n + 1);
    return true;
}
