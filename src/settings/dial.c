/* The one dial. Its steps lie along the measured curve of misses against false sightings:
 * docs/detector.md has it. */
#include "dial.h"

#include <string.h>

enum { STEPS = TWI_DIAL_LAST - TWI_DIAL_FIRST + 1 };

static const struct {
    const char *key, *value[STEPS];
} DIAL[] = {
    {"evidence", {"250 %", "160 %", "100 %", "75 %", "50 %"}},
};

const char *twi_dial_value(const twi_row *row, int64_t step)
{
    if (step < TWI_DIAL_FIRST || step > TWI_DIAL_LAST ||
        strcmp(row->section, "camera") != 0)
        return NULL;
    for (size_t i = 0; i < sizeof DIAL / sizeof *DIAL; i++)
        if (strcmp(DIAL[i].key, row->key) == 0)
            return DIAL[i].value[step - TWI_DIAL_FIRST];
    return NULL;
}
