/* What the commands share. Exit codes: 0 done, 1 failed, 2 wrong usage or settings. */
#ifndef TWI_CLI_COMMON_H
#define TWI_CLI_COMMON_H

#include <glib.h>

#include "../core/best.h"
#include "../core/caption.h"
#include "../core/hours.h"
#include "../core/interval.h"
#include "../core/recent.h"
#include "../core/reply.h"
#include "../core/score.h"
#include "../core/tryout.h"
#include "../core/tune.h"
#include "../deliver/deliver.h"
#include "../deliver/hooks.h"
#include "../page/page.h"
#include "../settings/draft.h"
#include "../station/outbox.h"
#include "../station/plan.h"
#include "../station/reel.h"
#include "tawny/tawny.h"
#include "../settings/sections.h"

enum { CLI_DONE = 0, CLI_FAILED = 1, CLI_USAGE = 2 };

/* One command. argv[0] is its name. */
typedef struct cli_command {
    const char *name;
    const char *summary;
    int (*run)(int argc, char **argv);
} cli_command;

int cli_account(int argc, char **argv);
int cli_arm(int argc, char **argv);
int cli_backup(int argc, char **argv);
int cli_check(int argc, char **argv);
int cli_demo(int argc, char **argv);
int cli_disarm(int argc, char **argv);
int cli_init(int argc, char **argv);
int cli_look(int argc, char **argv);
int cli_outbox(int argc, char **argv);
int cli_plan(int argc, char **argv);
int cli_reel(int argc, char **argv);
int cli_rehearse(int argc, char **argv);
int cli_restore(int argc, char **argv);
int cli_send(int argc, char **argv);
int cli_settings(int argc, char **argv);
int cli_gather(int argc, char **argv);
int cli_sightings(int argc, char **argv);
int cli_snap(int argc, char **argv);
int cli_status(int argc, char **argv);
int cli_trigger(int argc, char **argv);
int cli_tune(int argc, char **argv);
int cli_watch(int argc, char **argv);

/* Options that most commands take. */
typedef struct cli_common {
    char *settings_path; /* NULL: the usual places */
    char **sets;         /* --set, NULL-ended or NULL */
    char **sources;      /* cameras in the place of a settings file; borrowed; as above */
    gboolean json;
} cli_common;

/** Release what cli_parse filled in; fine before it, and twice. */
void cli_clear(cli_common *common);

/* A cli_common that is released when its scope is left, as g_autofree does for texts. */
#define CLI_COMMON __attribute__((cleanup(cli_clear))) cli_common

/**
 * Parse a command's options; --help is answered and ends the program.
 *
 * @param args     What follows the options, for the usage line: "FILE…".
 * @param about    What the command does, in a paragraph.
 * @param example  Lines of examples.
 * @param own      The command's own options, ended by an empty entry; may be NULL.
 * @param common   Filled in; NULL: the command takes no common options.
 * @return CLI_DONE; CLI_USAGE, told.
 */
int cli_parse(int *argc, char ***argv, const char *args, const char *about,
              const char *example, const GOptionEntry *own, cli_common *common);

/** Print "tawny: ..." to standard error. @return code. */
int cli_say(int code, const char *format, ...) TW_PRINTF(2, 3);

/** Put "?" for what would steer a terminal: names of files come from anywhere. @return
 * text.
 */
char *cli_plain(char *text);

/** Read "2h", "30min", "90s", or a sum of such; NULL is nothing. @return CLI_DONE;
 * CLI_USAGE, told with the option's name. */
int cli_read_time(const char *option, const char *text, int64_t *us);

/** A tw_problem_fn that prints lines to standard error. */
void cli_told(void *ctx, const char *line);

/** The settings file that a command runs on, to g_free; NULL: none. */
char *cli_settings_file(const cli_common *common);

/**
 * Read the settings that a command runs on: the file that was named, else the first there
 * is of ./station.ini, the user's and the system's; then every --set.
 *
 * @param needed    There must be a file.
 * @param path_out  Set to the file's path, NULL: none; g_free it. May be NULL.
 * @return TW_OK: *out is the caller's; else told.
 */
tw_status cli_load(const cli_common *common, gboolean needed, tw_settings **out,
                   char **path_out);

/**
 * What can be read of them, for commands that speak to a station that runs, or to its
 * store: a mistake in the file is told, and keeps nobody from disarming a camera.
 *
 * @return TW_OK: *out is the caller's; else told: the file cannot be read, or a --set is
 *         wrong.
 */
tw_status cli_load_readable(const cli_common *common, tw_settings **out);

/**
 * The same, checked, for a station: mistakes that concern single cameras are told and
 * leave the others be (twi_settings_sound).
 *
 * @param path_out  As in cli_load.
 * @return TW_OK: *out is the caller's; else told.
 */
tw_status cli_load_sound(const cli_common *common, tw_settings **out, char **path_out);

/**
 * The settings of one camera, every --set applied and everything checked.
 *
 * @param name    Of a camera in the settings file; NULL: named after the source, and a
 * file is read only if --settings names one.
 * @param source  Instead of the camera's own; NULL: its own. One of the two is given.
 * @return TW_OK: *out is the caller's and what camera points to is its; else told.
 */
tw_status cli_camera(const cli_common *common, const char *name, const char *source,
                     tw_settings **out, twi_camera_settings *camera);

/** The board that commands run on: all ports' cameras, the machine's clock. */
tw_platform cli_platform(void);

/** Nonzero once Ctrl-C or SIGTERM has come; both are caught from here on. */
const volatile int *cli_catch_signals(void (*also)(void));

/** How this program was called: "tawny", or the path to it; to suggest commands that
 * work. cli_called_as sets it, at the start; the text is borrowed. */
const char *cli_tool(void);
void cli_called_as(const char *argv0);

/** The order of two int64_t, for g_array_sort. */
int cli_by_number(const void *a, const void *b);

/** The exit code that stands for a status. */
int cli_exit(tw_status st);

/** "file:PATH" of an argument, unless it is a source already; g_free it. */
char *cli_source_of(const char *arg);

/** Read a password: a line, not shown where it is typed. @return FALSE: there is none. */
gboolean cli_password(const char *prompt, char out[TWI_PASSWORD_MAX + 2]);

#endif
