/* tawny init: a settings file from five answers. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "../port/linux/devices.h"
#include "../settings/sections.h"
#include "output.h"
#include "tawny/settings.h"

static const char ABOUT[] = "Asks which camera, what it is called, where captures go, "
                            "how large what you wait for "
                            "is,\n"
                            "and who may see the page; writes a settings file with "
                            "comments, and says what to do\n"
                            "next. What an option answers is not asked; an empty line "
                            "takes what is in brackets. A\n"
                            "file that is there is left as it is.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny init\n"
                              "  tawny init --source v4l2:/dev/video0 --camera kerb\n"
                              "  tawny init --output /etc/tawny/station.ini < /dev/null";

enum { DEVICES_MOST = 16, TRIES = 5 };

/* What is asked. */
typedef struct answers {
    char *source, *camera, *store, *size, *page;
} answers;

/* The cameras of this machine. */
typedef struct devices {
    char *source[DEVICES_MOST];
    char *name[DEVICES_MOST];
    guint count;
} devices;

static void take_device(void *ctx, const twi_linux_device *d)
{
    devices *all = ctx;
    if (!d->usable || all->count == DEVICES_MOST)
        return;
    all->source[all->count] = g_strdup(d->stable[0] ? d->stable : d->source);
    all->name[all->count++] = g_strdup(d->name);
}

static void clear_devices(devices *all)
{
    for (guint i = 0; i < all->count; i++) {
        g_free(all->source[i]);
        g_free(all->name[i]);
    }
}

/* ---- what is wrong with an answer; NULL: nothing; g_free it ----------------------- */

static void keep_line(void *ctx, const char *line)
{
    char **kept = ctx;
    if (!*kept)
        *kept = g_strdup(line);
}

/* A number of the list, as far as that goes. @return 0: it is none. */
static guint number_of(const devices *all, const char *answer)
{
    guint64 number = 0;
    return all->count > 0 &&
                   g_ascii_string_to_unsigned(answer, 10, 1, all->count, &number, NULL)
               ? (guint)number
               : 0;
}

static char *wrong_source(const void *ctx, const char *answer)
{
    const devices *all = ctx;
    if (number_of(all, answer) > 0 || strchr(answer, ':') ||
        g_file_test(answer, G_FILE_TEST_EXISTS))
        return NULL;
    return g_strdup("a number of the list, or a source such as v4l2:/dev/video0");
}

static char *wrong_camera(const void *ctx, const char *answer)
{
    char *said = NULL;
    (void)ctx;
    tw_settings *settings = tw_settings_new();
    (void)tw_settings_add_camera(settings, answer, "sim:kerb", keep_line, &said);
    tw_settings_free(settings);
    return said;
}

static char *wrong_store(const void *ctx, const char *answer)
{
    (void)ctx;
    return strpbrk(answer, "\r\n") || answer[0] == '\0' ? g_strdup("a folder") : NULL;
}

/* @return a line of what may be said, unless the answer is one of them. */
static char *wrong_word(const char *answer, const char *const *words)
{
    g_autofree char *all = NULL;
    if (g_strv_contains(words, answer))
        return NULL;
    all = g_strjoinv(", ", (char **)(gpointer)words);
    return g_strdup_printf("one of: %s", all);
}

static const char *const SIZES[] = {"large", "middle", "small", NULL};
static const char *const PAGES[] = {"none", "here", "network", NULL};

static char *wrong_size(const void *ctx, const char *answer)
{
    (void)ctx;
    return wrong_word(answer, SIZES);
}

static char *wrong_page(const void *ctx, const char *answer)
{
    (void)ctx;
    return wrong_word(answer, PAGES);
}

/* ---- asking ------------------------------------------------------------------------ */

typedef struct question {
    const char *text, *option;
    const char *preset; /* NULL: there is none */
    char *(*wrong)(const void *ctx, const char *answer);
    const void *ctx;
} question;

/* What an empty line, or the end of the answers, stands for is taken.
 * @return the answer; NULL: it is none, or there is none; *end: no more will come. */
static char *take_answer(const question *q, gboolean *end)
{
    char line[1024];
    *end = fgets(line, sizeof line, stdin) == NULL;
    const char *answer = *end ? "" : g_strstrip(line);
    if (answer[0] == '\0')
        answer = q->preset ? q->preset : "";
    g_autofree char *wrong =
        answer[0] == '\0' ? g_strdup("an answer is needed") : q->wrong(q->ctx, answer);
    if (wrong)
        (void)printf("%s%s\n", isatty(STDIN_FILENO) ? "" : "\n", wrong);
    else if (!isatty(STDIN_FILENO))
        (void)printf("%s\n", answer);
    return wrong ? NULL : g_strdup(answer);
}

/* @param answer  Of an option, or NULL; set, the caller's. @return exit code. */
static int ask(const question *q, char **answer)
{
    gboolean end = FALSE;
    if (*answer) {
        g_autofree char *wrong = q->wrong(q->ctx, *answer);
        return wrong ? cli_say(CLI_USAGE, "%s %s: %s", q->option, *answer, wrong)
                     : CLI_DONE;
    }
    for (int i = 0; i < TRIES && !*answer && !end; i++) {
        (void)printf("%s%s%s%s ", q->text, q->preset ? " [" : "",
                     q->preset ? q->preset : "", q->preset ? "]" : "");
        (void)fflush(stdout);
        *answer = take_answer(q, &end);
    }
    return *answer ? CLI_DONE : cli_say(CLI_USAGE, "say it with %s", q->option);
}

static int ask_source(char **source)
{
    devices all = {0};
    if (!*source)
        (void)twi_linux_devices(take_device, &all);
    for (guint i = 0; i < all.count; i++)
        (void)printf("  %u  %s (%s)\n", i + 1, all.name[i], all.source[i]);
    if (!*source && all.count == 0)
        (void)printf("No camera is plugged in. tawny check --cameras --network looks for "
                     "others; sim:kerb is a simulated one.\n");
    const question q = {"Which camera?", "--source", all.count > 0 ? "1" : NULL,
                        wrong_source, &all};
    const int code = ask(&q, source);
    const guint number = code == CLI_DONE ? number_of(&all, *source) : 0;
    if (number > 0) {
        g_free(*source);
        *source = g_strdup(all.source[number - 1]);
    } else if (code == CLI_DONE) {
        char *path = *source;
        *source = cli_source_of(path); /* a file needs no word before it */
        g_free(path);
    }
    clear_devices(&all);
    return code;
}

static int ask_all(answers *a)
{
    const question camera = {"What is it called?", "--camera", "kerb", wrong_camera,
                             NULL};
    const question store = {"Where do captures go, as a folder?", "--store", "captures",
                            wrong_store, NULL};
    const question size = {
        "How large in the picture is what you wait for: large (people, "
        "cars), middle (cats), small (toads)?",
        "--size", "middle", wrong_size, NULL};
    const question page = {
        "Who may see its page: none, here (this machine), network (who "
        "has a password)?",
        "--page", "here", wrong_page, NULL};
    int code = ask_source(&a->source);
    if (code == CLI_DONE)
        code = ask(&camera, &a->camera);
    if (code == CLI_DONE)
        code = ask(&store, &a->store);
    if (code == CLI_DONE)
        code = ask(&size, &a->size);
    return code == CLI_DONE ? ask(&page, &a->page) : code;
}

/* ---- writing ----------------------------------------------------------------------- */

static const char *listen_of(const answers *a)
{
    return strcmp(a->page, "none") == 0   ? "none"
           : strcmp(a->page, "here") == 0 ? "127.0.0.1:8420"
                                          : "0.0.0.0:8420";
}

/* From 1, the calmest, to 5. */
static int sensitivity_of(const answers *a)
{
    return strcmp(a->size, "large") == 0 ? 2 : strcmp(a->size, "small") == 0 ? 4 : 3;
}

static char *settings_of(const answers *a)
{
    return g_strdup_printf(
        "# A station, as tawny init made it. All settings, with their help: tawny "
        "settings\n"
        "# What is changed here holds when tawny gets SIGHUP (systemctl reload tawny), "
        "or starts.\n\n"
        "[station]\n"
        "store = %s           # captures, and the catalogue of them\n"
        "listen = %s          # the page; none: there is none\n"
        "accounts_file = accounts   # who may log in: tawny account\n"
        "# keep_free = 256 MB       # of the card; the oldest that is not starred goes "
        "first\n"
        "# keep_for = 90 d          # nothing is older\n\n"
        "# What holds for every camera, unless its own section says otherwise.\n"
        "[cameras]\n"
        "pre_event = 5 s            # kept from before it moves\n"
        "post_event = 8 s           # a sighting ends when nothing has moved for so "
        "long\n\n"
        "[camera %s]\n"
        "source = %s\n"
        "sensitivity = %d           # 1: calm, begins least for nothing; 5: keen, misses "
        "least\n"
        "# smallest = 0.1 %%         # blobs below this share of the picture do not "
        "count\n"
        "# sound = none             # a microphone, where that is allowed: alsa:default\n"
        "# send_to = mail           # the destination below\n\n"
        "# [destination mail]\n"
        "# url = smtp://mail.example.org\n"
        "# to = you@example.org\n"
        "# user = you\n"
        "# secret_file = mail.secret\n",
        a->store, listen_of(a), a->camera, a->source, sensitivity_of(a));
}

/* It is read as a station would, before anybody relies on it: what a line of settings
 * cannot hold, such as a blank and a #, does not come back. */
static int check_text(const answers *a, const char *text)
{
    tw_settings *settings = tw_settings_new();
    twi_camera_settings camera;
    twi_station_settings station;
    int code = CLI_DONE;
    if (tw_settings_read_text(settings, "these answers", text, strlen(text), cli_told,
                              NULL) != TW_OK ||
        tw_settings_check(settings, cli_told, NULL) != TW_OK ||
        twi_settings_camera(settings, a->camera, &camera) != TW_OK)
        code = CLI_USAGE;
    twi_settings_station(settings, &station);
    if (code == CLI_DONE &&
        (strcmp(camera.source, a->source) != 0 || strcmp(station.store, a->store) != 0))
        code = cli_say(CLI_USAGE, "source and store are one line each, without a blank "
                                  "before # or ;, and without quotes");
    tw_settings_free(settings);
    return code;
}

static int say_there(const char *path)
{
    return cli_say(CLI_FAILED,
                   "%s is there already, and is left as it is: name another with "
                   "--output, or put it away first",
                   path);
}

/* A source with a password in it is for its owner's eyes. */
static int write_new(const char *path, const char *text, const char *source)
{
    const mode_t mode = strchr(source, '@') ? 0600 : 0644;
    const size_t bytes = strlen(text);
    const int fd = open(path, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
    if (fd < 0 && errno == EEXIST)
        return say_there(path);
    const gboolean good =
        fd >= 0 && write(fd, text, bytes) == (ssize_t)bytes && fsync(fd) == 0;
    const int why = errno;
    if (fd >= 0)
        (void)close(fd);
    if (!good && fd >= 0)
        (void)unlink(path);
    return good ? CLI_DONE
                : cli_say(CLI_FAILED, "%s cannot be written: %s", path, g_strerror(why));
}

/* Commands find a file of the usual name in this folder by themselves. */
static void say_next(const answers *a, const char *path)
{
    const gboolean usual = strcmp(path, "station.ini") == 0;
    g_autofree char *with =
        usual ? g_strdup("") : g_strdup_printf(" --settings %s", path);
    (void)printf("%s is written. What to do next:\n", path);
    (void)printf("  tawny check%s    opens the camera once, tries the store\n", with);
    (void)printf(
        "  tawny look%s --camera %s --overlay --after 30 --output %s.png    what it "
        "sees\n",
        with, a->camera, a->camera);
    if (strcmp(a->page, "network") == 0)
        (void)printf("  tawny account%s add YOUR-NAME --may run    before the page lets "
                     "anybody in\n",
                     with);
    (void)printf("  tawny watch%s    until Ctrl-C\n", with);
    if (strcmp(a->page, "here") == 0)
        (void)printf("Then its page is at http://%s/\n", listen_of(a));
    if (strcmp(a->page, "network") == 0)
        (void)printf("Passwords go over the network as they are unless the page has a "
                     "certificate: see certificate in tawny settings.\n");
}

static void clear_answers(answers *a)
{
    g_free(a->source);
    g_free(a->camera);
    g_free(a->store);
    g_free(a->size);
    g_free(a->page);
}

int cli_init(int argc, char **argv)
{
    answers a = {0};
    g_autofree char *output = NULL, *text = NULL;
    const GOptionEntry own[] = {
        {"source", 0, 0, G_OPTION_ARG_STRING, &a.source, "Which camera", "SOURCE"},
        {"camera", 0, 0, G_OPTION_ARG_STRING, &a.camera, "What it is called", "NAME"},
        {"store", 0, 0, G_OPTION_ARG_STRING, &a.store, "Where captures go", "FOLDER"},
        {"size", 0, 0, G_OPTION_ARG_STRING, &a.size,
         "How large what you wait for is in the picture", "large|middle|small"},
        {"page", 0, 0, G_OPTION_ARG_STRING, &a.page, "Who may see the page",
         "none|here|network"},
        {"output", 0, 0, G_OPTION_ARG_FILENAME, &output,
         "Where it is written (station.ini)", "FILE"},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, NULL, ABOUT, EXAMPLE, own, NULL);
    const char *path = output ? output : "station.ini";
    if (code == CLI_DONE && argc > 1)
        code = cli_say(CLI_USAGE, "%s is not expected", argv[1]);
    if (code == CLI_DONE && g_file_test(path, G_FILE_TEST_EXISTS))
        code = say_there(path);
    if (code == CLI_DONE)
        code = ask_all(&a);
    if (code == CLI_DONE) {
        text = settings_of(&a);
        code = check_text(&a, text);
    }
    if (code == CLI_DONE)
        code = write_new(path, text, a.source);
    if (code == CLI_DONE)
        say_next(&a, path);
    clear_answers(&a);
    return code;
}
