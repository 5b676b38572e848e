/* A few of something that each serve one thread at a time. */
#ifndef TWI_MANY_FEW_H
#define TWI_MANY_FEW_H

#include <pthread.h>
#include <stdbool.h>
#include <stddef.h>

enum { TWI_FEW = 4 };

typedef struct twi_few {
    pthread_mutex_t lock;
    pthread_cond_t freed;
    bool busy[TWI_FEW];
} twi_few;

void twi_few_init(twi_few *few);
void twi_few_end(twi_few *few);

/** Wait for one. @return which of them is the caller's now. */
size_t twi_few_take(twi_few *few);
void twi_few_give(twi_few *few, size_t which);

#endif
