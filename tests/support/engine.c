/* A ledger on each engine. */
#include "engine.h"
#include "postgres.h"

#include <stdlib.h>

engine_at engine;

const twi_ledger_kind *engine_kind(void)
{
    tw_error err = {0};
    const twi_ledger_kind *k =
        twi_ledger_find(engine.on_server ? engine.server : "file", &err);
    if (!k)
        fail_msg("%s", err.text);
    return k;
}

twi_ledger *engine_again(void)
{
    twi_ledger *l = NULL;
    tw_error err = {0};
    char *path = join(engine.folder, "ledger.db");
    if (engine_kind()->open(engine.on_server ? engine.server : path, &l, &err) != TW_OK)
        fail_msg("%s", err.text);
    free(path);
    return l;
}

static void run(const char *command)
{
    outcome o = run_program(NULL, "/bin/sh", "-c", command, NULL);
    if (o.code != 0)
        fail_msg("%s", o.out);
    free_outcome(&o);
}

void engine_run(const char *on_file, const char *on_server)
{
    char command[2048];
    if (engine.on_server)
        (void)snprintf(command, sizeof command,
                       "psql -q -h %s/pg -U postgres postgres -c \"%s\" 2>&1",
                       engine.folder, on_server);
    else
        (void)snprintf(command, sizeof command,
                       "/usr/bin/python3 -c \"import sqlite3; "
                       "sqlite3.connect('%s/ledger.db').executescript('%s')\"",
                       engine.folder, on_file);
    run(command);
}

twi_ledger *engine_anew(void)
{
    char command[512];
    if (engine.on_server) {
        engine_run("", "DROP SCHEMA public CASCADE; CREATE SCHEMA public");
    } else {
        (void)snprintf(command, sizeof command, "rm -f %s/ledger.db*", engine.folder);
        run(command);
    }
    return engine_again();
}

void engine_put(twi_ledger *l, twi_heard *all, size_t count, int64_t now_us)
{
    tw_error err = {0};
    if (engine_kind()->put(l, all, count, now_us, &err) != TW_OK)
        fail_msg("%s", err.text);
    for (size_t i = 0; i < count; i++)
        twi_heard_clear(&all[i]);
}

int on_each_engine(const struct CMUnitTest *tests, size_t count)
{
    int failed = 0;
    engine.folder = make_folder();
    engine.server = start_postgres(engine.folder);
    for (int i = 0; i < 2; i++) {
        engine.on_server = i == 1;
        failed += _cmocka_run_group_tests(engine.on_server ? "server" : "file", tests,
                                          count, NULL, NULL);
    }
    stop_postgres(engine.folder);
    remove_folder(engine.folder);
    free(engine.server);
    return failed;
}
