/* Wording of errors. */
#include "tawny/error.h"
#include "system_error.h"

#include <errno.h>
#include <stdarg.h>
#include <stdio.h>

tw_status tw_fail(tw_error *err, tw_status st, const char *format, ...)
{
    if (err) {
        va_list args;
        va_start(args, format);
        (void)vsnprintf(err->text, sizeof err->text, format, args);
        va_end(args);
        err->status = st;
    }
    return st;
}

tw_status twi_status_of_errno(int number)
{
    switch (number) {
    case 0: return TW_OK;
    case ENOENT:
    case ENOTDIR: return TW_ENOENT;
    case EEXIST: return TW_EEXIST;
    case ENOSPC:
    case EDQUOT: return TW_ENOSPC;
    case EACCES:
    case EPERM:
    case EROFS: return TW_EACCES;
    case ENOMEM: return TW_ENOMEM;
    case EINVAL: return TW_EINVAL;
    case ENAMETOOLONG: return TW_ESIZE;
    case ETIMEDOUT: return TW_ETIMEOUT;
    case EAGAIN: return TW_EAGAIN;
    default: return TW_EIO;
    }
}
