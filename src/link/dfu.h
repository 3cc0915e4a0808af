/* USB Device Firmware Upgrade 1.1 (USB-IF, 2004): a file into one of a device's named alternates,
 * and back out of it where the device can do that. */
#ifndef MOS_LINK_DFU_H
#define MOS_LINK_DFU_H

#include "io/io.h"
#include "mosaicum/host.h"

enum { MOS_DFU_ALTERNATES = 16 };

/* What a configuration's descriptors say of it (4.1, 4.2). */
struct mos_dfu_function {
    unsigned interface;
    bool upgrades; /* it is in DFU mode; else it has to be brought there */
    bool can_download, can_upload, tolerant, detaches; /* bits of bmAttributes */
    uint16_t detach_ms, transfer;                      /* wDetachTimeOut; wTransferSize, bytes */
    struct {
        uint8_t number, title; /* title: the index of its text; 0: none */
    } alternates[MOS_DFU_ALTERNATES];
    size_t count;
};

/* Reads a configuration descriptor with all behind it.  false: there is no such function. */
bool mos_dfu_read(const uint8_t *bytes, size_t length, struct mos_dfu_function *out);

struct mos_dfu {
    const struct mos_host *host;
    uint16_t vendor, product;
    const char *alternate; /* the title that is meant; NULL: there must be only one */
    int64_t patience;      /* ns until the device must have come */
    struct mos_io *content;
    uint64_t from, length; /* of it */
    void (*progress)(void *self, const char *what, uint64_t done, uint64_t total);
    void *progress_self;
    /* outcome */
    const char *why; /* what went wrong, in a few words; NULL: nothing */
    int errnum;      /* … of the system; 0: it was none of its */
    char said[160];  /* where `why` needs more than that */
    uint64_t at;     /* bytes that the device had taken by then */
    bool begun;      /* it had taken something */
    bool written;    /* it says that it has all of it */
    bool proved;     /* … and gave it back; false with `written`: it cannot */
    bool differs;    /* what it gave back is something else */
    char port[40];   /* where it hangs */
    uint8_t *buffer; /* of 64 KiB: the caller's */
    int wire;
    struct mos_dfu_function function;
};

/* All of it.  false: `why` says what went wrong. */
bool mos_dfu_write(struct mos_dfu *d);

#endif
