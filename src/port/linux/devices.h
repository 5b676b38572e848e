/* The video devices of the machine, in words: for the tool. */
#ifndef TWI_LINUX_DEVICES_H
#define TWI_LINUX_DEVICES_H

#include <stdbool.h>
#include <stddef.h>

/* A video device in words; "" where there is nothing to say. */
typedef struct twi_linux_device {
    const char *source;   /* "v4l2:/dev/video0" */
    const char *stable;   /* "v4l2:/dev/v4l/by-id/...": its number may change, this not */
    const char *name;     /* its own, or why it cannot be asked */
    const char *modes;    /* "MJPG 640x480@30, ..." */
    const char *controls; /* with their ranges: "gain 1 to 100 (now 16), ..." */
    const char *why_not;  /* it cannot be a camera; "" where it can, or nobody knows */
    const char *choice;   /* what is taken where no size or format is set, and why */
    bool usable;          /* it can be a camera */
} twi_linux_device;

/**
 * Visit the video devices of the machine.
 *
 * @param visit  Told of each; borrowed for the call. May be NULL.
 * @return how many there are.
 */
size_t twi_linux_devices(void (*visit)(void *ctx, const twi_linux_device *device),
                         void *ctx);

#endif
