#include "fs/fs.h"

#include <string.h>

static const struct mos_fs_driver *const drivers[] = {&mos_fs_ext4,    &mos_fs_fat32, &mos_fs_fat16,
                                                      &mos_fs_fat12,   &mos_fs_swap,  &mos_fs_cpio,
                                                      &mos_fs_squashfs};

const struct mos_fs_driver *mos_fs_at(size_t index) {
    return index < sizeof drivers / sizeof *drivers ? drivers[index] : NULL;
}

const struct mos_fs_driver *mos_fs_find(const char *name) {
    const struct mos_fs_driver *d;
    for (size_t i = 0; (d = mos_fs_at(i)); i++)
        if (strcmp(d->name, name) == 0)
            return d;
    return NULL;
}

const struct mos_fs_loader *mos_fs_loader(const struct mos_fs_driver *fs, const char *dialect) {
    const struct mos_fs_loader *l = fs ? fs->loaders : NULL;
    while (l && l->dialect && strcmp(l->dialect, dialect) != 0)
        l++;
    return l && l->dialect ? l : NULL;
}

bool mos_fs_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out) {
    const struct mos_fs_driver *d;
    for (size_t i = 0; (d = mos_fs_at(i)); i++)
        if (d->probe(io, arena, out)) {
            out->driver = out->damaged || !d->stream ? NULL : d;
            return true;
        }
    return mos_fs_foreign(io, arena, out);
}
