/* The tables of Camtrap DP 1.0, as its table schemas have them: each column once, and
 * from it the head, the rows and the schema that comes with an export. */
#include "camtrap_tables.h"

#include <glib.h>
#include <string.h>

#include "output.h"

/* A column, and what its values keep to. Numbers are written as JSON has them. */
typedef struct field {
    const char *name, *type;
    bool required;
    const char *least, *most;
    const char *words;   /* which are possible, with bars between */
    const char *pattern; /* a regular expression */
} field;

struct camtrap_table {
    const char *name;
    const field *fields; /* the first tells rows apart */
    size_t count;
    const char *const *others; /* columns that name rows of other tables: pairs of the
                                  column and the table */
};

#define MUST true
#define MAY false
#define OF(name, type, required)                                                         \
    {                                                                                    \
        name, type, required, NULL, NULL, NULL, NULL                                     \
    }
#define RANGE(name, type, required, least, most)                                         \
    {                                                                                    \
        name, type, required, least, most, NULL, NULL                                    \
    }
#define WORDS(name, required, words)                                                     \
    {                                                                                    \
        name, "string", required, NULL, NULL, words, NULL                                \
    }
#define LIKE(name, required, pattern)                                                    \
    {                                                                                    \
        name, "string", required, NULL, NULL, NULL, pattern                              \
    }
#define TABLE(name, fields, others)                                                      \
    {                                                                                    \
        name, fields, sizeof(fields) / sizeof *(fields), others                          \
    }

static const field DEPLOYMENTS[] = {
    OF("deploymentID", "string", MUST),
    OF("locationID", "string", MAY),
    OF("locationName", "string", MAY),
    RANGE("latitude", "number", MUST, "-90", "90"),
    RANGE("longitude", "number", MUST, "-180", "180"),
    RANGE("coordinateUncertainty", "integer", MAY, "1", NULL),
    OF("deploymentStart", "datetime", MUST),
    OF("deploymentEnd", "datetime", MUST),
    OF("setupBy", "string", MAY),
    OF("cameraID", "string", MAY),
    OF("cameraModel", "string", MAY),
    RANGE("cameraDelay", "integer", MAY, "0", NULL),
    RANGE("cameraHeight", "number", MAY, "0", NULL),
    RANGE("cameraDepth", "number", MAY, "0", NULL),
    RANGE("cameraTilt", "integer", MAY, "-90", "90"),
    RANGE("cameraHeading", "integer", MAY, "0", "360"),
    RANGE("detectionDistance", "number", MAY, "0", NULL),
    OF("timestampIssues", "boolean", MAY),
    OF("baitUse", "boolean", MAY),
    WORDS(
        "featureType", MAY,
        "roadPaved|roadDirt|trailHiking|trailGame|roadUnderpass|roadOverpass|roadBridge|"
        "culvert|burrow|nestSite|carcass|waterSource|fruitingTree"),
    OF("habitat", "string", MAY),
    OF("deploymentGroups", "string", MAY),
    OF("deploymentTags", "string", MAY),
    OF("deploymentComments", "string", MAY)};

static const field MEDIA[] = {
    OF("mediaID", "string", MUST),
    OF("deploymentID", "string", MUST),
    WORDS("captureMethod", MAY, "activityDetection|timeLapse"),
    OF("timestamp", "datetime", MUST),
    LIKE("filePath", MUST, "^https?://.*|^(?=^[^./~])(^((?!\\.{2}).)*$).*$"),
    OF("filePublic", "boolean", MUST),
    OF("fileName", "string", MAY),
    LIKE("fileMediatype", MUST, "^(image|video|audio)/.*$"),
    OF("exifData", "object", MAY),
    OF("favorite", "boolean", MAY),
    OF("mediaComments", "string", MAY)};

static const field OBSERVATIONS[] = {
    OF("observationID", "string", MUST),
    OF("deploymentID", "string", MUST),
    OF("mediaID", "string", MAY),
    OF("eventID", "string", MAY),
    OF("eventStart", "datetime", MUST),
    OF("eventEnd", "datetime", MUST),
    WORDS("observationLevel", MUST, "media|event"),
    WORDS("observationType", MUST, "animal|human|vehicle|blank|unknown|unclassified"),
    WORDS("cameraSetupType", MAY, "setup|calibration"),
    OF("scientificName", "string", MAY),
    RANGE("count", "integer", MAY, "1", NULL),
    WORDS("lifeStage", MAY, "adult|subadult|juvenile"),
    WORDS("sex", MAY, "female|male"),
    OF("behavior", "string", MAY),
    OF("individualID", "string", MAY),
    RANGE("individualPositionRadius", "number", MAY, "0", NULL),
    RANGE("individualPositionAngle", "number", MAY, "-90", "90"),
    RANGE("individualSpeed", "number", MAY, "0", NULL),
    RANGE("bboxX", "number", MAY, "0", "1"),
    RANGE("bboxY", "number", MAY, "0", "1"),
    RANGE("bboxWidth", "number", MAY, "1e-15", "1"),
    RANGE("bboxHeight", "number", MAY, "1e-15", "1"),
    WORDS("classificationMethod", MAY, "human|machine"),
    OF("classifiedBy", "string", MAY),
    OF("classificationTimestamp", "datetime", MAY),
    RANGE("classificationProbability", "number", MAY, "0", "1"),
    OF("observationTags", "string", MAY),
    OF("observationComments", "string", MAY)};

static const char *const OF_DEPLOYMENT[] = {"deploymentID", "deployments", NULL};
static const char *const OF_BOTH[] = {"deploymentID", "deployments", "mediaID", "media",
                                      NULL};
static const char *const OF_NONE[] = {NULL};

const camtrap_table CAMTRAP_DEPLOYMENTS = TABLE("deployments", DEPLOYMENTS, OF_NONE),
                    CAMTRAP_MEDIA = TABLE("media", MEDIA, OF_DEPLOYMENT),
                    CAMTRAP_OBSERVATIONS = TABLE("observations", OBSERVATIONS, OF_BOTH);

const char *camtrap_table_name(const camtrap_table *table)
{
    return table->name;
}

/* ---- rows ------------------------------------------------------------------------ */

void camtrap_put_head(FILE *out, const camtrap_table *table)
{
    for (size_t i = 0; i < table->count; i++)
        (void)fprintf(out, "%s%s", i > 0 ? "," : "", table->fields[i].name);
    out_csv_end(out);
}

static const char *text_of(const char *column, const camtrap_cell *cells)
{
    for (; cells->column; cells++)
        if (strcmp(cells->column, column) == 0)
            return cells->text;
    return "";
}

void camtrap_put_row(FILE *out, const camtrap_table *table, const camtrap_cell *cells)
{
    for (size_t i = 0; i < table->count; i++) {
        if (i > 0)
            (void)fputc(',', out);
        out_csv_text(out, text_of(table->fields[i].name, cells));
    }
    out_csv_end(out);
}

/* ---- schemas --------------------------------------------------------------------- */

static void set_number(json_t *o, const char *key, const char *number)
{
    if (number)
        (void)json_object_set_new(o, key, json_loads(number, JSON_DECODE_ANY, NULL));
}

static void set_words(json_t *o, const char *words)
{
    g_auto(GStrv) each = g_strsplit(words ? words : "", "|", -1);
    json_t *list = words ? json_array() : NULL;
    for (char **word = each; *word; word++)
        (void)json_array_append_new(list, json_string(*word));
    if (list)
        (void)json_object_set_new(o, "enum", list);
}

static json_t *describe_field(const field *f, bool unique)
{
    json_t *rules = json_pack("{sb}", "required", f->required);
    if (unique)
        (void)json_object_set_new(rules, "unique", json_true());
    set_number(rules, "minimum", f->least);
    set_number(rules, "maximum", f->most);
    set_words(rules, f->words);
    if (f->pattern)
        (void)json_object_set_new(rules, "pattern", json_string(f->pattern));
    json_t *o =
        json_pack("{ss ss so}", "name", f->name, "type", f->type, "constraints", rules);
    if (strcmp(f->type, "datetime") == 0) /* times are UTC */
        (void)json_object_set_new(o, "format", json_string("%Y-%m-%dT%H:%M:%SZ"));
    return o;
}

static json_t *describe_others(const camtrap_table *table)
{
    json_t *list = json_array();
    for (const char *const *at = table->others; *at; at += 2)
        (void)json_array_append_new(list, json_pack("{ss s{ss ss}}", "fields", at[0],
                                                    "reference", "resource", at[1],
                                                    "fields", at[0]));
    return list;
}

json_t *camtrap_schema(const camtrap_table *table)
{
    json_t *fields = json_array(), *others = describe_others(table);
    for (size_t i = 0; i < table->count; i++)
        (void)json_array_append_new(fields, describe_field(&table->fields[i], i == 0));
    json_t *o = json_pack("{ss so s[s] ss}", "name", table->name, "fields", fields,
                          "missingValues", "", "primaryKey", table->fields[0].name);
    if (json_array_size(others) > 0)
        (void)json_object_set(o, "foreignKeys", others);
    json_decref(others);
    return o;
}
