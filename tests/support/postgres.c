/* A server as its own user: it refuses to run as root. */
#include "postgres.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static void run(const char *folder, const char *script, bool must)
{
    char command[2048];
    (void)snprintf(
        command, sizeof command,
        "set -e; B=$(ls -d /usr/lib/postgresql/*/bin | tail -1); D='%s/pg'; "
        "if [ $(id -u) = 0 ]; then R='runuser -u postgres --'; else R=; fi; cd /; %s",
        folder, script);
    outcome o = run_program(NULL, "/bin/sh", "-c", command, NULL);
    if (must && o.code != 0)
        fail_msg("%s: %s%s", script, o.out, o.err);
    free_outcome(&o);
}

/* Small, and its log beside it. */
#define START                                                                            \
    "$R $B/pg_ctl -s -w -t 60 -D $D/data -l $D/log -o \"-k $D -c listen_addresses='' "   \
    "-c shared_buffers=32MB -c max_connections=20\" start"

char *start_postgres(const char *folder)
{
    char address[512];
    run(folder,
        "chmod 755 $(dirname $D); mkdir -p $D; if [ $(id -u) = 0 ]; then chown "
        "postgres $D; fi; chmod 700 $D; $R $B/initdb -D $D/data -A trust -U postgres "
        "-E UTF8 --locale=C "
        "--no-sync >/dev/null; " START,
        true);
    (void)snprintf(address, sizeof address, "postgresql://postgres@/postgres?host=%s/pg",
                   folder);
    return strdup(address);
}

void kill_postgres(const char *folder)
{
    run(folder,
        "P=$(head -1 $D/data/postmaster.pid); kill -9 $P $(pgrep -P $P) 2>/dev/null; "
        "for i in $(seq 100); do kill -0 $P 2>/dev/null || break; sleep 0.05; done",
        false);
}

void restart_postgres(const char *folder)
{
    run(folder, "rm -f $D/data/postmaster.pid; " START, true);
}

void stop_postgres(const char *folder)
{
    run(folder, "$R $B/pg_ctl -s -m immediate -D $D/data stop", false);
}
