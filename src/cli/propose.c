/* What marks tell of a camera's settings, for the page: by this program once more, so
 * that the station goes on beside it, and what is learnt can be ended at any time. */
#include <errno.h>
#include <glib.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include "propose.h"

enum { OUTPUT_MAX = 4 << 20, WAIT_MS = 200, NICE = 15 };

/* In the child: what watches goes before what learns. */
static void yield_to_others(gpointer unused)
{
    sigset_t none;
    (void)unused;
    (void)sigemptyset(&none); /* a thread that hears no signal has started it */
    (void)sigprocmask(SIG_SETMASK, &none, NULL);
    (void)setpriority(PRIO_PROCESS, 0, NICE);
}

static char **words_of(const cli_common *common, const char *file, const char *camera)
{
    GPtrArray *words = g_ptr_array_new();
    const char *const begin[] = {"/proc/self/exe", "tune",     "--marked",
                                 "--json",         "--camera", camera};
    for (size_t i = 0; i < G_N_ELEMENTS(begin); i++)
        g_ptr_array_add(words, g_strdup(begin[i]));
    if (file) {
        g_ptr_array_add(words, g_strdup("--settings"));
        g_ptr_array_add(words, g_strdup(file));
    }
    for (char **set = common->sets; set && *set; set++) {
        g_ptr_array_add(words, g_strdup("--set"));
        g_ptr_array_add(words, g_strdup(*set));
    }
    g_ptr_array_add(words, NULL);
    return (char **)g_ptr_array_free(words, FALSE);
}

/* Read to the end, or until it is stopped. @return FALSE: it was, or said too much. */
static gboolean read_all(int fd, const volatile int *stop, GString *into)
{
    char part[4096];
    while (!__atomic_load_n(stop, __ATOMIC_RELAXED) && into->len < OUTPUT_MAX) {
        struct pollfd p = {.fd = fd, .events = POLLIN};
        if (poll(&p, 1, WAIT_MS) <= 0)
            continue;
        const ssize_t n = read(fd, part, sizeof part);
        if (n == 0 || (n < 0 && errno != EINTR))
            return TRUE;
        if (n > 0)
            (void)g_string_append_len(into, part, n);
    }
    return FALSE;
}

/* The last line that it said of itself, without the program's name. */
static void say_why(const char *errors, tw_error *err)
{
    g_autofree char *text = g_strdup(errors);
    char *line = strrchr(g_strchomp(text), '\n');
    line = line ? line + 1 : text;
    if (g_str_has_prefix(line, "tawny: "))
        line += strlen("tawny: ");
    (void)tw_fail(err, TW_EINVAL, "%s", *line ? line : "it ended without a word");
}

tw_status propose(const cli_common *common, const char *file, const char *camera,
                  const volatile int *stop, char **out, tw_error *err)
{
    GPid child = 0;
    int output = -1, errors = -1, status = 0;
    GError *failed = NULL;
    g_auto(GStrv) words = words_of(common, file, camera);
    if (!g_spawn_async_with_pipes(NULL, words, NULL, G_SPAWN_DO_NOT_REAP_CHILD,
                                  yield_to_others, NULL, &child, NULL, &output, &errors,
                                  &failed)) {
        const tw_status st = tw_fail(err, TW_EIO, "%s", failed->message);
        g_error_free(failed);
        return st;
    }
    GString *lines = g_string_new(NULL), *said = g_string_new(NULL);
    const gboolean whole = read_all(output, stop, lines) && read_all(errors, stop, said);
    if (!whole)
        (void)kill(child, SIGKILL);
    while (waitpid(child, &status, 0) < 0 && errno == EINTR)
        ;
    (void)close(output);
    (void)close(errors);
    tw_status st = whole ? TW_OK : tw_fail(err, TW_EEND, "it was stopped");
    if (st == TW_OK && (!WIFEXITED(status) || WEXITSTATUS(status) != 0)) {
        say_why(said->str, err);
        st = TW_EINVAL;
    }
    *out = st == TW_OK ? strdup(lines->str) : NULL;
    (void)g_string_free(lines, TRUE);
    (void)g_string_free(said, TRUE);
    return st == TW_OK && !*out ? TW_ENOMEM : st;
}
