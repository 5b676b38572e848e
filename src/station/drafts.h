/* Settings that came from afar: which was the last, so that none is taken twice, or after
 * a later one. */
#ifndef TWI_DRAFTS_H
#define TWI_DRAFTS_H

#include "tawny/catalogue.h"

enum { TWI_DRAFT_ANSWER = 400 };

/* What became of a draft. */
typedef struct twi_draft_word {
    int64_t id; /* 0: there was none */
    bool taken;
    char text[TWI_DRAFT_ANSWER];
} twi_draft_word;

/** @param out  Set on TW_OK to the last one. */
tw_status twi_catalogue_draft(tw_catalogue *catalogue, twi_draft_word *out,
                              tw_error *err);

/** What became of one; it is the last now. Safe on the card on TW_OK. */
tw_status twi_catalogue_note_draft(tw_catalogue *catalogue, const twi_draft_word *word,
                                   tw_error *err);

#endif
