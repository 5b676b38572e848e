/* A ledger on each engine: a file, and a server of the test's own. */
#ifndef TW_TEST_ENGINE_H
#define TW_TEST_ENGINE_H

#include "support.h"
#include "../../src/gather/ledger.h"

/* The one that a test runs on. */
typedef struct engine_at {
    char *folder, *server; /* of the test; the server's address */
    bool on_server;
} engine_at;

extern engine_at engine;

const twi_ledger_kind *engine_kind(void);

/** Open it. @return to be closed. */
twi_ledger *engine_again(void);
/** The same, empty. */
twi_ledger *engine_anew(void);

/** Put messages, and clear them. */
void engine_put(twi_ledger *ledger, twi_heard *all, size_t count, int64_t now_us);
/** Statements of SQL, as somebody else may have run them. */
void engine_run(const char *on_file, const char *on_server);

/** Run tests on one engine after the other. @return how many failed. */
int on_each_engine(const struct CMUnitTest *tests, size_t count);

#endif
