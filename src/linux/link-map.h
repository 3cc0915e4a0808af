/* The map that the linker writes of a kernel (-Map, CONFIG_VMLINUX_MAP): how many bytes each object
 * brought (the linker's manual, "Options": -Map; the form of its text is not specified). */
#ifndef MOS_LINUX_LINK_MAP_H
#define MOS_LINUX_LINK_MAP_H

#include "base/map.h"

struct mos_link_size {
    const char *object; /* "drivers/tty/serial/amba-pl011.o", of an archive its member */
    uint64_t stored;    /* bytes in the image, before it is compressed */
    uint64_t cleared;   /* bytes that only take RAM */
};

/* Reads the text: object -> struct mos_link_size * in its order.  What has no address in the
 * kernel (debugging information) does not count, nor what fills gaps.  Nothing in it: it is no map.
 */
struct mos_map mos_link_map_read(struct mos_arena *arena, const char *text);

#endif
