/* libFuzzer target: lines of servers. Whatever they are, reading them ends, nothing that
 * is shown can move a cursor, and each fault is one of ours. */
#include <stdlib.h>
#include <string.h>

#include "../src/core/reply.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    static const tw_protocol all[] = {TW_PROTOCOL_SMTP, TW_PROTOCOL_FTP, TW_PROTOCOL_HTTP,
                                      TW_PROTOCOL_S3};
    char *line = malloc(bytes + 1), shown[64];
    if (!line)
        return 0;
    if (bytes > 0)
        memcpy(line, data, bytes);
    line[bytes] = '\0';
    const tw_reply reply = tw_reply_read(line);
    if (reply.code > 999 || reply.enhanced[0] > 999 ||
        (reply.text < line || reply.text > line + bytes) != (reply.code == 0))
        abort();
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if ((unsigned)tw_reply_fault(all[i], &reply) >= TW_FAULT_COUNT)
            abort();
    (void)tw_reply_shown(line, bytes, shown, sizeof shown);
    for (const char *c = shown; *c; c++)
        if (*c < ' ' || *c > '~')
            abort();
    free(line);
    return 0;
}
