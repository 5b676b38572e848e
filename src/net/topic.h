/* Topics at a broker: where all of ours stand, and what a name becomes in one. */
#ifndef TWI_TOPIC_H
#define TWI_TOPIC_H

#include <stdbool.h>
#include <stddef.h>

/** The topic that all stand below: the path of a broker's url, "tawny" without one. */
void twi_topic_root(const char *url, char *out, size_t capacity);

/** @return what a letter of a name is in a topic: "_" for what means something there. */
char twi_topic_letter(char letter);

/** @return whether a part of a topic stands for a name. */
bool twi_topic_is(const char *part, const char *name);

/** Add a part, with a "/" before it unless it is the first; cut where it does not fit. */
void twi_topic_add(char *topic, size_t capacity, const char *part);

#endif
