/* Sections that hold at times: in the dark, in the light, within hours. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "state.h"
#include "sections.h"

static const char WHEN[] = "when ";

bool twi_condition_read(const char *text, twi_condition *out)
{
    twi_condition c = {.kind = TWI_CONDITION_HOURS, .text = text};
    if (strcmp(text, "dark") == 0)
        c.kind = TWI_CONDITION_DARK;
    else if (strcmp(text, "light") == 0)
        c.kind = TWI_CONDITION_LIGHT;
    else if (twi_hours_parse(text, &c.hours, NULL) != TW_OK || c.hours.count == 0)
        return false;
    if (out)
        *out = c;
    return true;
}

const char *twi_condition_in(const char *name, size_t *before)
{
    const char *at =
        strncmp(name, WHEN, strlen(WHEN)) == 0 ? name : strstr(name, " when ");
    if (!at)
        return NULL;
    *before = (size_t)(at - name);
    return at + strlen(WHEN) + (at > name);
}

bool twi_condition_section_read(const tw_settings *s, const char *name, level *at)
{
    size_t before = 0;
    char camera[NAME_MAX_BYTES + 1];
    const char *text = twi_condition_in(name, &before);
    if (!text || before > NAME_MAX_BYTES || !twi_condition_read(text, NULL))
        return false;
    (void)snprintf(camera, sizeof camera, "%.*s", (int)before, name);
    *at = before > 0 ? IN_CAMERA_WHEN : IN_CAMERAS_WHEN;
    return before == 0 || twi_find_section(s, IN_CAMERA, camera) != NULL;
}

const char *twi_condition_of(const section *s, const char *camera)
{
    const size_t n = strlen(camera);
    if (s->level == IN_CAMERAS_WHEN)
        return s->name + strlen(WHEN);
    if (s->level != IN_CAMERA_WHEN || strncmp(s->name, camera, n) != 0 ||
        s->name[n] != ' ')
        return NULL;
    return s->name + n + 1 + strlen(WHEN);
}

/* The conditions of sections of one level that are not in the list yet. */
static void gather(const tw_settings *s, const char *camera, level at,
                   twi_conditions *out)
{
    for (size_t i = 0; i < s->section_count; i++) {
        const section *one = &s->sections[i];
        const char *text = one->level == at ? twi_condition_of(one, camera) : NULL;
        bool known = !text;
        for (size_t k = 0; k < out->count && !known; k++)
            known = strcmp(out->of[k].text, text) == 0;
        if (known || !twi_condition_read(text, &out->of[out->count % TWI_CONDITIONS_MAX]))
            continue;
        out->count++;
        if (out->count > TWI_CONDITIONS_MAX)
            return;
    }
}

size_t twi_gather_conditions(const tw_settings *s, const char *camera,
                             twi_conditions *out)
{
    *out = (twi_conditions){0};
    gather(s, camera, IN_CAMERAS_WHEN, out);
    if (out->count <= TWI_CONDITIONS_MAX)
        gather(s, camera, IN_CAMERA_WHEN, out);
    const size_t count = out->count;
    if (count > TWI_CONDITIONS_MAX) /* tw_settings_check tells */
        out->count = TWI_CONDITIONS_MAX;
    return count;
}

/* Whether a condition is among those that hold. */
static bool holds(const twi_holding *now, const char *text)
{
    for (size_t k = 0; k < now->conditions->count; k++)
        if ((now->bits >> k & 1U) && strcmp(now->conditions->of[k].text, text) == 0)
            return true;
    return false;
}

const entry *twi_deciding_when(const tw_settings *s, const char *camera, level at,
                               const twi_row *row, const twi_holding *now)
{
    const entry *found = NULL;
    for (size_t i = 0; now && i < s->section_count; i++) {
        const section *one = &s->sections[i];
        const char *text = one->level == at ? twi_condition_of(one, camera) : NULL;
        const entry *e =
            text && holds(now, text) ? twi_find_entry(s, at, one->name, row) : NULL;
        found = e ? e : found;
    }
    return found;
}

const char *twi_settings_condition_section(const tw_settings *settings,
                                           const char *camera, size_t index)
{
    const level at = camera ? IN_CAMERA_WHEN : IN_CAMERAS_WHEN;
    for (size_t i = 0; settings && i < settings->section_count; i++) {
        const section *s = &settings->sections[i];
        if (s->level == at && twi_condition_of(s, camera ? camera : "") && index-- == 0)
            return s->name;
    }
    return NULL;
}

void twi_conditions_word(const twi_conditions *conditions, unsigned bits, char *out,
                         size_t capacity)
{
    size_t n = 0;
    out[0] = '\0';
    for (size_t k = 0; conditions && k < conditions->count && n < capacity; k++)
        if (bits >> k & 1U)
            n += (size_t)snprintf(out + n, capacity - n, "%s%s", n > 0 ? "; " : "",
                                  conditions->of[k].text);
}
