#include "base/error.h"

#include <stdarg.h>
#include <stdio.h>
#include <string.h>

static void add(struct mos_error *error, const char *format, va_list arguments) {
    size_t used = strlen(error->message);
    vsnprintf(error->message + used, sizeof error->message - used, format, arguments);
}

bool mos_fail(struct mos_error *error, enum mos_error_kind kind, int errnum, const char *format,
              ...) {
    if (error->kind)
        return false;
    error->kind = kind;
    error->errnum = errnum;
    error->message[0] = 0;
    va_list arguments;
    va_start(arguments, format);
    add(error, format, arguments);
    va_end(arguments);
    if (errnum) {
        size_t used = strlen(error->message);
        snprintf(error->message + used, sizeof error->message - used, ": %s", strerror(errnum));
    }
    return false;
}

bool mos_while(struct mos_error *error, const char *format, ...) {
    size_t used = strlen(error->message);
    snprintf(error->message + used, sizeof error->message - used, "; while ");
    va_list arguments;
    va_start(arguments, format);
    add(error, format, arguments);
    va_end(arguments);
    return false;
}
