#include "boot/dialect.h"

#include "linux/devices.h"

#include <stdlib.h>
#include <string.h>

const struct mos_fs_loader *mos_dialect_reads(const struct mos_dialect *dialect,
                                              const struct mos_fs_driver *fs) {
    for (const struct mos_dialect_volume *v = fs ? dialect->volumes : NULL; v && v->fs; v++)
        if (strcmp(v->fs, fs->name) == 0)
            return &v->as;
    return mos_fs_loader(fs, dialect->name);
}

const char *mos_dialect_medium(const struct mos_dialect *dialect, struct mos_arena *arena,
                               const char *kind) {
    const struct mos_loader_medium *m = dialect->media;
    while (m->word && (!m->kind || strcmp(m->kind, kind) != 0))
        m++;
    return mos_printf(arena, "%s 0", m->word ? m->word : dialect->media->word);
}

const char *mos_dialect_kernel_name(const struct mos_dialect *dialect, struct mos_arena *arena,
                                    const char *medium) {
    size_t n = strcspn(medium, " ");
    const char *digits = medium + n + strspn(medium + n, " ");
    if (!*digits || digits[strspn(digits, "0123456789")] || strlen(digits) > 3)
        return NULL;
    for (const struct mos_loader_medium *m = dialect->media; m->word; m++)
        if (strlen(m->word) == n && strncmp(m->word, medium, n) == 0)
            return mos_device_on_bus(arena, m->bus, (unsigned)strtoul(digits, NULL, 10));
    return NULL;
}
