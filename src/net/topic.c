/* Topics at a broker. */
#include "topic.h"

#include <stdio.h>
#include <string.h>

void twi_topic_root(const char *url, char *out, size_t capacity)
{
    const char *host = strstr(url, "://"), *path = host ? strchr(host + 3, '/') : NULL;
    (void)snprintf(out, capacity, "%s", path && path[1] ? path + 1 : "tawny");
    for (size_t n = strlen(out); n > 0 && out[n - 1] == '/'; n--)
        out[n - 1] = '\0';
}

char twi_topic_letter(char letter)
{
    const bool special = letter == '/' || letter == '+' || letter == '#' ||
                         (unsigned char)letter < ' ' || letter == 0x7F;
    return special ? '_' : letter;
}

bool twi_topic_is(const char *part, const char *name)
{
    for (; *name && *part; name++, part++)
        if (*part != twi_topic_letter(*name))
            return false;
    return *name == *part;
}

void twi_topic_add(char *topic, size_t capacity, const char *part)
{
    size_t n = strlen(topic);
    if (n > 0 && n + 1 < capacity)
        topic[n++] = '/';
    for (; *part && n + 1 < capacity; part++)
        topic[n++] = twi_topic_letter(*part);
    topic[n] = '\0';
}
