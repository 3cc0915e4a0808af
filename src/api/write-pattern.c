/* Is a medium as large as it says?  Every sector gets a pattern that tells where it belongs: a card
 * that begins anew behind its real end gives back the wrong ones. */
#include "api/write.h"

#include "base/bytes.h"

#include <string.h>

enum { UNIT = 512, WORD = 8, MOST_TIMES = 4096 };
static const uint64_t mixed = 0x9e3779b97f4a7c15;

/* The words of a unit: its offset, then that offset mixed with the word's number. */
static int pattern_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    uint8_t unit[UNIT], *out = to;
    (void)io;
    for (size_t n; length; out += n, offset += n, length -= n) {
        uint64_t at = mos_round_down(offset, UNIT);
        mos_put_le64(unit, at);
        for (size_t k = 1; k < UNIT / WORD; k++)
            mos_put_le64(unit + k * WORD, (at + k) * mixed);
        n = (size_t)mos_min(UNIT - (offset - at), length);
        memcpy(out, unit + (offset - at), n);
    }
    return 0;
}

void write_make_pattern(struct write_job *w, uint64_t size) {
    static const struct mos_io_driver driver = {pattern_read, NULL, NULL};
    struct write_image *x = &w->image;
    x->io = mos_alloc(w->m->arena, sizeof *x->io);
    *x->io = (struct mos_io){&driver, size, NULL};
    x->least = 0;
}

/* Where the sector that stands at `offset` belongs; false: it is no part of the pattern. */
static bool origin_of(struct write_job *w, const struct write_device *x, uint64_t offset,
                      uint64_t *at) {
    const struct mos_computer *c = w->m->ctx.host->computer;
    uint8_t *found = mos_alloc(w->m->arena, w->grain), wanted[UNIT];
    struct mos_io io = {0};
    bool ok = c->read(c, x->device, found, w->grain, offset) == 0;
    *at = mos_le64(found);
    pattern_read(&io, wanted, UNIT, *at);
    ok = ok && memcmp(found, wanted, UNIT) == 0;
    mos_drop(w->m->arena, found, w->grain);
    return ok;
}

uint64_t write_true_size(struct write_job *w, const struct write_device *x, uint64_t differs_at) {
    uint64_t at, other, first, size = 0;
    differs_at = mos_round_down(differs_at, w->grain);
    if (!origin_of(w, x, differs_at, &at))
        return differs_at; /* it holds nothing of ours from there on */
    if (at <= differs_at || !origin_of(w, x, 0, &first))
        return 0;
    /* it began anew, perhaps many times: the nearest place that shows its first sector once more */
    for (uint64_t times = 1; times <= MOST_TIMES; times++) {
        uint64_t length = (at - differs_at) / times;
        if ((at - differs_at) % times == 0 && length % w->grain == 0 && length &&
            origin_of(w, x, length, &other) && other == first)
            size = length;
    }
    return size;
}
