/* A program of somebody else's, in C++: it links, and what it sees is what C sees. */
#include <cstdio>
#include <cstring>
#include <string>

#include <tawny/tawny.h>

static void told(void *ctx, const char *line)
{
    static_cast<std::string *>(ctx)->append(line);
}

int main()
{
    tw_settings *settings = tw_settings_new();
    std::string said;
    if (std::strcmp(tw_version(), TW_VERSION_TEXT) != 0 || settings == nullptr)
        return 1;
    const tw_status bad = tw_settings_set(settings, "start_at=5px", told, &said);
    tw_settings_free(settings);
    std::printf("tawny %s from C++: %s\n", tw_version(), said.c_str());
    return bad == TW_OK || said.empty() ? 1 : 0;
}
