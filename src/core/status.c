/* Names and texts of the status values, and the library's version. */
#include "tawny/error.h"

#include "tawny/version.h"

const char *tw_version(void)
{
    return TW_VERSION_TEXT;
}

const char *tw_status_name(tw_status st)
{
    switch ((enum tw_status_values)st) {
#define CASE(name, value, text)                                                          \
    case name: return #name;
        TW_STATUS_LIST(CASE)
#undef CASE
    }
    return "TW_?";
}

const char *tw_status_text(tw_status st)
{
    switch ((enum tw_status_values)st) {
#define CASE(name, value, text)                                                          \
    case name: return text;
        TW_STATUS_LIST(CASE)
#undef CASE
    }
    return "unknown status";
}
