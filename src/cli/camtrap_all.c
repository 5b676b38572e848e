/* Export of many stations as Camtrap DP 1.0. A station's words are hostile input: what
 * has no place in the tables is left out. */
#include "camtrap_all.h"

#include <jansson.h>
#include <stdio.h>
#include <string.h>

#include "camtrap_package.h"
#include "common.h"
#include "output.h"
#include "../core/naming.h"
#include "../gather/stands.h"

/* A camera's stay at one place. */
typedef struct stood {
    int64_t since_us;
    camtrap_stay *stay;
} stood;

typedef struct gathering {
    camtrap_package package;
    const camtrap_all *all;
    FILE *media, *observations;
    GHashTable *stood;    /* "station/camera" to a GArray of stood */
    GHashTable *unplaced; /* "station/camera" to how many of it are left out */
    guint count;
} gathering;

/* ---- stays ----------------------------------------------------------------------- */

/* One that was moved has another name at each place after the first: "hollin/kerb/2". */
static void add_stay(gathering *g, const char *id, int64_t since_us, int64_t latitude,
                     int64_t longitude)
{
    GArray *all = g_hash_table_lookup(g->stood, id);
    if (!all) {
        all = g_array_new(FALSE, FALSE, sizeof(stood));
        (void)g_hash_table_insert(g->stood, g_strdup(id), all);
    }
    g_autofree char *own =
        all->len > 0 ? g_strdup_printf("%s/%u", id, all->len + 1) : g_strdup(id);
    const stood one = {since_us, camtrap_stay_add(&g->package, own, latitude, longitude)};
    (void)g_array_append_val(all, one);
}

static void take_stand(void *ctx, const twi_stand *s)
{
    g_autofree char *id = g_strdup_printf("%s/%s", s->station, s->camera);
    add_stay(ctx, id, s->since_us, s->latitude, s->longitude);
}

/* What was heard before stands were kept. */
static void take_camera(void *ctx, const twi_ledger_camera *c)
{
    gathering *g = ctx;
    int64_t latitude = 0, longitude = 0;
    g_autofree char *id = g_strdup_printf("%s/%s", c->station, c->name);
    if (g_hash_table_contains(g->stood, id))
        return;
    json_t *o = json_loads(c->text, 0, NULL);
    if (twi_heard_place(o, &latitude, &longitude))
        add_stay(g, id, 0, latitude, longitude);
    json_decref(o);
}

/* Where a camera stood then; before the first word of it, where it stood first. */
static camtrap_stay *stay_at(const gathering *g, const char *id, int64_t time_us)
{
    const GArray *all = g_hash_table_lookup(g->stood, id);
    guint at = 0;
    while (all && at + 1 < all->len &&
           g_array_index(all, stood, at + 1).since_us <= time_us)
        at++;
    return all ? g_array_index(all, stood, at).stay : NULL;
}

/* ---- sightings ------------------------------------------------------------------- */

static const char *text_of(const json_t *o, const char *key)
{
    const char *text = json_string_value(json_object_get(o, key));
    return text ? text : "";
}

/* Its record again, as the station has it. Texts are the object's. */
static tw_sighting_record record_of(const twi_ledger_sighting *s, const json_t *o)
{
    tw_sighting_record r = {.id = s->number,
                            .camera = s->camera,
                            .start_us = s->start_us,
                            .end_us = s->end_us,
                            .peak_ppm = s->peak_ppm,
                            .why = text_of(o, "why"),
                            .starred = json_is_true(json_object_get(o, "starred")),
                            .unsure = json_is_true(json_object_get(o, "unsure")),
                            .name = s->name,
                            .note = text_of(o, "note"),
                            .named_by = text_of(o, "named_by"),
                            .count = (uint32_t)CLAMP(s->count, 0, UINT32_MAX),
                            .named_us = twi_heard_time(text_of(o, "named"))};
    r.sure_ppm = twi_heard_ppm(json_number_value(json_object_get(o, "sure")));
    (void)tw_mark_find(text_of(o, "mark"), &r.mark);
    if (strcmp(r.named_by, "human") == 0)
        r.named_by = "";
    return r;
}

/* Where a file is. NULL: it names a place outside. */
static char *address_of(const gathering *g, const char *station, const char *file)
{
    if (file[0] == '\0' || strchr("./~", file[0]) || strstr(file, ".."))
        return NULL;
    g_autofree char *safe_station = g_uri_escape_string(station, NULL, FALSE);
    g_autofree char *safe_file = g_uri_escape_string(file, "/", FALSE);
    GString *out = g_string_new(g->all->media);
    (void)g_string_replace(out, "{station}", safe_station, 0);
    (void)g_string_replace(out, "{file}", safe_file, 0);
    return g_string_free(out, FALSE);
}

static void put_capture(gathering *g, const twi_ledger_sighting *s, const char *id,
                        const camtrap_stay *stay, gboolean starred, const json_t *o)
{
    const twi_kind kind = twi_kind_find(text_of(o, "kind"));
    const char *file = text_of(o, "file");
    const int64_t start_us = twi_heard_time(text_of(o, "start"));
    g_autofree char *path = address_of(g, s->station, file);
    if (!path || (kind != TWI_KIND_STILL && kind != TWI_KIND_CLIP))
        return;
    g_autofree char *name = g_path_get_basename(file);
    g_autofree char *own = g_strdup_printf("%s/%s", id, file);
    camtrap_put_medium(g->media, &(const camtrap_medium){
                                     .id = own,
                                     .stay = stay->id,
                                     .path = path,
                                     .name = name,
                                     .of_sighting = TRUE,
                                     .video = twi_kind_is_video(kind),
                                     .starred = starred,
                                     .start_us = start_us > 0 ? start_us : s->start_us});
}

static void leave_out(gathering *g, const char *stay)
{
    const gpointer before = g_hash_table_lookup(g->unplaced, stay);
    (void)g_hash_table_insert(g->unplaced, g_strdup(stay),
                              GUINT_TO_POINTER(GPOINTER_TO_UINT(before) + 1));
}

static void take_sighting(void *ctx, const twi_ledger_sighting *s)
{
    gathering *g = ctx;
    g_autofree char *of = g_strdup_printf("%s/%s", s->station, s->camera);
    camtrap_stay *stay = stay_at(g, of, s->start_us);
    if (!stay) {
        leave_out(g, of);
        return;
    }
    json_t *o = json_loads(s->text, 0, NULL);
    const json_t *captures = json_object_get(o, "captures");
    const tw_sighting_record r = record_of(s, o);
    g_autofree char *id =
        g_strdup_printf("%s/%s/%lld", s->station, s->series, (long long)s->number);
    camtrap_stay_extend(stay, r.start_us, r.end_us, r.unsure);
    for (size_t i = 0; i < json_array_size(captures); i++)
        put_capture(g, s, id, stay, r.starred, json_array_get(captures, i));
    camtrap_put_observation(&g->package, g->observations, id, id, stay->id, &r);
    g->count++;
    json_decref(o);
}

/* ---- the package ----------------------------------------------------------------- */

static void tell_left_out(const gathering *g)
{
    GHashTableIter at;
    gpointer name = NULL, count = NULL;
    g_hash_table_iter_init(&at, g->unplaced);
    while (g_hash_table_iter_next(&at, &name, &count)) {
        g_autofree char *plain = cli_plain(g_strdup(name));
        (void)fprintf(stderr,
                      "%u sighting%s of %s left out: it is not known where that camera "
                      "stands\n",
                      GPOINTER_TO_UINT(count), out_s(GPOINTER_TO_UINT(count)), plain);
    }
}

static void write_tables(gathering *g)
{
    tw_error err = {0};
    camtrap_package *p = &g->package;
    const camtrap_all *all = g->all;
    g->media = camtrap_table_open(p, &CAMTRAP_MEDIA);
    g->observations = camtrap_table_open(p, &CAMTRAP_OBSERVATIONS);
    if (g->media && g->observations &&
        all->kind->sightings(all->ledger, &all->filter, take_sighting, g, &err) != TW_OK)
        p->code = cli_say(cli_exit(err.status), "%s", err.text);
    camtrap_table_close(p, g->media, &CAMTRAP_MEDIA);
    camtrap_table_close(p, g->observations, &CAMTRAP_OBSERVATIONS);
}

static void export_to(gathering *g)
{
    tw_error err = {0};
    camtrap_package *p = &g->package;
    const camtrap_all *all = g->all;
    if (twi_stands(all->kind, all->ledger, take_stand, g, &err) != TW_OK ||
        all->kind->cameras(all->ledger, take_camera, g, &err) != TW_OK)
        p->code = cli_say(cli_exit(err.status), "%s", err.text);
    if (p->code == CLI_DONE)
        camtrap_package_make(p);
    if (p->code == CLI_DONE)
        write_tables(g);
    tell_left_out(g);
    if (p->code == CLI_DONE && g->count == 0)
        p->code = cli_say(CLI_FAILED, "there are no sightings to export");
    if (p->code == CLI_DONE)
        camtrap_package_end(p, "Sightings of many stations");
}

int camtrap_all_export(const camtrap_all *all, const char *folder)
{
    gathering g = {.all = all};
    camtrap_package_begin(&g.package, folder);
    g.stood = g_hash_table_new_full(g_str_hash, g_str_equal, g_free,
                                    (GDestroyNotify)g_array_unref);
    g.unplaced = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    export_to(&g);
    if (g.package.code == CLI_DONE)
        (void)printf("%u sighting%s exported to %s\n", g.count, out_s(g.count), folder);
    const int code = g.package.code;
    g_hash_table_destroy(g.stood);
    g_hash_table_destroy(g.unplaced);
    camtrap_package_clear(&g.package);
    return code;
}
