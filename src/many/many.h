/* The page of many stations: the page's own code, over what a gatherer keeps. Beside
 * gather/ and page/, and on top of both; it is the tool's. */
#ifndef TWI_MANY_H
#define TWI_MANY_H

#include "../page/page.h"
#include "tawny/port.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

typedef struct twi_many twi_many;

typedef struct twi_many_spec {
    const tw_settings *settings; /* [station] says who may see it, [gather] the rest */
    tw_clock clock;
    /** Tell a station something: below ROOT/STATION/WHAT. From any thread.
     * @return false: too much waits to be told. NULL: nothing can be told. */
    bool (*say)(void *ctx, const char *station, const char *what, const char *text);
    /* Where live pictures are asked for; its url ends in the topic. NULL: there are none.
     * These outlive the page. */
    const twi_destination_settings *broker;
    const char *secret, *session;
    bool settable;             /* there is a key that signs settings */
    twi_page_report_fn report; /* may be NULL */
    void *ctx;
} twi_many_spec;

/**
 * Serve the page of all stations until twi_many_free.
 *
 * @param spec  Its settings are copied.
 * @param out   Set on TW_OK; to NULL where it is to listen nowhere.
 * @return TW_OK; as twi_page_new; TW_EINVAL: media or groups are not understood.
 */
tw_status twi_many_new(const twi_many_spec *spec, twi_many **out, tw_error *err);

/** @return the port at which it answers. */
int twi_many_port(const twi_many *many);

/** NULL is fine. */
void twi_many_free(twi_many *many);

#endif
