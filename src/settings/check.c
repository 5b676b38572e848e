/* Whether the settings make sense together. */
#include <stdio.h>
#include <string.h>

#include "../core/hours.h"
#include "state.h"
#include "sections.h"
#include "tawny/settings.h"

/* The line that a check should point at: the deciding one of two settings. */
static const char *origin_when(const tw_settings *s, const char *camera, const char *key,
                               const twi_holding *now)
{
    const entry *e = twi_deciding(s, camera, twi_table_find("camera", key), now);
    return e ? e->origin : NULL;
}

static const char *origin_of(const tw_settings *s, const char *camera, const char *key)
{
    return origin_when(s, camera, key, NULL);
}

/* A limit and one that it may not exceed. */
typedef struct pair {
    const char *low, *high; /* keys */
    int64_t low_ppm, high_ppm;
} pair;

static void check_pair(intake *in, const char *camera, const twi_holding *now,
                       const pair *of)
{
    const char *low = of->low, *high = of->high;
    if (of->low_ppm <= of->high_ppm)
        return;
    const char *at = origin_when(in->settings, camera, low, now);
    in->file = at ? at : origin_when(in->settings, camera, high, now);
    twi_intake_tell(in, TW_ESYNTAX, 0,
                    "camera %s: %s is over %s: lower it or raise the other", camera, low,
                    high);
}

static void check_profiles(intake *in, const char *camera)
{
    const entry *use = twi_used_profiles(in->settings, camera);
    if (!use)
        return;
    const char *list = use->value;
    char profile[NAME_MAX_BYTES + 1];
    while (twi_next_name(&list, profile, sizeof profile)) {
        if (twi_find_section(in->settings, IN_PROFILE, profile))
            continue;
        in->file = use->origin;
        twi_intake_tell(in, TW_ESYNTAX, 0,
                        "camera %s uses profile %s, which is not there", camera, profile);
    }
    if (*list) {
        in->file = use->origin;
        twi_intake_tell(in, TW_ESYNTAX, 0, "use = %s: expected names of profiles",
                        use->value);
    }
}

static bool by_the_sun(const char *text)
{
    twi_hours hours;
    return text && twi_hours_parse(text, &hours, NULL) == TW_OK &&
           twi_hours_need_place(&hours);
}

static bool has_place(const twi_camera_settings *camera)
{
    return camera->latitude != TWI_NOWHERE && camera->longitude != TWI_NOWHERE;
}

/* Hours by the sun need a place. */
static void check_place(intake *in, const section *self,
                        const twi_camera_settings *camera)
{
    if (has_place(camera) || !by_the_sun(camera->hours))
        return;
    in->file = self->file;
    twi_intake_tell(in, TW_ESYNTAX, self->line,
                    "camera %s: hours = %s needs its latitude and longitude", self->name,
                    camera->hours);
}

/* What tells day from night must be able to. */
static void check_dark(intake *in, const section *self, const twi_camera_settings *camera)
{
    const char *at = origin_of(in->settings, self->name, "dark_by"), *missing = NULL;
    if (camera->dark_by == TWI_DARK_FROM_SUN && !has_place(camera))
        missing = "sun: it needs latitude and longitude";
    else if (camera->dark_by == TWI_DARK_FROM_PIN && camera->dark_pin[0] == '\0')
        missing = "pin: write dark_pin = CHIP/NUMBER as well";
    else if (camera->dark_by == TWI_DARK_FROM_COLOUR && !camera->colour)
        missing = "colour: it needs colour = yes";
    if (!missing)
        return;
    in->file = at ? at : self->file;
    twi_intake_tell(in, TW_ESYNTAX, 0, "camera %s: dark_by = %s", self->name, missing);
}

static void check_limits(intake *in, const twi_camera_settings *c, const twi_holding *now)
{
    const pair activity = {"stay_at", "start_at", c->stay_ppm, c->start_ppm},
               blobs = {"smallest", "largest", c->smallest_ppm, c->largest_ppm};
    check_pair(in, c->name, now, &activity);
    check_pair(in, c->name, now, &blobs);
}

/* A section that holds at times is that of a camera which is there. */
static void check_condition(intake *in, const section *self)
{
    char camera[NAME_MAX_BYTES + 1];
    twi_camera_settings of;
    (void)snprintf(camera, sizeof camera, "%.*s", (int)strcspn(self->name, " "),
                   self->name);
    if (twi_settings_camera(in->settings, camera, &of) != TW_OK)
        twi_intake_tell(in, TW_ESYNTAX, self->line, "[camera %s]: there is no camera %s",
                        self->name, camera);
}

/* What holds at times, with what always does. */
static void check_times(intake *in, const section *self,
                        const twi_camera_settings *camera)
{
    twi_conditions all;
    const size_t count = twi_gather_conditions(in->settings, self->name, &all);
    in->file = self->file;
    if (count > TWI_CONDITIONS_MAX)
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "camera %s has more than %d sections that hold at times: put "
                        "hours of one kind into one, separated by commas",
                        self->name, TWI_CONDITIONS_MAX);
    for (size_t k = 0; k < all.count; k++)
        if (by_the_sun(all.of[k].text) && !has_place(camera))
            twi_intake_tell(in, TW_ESYNTAX, self->line,
                            "camera %s: when %s needs its latitude and longitude",
                            self->name, all.of[k].text);
    /* Each alone: of what holds together the user thinks last. */
    for (size_t k = 0; camera->conditions && k < camera->conditions->count; k++)
        check_limits(in, &camera->conditions->by[1U << k],
                     &(twi_holding){camera->conditions, 1U << k});
}

/* The destinations that a camera names. */
static void check_sent(intake *in, const section *self, const twi_camera_settings *camera)
{
    const char *list = camera->send_to ? camera->send_to : "";
    const char *at = origin_of(in->settings, self->name, "send_to");
    char name[NAME_MAX_BYTES + 1];
    while (twi_next_name(&list, name, sizeof name)) {
        if (twi_find_section(in->settings, IN_DESTINATION, name))
            continue;
        in->file = at ? at : self->file;
        twi_intake_tell(in, TW_ESYNTAX, 0,
                        "camera %s: send_to names %s: there is no [destination %s]",
                        self->name, name, name);
    }
}

static void check_camera(intake *in, const section *self)
{
    twi_camera_settings camera;
    if (twi_settings_camera(in->settings, self->name, &camera) != TW_OK) {
        twi_intake_tell(in, TW_ENOMEM, 0, "out of memory");
        return;
    }
    check_limits(in, &camera, NULL);
    check_profiles(in, self->name);
    check_place(in, self, &camera);
    check_dark(in, self, &camera);
    check_times(in, self, &camera);
    check_sent(in, self, &camera);
    size_t own = 0;
    for (size_t i = 0; i < camera.zone_count; i++)
        own += camera.zones[i].start_ppm > 0;
    if (own > TW_OWN_LIMITS_MAX) {
        in->file = self->file;
        twi_intake_tell(
            in, TW_ESYNTAX, self->line,
            "camera %s has %zu zones with limits of their own, at most %d are possible",
            self->name, own, TW_OWN_LIMITS_MAX);
    }
    if (camera.source && camera.source[0] != '\0')
        return;
    in->file = self->file;
    twi_intake_tell(in, TW_ESYNTAX, self->line,
                    "camera %s has no source: write source = file:PATH or sim:SCENE",
                    self->name);
}

static void check_zone(intake *in, const section *self)
{
    char camera[2 * NAME_MAX_BYTES + 2];
    (void)snprintf(camera, sizeof camera, "%s", self->name);
    *strchr(camera, '/') = '\0';
    in->file = self->file;
    if (!twi_find_section(in->settings, IN_CAMERA, camera))
        twi_intake_tell(in, TW_ESYNTAX, self->line, "zone %s: there is no camera %s",
                        self->name, camera);
    if (!twi_find_entry(in->settings, IN_ZONE, self->name,
                        twi_table_find("zone", "area")))
        twi_intake_tell(in, TW_ESYNTAX, self->line, "zone %s has no area", self->name);
    twi_zone_settings zone;
    twi_read_zone(in->settings, self->name, &zone);
    if (zone.kind == TWI_ZONE_OWN && zone.start_ppm == 0 && zone.sensitivity == 0)
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "zone %s is watched by its own limits: write its start_at, or "
                        "its sensitivity",
                        self->name);
    if (!twi_zone_is_watched(&zone) &&
        (zone.start_ppm > 0 || zone.stay_ppm > 0 || zone.sensitivity > 0))
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "zone %s is %s, so it can have no limits: write kind = own to "
                        "watch it by them",
                        self->name,
                        zone.kind == TWI_ZONE_PRIVATE ? "private" : "ignored");
    if (zone.stay_ppm > zone.start_ppm)
        twi_intake_tell(in, TW_ESYNTAX, self->line, "zone %s: stay_at is above start_at",
                        self->name);
}

static void check_hook(intake *in, const section *self)
{
    twi_hook_settings hook;
    if (twi_settings_hook(in->settings, self->name, &hook) != TW_OK)
        return;
    if (!hook.run || hook.run[0] == '\0')
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "hook %s has no program: write run = /path/to/program",
                        self->name);
    if (hook.on == 0)
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "hook %s is started on nothing: write on = began, for one",
                        self->name);
    const char *list = hook.cameras ? hook.cameras : "";
    char camera[NAME_MAX_BYTES + 1];
    while (twi_next_name(&list, camera, sizeof camera))
        if (!twi_find_section(in->settings, IN_CAMERA, camera))
            twi_intake_tell(in, TW_ESYNTAX, self->line, "hook %s: there is no camera %s",
                            self->name, camera);
}

static void check_sensor(intake *in, const section *self)
{
    twi_sensor_settings sensor;
    if (twi_settings_sensor(in->settings, self->name, &sensor) != TW_OK)
        return;
    if ((sensor.file[0] != '\0') == (sensor.run[0] != '\0'))
        twi_intake_tell(
            in, TW_ESYNTAX, self->line,
            "sensor %s: its number comes from a file or from a program: write "
            "file = /sys/class/thermal/thermal_zone0/temp, or run = PROGRAM",
            self->name);
    if (sensor.above != TWI_NO_NUMBER && sensor.below != TWI_NO_NUMBER &&
        sensor.above <= sensor.below)
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "sensor %s: alarm_above is not above alarm_below", self->name);
}

static void check_station(intake *in, const section *self)
{
    twi_station_settings station;
    twi_settings_station(in->settings, &station);
    const char *url = station.page_url;
    if (url[0] && strncmp(url, "https://", 8) != 0 && strncmp(url, "http://", 7) != 0)
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "page_url = %s: it begins with https:// or http://", url);
}

/* ---- destinations ---------------------------------------------------------------- */

static bool begins(const char *text, const char *with)
{
    return strncmp(text, with, strlen(with)) == 0;
}

static bool is_mail(const char *url)
{
    return begins(url, "smtp://") || begins(url, "smtps://");
}

/* @return what is wrong with a URL, NULL: nothing. */
static const char *fault_of(const char *url)
{
    static const char *const schemes[] = {"smtp://",    "smtps://", "ftp://",   "ftps://",
                                          "sftp://",    "http://",  "https://", "s3://",
                                          "s3+http://", "mqtt://",  "mqtts://", NULL};
    const char *at = NULL;
    if (twi_url_is_phones(url))
        return NULL;
    if (begins(url, "push:"))
        return "nothing stands behind push: phones are told of on the page";
    if (begins(url, "file:"))
        return url[strlen("file:")] == '\0' ? "a folder is missing" : NULL;
    for (size_t i = 0; schemes[i] && !at; i++)
        if (begins(url, schemes[i]))
            at = url + strlen(schemes[i]);
    if (!at)
        return "it begins with no kind of destination: smtps, sftp, https, s3, mqtts, "
               "push, file...";
    const size_t host = strcspn(at, "/?#");
    const char *user_end = NULL;
    for (size_t i = 0; i < host; i++)
        if (at[i] == '@')
            user_end = at + i;
    if (user_end && memchr(at, ':', (size_t)(user_end - at)))
        return "it has a password in it: put that into a file that only you may read, "
               "and name it by secret_file";
    const char *name = user_end ? user_end + 1 : at;
    return name == at + host ? "a host is missing" : NULL;
}

/* @return whether files go there one by one, and no words. */
static bool takes_files(const twi_destination_settings *d)
{
    const char *url = d->url ? d->url : "";
    const bool form = begins(url, "http") && d->by >= TWI_BY_FORM;
    return url[0] && !is_mail(url) && !form && !begins(url, "mqtt") &&
           !twi_url_is_phones(url);
}

/* [station] @return whether there is a page, so that phones can be told of on it. */
static bool has_page(const tw_settings *settings)
{
    twi_station_settings station;
    twi_settings_station(settings, &station);
    return strcmp(station.listen, "none") != 0;
}

/* What comes once a day has to have a time. */
static void check_daily(intake *in, const section *self,
                        const twi_destination_settings *d)
{
    twi_station_settings station;
    twi_settings_station(in->settings, &station);
    if ((d->on & TWI_TELL_DAILY) && station.daily_word < 0)
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s: on = daily: there is no word of the day: write "
                        "daily_word = 08:00 in [station], for one",
                        self->name);
    if ((d->what & TWI_SEND_REEL) && station.daily_reel < 0)
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s: what = reel: there is no film of the day: write "
                        "daily_reel = 07:00 in [station], for one",
                        self->name);
}

static void check_destination(intake *in, const section *self)
{
    twi_destination_settings d;
    twi_hours hours;
    char shown[TWI_VALUE_MAX];
    if (twi_settings_destination(in->settings, self->name, &d) != TW_OK)
        return;
    const char *url = d.url ? d.url : "", *fault = fault_of(url);
    if (url[0] == '\0')
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s has no url: write url = sftp://HOST/FOLDER, for "
                        "one",
                        self->name);
    else if (fault)
        twi_intake_tell(in, TW_ESYNTAX, self->line, "destination %s: url = %s: %s",
                        self->name, twi_source_shown(url, shown, sizeof shown), fault);
    if (twi_url_is_phones(url) && !has_page(in->settings))
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s: phones are told of on the page, and there is "
                        "none: write listen = ADDRESS:PORT in [station]",
                        self->name);
    if ((d.on & (TWI_TELL_ALARMS | TWI_TELL_DAILY)) && takes_files(&d))
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s: on = %s: files alone go there; mail, forms, "
                        "phones and brokers take words",
                        self->name, d.on & TWI_TELL_ALARMS ? "alarms" : "daily");
    check_daily(in, self, &d);
    if (is_mail(url) && d.to[0] == '\0')
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s: mail to nobody: write to = NAME@HOST",
                        self->name);
    if (is_mail(url) && d.from[0] == '\0' && !strchr(d.user, '@'))
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s: mail from nobody: write from = NAME@HOST",
                        self->name);
    if (d.secret_file[0] && d.secret_env[0])
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s: secret_file and secret_env are both set: remove "
                        "one of the two",
                        self->name);
    if (twi_hours_parse(d.hours, &hours, NULL) == TW_OK && twi_hours_need_place(&hours))
        twi_intake_tell(in, TW_ESYNTAX, self->line,
                        "destination %s: hours = %s: a destination has no sun, write "
                        "times of the clock",
                        self->name, d.hours);
}

tw_status tw_settings_check(tw_settings *settings, tw_problem_fn callback, void *ctx)
{
    if (!settings)
        return TW_EINVAL;
    intake in = {.settings = settings, .callback = callback, .ctx = ctx};
    for (size_t i = 0; i < settings->section_count; i++) {
        const section *self = &settings->sections[i];
        in.file = self->file;
        in.level = self->level;
        (void)snprintf(in.name, sizeof in.name, "%s", self->name);
        if (self->level == IN_CAMERA)
            check_camera(&in, self);
        else if (self->level == IN_CAMERA_WHEN)
            check_condition(&in, self);
        else if (self->level == IN_ZONE)
            check_zone(&in, self);
        else if (self->level == IN_HOOK)
            check_hook(&in, self);
        else if (self->level == IN_DESTINATION)
            check_destination(&in, self);
        else if (self->level == IN_STATION)
            check_station(&in, self);
        else if (self->level == IN_SENSOR)
            check_sensor(&in, self);
    }
    return in.status;
}
