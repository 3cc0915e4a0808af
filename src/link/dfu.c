#include "link/dfu.h"

#include "base/bytes.h"
#include "base/error.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum { DETACH, DNLOAD, UPLOAD, GETSTATUS, CLRSTATUS, GETSTATE, ABORT }; /* 3: requests */
enum { TO_INTERFACE = 0x21, FROM_INTERFACE = 0xa1, FROM_DEVICE = 0x80, GET_DESCRIPTOR = 6 };
enum { CONFIGURATION = 2, STRING = 3, INTERFACE = 4, FUNCTIONAL = 0x21, ENGLISH = 0x0409 };
enum { ANSWER_MS = 5000, BUSY_SECONDS = 300, MOST_DESCRIPTORS = 4096, TRANSFER = 4096 };
enum state { /* 6.1.2 */
             APP_IDLE,
             APP_DETACH,
             IDLE,
             DNLOAD_SYNC,
             DNBUSY,
             DNLOAD_IDLE,
             MANIFEST_SYNC,
             MANIFEST,
             MANIFEST_WAIT_RESET,
             UPLOAD_IDLE,
             FAILED
};

/* 6.1.2, bStatus */
static const char *const statuses[] = {
    "no error is told",
    "the file is not for this device",
    "the file is damaged, or of another maker",
    "it cannot write its storage",
    "it cannot erase its storage",
    "its storage is not erased where it should be",
    "it cannot program its storage",
    "what it programmed is not what it got",
    "it has no place for so much",
    "it did not get all of it",
    "its firmware is damaged",
    "an error of its maker's own",
    "it was reset",
    "it lost its power",
    "an error that it does not know",
    "it was asked for what it cannot do",
};

/* ---- descriptors ---- */

bool mos_dfu_read(const uint8_t *bytes, size_t length, struct mos_dfu_function *out) {
    bool ours = false, found = false;
    *out = (struct mos_dfu_function){.transfer = TRANSFER, .can_download = true};
    for (size_t at = 0; at + 2 <= length && bytes[at] >= 2 && bytes[at] <= length - at;
         at += bytes[at]) {
        const uint8_t *d = bytes + at;
        if (d[1] == INTERFACE && d[0] >= 9) { /* 4.1.2, 4.2.3 */
            ours = d[5] == 0xfe && d[6] == 1 && (d[7] == 1 || d[7] == 2) &&
                   (!found || d[2] == out->interface);
            if (!ours)
                continue;
            out->interface = d[2];
            out->upgrades = d[7] == 2;
            if (out->count < MOS_DFU_ALTERNATES) {
                out->alternates[out->count].number = d[3];
                out->alternates[out->count++].title = d[8];
            }
            found = true;
        } else if (d[1] == FUNCTIONAL && d[0] >= 7 && ours) { /* 4.1.3 */
            out->can_download = d[2] & 1;
            out->can_upload = d[2] & 2;
            out->tolerant = d[2] & 4;
            out->detaches = d[2] & 8;
            out->detach_ms = mos_le16(d + 3);
            out->transfer = mos_le16(d + 5) ? mos_le16(d + 5) : TRANSFER;
        }
    }
    return found;
}

/* ---- requests ---- */

static bool fail(struct mos_dfu *d, const char *why) {
    d->why = d->why ? d->why : why;
    return false;
}

static bool fail_errno(struct mos_dfu *d, const char *what, int e) {
    const char *why = e == ENODEV      ? "it is gone"
                      : e == EPIPE     ? "it refuses that"
                      : e == ETIMEDOUT ? "it does not answer"
                      : e == EACCES    ? "this user may not talk to it (with sudo it works)"
                                       : mos_errno_text(e);
    snprintf(d->said, sizeof d->said, "%s: %s", what, why);
    d->errnum = e;
    return fail(d, d->said);
}

static int64_t now(const struct mos_dfu *d) {
    return d->host->now_ns(d->host);
}

/* false: nobody wants to wait longer. */
static bool pause_for(struct mos_dfu *d, int64_t ns) {
    const struct mos_wires *w = d->host->wires;
    unsigned ready;
    for (int64_t until = now(d) + ns; now(d) < until;)
        if (w->wait(w, NULL, 0, until - now(d), &ready))
            return fail(d, "it was interrupted");
    return true;
}

static int ask(struct mos_dfu *d, uint8_t type, uint8_t request, uint16_t value, uint16_t index,
               void *data, size_t length, size_t *got) {
    const struct mos_wires *w = d->host->wires;
    const struct mos_usb_request r = {type, request, value, index};
    *got = 0;
    return w->usb_control(w, d->wire, &r, data, length, got, ANSWER_MS);
}

/* A request of the standard, to the function. */
static int tell(struct mos_dfu *d, uint8_t request, uint16_t value, void *data, size_t length) {
    size_t got;
    return ask(d, TO_INTERFACE, request, value, (uint16_t)d->function.interface, data, length,
               &got);
}

/* GETSTATUS (6.1.2), which also makes it go on. */
static bool status(struct mos_dfu *d, const char *during, enum state *state, int64_t *pause) {
    uint8_t answer[6];
    size_t got;
    int e = ask(d, FROM_INTERFACE, GETSTATUS, 0, (uint16_t)d->function.interface, answer,
                sizeof answer, &got);
    if (e)
        return fail_errno(d, during, e);
    if (got < sizeof answer || answer[4] > FAILED)
        return fail(d, "it answers what no such device may");
    *state = (enum state)answer[4];
    *pause = (answer[1] | answer[2] << 8 | answer[3] << 16) * MS;
    if (answer[0] || *state == FAILED) {
        snprintf(d->said, sizeof d->said, "%s: %s", during,
                 answer[0] < sizeof statuses / sizeof *statuses ? statuses[answer[0]]
                                                                : "an error without a name");
        return fail(d, d->said);
    }
    return true;
}

/* Until it is in one of two states; it may be busy for a while. */
static bool reach(struct mos_dfu *d, const char *during, enum state a, enum state b,
                  enum state *state) {
    int64_t pause = 0, until = now(d) + BUSY_SECONDS * SECOND;
    for (;;) {
        if (!status(d, during, state, &pause))
            return false;
        if (*state == a || *state == b)
            return true;
        bool busy = *state == DNBUSY || *state == DNLOAD_SYNC || *state == MANIFEST ||
                    *state == MANIFEST_SYNC;
        if (!busy)
            return fail(d, "it is in a state that does not belong there");
        if (now(d) >= until)
            return fail(d, "it is busy without end");
        if (!pause_for(d, pause > 10 * MS ? pause : 10 * MS))
            return false;
    }
}

/* ---- the device ---- */

struct search {
    struct mos_dfu *d;
    size_t found;
};

static bool each_device(void *self, const struct mos_usb_device *x) {
    struct search *s = self;
    if (x->vendor == s->d->vendor && x->product == s->d->product && !s->found++)
        memcpy(s->d->port, x->port, sizeof s->d->port);
    return true;
}

/* A device has a moment to come, and to come back. */
static bool find(struct mos_dfu *d, int64_t ns) {
    const struct mos_wires *w = d->host->wires;
    int64_t until = now(d) + ns;
    for (;;) {
        struct search s = {d, 0};
        int e = w->usb_list(w, each_device, &s);
        if (e)
            return fail_errno(d, "USB devices cannot be listed", e);
        if (s.found > 1)
            return fail(d, "several devices with these identifiers are there: plug in one");
        if (s.found)
            return true;
        if (now(d) >= until)
            return fail(d, "no USB device with these identifiers came");
        if (!pause_for(d, 200 * MS))
            return false;
    }
}

static void close_device(struct mos_dfu *d) {
    if (d->wire >= 0)
        d->host->wires->close(d->host->wires, d->wire);
    d->wire = -1;
}

static bool open_device(struct mos_dfu *d) {
    const struct mos_wires *w = d->host->wires;
    uint8_t bytes[MOST_DESCRIPTORS];
    size_t got;
    int e = w->usb_open(w, d->port, &d->wire);
    if (e) {
        d->wire = -1;
        return fail_errno(d, "it cannot be opened", e);
    }
    e = ask(d, FROM_DEVICE, GET_DESCRIPTOR, CONFIGURATION << 8, 0, bytes, sizeof bytes, &got);
    if (e)
        return fail_errno(d, "it does not say what it is", e);
    if (!mos_dfu_read(bytes, got, &d->function))
        return fail(d, "it has no function for firmware upgrades");
    return d->function.can_download || fail(d, "it takes nothing");
}

/* The text of an alternate (USB 2.0, 9.6.7), as ASCII. */
static void title_of(struct mos_dfu *d, uint8_t index, char out[64]) {
    uint8_t bytes[255];
    size_t got = 0, n = 0;
    out[0] = 0;
    if (!index || ask(d, FROM_DEVICE, GET_DESCRIPTOR, (uint16_t)(STRING << 8 | index), ENGLISH,
                      bytes, sizeof bytes, &got))
        return;
    for (size_t i = 2; i + 1 < got && i + 1 < bytes[0] && n < 63; i += 2)
        out[n++] = bytes[i + 1] || bytes[i] < ' ' || bytes[i] > '~' ? '?' : (char)bytes[i];
    out[n] = 0;
}

/* The index of the alternate that is meant; false with all that there are. */
static bool find_alternate(struct mos_dfu *d, size_t *out) {
    const struct mos_dfu_function *f = &d->function;
    size_t n = 0;
    if (!d->alternate) {
        *out = 0;
        return f->count == 1 || fail(d, "it has several places: state which one is meant");
    }
    for (size_t i = 0; i < f->count; i++) {
        char title[64];
        title_of(d, f->alternates[i].title, title);
        *out = i;
        if (strcmp(title, d->alternate) == 0)
            return true;
        if (n < sizeof d->said - 70)
            n += (size_t)snprintf(d->said + n, sizeof d->said - n, "%s%s",
                                  n ? ", " : "it has no place of that name, but ", title);
    }
    return fail(d, d->said);
}

/* While it comes back as another device, the old one may still be listed, and the new one not yet
 * be there to be opened, or still belong to nobody. */
static bool find_again(struct mos_dfu *d) {
    int64_t until = now(d) + 10 * SECOND;
    do {
        close_device(d);
        d->why = NULL;
        d->errnum = 0;
        if (!pause_for(d, SECOND))
            return false;
        if (find(d, until - now(d)) && open_device(d) && d->function.upgrades)
            return true;
    } while (now(d) < until);
    return fail(d, "it did not change into the mode that takes files");
}

/* Out of what it usually does (5.1), into the mode in which it takes files. */
static bool bring_to_mode(struct mos_dfu *d) {
    const struct mos_wires *w = d->host->wires;
    if (d->function.upgrades)
        return true;
    int e = w->usb_claim(w, d->wire, d->function.interface, 0);
    e = e ? e : tell(d, DETACH, d->function.detach_ms, NULL, 0);
    if (e && e != ENODEV)
        return fail_errno(d, "it does not leave what it does", e);
    if (!d->function.detaches)
        w->usb_reset(w, d->wire); /* it is another device then */
    return find_again(d);
}

static bool make_idle(struct mos_dfu *d) {
    for (unsigned tries = 0; tries < 4; tries++) {
        uint8_t state;
        size_t got;
        int e =
            ask(d, FROM_INTERFACE, GETSTATE, 0, (uint16_t)d->function.interface, &state, 1, &got);
        if (e || got != 1)
            return fail_errno(d, "it does not tell its state", e ? e : EPIPE);
        if (state == IDLE)
            return true;
        e = tell(d, state == FAILED ? CLRSTATUS : ABORT, 0, NULL, 0);
        if (e && e != EPIPE)
            return fail_errno(d, "it does not become ready", e);
    }
    return fail(d, "it does not become ready");
}

/* ---- the file ---- */

static size_t piece_of(const struct mos_dfu *d, uint64_t done) {
    return (size_t)mos_min(d->function.transfer, d->length - done);
}

static bool load(struct mos_dfu *d, uint64_t done, size_t length) {
    int e = mos_io_read(d->content, d->buffer, length, d->from + done);
    return !e || fail_errno(d, "the image cannot be read", e);
}

static void progress(struct mos_dfu *d, const char *what, uint64_t done) {
    if (d->progress)
        d->progress(d->progress_self, what, done, d->length);
}

static bool download(struct mos_dfu *d) {
    enum state state;
    uint16_t block = 0;
    for (uint64_t done = 0; done < d->length; block++) {
        size_t n = piece_of(d, done);
        progress(d, "write", done);
        if (!load(d, done, n))
            return false;
        int e = tell(d, DNLOAD, block, d->buffer, n);
        if (e)
            return fail_errno(d, "it does not take a block", e);
        d->begun = true;
        if (!reach(d, "a block", DNLOAD_IDLE, DNLOAD_IDLE, &state))
            return false;
        done += n;
        d->at = done;
    }
    int e = tell(d, DNLOAD, block, NULL, 0); /* that was all: 6.1.1.1 */
    if (e)
        return fail_errno(d, "it does not take the end", e);
    if (!reach(d, "the end", IDLE, MANIFEST_WAIT_RESET, &state)) {
        /* it may be gone already: without bitManifestationTolerant it has to start anew */
        if (!d->function.tolerant && d->errnum == ENODEV) {
            d->why = NULL;
            d->errnum = 0;
            d->written = true;
            close_device(d);
            return true;
        }
        return false;
    }
    d->written = true;
    if (state == MANIFEST_WAIT_RESET) {
        d->host->wires->usb_reset(d->host->wires, d->wire);
        close_device(d);
    }
    return true;
}

static bool read_back(struct mos_dfu *d) {
    uint8_t *back = d->buffer + (32 << 10);
    uint16_t block = 0;
    for (uint64_t done = 0; done < d->length; block++) {
        size_t n = piece_of(d, done), got;
        progress(d, "read back", done);
        if (!load(d, done, n))
            return false;
        int e = ask(d, FROM_INTERFACE, UPLOAD, block, (uint16_t)d->function.interface, back,
                    d->function.transfer, &got);
        if (e)
            return fail_errno(d, "it does not give a block back", e);
        d->at = done;
        d->differs = got < n || memcmp(back, d->buffer, n) != 0;
        if (d->differs)
            return fail(d, "it gives back something else than was written");
        done += n;
    }
    d->proved = true;
    return true;
}

bool mos_dfu_write(struct mos_dfu *d) {
    size_t chosen;
    d->wire = -1;
    bool ok =
        find(d, d->patience) && open_device(d) && bring_to_mode(d) && find_alternate(d, &chosen);
    if (ok) {
        const struct mos_wires *w = d->host->wires;
        int e =
            w->usb_claim(w, d->wire, d->function.interface, d->function.alternates[chosen].number);
        ok = !e || fail_errno(d, "it is in use", e);
        d->function.transfer = (uint16_t)mos_min(d->function.transfer, 32 << 10);
    }
    ok = ok && make_idle(d) && download(d);
    if (ok && d->wire >= 0 && d->function.can_upload)
        ok = make_idle(d) && read_back(d);
    if (d->wire >= 0 && d->proved)
        tell(d, ABORT, 0, NULL, 0);
    close_device(d);
    return ok;
}
