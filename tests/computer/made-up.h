/* A computer that is made up of a text: its devices, who uses them, and cards with faults.  A line
 * each, words parted by blanks (a word in "…" may hold some):
 *
 *   disk NAME MAJOR:MINOR SIZE KEY=VALUE…    a device: bus (usb sd mmc sata nvme virtio loop dm
 * md), model serial port lun speed version backing name uuid level; sector sequence; ro; of=DISK (a
 * partition at= START), on=NAME (what it is made of); locked (its node cannot be opened; lent: but the storage service opens it),
 * holds=FILE (its content) program PID NAME [space=N] [hidden]      in its own mount namespace; its
 * files cannot be seen mount PID MAJOR:MINOR AT [SOURCE [OPTIONS]]    PID self: the namespace of
 * who looks swap PATH          open PID PATH         file PATH MAJOR:MINOR (a file, and the device
 * it is on) text PATH TEXT…    link PATH TARGET      of the kernel, below sys/ or proc/ plain who
 * looks is no root fault NAME KIND [NUMBER [NUMBER]]        see enum made_up_fault
 */
#ifndef MOS_TESTS_MADE_UP_H
#define MOS_TESTS_MADE_UP_H

#include "mosaicum/computer.h"

enum made_up_fault {
    MADE_UP_NO_FAULT,
    MADE_UP_FAILS_WRITE, /* "fails-write OFFSET": EIO where a write touches it */
    MADE_UP_FAILS_READ,  /* "fails-read OFFSET" */
    MADE_UP_DROPS,       /* "drops OFFSET LENGTH": writes there are lost, silently */
    MADE_UP_FLIPS,       /* "flips OFFSET": one bit comes back otherwise than it was written */
    MADE_UP_ENDS,        /* "ends OFFSET": smaller than it says, and begins anew there */
    MADE_UP_VANISHES,    /* "vanishes COUNT": after so many reads and writes it is gone */
    MADE_UP_EXCHANGED,   /* "exchanged": another medium is in it when it is opened to write */
    MADE_UP_BUSY,        /* "busy": the kernel says that it is in use */
    MADE_UP_LIES,        /* "lies": a flush says that it is done, and is not */
};

struct made_up_write {
    uint64_t offset;
    size_t length;
    unsigned char *bytes;
};

/* A device; its content may be looked at. */
struct made_up_device {
    char *name;
    uint64_t number, size, sequence;
    uint32_t sector;
    bool read_only, locked, lent, busy, open;
    unsigned asked; /* how often it was asked for from the storage service */
    struct made_up_device *of; /* a partition */
    uint64_t at;
    unsigned char *bytes;          /* what a reader gets */
    unsigned char *durable;        /* what a power cut leaves, if `cuts`; else NULL */
    struct made_up_write *pending; /* since the last flush */
    size_t pending_count;
    enum made_up_fault fault;
    uint64_t fault_at, fault_length;
    unsigned long moves, writes, flushes; /* so far */
};

struct made_up;

/* NULL: a line cannot be read (`why` says which), or there is no memory.  folder: of `holds`. */
struct made_up *made_up_new(const char *text, const char *folder, char *why, size_t room);
void made_up_free(struct made_up *m);
/* One text of the kernel's, as it is. */
void made_up_set(struct made_up *m, const char *path, const char *text);
/* Something is plugged in, in a line as above; false: it cannot be read.  And pulled out. */
bool made_up_plug(struct made_up *m, const char *line);
void made_up_pull(struct made_up *m, const char *name);
/* What is done each time somebody waits: `step` counts from 1; false ends it. */
void made_up_when_waiting(struct made_up *m, bool (*done)(struct made_up *m, unsigned step));
const struct mos_computer *made_up_computer(struct made_up *m);
struct made_up_device *made_up_device(struct made_up *m, const char *name); /* NULL: none */
/* From now on a power cut can be asked for: what was not flushed may or may not have arrived. */
void made_up_keep_pending(struct made_up_device *d);
/* The power fails: each write since the last flush arrived or did not, as bits of a seed say. */
void made_up_cut_power(struct made_up_device *d, uint64_t seed);
/* After so many operations of any device from now on nothing works any more; 0: never. */
void made_up_stop_after(struct made_up *m, unsigned long operations);
unsigned long made_up_operations(const struct made_up *m);
unsigned long made_up_first_write(const struct made_up *m); /* which operation that was */

#endif
