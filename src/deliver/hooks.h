/* Programs of the user's that are started on events. They never hold a
 * camera up: events wait in a bounded queue, and a few threads start the programs. */
#ifndef TWI_HOOKS_H
#define TWI_HOOKS_H

#include "tawny/error.h"
#include "tawny/settings.h"
#include "tawny/station.h"
#include "tawny/events.h"

enum {
    TWI_HOOKS_AT_ONCE = 4,   /* programs that run beside each other */
    TWI_HOOKS_WAITING = 100, /* events that wait for one; more are told and dropped */
    TWI_HOOKS_END_S = 5      /* that programs have left once the station stops */
};

typedef struct twi_hooks twi_hooks;

/** Told of what became of a program: "hook ring: exit code 3: no such bell". From a
 * thread of the hooks'. */
typedef void (*twi_hook_report_fn)(void *ctx, tw_status st, const char *line);

/**
 * Make the hooks of the settings, and the threads that run them.
 *
 * The program is found by $PATH unless it has a "/" in it. It gets the station's
 * environment with TAWNY_EVENT and so on, a JSON object with the same on standard input,
 * and a session of its own, which is ended when its time is up. Of what it prints the
 * last line is told.
 *
 * @param settings  Copied: they need not outlive this.
 * @param store     Folder of the captures, for whole paths of files; NULL: there is none.
 * @param card      The same, from which programs that classify may have sightings
 *                  dropped; outlives the hooks. NULL: none.
 * @param out       Set on TW_OK, to NULL if there are no hooks; free it with
 * twi_hooks_free.
 * @return TW_OK; TW_ESYNTAX: err says which hook's run cannot be read; TW_ENOMEM.
 */
tw_status twi_hooks_new(const tw_settings *settings, const char *store,
                        const tw_card *card, tw_clock clock, twi_hook_report_fn callback,
                        void *ctx, twi_hooks **out, tw_error *err);

/** Something happened: start what waits for it. Does not block. Any thread; NULL hooks
 * are fine. */
void twi_hooks_event(twi_hooks *hooks, const tw_event *event);

/** Run what still waits and wait for what runs, for TWI_HOOKS_END_S at most; what is left
 * then is ended, or told and dropped. Then free. NULL is fine. */
void twi_hooks_free(twi_hooks *hooks);

/** Whether the programs of the hooks are there and may be run.
 * @param callback  Told one line for each that may not.
 * @return TW_OK; TW_ENOENT. */
tw_status twi_hooks_try(const tw_settings *settings, tw_problem_fn callback, void *ctx);

#endif
