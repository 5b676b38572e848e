/* Answers as JSON, and what requests say. */
#include <stdlib.h>
#include <string.h>

#include "../json/json.h"
#include "page_state.h"

void twi_answer_json(void *json, unsigned status, twi_web_answer *out)
{
    char *text = twi_json_text(json);
    *out = (twi_web_answer){.status = text ? status : 500,
                            .type = "application/json",
                            .data = text,
                            .bytes = text ? strlen(text) : 0,
                            .owned = text != NULL};
}

void twi_answer_status(tw_status st, const char *missing, const tw_error *err,
                       twi_web_answer *out)
{
    const char *text = err->text[0] ? err->text : missing;
    if (st == TW_OK)
        twi_answer_json(json_pack("{sb}", "done", true), 200, out);
    else if (st == TW_ENOENT)
        twi_answer_error(404, text, out);
    else if (st == TW_ENOTSUP || st == TW_ESIZE)
        twi_answer_error(409, err->text[0] ? err->text : "too many at once", out);
    else
        twi_answer_error(500, err->text[0] ? err->text : "it did not work", out);
}

void *twi_body_of(const twi_asked *r)
{
    return json_loadb(r->body, r->bytes, JSON_REJECT_DUPLICATES, NULL);
}

void *twi_page_ctx(const twi_page *p)
{
    return p->host.ctx;
}

const char *twi_query_of(twi_page *p, const twi_asked *r, const char *name)
{
    return p->web->query(r->call, name);
}

uint32_t twi_share_of(twi_page *p, const twi_asked *r, const char *name)
{
    const char *text = twi_query_of(p, r, name);
    const double percent = text ? strtod(text, NULL) : 0;
    return percent > 0 && percent <= 100 ? (uint32_t)(percent * 1e4 + 0.5) : 0;
}

int64_t twi_us_of(int64_t ms)
{
    return ms > 0 && ms < INT64_MAX / 1000 ? ms * 1000 : 0;
}

int64_t twi_time_of(twi_page *p, const twi_asked *r, const char *name)
{
    const char *text = twi_query_of(p, r, name);
    return text ? twi_us_of(strtoll(text, NULL, 10)) : 0;
}

void twi_answer_error(unsigned status, const char *text, twi_web_answer *out)
{
    twi_answer_json(json_pack("{ss}", "error", text), status, out);
}
