/* The transfer module, by libcurl: its table. */
#include "tawny/version.h"
#include "wire.h"

/* Before any thread uses it. */
__attribute__((constructor)) static void begin(void)
{
    (void)curl_global_init(CURL_GLOBAL_DEFAULT);
}

/* ---- what is sent may take several requests: what they cost in all ----------------- */

static void put(twi_sender *s, const char *name, const twi_content *what,
                twi_sending *out)
{
    s->cost = 0;
    wire_put(s, name, what, out);
    out->bytes = s->cost;
}

static void post(twi_sender *s, const char *key, const char *record,
                 const twi_content *files, size_t count, twi_sending *out)
{
    s->cost = 0;
    wire_post(s, key, record, files, count, out);
    out->bytes = s->cost;
}

static void mail(twi_sender *s, const twi_mail *what, twi_sending *out)
{
    s->cost = 0;
    wire_mail(s, what, out);
    out->bytes = s->cost;
}

static void get(twi_sender *s, const char *name, int fd, uint64_t most, twi_sending *out)
{
    s->cost = 0;
    wire_get(s, name, fd, most, out);
    out->bytes = s->cost;
}

static void push(twi_sender *s, const twi_push_phone *phone, const char *pem,
                 const twi_push_message *message, twi_sending *out)
{
    s->cost = 0;
    wire_push(s, phone, pem, message, out);
    out->bytes = s->cost;
}

TW_API const twi_transfer twi_transfer_table = {TWI_TRANSFER_ABI,
                                                twi_fetch_new,
                                                twi_fetch_begin,
                                                twi_fetch_step,
                                                twi_fetch_free,
                                                wire_sender_new,
                                                put,
                                                get,
                                                post,
                                                mail,
                                                wire_sender_free,
                                                push_key_new,
                                                push_key_public,
                                                push_seal,
                                                push};
