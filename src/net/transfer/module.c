/* The transfer module, by libcurl: its table. */
#include "tawny/version.h"
#include "wire.h"

/* Before any thread uses it. */
__attribute__((constructor)) static void begin(void)
{
    (void)curl_global_init(CURL_GLOBAL_DEFAULT);
}

TW_API const twi_transfer twi_transfer_table = {
    TWI_TRANSFER_ABI, twi_fetch_new,   twi_fetch_begin, twi_fetch_step, twi_fetch_free,
    wire_sender_new,  wire_put,        wire_post,       wire_mail,      wire_sender_free,
    push_key_new,     push_key_public, push_seal,       wire_push};
