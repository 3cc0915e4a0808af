#include "boot/dialect.h"

#include <string.h>

const struct mos_fs_loader *mos_dialect_reads(const struct mos_dialect *dialect,
                                              const struct mos_fs_driver *fs) {
    for (const struct mos_dialect_volume *v = fs ? dialect->volumes : NULL; v && v->fs; v++)
        if (strcmp(v->fs, fs->name) == 0)
            return &v->as;
    return mos_fs_loader(fs, dialect->name);
}
