#include "disk/table.h"

#include <string.h>

static const struct mos_table_driver *const drivers[] = {&mos_table_gpt, &mos_table_mbr};

const struct mos_table_driver *mos_table_at(size_t index) {
    return index < sizeof drivers / sizeof *drivers ? drivers[index] : NULL;
}

const struct mos_table_driver *mos_table_find(const char *name) {
    const struct mos_table_driver *d;
    for (size_t i = 0; (d = mos_table_at(i)); i++)
        if (strcmp(d->name, name) == 0)
            return d;
    return NULL;
}
