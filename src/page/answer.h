/* What is asked of the page, and how it is answered: what those need who answer for
 * another than one station, too. */
#ifndef TWI_PAGE_ANSWER_H
#define TWI_PAGE_ANSWER_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "../core/hours.h"
#include "../net/web.h"
#include "page.h"

/* A request, and who asks. */
typedef struct twi_asked {
    const char *path, *body;
    size_t bytes;
    twi_web_call *call;
    const char *who;     /* the account's name; "": there are no accounts */
    const char *cameras; /* that it may see, with blanks between; "": all */
} twi_asked;

/* What answers: r->path is its own, followed by rest. */
typedef void twi_answer_fn(twi_page *p, const twi_asked *r, const char *rest,
                           twi_web_answer *out);

/* What who may see some cameras alone gets. */
typedef enum twi_some {
    TWI_SOME_NOTHING, /* it concerns others as well */
    TWI_SOME_HEEDED,  /* the answer heeds which they are */
    TWI_SOME_NAMED    /* what follows the path is one of them */
} twi_some;

/* Who answers what. A path that ends in "/" stands for all below it. A table of them ends
 * with one that has no path. */
typedef struct twi_answerer {
    const char *path;
    twi_may may; /* at least */
    twi_some some;
    twi_answer_fn *answer;
} twi_answerer;

/** (visitors.c) Whether who asks may see a camera. */
bool twi_may_see(const twi_asked *r, const char *camera);

/** What the host gave to be told. */
void *twi_page_ctx(const twi_page *page);
int64_t twi_page_wall(const twi_page *page);
/** A value of the query, until the answer is given. @return NULL: there is none. */
const char *twi_query_of(twi_page *page, const twi_asked *r, const char *name);

/** Milliseconds since 1970, as browsers count. @return microseconds, 0: it is no time. */
int64_t twi_us_of(int64_t ms);
/** The same of the query. */
int64_t twi_time_of(twi_page *p, const twi_asked *r, const char *name);
/** A share in percent of the query. @return parts in a million, 0: there is none. */
uint32_t twi_share_of(twi_page *p, const twi_asked *r, const char *name);
/** The body as JSON (a json_t), the caller's. @return NULL: it is none. */
void *twi_body_of(const twi_asked *r);

/** Answer with JSON (a json_t), which is let go. */
void twi_answer_json(void *json, unsigned status, twi_web_answer *out);
/** Answer with {"error": ...}. */
void twi_answer_error(unsigned status, const char *text, twi_web_answer *out);
/** Answer with {"done": true}, or say what a status means. @param missing  For TW_ENOENT.
 */
void twi_answer_status(tw_status st, const char *missing, const tw_error *err,
                       twi_web_answer *out);

/** Nights that reach into a span, as {"nights": [[dusk, dawn]]} in milliseconds; or what
 * is wrong with the span. @param place  Its sun; not known: there are none. */
void twi_answer_nights(const twi_hours_place *place, int64_t from_us, int64_t until_us,
                       twi_web_answer *out);

/* live.c: */

enum { TWI_PAGE_CAMERA = 264 }; /* bytes of a camera's name, the final 0 included */

/** A picture of a camera has come, for those who look; it is copied. Any thread. */
void twi_page_show(twi_page *page, const char *camera, const void *jpeg, size_t bytes);
/** The cameras that somebody looks at now. @return how many of them are in names. */
size_t twi_page_looked_at(twi_page *page, char names[][TWI_PAGE_CAMERA], size_t most);
/** The next picture of a camera, behind the one that the query has after; waits a while.
 */
void twi_answer_picture(twi_page *page, const twi_asked *r, const char *camera,
                        twi_web_answer *out);

/* configure.c: settings as the page has them, whoever's they are */

/** Which sections there are (a json_t).
 * @param file  What is changed; "": nothing can be. @return NULL: out of memory. */
void *twi_settings_sections(tw_settings *settings, const char *file, bool changeable);
/** Add the rows of a section to a list (a json_t). [cameras] has the name "".
 * @return TW_OK; TW_ENOENT: there is no such section. */
tw_status twi_settings_rows(tw_settings *settings, const char *head, const char *name,
                            void *rows);
/** The zones of a camera, and whether it has a mask (a json_t).
 * @return NULL: there is no such camera, or out of memory. */
void *twi_settings_zones(tw_settings *settings, const char *camera);
/** Add a line that differs to a list (a json_t), as twi_draft_lines visits them. */
void twi_settings_line(void *list, const char *file, unsigned line, const char *before,
                       const char *after);

/* names.c: who was seen, and what the settings' list has */
twi_answer_fn twi_show_names;

/** (stored.c) A still, reduced to a width that the query may ask for. @param missing Said
 * where it cannot be had. */
void twi_answer_thumb(twi_page *page, const twi_asked *r, const char *path,
                      twi_web_answer *out);
/** (stored.c) A file, by its name in the store. */
void twi_answer_file(twi_page *page, const twi_asked *r, const char *path,
                     twi_web_answer *out);

#endif
