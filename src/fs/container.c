#include "fs/container.h"

static const struct mos_container_driver *const drivers[] = {&mos_container_ubi};

bool mos_container_open(struct mos_io *io, struct mos_arena *arena, struct mos_container *out,
                        struct mos_vec *problems) {
    for (size_t i = 0; i < sizeof drivers / sizeof *drivers; i++)
        if (drivers[i]->open(io, arena, out, problems)) {
            out->driver = drivers[i];
            return true;
        }
    return false;
}
