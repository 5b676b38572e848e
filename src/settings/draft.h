/* Changing settings files: what would change, whether it would be right,
 * and writing it.
 *
 * A draft is the files of a station as they would be. Nothing reaches a file before
 * twi_draft_write, and then only what twi_draft_check found no new mistake in. One thread
 * at a time. */
#ifndef TWI_DRAFT_H
#define TWI_DRAFT_H

#include "tawny/settings.h"

typedef struct twi_draft twi_draft;

/* One change, as twi_settings_edit takes it. Texts are borrowed. */
typedef struct twi_draft_change {
    const char *head, *name; /* the section: "camera", "kerb" */
    const char *key;         /* NULL: the section itself */
    const char *value;       /* NULL: it is taken out */
} twi_draft_change;

/**
 * Read a settings file with all that it includes. What is wrong with them already is
 * remembered, and not held against changes.
 *
 * @param out  Set on TW_OK; free it with twi_draft_free.
 * @return TW_OK; TW_ENOENT...: the file cannot be read; TW_ESIZE: too many files, or one
 *         over 1 MB; TW_ENOMEM.
 */
tw_status twi_draft_open(const char *path, twi_draft **out, tw_error *err);

/** The same of a text that is no file here: one of another station. It can be checked,
 * and never written.
 * @param name  What messages call it. */
tw_status twi_draft_open_text(const char *name, const char *text, twi_draft **out,
                              tw_error *err);

/** NULL is fine. */
void twi_draft_free(twi_draft *draft);

/** Change something: in the file that sets it, else in the one that has its section, else
 * in the first.
 * @return TW_OK; TW_EINVAL, TW_ENOENT, TW_ESIZE: as twi_settings_edit; TW_ENOMEM. */
tw_status twi_draft_change_one(twi_draft *draft, const twi_draft_change *change,
                               tw_error *err);

/** Another text in place of the first file. It includes nothing: those that were included
 * are left alone, and not read any more.
 * @return TW_OK; TW_ESIZE: over 1 MB; TW_ESYNTAX: it includes others; TW_ENOMEM. */
tw_status twi_draft_replace(twi_draft *draft, const char *text, size_t bytes,
                            tw_error *err);

/** Whether the changes bring no mistake that was not there. Files that were not read when
 * the draft was opened are not read: including another is a mistake.
 * @param callback  Told each mistake that is new; may be NULL.
 * @param out   Set on TW_OK to the settings that it makes, the caller's; may be NULL.
 * @return TW_OK; TW_ESYNTAX, told; TW_ENOMEM. */
tw_status twi_draft_check(twi_draft *draft, tw_problem_fn callback, void *ctx,
                          tw_settings **out);

/** @return what the files said when the draft was opened, as far as they are right; the
 * draft's. */
const tw_settings *twi_draft_had(const twi_draft *draft);

/** Whether what a draft makes may be changed by somebody who is not at the machine, over
 * the page: no hooks, accounts, certificates, store, names or secrets; nothing that would
 * send a secret elsewhere; files of footage and masks below the station's footage alone.
 * @param made  What twi_draft_check made of this draft.
 * @return TW_OK; TW_EACCES: err says what is changed in the file itself. */
tw_status twi_draft_allow(const twi_draft *draft, const tw_settings *made, tw_error *err);

/** Visit the lines that differ, file by file, from top to bottom.
 * @param visit  line: its number, in the file as it is where it was there, else as it
 *               would be. before NULL: it is new; after NULL: it goes. */
tw_status twi_draft_lines(const twi_draft *draft,
                          void (*visit)(void *ctx, const char *file, unsigned line,
                                        const char *before, const char *after),
                          void *ctx);

/** Everything in one text that twi_draft_replace takes: what is included stands at its
 * end. @return it, the caller's to free(); NULL: out of memory. */
char *twi_draft_whole(const twi_draft *draft, size_t *bytes);

/** Write the files that differ. Each is kept as FILE.old, and replaced as a whole.
 * @return TW_OK; TW_EACCES, TW_ENOSPC...: err says which could not be; those before it
 *         are written. */
tw_status twi_draft_write(twi_draft *draft, tw_error *err);

#endif
