/* The question for sightings, in the words of SQL that all engines share. */
#ifndef TWI_GATHER_QUESTION_H
#define TWI_GATHER_QUESTION_H

#include "ledger.h"

enum { TWI_QUESTION_VALUES = 12, TWI_QUESTION_BYTES = 2048 };

/* Where engines differ. */
typedef struct twi_dialect {
    char mark;              /* before the number of a value */
    const char *names;      /* of a JSON list, %s: the value */
    const char *in, *end;   /* before and behind a question for what it is to be among */
    const char *by_letters; /* after a text that is sorted */
    const char *finds;      /* its function that finds a text in another */
} twi_dialect;

/* Its values are texts, the first is number 1. */
typedef struct twi_question {
    char sql[TWI_QUESTION_BYTES];
    const char *values[TWI_QUESTION_VALUES]; /* of the filter, and of numbers below */
    char numbers[TWI_QUESTION_VALUES][24];
    int count;
} twi_question;

/** A statement for an engine. @param sql  ?1 stands for the first value, (?1*) for the
 * texts of a JSON list. @return false: it is too long. */
bool twi_question_words(const char *sql, const twi_dialect *dialect, char *out,
                        size_t capacity);

/** @param filter  Its texts are to live as long as the question. */
void twi_question_make(const twi_ledger_filter *filter, const twi_dialect *dialect,
                       twi_question *out);

#endif
