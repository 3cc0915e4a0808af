#include "boot/dialect.h"

#include <string.h>

static const struct mos_dialect *const dialects[] = {&mos_dialect_u_boot};

const struct mos_dialect *mos_dialect_at(size_t index) {
    return index < sizeof dialects / sizeof *dialects ? dialects[index] : NULL;
}

const struct mos_dialect *mos_dialect_find(const char *name) {
    const struct mos_dialect *d;
    for (size_t i = 0; (d = mos_dialect_at(i)); i++)
        if (strcmp(d->name, name) == 0)
            return d;
    return NULL;
}
