/* mosaicum/computer.h - this computer's storage devices, as the core sees them.
 *
 * What the kernel tells about them comes as its own texts, which the core reads itself, so that a
 * made-up computer (tests, fuzz targets) is a handful of texts.  A device is opened and changed
 * only through the functions below.  Every function returns 0 or a positive errno value; outputs
 * are untouched on failure.
 */
#ifndef MOSAICUM_COMPUTER_H
#define MOSAICUM_COMPUTER_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* What an open device says of itself, now. */
struct mos_device_info {
    uint64_t size;     /* bytes */
    uint32_t sector;   /* bytes of a logical one */
    uint64_t number;   /* major << 32 | minor */
    uint64_t sequence; /* the kernel's number of the medium that is in it; 0: it tells none */
    bool read_only;
};

struct mos_computer {
    void *user;
    /* One text of the kernel's, `name` below sys/ or proc/ ("sys/class/block/sda/size"): its first
     * `size` bytes, without a NUL; *got of them. */
    int (*text)(const struct mos_computer *c, const char *name, char *to, size_t size, size_t *got);
    /* The names in one of its folders, in no order; stops when each() returns false. */
    int (*names)(const struct mos_computer *c, const char *name,
                 bool (*each)(void *self, const char *name), void *self);
    /* Where one of its links leads, NUL-terminated and cut off at `size`. */
    int (*link)(const struct mos_computer *c, const char *name, char *to, size_t size);
    /* What any path leads to: a block device (*is_device) and its number, or else the number of the
     * device that holds the file. */
    int (*device_of)(const struct mos_computer *c, const char *path, bool *is_device,
                     uint64_t *number);
    /* Opens a device to look at it: never changes it, never waits. */
    int (*open_to_look)(const struct mos_computer *c, const char *path, int *device);
    /* Opens it to write, for nobody but the caller: EBUSY where it is mounted or held.  No desktop
     * takes a lock on it, and so mounts it, until it is closed.  What stays in caches of the system
     * is never read: see read(). */
    int (*open_to_write)(const struct mos_computer *c, const char *path, int *device);
    /* From now on a device that this user may not open is asked for from the system's storage
     * service, which may ask its user in turn; an errno value: it cannot be had there either, and
     * EACCES where there is none.  May be NULL. */
    int (*ask_for)(const struct mos_computer *c, const char *path);
    void (*close)(const struct mos_computer *c, int device);
    int (*info)(const struct mos_computer *c, int device, struct mos_device_info *out);
    /* All of `length` bytes at `offset`, which are whole sectors, or an error.  Of a device that is
     * open to write they come from the device itself, past the system's caches. */
    int (*read)(const struct mos_computer *c, int device, void *to, size_t length, uint64_t offset);
    int (*write)(const struct mos_computer *c, int device, const void *from, size_t length,
                 uint64_t offset);
    /* What was written has reached the medium when it returns. */
    int (*flush)(const struct mos_computer *c, int device);
    /* The kernel reads its partition table anew. */
    int (*read_table)(const struct mos_computer *c, int device);
    /* Lets a moment pass in which devices may come and go; false: nobody wants to wait longer. */
    bool (*wait)(const struct mos_computer *c);
    /* Releases what a desktop mounted there, by its mount point. */
    int (*unmount)(const struct mos_computer *c, const char *path);
};

/* The name of a device's number in struct mos_device_info. */
static inline uint64_t mos_block_number(uint32_t major, uint32_t minor) {
    return (uint64_t)major << 32 | minor;
}

#endif
