/* How much may be sent in so long, and what goes without where it becomes scarce: clips
 * wait first, then stills, then small stills; records go until nothing is left, alarms
 * always. Pure: no I/O or clock. */
#ifndef TWI_BUDGET_H
#define TWI_BUDGET_H

#include <stdint.h>

/* So many bytes in so long. */
typedef struct twi_budget {
    int64_t bytes; /* 0: there is no limit */
    int64_t in_us;
} twi_budget;

/* What waits, from all to nothing. */
typedef enum twi_thrift {
    TWI_THRIFT_NONE,   /* everything goes */
    TWI_THRIFT_CLIPS,  /* clips, timed captures and segments wait */
    TWI_THRIFT_STILLS, /* stills of full size as well */
    TWI_THRIFT_SMALL,  /* small ones as well: records alone go */
    TWI_THRIFT_ALL     /* alarms alone go */
} twi_thrift;

/** @param spent  Bytes within the last in_us. */
twi_thrift twi_budget_thrift(const twi_budget *budget, int64_t spent);

/** The words of the outbox for what waits, with a blank before and behind each; static.
 */
const char *twi_thrift_words(twi_thrift thrift);

/** The same for people: "clips wait"; static. */
const char *twi_thrift_name(twi_thrift thrift);

#endif
