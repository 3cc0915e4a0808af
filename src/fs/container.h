/* What holds volumes of its own, as raw flash needs it: one driver a kind, each in a folder. */
#ifndef MOS_FS_CONTAINER_H
#define MOS_FS_CONTAINER_H

#include "io/io.h"

/* A volume in a container.  Its bytes lie where the container says; they can only be read. */
struct mos_contained {
    unsigned number;
    const char *name;
    bool fixed; /* written once: its size is that of its content, which has sums */
    bool empty; /* nothing was ever written to it */
    struct mos_io io;
};

struct mos_container {
    const struct mos_container_driver *driver;
    uint64_t length;        /* bytes of the region that are its own, from the start */
    uint64_t free;          /* bytes that no volume has */
    uint32_t block;         /* bytes that are erased at once */
    struct mos_vec volumes; /* of struct mos_contained, by number */
};

struct mos_container_driver {
    const char *name; /* as mos_fs_probe() calls what is only recognised */
    /* Looks for one at the start of `io`, which must stay.  Damage is added to `problems` (of const
     * char *).  false: there is none. */
    bool (*open)(struct mos_io *io, struct mos_arena *arena, struct mos_container *out,
                 struct mos_vec *problems);
};

extern const struct mos_container_driver mos_container_ubi;

/* What lies at the start of `io`, asked of every driver; false: no container. */
bool mos_container_open(struct mos_io *io, struct mos_arena *arena, struct mos_container *out,
                        struct mos_vec *problems);

#endif
