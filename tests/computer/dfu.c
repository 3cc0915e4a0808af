#include "computer/dfu.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

#define MS INT64_C(1000000)

enum { PLACES = 2, TRANSFER = 1024, POLL_MS = 30 };
enum { DETACH, DNLOAD, UPLOAD, GETSTATUS, CLRSTATUS, GETSTATE, ABORT };
enum state {
    APP_IDLE,
    APP_DETACH,
    IDLE,
    DNLOAD_SYNC,
    DNBUSY,
    DNLOAD_IDLE,
    MANIFEST_SYNC,
    MANIFEST,
    WAIT_RESET,
    UPLOAD_IDLE,
    FAILED
};

struct dfu_made {
    struct mos_wires wires;
    struct dfu_fault fault;
    int64_t now, free_at; /* busy until then */
    enum state state;
    unsigned place, blocks, offences;
    uint8_t status;
    bool gone, done[PLACES];
    uint8_t *bytes[PLACES];
    size_t length[PLACES], read_at;
};

static struct dfu_made *of(const struct mos_wires *w) {
    return w->user;
}

static int usb_list(const struct mos_wires *w,
                    bool (*each)(void *self, const struct mos_usb_device *device), void *self) {
    struct dfu_made *d = of(w);
    static const struct mos_usb_device others = {0x1d6b, 2, "1"}, ours = {0x1209, 2, "1-4.2"},
                                       twin = {0x1209, 2, "1-5"};
    if (each(self, &others) && !d->fault.absent && !d->gone && each(self, &ours) && d->fault.twin)
        each(self, &twin);
    return 0;
}

static int usb_open(const struct mos_wires *w, const char *port, int *wire) {
    *wire = 7;
    return of(w)->fault.refused ? EACCES : strcmp(port, "1-4.2") == 0 ? 0 : ENODEV;
}

static int usb_claim(const struct mos_wires *w, int wire, unsigned interface, unsigned alternate) {
    (void)wire;
    of(w)->place = alternate;
    return interface == 3 && alternate < PLACES ? 0 : ENODEV;
}

/* A configuration with a function of something else before it. */
static size_t configuration(const struct dfu_made *d, uint8_t *to, size_t size) {
    uint8_t all[] = {9,
                     2,
                     0,
                     0,
                     2,
                     1,
                     0,
                     0x80,
                     50,
                     9,
                     4,
                     0,
                     0,
                     0,
                     0xff,
                     0xff,
                     0xff,
                     0,
                     9,
                     4,
                     3,
                     0,
                     0,
                     0xfe,
                     1,
                     2,
                     4,
                     9,
                     4,
                     3,
                     1,
                     0,
                     0xfe,
                     1,
                     2,
                     5,
                     9,
                     0x21,
                     0x0f,
                     0xff,
                     0,
                     TRANSFER & 0xff,
                     TRANSFER >> 8,
                     0x10,
                     1};
    all[25] = all[34] = d->fault.runtime ? 1 : 2;
    all[38] = (uint8_t)(1 | (d->fault.no_upload ? 0 : 2) | (d->fault.not_tolerant ? 0 : 4));
    all[2] = sizeof all;
    size_t n = sizeof all < size ? sizeof all : size;
    memcpy(to, all, n);
    return n;
}

static size_t title(unsigned index, uint8_t *to) {
    const char *text = index == 4 ? "start" : "main";
    size_t n = strlen(text);
    if (!index) { /* the languages that there are: English */
        memcpy(to, (const uint8_t[]){4, 3, 9, 4}, 4);
        return 4;
    }
    to[0] = (uint8_t)(2 + 2 * n);
    to[1] = 3;
    for (size_t i = 0; i < n; i++) {
        to[2 + 2 * i] = (uint8_t)text[i];
        to[3 + 2 * i] = 0;
    }
    return to[0];
}

static int refuse(struct dfu_made *d) {
    d->offences++;
    d->state = FAILED;
    d->status = 15; /* errSTALLEDPKT */
    return EPIPE;
}

static int download(struct dfu_made *d, unsigned block, const void *data, size_t length) {
    uint8_t *to = d->bytes[d->place];
    size_t *n = &d->length[d->place];
    if (d->state != IDLE && d->state != DNLOAD_IDLE)
        return refuse(d);
    if (d->state == IDLE) {
        if (!length || block)
            return refuse(d);
        *n = 0;
        d->blocks = 0;
        d->done[d->place] = false;
    }
    if (!length) {
        d->state = MANIFEST_SYNC;
        return 0;
    }
    if ((block & 0xffff) != (d->blocks & 0xffff) || length > TRANSFER || *n + length > DFU_ROOM)
        return refuse(d);
    d->blocks++;
    if (d->blocks == d->fault.stalls_at) {
        d->state = FAILED;
        d->status = 15;
        return EPIPE;
    }
    if (d->blocks == d->fault.goes_at) {
        d->gone = true;
        return ENODEV;
    }
    memcpy(to + *n, data, length);
    *n += length;
    d->state = DNLOAD_SYNC;
    if (d->blocks == d->fault.errs_at) {
        d->status = (uint8_t)d->fault.status;
        d->state = FAILED;
    }
    return 0;
}

static int give_back(struct dfu_made *d, void *data, size_t length, size_t *got) {
    if ((d->state != IDLE && d->state != UPLOAD_IDLE) || d->fault.no_upload)
        return refuse(d);
    if (d->state == IDLE)
        d->read_at = 0;
    size_t left = d->length[d->place] - d->read_at, n = left < length ? left : length;
    memcpy(data, d->bytes[d->place] + d->read_at, n);
    if (d->fault.flips && d->read_at > 4000 && n)
        ((uint8_t *)data)[0] ^= 1;
    d->read_at += n;
    d->state = n < length ? IDLE : UPLOAD_IDLE;
    *got = n;
    return 0;
}

/* GETSTATUS, which leads it on (A.2.4). */
static int tell(struct dfu_made *d, uint8_t *answer) {
    unsigned pause = 0;
    if (d->fault.vanishes && d->state == MANIFEST_SYNC) {
        d->done[d->place] = d->gone = true;
        return ENODEV;
    }
    if (d->state == DNLOAD_SYNC) {
        d->state = DNBUSY;
        d->free_at = d->now + POLL_MS * MS;
        pause = POLL_MS;
    } else if (d->state == DNBUSY) {
        if (d->now < d->free_at)
            d->offences++; /* it was to be left alone for so long */
        d->state = d->fault.busy_for_ever ? DNBUSY : DNLOAD_IDLE;
        pause = d->fault.busy_for_ever ? POLL_MS : 0;
        d->free_at = d->now + POLL_MS * MS;
    } else if (d->state == MANIFEST_SYNC) {
        d->state = MANIFEST;
        pause = POLL_MS;
    } else if (d->state == MANIFEST) {
        d->done[d->place] = true;
        d->state = d->fault.not_tolerant ? WAIT_RESET : IDLE;
    }
    memset(answer, 0, 6);
    answer[0] = d->status;
    answer[1] = (uint8_t)pause;
    answer[4] = d->fault.garbled ? 77 : (uint8_t)d->state;
    return 0;
}

static int of_function(struct dfu_made *d, const struct mos_usb_request *r, void *data,
                       size_t length, size_t *got) {
    if (r->index != 3)
        return EPIPE;
    switch (r->request) {
    case DETACH:
        if (d->fault.runtime && !d->fault.stays)
            d->fault.runtime = false, d->state = IDLE;
        return 0;
    case DNLOAD:
        return download(d, r->value, data, length);
    case UPLOAD:
        return give_back(d, data, length, got);
    case GETSTATUS:
        *got = 6;
        return tell(d, data);
    case GETSTATE:
        *(uint8_t *)data = (uint8_t)d->state;
        *got = 1;
        return 0;
    case CLRSTATUS:
        if (d->state != FAILED)
            return refuse(d);
        d->state = IDLE;
        d->status = 0;
        return 0;
    default:
        if (d->state == FAILED)
            return refuse(d);
        d->state = IDLE;
        return 0;
    }
}

static int usb_control(const struct mos_wires *w, int wire, const struct mos_usb_request *r,
                       void *data, size_t length, size_t *got, unsigned ms) {
    struct dfu_made *d = of(w);
    (void)wire, (void)ms;
    *got = 0;
    d->now += MS;
    if (d->gone)
        return ENODEV;
    if ((r->type & 0x7f) == 0x21)
        return of_function(d, r, data, length, got);
    if (r->type != 0x80 || r->request != 6)
        return EPIPE;
    *got = r->value >> 8 == 2 ? configuration(d, data, length) : title(r->value & 0xff, data);
    return 0;
}

static int usb_reset(const struct mos_wires *w, int wire) {
    struct dfu_made *d = of(w);
    (void)wire;
    d->gone = d->gone || d->state == WAIT_RESET;
    return d->gone ? ENODEV : 0;
}

static void close_wire(const struct mos_wires *w, int wire) {
    (void)w, (void)wire;
}

static int wait_for(const struct mos_wires *w, const int *wires, size_t count, int64_t ns,
                    unsigned *ready) {
    (void)wires, (void)count;
    *ready = 0;
    of(w)->now += ns > 0 ? ns : 0;
    return 0;
}

static int64_t now_ns(const struct mos_host *h) {
    return of(h->wires)->now;
}

struct dfu_made *dfu_new(void) {
    struct dfu_made *d = calloc(1, sizeof *d);
    for (unsigned i = 0; i < PLACES; i++)
        d->bytes[i] = malloc(DFU_ROOM);
    d->wires = (struct mos_wires){.user = d,
                                  .close = close_wire,
                                  .wait = wait_for,
                                  .usb_list = usb_list,
                                  .usb_open = usb_open,
                                  .usb_claim = usb_claim,
                                  .usb_control = usb_control,
                                  .usb_reset = usb_reset};
    dfu_fails(d, (struct dfu_fault){0});
    return d;
}

void dfu_free(struct dfu_made *d) {
    for (unsigned i = 0; i < PLACES; i++)
        free(d->bytes[i]);
    free(d);
}

void dfu_fails(struct dfu_made *d, struct dfu_fault fault) {
    d->fault = fault;
    d->gone = false;
    d->offences = 0;
    d->state = fault.runtime ? APP_IDLE : fault.starts_failed ? FAILED : IDLE;
    d->status = fault.starts_failed ? 10 : 0;
    for (unsigned i = 0; i < PLACES; i++) {
        d->length[i] = 0;
        d->done[i] = false;
    }
}

const uint8_t *dfu_got(const struct dfu_made *d, unsigned place, size_t *length, bool *done) {
    *length = d->length[place];
    *done = d->done[place];
    return d->bytes[place];
}

unsigned dfu_offences(const struct dfu_made *d) {
    return d->offences;
}

void dfu_at(struct dfu_made *d, int64_t now) {
    d->now = now;
}

void dfu_host(struct dfu_made *d, struct mos_host *host) {
    host->wires = &d->wires;
    host->now_ns = now_ns;
}
