/* This computer's storage: what the kernel tells about each block device, who uses it, and what
 * stands on it.  Read from the texts of a struct mos_computer; nothing is opened. */
#ifndef MOS_MEDIA_STORAGE_H
#define MOS_MEDIA_STORAGE_H

#include "base/ctx.h"
#include "mosaicum/computer.h"

/* How a device hangs on the computer. */
enum mos_bus {
    MOS_BUS_OTHER,
    MOS_BUS_USB,
    MOS_BUS_SD,  /* an mmc device of type SD: a card in a slot */
    MOS_BUS_MMC, /* an mmc device of another type: soldered */
    MOS_BUS_SCSI,
    MOS_BUS_NVME,
    MOS_BUS_VIRTIO,
    MOS_BUS_LOOP,   /* a file */
    MOS_BUS_MAPPED, /* made of other devices: device mapper, RAID */
    MOS_BUS_MEMORY, /* RAM */
};

struct mos_mounted {
    const char *at;      /* its mount point, as its own namespace sees it */
    const char *process; /* one of another namespace that sees it, "containerd (812)"; NULL: ours */
};

struct mos_block {
    const char *name, *path; /* "sda", "/dev/sda" */
    uint64_t number;         /* as in struct mos_device_info */
    uint64_t size;           /* bytes */
    uint64_t sequence;       /* 0: not told */
    uint32_t sector;         /* bytes; 0: not told */
    bool read_only;
    bool is_part;  /* a partition */
    bool is_area;  /* a boot area of an eMMC, not its user area */
    bool is_empty; /* size 0: a drive without a medium */
    enum mos_bus bus;
    const char *model, *serial, *port, *lun; /* "" where it tells none */
    unsigned speed;                          /* of its USB port, Mbit/s; 0: not told */
    uint16_t usb_vendor, usb_product;        /* 0, 0: it is no USB device */
    bool could_be_faster;                    /* it knows USB 3, and runs as USB 2 */
    const char *backing;                     /* the file of a loop device; NULL: none */
    const char *mapped;      /* the name and kind of what is mapped: "vg-root, LVM"; NULL */
    struct mos_block *whole; /* a partition: its device; else NULL */
    struct mos_vec parts;    /* of struct mos_block *: its partitions */
    struct mos_vec holders;  /* of const char *: devices on top of it, "dm-0 (vg-root, LVM)" */
    struct mos_vec below;    /* of struct mos_block *: what it is made of */
    struct mos_vec mounts;   /* of struct mos_mounted */
    struct mos_vec users;    /* of const char *: programs with it open, "emulator (412)" */
    bool swap;
    const char *system; /* what of the running system stands on it: "/", "/boot"; NULL: nothing */
};

struct mos_storage {
    const struct mos_computer *computer;
    struct mos_vec blocks; /* of struct mos_block *, devices and partitions, by name */
    size_t unseen;         /* programs of others whose open files could not be looked at */
    bool untold; /* mounts, swap or programs could not be listed: no use of them is known */
};

/* The devices alone, without who uses them, in the arena; false with ctx->error: nothing can be
 * told. */
bool mos_storage_list(struct mos_ctx *ctx, struct mos_storage *out);
/* uses.c: the same, and who has what mounted, swaps to it, or holds it open. */
bool mos_storage_read(struct mos_ctx *ctx, struct mos_storage *out);
/* The device of a number; NULL: there is none. */
struct mos_block *mos_storage_find(const struct mos_storage *s, uint64_t number);
/* USB, or a card in a slot: it was plugged in, and can be pulled out. */
bool mos_block_is_pluggable(const struct mos_block *b);
/* "USB", "SD slot", "soldered eMMC" …: for people. */
const char *mos_bus_title(enum mos_bus bus);
/* "31.91 GB (29.72 GiB)" */
const char *mos_storage_size(struct mos_arena *arena, uint64_t bytes);

/* A field of a mount table: \040 and its kin become what they stand for; in place. */
void mos_mount_unescape(char *field);

#endif
