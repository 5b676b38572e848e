/* A few, each for one thread at a time. */
#include "few.h"

void twi_few_init(twi_few *f)
{
    (void)pthread_mutex_init(&f->lock, NULL);
    (void)pthread_cond_init(&f->freed, NULL);
}

void twi_few_end(twi_few *f)
{
    (void)pthread_mutex_destroy(&f->lock);
    (void)pthread_cond_destroy(&f->freed);
}

size_t twi_few_take(twi_few *f)
{
    size_t at = TWI_FEW;
    (void)pthread_mutex_lock(&f->lock);
    while (at == TWI_FEW) {
        for (at = 0; at < TWI_FEW && f->busy[at]; at++)
            ;
        if (at == TWI_FEW)
            (void)pthread_cond_wait(&f->freed, &f->lock);
    }
    f->busy[at] = true;
    (void)pthread_mutex_unlock(&f->lock);
    return at;
}

void twi_few_give(twi_few *f, size_t which)
{
    (void)pthread_mutex_lock(&f->lock);
    f->busy[which] = false;
    (void)pthread_cond_signal(&f->freed);
    (void)pthread_mutex_unlock(&f->lock);
}
