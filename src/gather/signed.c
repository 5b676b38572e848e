/* Words as orders. */
#include "signed.h"

#include <jansson.h>
#include <stdlib.h>
#include <string.h>

/* The station and the id are in what is signed: nobody can send it to another one, or
 * once more after a later one. */
static char *word_draft(const twi_due *due)
{
    json_t *changes = json_loads(due->text, JSON_REJECT_DUPLICATES, NULL);
    json_t *o = json_pack("{sI ss so*}", "id", (json_int_t)due->id, "station",
                          due->station, "changes", changes);
    char *text = o && json_is_array(changes) ? json_dumps(o, JSON_COMPACT) : NULL;
    json_decref(o);
    return text;
}

static char *sign_settings(const twi_broker_module *brokers, const char *secret,
                           const twi_due *due)
{
    char signature[TWI_SIGNATURE_TEXT];
    char *draft = word_draft(due), *text = NULL;
    if (draft && brokers->sign(secret, draft, signature)) {
        json_t *o = json_pack("{ss ss ss}", "do", "settings", "draft", draft, "signature",
                              signature);
        text = json_dumps(o, JSON_COMPACT);
        json_decref(o);
    }
    free(draft);
    return text;
}

static char *number_said(const twi_due *due)
{
    json_t *o = json_loads(due->text, JSON_REJECT_DUPLICATES, NULL);
    (void)json_object_set_new(o, "id", json_integer(due->id));
    char *text = json_is_object(o) ? json_dumps(o, JSON_COMPACT) : NULL;
    json_decref(o);
    return text;
}

char *twi_signed_order(const twi_broker_module *brokers, const char *secret,
                       const twi_due *due)
{
    if (strcmp(due->what, TWI_WORD_SETTINGS) == 0)
        return secret[0] ? sign_settings(brokers, secret, due) : NULL;
    return number_said(due);
}
