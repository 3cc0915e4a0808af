/* What a request of HTTP wants of a file: RFC 9110, section 14. */
#ifndef MOS_LINK_RANGES_H
#define MOS_LINK_RANGES_H

#include <stdbool.h>
#include <stdint.h>

enum mos_range {
    MOS_RANGE_WHOLE, /* no range, or one that a server may overlook: several, other units, nonsense
                      */
    MOS_RANGE_PART,  /* `length` bytes from `first` */
    MOS_RANGE_NONE   /* it lies behind the end */
};
/* The value of the field Range (NULL: there is none), of a file of `size` bytes. */
enum mos_range mos_range_read(const char *text, uint64_t size, uint64_t *first, uint64_t *length);

#endif
