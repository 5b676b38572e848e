/* A program of somebody else's, in C++: it links, and what it sees is what C sees. */
#include <cstdio>
#include <cstring>

#include <tawny/tawny.h>

int main()
{
    tw_settings *settings = tw_settings_new();
    tw_error err = {};
    if (std::strcmp(tw_version(), TW_VERSION_TEXT) != 0 || settings == nullptr)
        return 1;
    const tw_status bad = tw_settings_set(settings, "kerb.start_at=5px", &err);
    tw_settings_free(settings);
    std::printf("tawny %s from C++: %s\n", tw_version(), err.text);
    return bad == TW_OK || err.text[0] == '\0' ? 1 : 0;
}
