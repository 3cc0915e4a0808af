#define _GNU_SOURCE
#include "platform/platform.h"

#include <stdlib.h>
#include <sys/random.h>

struct sink {
    size_t (*write)(void *self, const char *bytes, size_t length);
    void *self;
};

static ssize_t write_some(void *cookie, const char *bytes, size_t length) {
    const struct sink *s = cookie;
    return (ssize_t)s->write(s->self, bytes, length);
}

static int close_it(void *cookie) {
    free(cookie);
    return 0;
}

FILE *mos_platform_stream(size_t (*write)(void *self, const char *bytes, size_t length),
                          void *self) {
    struct sink *s = malloc(sizeof *s);
    if (!s)
        return NULL;
    *s = (struct sink){write, self};
    FILE *f = fopencookie(s, "w", (cookie_io_functions_t){.write = write_some, .close = close_it});
    if (!f)
        free(s);
    return f;
}

FILE *mos_platform_answers(void) {
    return fopen("/dev/tty", "re");
}

bool mos_platform_random(void *to, size_t length) {
    return getrandom(to, length, 0) == (ssize_t)length;
}
