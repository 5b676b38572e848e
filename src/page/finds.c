/* Cameras of the local network, when somebody wants them looked for. */
#include <stdlib.h>
#include <string.h>

#include "../json/json.h"
#include "../net/finding.h"
#include "page_state.h"

static void answer_finds(const twi_finds *finds, twi_web_answer *out)
{
    json_t *list = json_array();
    for (size_t i = 0; i < finds->count; i++)
        (void)json_array_append_new(list, twi_json_nearby(&finds->all[i]));
    twi_answer_json(json_pack("{so sI sI}", "found", list, "networks",
                              (json_int_t)finds->links, "dropped",
                              (json_int_t)finds->dropped),
                    200, out);
}

static void seek(twi_page *p, json_t *asked, twi_web_answer *out)
{
    const char *at = json_string_value(json_object_get(asked, "at")),
               *user = json_string_value(json_object_get(asked, "user")),
               *password = json_string_value(json_object_get(asked, "password"));
    const twi_seeking how = {.only = at,
                             .user = at && user && user[0] ? user : NULL,
                             .password = password ? password : "",
                             .wait_ms = TWI_FOUND_WAIT_MS,
                             .stop = &p->ending};
    tw_error err = {0};
    tw_status st = TW_ENOMEM;
    twi_finds *finds = calloc(1, sizeof *finds);
    const twi_finding *finding = twi_finding_load(&err);
    if (finds && finding)
        st = finding->seek(&how, finds, &err);
    if (st == TW_OK)
        answer_finds(finds, out);
    else if (st == TW_EINVAL)
        twi_answer_error(400, err.text, out);
    else
        twi_answer_status(st, err.text, &err, out);
    free(finds);
}

/* One at a time, as others would only make the network busier. */
void twi_find_cameras(twi_page *p, const twi_asked *r, const char *rest,
                      twi_web_answer *out)
{
    json_t *asked = twi_body_of(r);
    (void)rest;
    if (atomic_exchange(&p->seeking, true)) {
        twi_answer_error(409, "cameras are being looked for: wait for it", out);
    } else {
        seek(p, asked, out);
        atomic_store(&p->seeking, false);
    }
    json_decref(asked);
}
