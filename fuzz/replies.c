/* libFuzzer target: lines of servers. Whatever they are, reading them ends, nothing that
 * is shown can move a cursor, and each fault is one of ours. */
#include <stdlib.h>
#include <string.h>

#include "../src/core/reply.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    static const twi_protocol all[] = {TWI_PROTOCOL_SMTP, TWI_PROTOCOL_FTP,
                                       TWI_PROTOCOL_HTTP, TWI_PROTOCOL_S3};
    char *line = malloc(bytes + 1), shown[64];
    if (!line)
        return 0;
    if (bytes > 0)
        memcpy(line, data, bytes);
    line[bytes] = '\0';
    const twi_reply reply = twi_reply_read(line);
    if (reply.code > 999 || reply.enhanced[0] > 999 ||
        (reply.text < line || reply.text > line + bytes) != (reply.code == 0))
        abort();
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if ((unsigned)twi_reply_fault(all[i], &reply) >= TWI_FAULT_COUNT)
            abort();
    (void)twi_reply_shown(line, bytes, shown, sizeof shown);
    for (const char *c = shown; *c; c++)
        if (*c < ' ' || *c > '~')
            abort();
    free(line);
    return 0;
}
