/* Whether the board has an H.264 encoder that libavcodec may look for. */
#ifndef TWI_BOARD_H
#define TWI_BOARD_H

#include <stdbool.h>

/* The system calls that this needs; tests put devices of their own behind them. */
typedef struct twi_board_calls {
    int (*open)(void *ctx, const char *path); /* -1: it cannot be opened */
    void (*close)(void *ctx, int fd);
    int (*ioctl)(void *ctx, int fd, unsigned long request, void *argument);
    void *ctx;
} twi_board_calls;

/**
 * Ask the video devices of a folder. libavcodec opens them one by one, and takes the
 * first whose queues have the right formats, a loopback between two programs for one,
 * whose stream it then breaks. So its encoder is safe only where there is a real one, and
 * nothing that could be taken for one.
 *
 * @param calls   NULL: the kernel's.
 * @param folder  "/dev".
 * @return whether it may be tried.
 */
bool twi_board_encodes(const twi_board_calls *calls, const char *folder);

#endif
