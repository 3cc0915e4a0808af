#include "base/error.h"

#include "mosaicum/host.h"

#include <assert.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

static void add(struct mos_error *error, const char *format, va_list arguments) {
    size_t used = strlen(error->message);
    vsnprintf(error->message + used, sizeof error->message - used, format, arguments);
}

const char *mos_errno_text(int errnum) {
    switch (errnum) {
    case MOS_OUT_OF_REACH:
        return "it leads out of the workspace and of every place that was named";
    case MOS_NO_FILE:
        return "it is a device, a pipe or a socket, not a file";
    default:
        return strerror(errnum);
    }
}

bool mos_fail(struct mos_error *error, enum mos_error_kind kind, int errnum, const char *format,
              ...) {
    assert(kind != MOS_ERROR_NONE && format);
    if (error->kind)
        return false;
    error->kind = errnum == MOS_OUT_OF_REACH ? MOS_ERROR_SAFETY : kind;
    error->errnum = errnum;
    error->message[0] = 0;
    va_list arguments;
    va_start(arguments, format);
    add(error, format, arguments);
    va_end(arguments);
    if (errnum) {
        size_t used = strlen(error->message);
        snprintf(error->message + used, sizeof error->message - used, ": %s",
                 mos_errno_text(errnum));
    }
    return false;
}

bool mos_while(struct mos_error *error, const char *format, ...) {
    assert(error->kind != MOS_ERROR_NONE);
    size_t used = strlen(error->message);
    snprintf(error->message + used, sizeof error->message - used, "; while ");
    va_list arguments;
    va_start(arguments, format);
    add(error, format, arguments);
    va_end(arguments);
    return false;
}
