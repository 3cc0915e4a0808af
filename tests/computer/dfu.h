/* A USB device that is made up: it takes files by Device Firmware Upgrade 1.1, follows the
 * standard's states (6.1.2, and the diagram of A.1), and fails where it is told to. */
#ifndef MOS_TESTS_DFU_H
#define MOS_TESTS_DFU_H

#include "mosaicum/host.h"

enum { DFU_ROOM = 16 << 20 };

struct dfu_fault {
    bool runtime;       /* it has to be brought into the mode first */
    bool stays;         /* … and does not change */
    bool no_upload;     /* it gives nothing back */
    bool not_tolerant;  /* it has to be reset in the end */
    bool vanishes;      /* … and goes by itself */
    bool starts_failed; /* it is in an error from before */
    bool twin, absent;  /* another one like it; none at all */
    bool garbled;       /* what it answers is no status */
    bool flips;         /* it gives back something else */
    bool busy_for_ever;
    bool refused;                         /* nobody may open it */
    unsigned stalls_at, errs_at, goes_at; /* at this block, from 1; 0: never */
    unsigned status;                      /* that errs_at gives */
};

struct dfu_made;

struct dfu_made *dfu_new(void);
void dfu_free(struct dfu_made *d);
void dfu_fails(struct dfu_made *d, struct dfu_fault fault); /* it is as new, too */
/* What it has got for its place of that index, and bytes of it; *done: to the end. */
const uint8_t *dfu_got(const struct dfu_made *d, unsigned place, size_t *length, bool *done);
/* Requests that the standard does not allow in the state in which they came. */
unsigned dfu_offences(const struct dfu_made *d);
/* From now on its clock stands there, nanoseconds; it stands still between. */
void dfu_at(struct dfu_made *d, int64_t now);
void dfu_host(struct dfu_made *d, struct mos_host *host);

#endif
