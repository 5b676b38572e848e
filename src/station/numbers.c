/* Numbers of sightings, which are never given twice. */
#include "catalogue_state.h"
#include "writer_state.h"

void twi_writer_raise_number(twi_writer *writer, int64_t number)
{
    unsigned last = atomic_load(&writer->last_number);
    while (number > last && number < UINT32_MAX &&
           !atomic_compare_exchange_weak(&writer->last_number, &last, (unsigned)number))
        continue;
}

void twi_writer_follow_numbers(twi_writer *writer)
{
    int64_t number = 0;
    if (writer->catalogue &&
        twi_catalogue_last_number(writer->catalogue, &number, NULL) == TW_OK)
        twi_writer_raise_number(writer, number);
}
