/* The transfer module, by libcurl: its table. */
#include "tawny/api.h"
#include "wire.h"

/* Before any thread uses it. */
__attribute__((constructor)) static void begin(void)
{
    (void)curl_global_init(CURL_GLOBAL_DEFAULT);
}

TW_API const tw_transfer *tw_transfer_table(void);

const tw_transfer *tw_transfer_table(void)
{
    static const tw_transfer table = {
        TW_TRANSFER_ABI, tw_fetch_new, tw_fetch_begin, tw_fetch_step, tw_fetch_free,
        wire_sender_new, wire_put,     wire_post,      wire_mail,     wire_sender_free};
    return &table;
}
