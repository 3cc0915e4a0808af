/* RAM: where each thing of a boot lies, as up to three ranges, and the choice of addresses. */
#ifndef MOS_BOOT_PLACEMENT_H
#define MOS_BOOT_PLACEMENT_H

#include "base/source.h"
#include "linux/image.h"

struct mos_ram_span {
    uint64_t start, length; /* length 0: not used */
};

enum mos_placement_range { MOS_RANGE_LOADED, MOS_RANGE_MOVED, MOS_RANGE_FINAL, MOS_RANGE_COUNT };

/* What one loaded thing needs. */
struct mos_placement {
    const char *what;                            /* "kernel" */
    struct mos_ram_span ranges[MOS_RANGE_COUNT]; /* loaded; moved or expanded; final */
    bool by_loader;                              /* a variable of the loader says where */
    uint64_t limit;                              /* it is moved below this; 0: as high as it goes */
    bool stays;                                  /* it is not moved */
    bool given;                                  /* the address is the user's, not ours */
    struct mos_place place;                      /* where it was given, or what it belongs to */
    uint64_t alignment;                          /* the loaded place must be a multiple of it */
    uint64_t offset; /* … after this many bytes (kernel text offset) */
};

/* What is read into RAM. */
struct mos_loads {
    const struct mos_kernel_header *header;
    uint64_t kernel, tree, ramdisk; /* bytes; tree and ramdisk 0: none */
    bool in_parcel;                 /* the loader takes all of them out of one file */
    bool tree_out; /* … but for the tree, which it puts aside to apply overlays */
};

struct mos_ram_map {
    uint64_t start, length; /* the range that is used, in its smallest size */
    uint64_t top;           /* below what the loader holds at the end */
};

/* Settles the three ranges of a kernel, a tree and a ramdisk.  Addresses that
 * are `given` stay; the others are chosen one behind the other from the start of RAM. */
void mos_placement_settle(const struct mos_ram_map *ram, const struct mos_loads *loads,
                          struct mos_placement *kernel, struct mos_placement *tree,
                          struct mos_placement *ramdisk);

#endif
