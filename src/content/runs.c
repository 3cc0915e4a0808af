#include "content/content.h"

#include "base/bytes.h"

#include <assert.h>
#include <string.h>

_Static_assert((MOS_RUN_UNIT & (MOS_RUN_UNIT - 1)) == 0, "units are found by masks");

static bool pass(struct mos_runs *r, uint64_t offset, const uint8_t *bytes, size_t length) {
    assert(length && offset % MOS_RUN_UNIT == 0);
    for (size_t i = 0; i < length; i += MOS_RUN_UNIT) {
        size_t n = (size_t)mos_min(MOS_RUN_UNIT, length - i);
        r->sum = mos_content_sum(r->sum ^ (offset + i), bytes + i, n);
    }
    return r->sink->data(r->sink->self, offset, bytes, length);
}

/* Whole units at a unit's boundary: passes on each stretch that is not zero. */
static bool pass_units(struct mos_runs *r, const uint8_t *bytes, size_t length) {
    assert(length % MOS_RUN_UNIT == 0 && r->offset % MOS_RUN_UNIT == 0);
    size_t start = 0, at = 0;
    for (; at < length; at += MOS_RUN_UNIT) {
        if (bytes[at] || !mos_all_zero(bytes + at, MOS_RUN_UNIT))
            continue;
        if (at > start && !pass(r, r->offset + start, bytes + start, at - start))
            return false;
        start = at + MOS_RUN_UNIT;
    }
    if (at > start && !pass(r, r->offset + start, bytes + start, at - start))
        return false;
    r->offset += length;
    return true;
}

bool mos_runs_add(struct mos_runs *r, const void *bytes, size_t length) {
    assert(r->partial_length < MOS_RUN_UNIT);
    const uint8_t *p = bytes;
    if (!length) /* then there may be no bytes either */
        return true;
    if (r->partial_length) {
        size_t n = (size_t)mos_min(MOS_RUN_UNIT - r->partial_length, length);
        memcpy(r->partial + r->partial_length, p, n);
        r->partial_length += n;
        p += n;
        length -= n;
        if (r->partial_length < MOS_RUN_UNIT)
            return true;
        r->partial_length = 0;
        if (!pass_units(r, r->partial, MOS_RUN_UNIT))
            return false;
    }
    size_t whole = length / MOS_RUN_UNIT * MOS_RUN_UNIT;
    if (whole && !pass_units(r, p, whole))
        return false;
    memcpy(r->partial, p + whole, length - whole);
    r->partial_length = length - whole;
    return true;
}

bool mos_runs_seek(struct mos_runs *r, uint64_t offset) {
    static const uint8_t zeros[MOS_RUN_UNIT];
    while (r->partial_length && r->offset + r->partial_length < offset) {
        uint64_t gap = offset - r->offset - r->partial_length;
        if (!mos_runs_add(r, zeros, (size_t)mos_min(gap, MOS_RUN_UNIT - r->partial_length)))
            return false;
    }
    if (r->offset + r->partial_length >= offset)
        return true;
    r->offset = mos_round_down(offset, MOS_RUN_UNIT);
    r->partial_length = (size_t)(offset - r->offset);
    memset(r->partial, 0, r->partial_length);
    return true;
}

bool mos_runs_end(struct mos_runs *r, uint64_t *sum) {
    assert(r->partial_length < MOS_RUN_UNIT);
    size_t n = r->partial_length;
    if (n && !mos_all_zero(r->partial, n) && !pass(r, r->offset, r->partial, n))
        return false;
    *sum = r->sum;
    return true;
}
