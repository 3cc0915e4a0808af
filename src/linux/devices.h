/* What Linux calls devices: media and their partitions, serial ports, device files
 * (Documentation/admin-guide/devices.txt and the drivers' own names).  Names stand without /dev/.
 */
#ifndef MOS_LINUX_DEVICES_H
#define MOS_LINUX_DEVICES_H

#include "base/arena.h"

#include <stdbool.h>
#include <stdint.h>

/* ---- media ---- */

/* The n-th medium of a bus: "mmc" 1 is mmcblk1, "usb" 0 is sda.  NULL: no such bus, or its media
 * have no name that is known before they are found. */
const char *mos_device_on_bus(struct mos_arena *arena, const char *bus, unsigned number);
/* A partition: mmcblk0 2 is mmcblk0p2, sda 2 is sda2. */
const char *mos_device_partition(struct mos_arena *arena, const char *medium, unsigned number);
/* Is `name` the medium (*number becomes 0) or one of its partitions? */
bool mos_device_is_of(const char *name, const char *medium, unsigned *number);

/* ---- names with a number ---- */

/* "ttyAMA0": *stem is 6, *number 0; false: it does not end in a number. */
bool mos_device_number(const char *name, size_t *stem, unsigned long *number);
/* Is it that stem and then a number? */
bool mos_device_has_stem(const char *name, const char *stem);

/* ---- serial ports ---- */

/* Is a text of that length a serial port, and not a screen (tty0, ttynull)? */
bool mos_port_is_serial(const char *text, size_t length);
/* "ttyAMA0,115200n8", as the kernel is told of its console: the length of the port's name, and its
 * speed, 0 where there is none. */
size_t mos_port_split(const char *text, unsigned long *baud);
/* What the kernel calls ports of hardware with these `compatible` texts, each ended by a NUL; NULL:
 * not known. */
const char *mos_port_of(const char *compatible, size_t length);
/* The symbol of a port's driver; NULL: not known. */
const char *mos_port_driver(const char *port);

/* ---- device files ---- */

struct mos_device_file {
    char kind; /* 'c' or 'b' */
    unsigned major, minor;
};
/* The fixed device that a name below /dev stands for; false: it stands for none that is known. */
bool mos_device_file(const char *name, struct mos_device_file *out);

#endif
