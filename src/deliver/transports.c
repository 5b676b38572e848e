/* How a destination is reached, by its URL. */
#include <string.h>

#include "destination.h"

bool twi_deliver_begins(const char *text, const char *with)
{
    return text && strncmp(text, with, strlen(with)) == 0;
}

const transport *twi_deliver_transport(const twi_destination_settings *set)
{
    if (twi_deliver_begins(set->url, "file:"))
        return &twi_transport_folder;
    if (twi_deliver_begins(set->url, "smtp"))
        return &twi_transport_mail;
    if (twi_url_is_phones(set->url))
        return &twi_transport_push;
    if (twi_deliver_begins(set->url, "mqtt"))
        return &twi_transport_broker;
    return twi_deliver_begins(set->url, "http") && set->by >= TWI_BY_FORM
               ? &twi_transport_post
               : &twi_transport_file;
}
