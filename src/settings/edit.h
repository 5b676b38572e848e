/* What a text says, for changing it. */
#ifndef TWI_EDIT_H
#define TWI_EDIT_H

#include <stdbool.h>
#include <stddef.h>

/** @return whether the text of a settings file has a section, or sets a key in it.
 * @param key  NULL: the section itself. */
bool twi_settings_has(const char *text, size_t bytes, const char *head, const char *name,
                      const char *key);

#endif
