/* Plugs the made-up USB device of dfu.h into this computer's kernel: a controller of the kernel
 * that is no hardware (vhci_hcd) takes what it asks from a socket, as
 * Documentation/usb/usbip_protocol.rst says.
 *   plug FOLDER FAULT…     until the device goes, or the end of FOLDER/stop
 * Leaves FOLDER/got (what came for the second place) and FOLDER/report. */
#include "computer/dfu.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/select.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { SUBMIT = 1, UNLINK, RET_SUBMIT, RET_UNLINK, HEADER = 48, MOST = 1 << 16, FAST = 3 };

static const struct {
    const char *name;
    struct dfu_fault fault;
} faults[] = {
    {"none", {0}},
    {"runtime", {.runtime = true}},
    {"failed", {.starts_failed = true}},
    {"quiet", {.no_upload = true}},
    {"reset", {.not_tolerant = true}},
    {"leaves", {.not_tolerant = true, .vanishes = true}},
    {"stalls", {.stalls_at = 30}},
    {"errs", {.errs_at = 5, .status = 3}},
    {"goes", {.goes_at = 40}},
    {"flips", {.flips = true}},
    {"garbled", {.garbled = true}},
};

static bool transfer(int socket, void *bytes, size_t length, bool out) {
    char *p = bytes;
    while (length) {
        ssize_t n = out ? write(socket, p, length) : read(socket, p, length);
        if (n <= 0)
            return false;
        p += n;
        length -= (size_t)n;
    }
    return true;
}

static uint32_t word(const uint8_t *header, unsigned index) {
    uint32_t w;
    memcpy(&w, header + 4 * index, 4);
    return ntohl(w);
}

static void put_word(uint8_t *header, unsigned index, uint32_t value) {
    value = htonl(value);
    memcpy(header + 4 * index, &value, 4);
}

/* USB 2.0, table 9-8; 64 bytes at once, one configuration, no texts. */
static size_t describe(uint8_t *to, size_t size) {
    static const uint8_t device[18] = {18,   1, 0, 2, 0, 0, 0, 64, 0x09,
                                       0x12, 2, 0, 0, 1, 0, 0, 0,  1};
    size_t n = size < sizeof device ? size : sizeof device;
    memcpy(to, device, n);
    return n;
}

/* A request to endpoint 0; an errno value. */
static int answer(const struct mos_wires *w, const uint8_t *setup, uint8_t *data, size_t length,
                  size_t *got) {
    struct mos_usb_request r = {setup[0], setup[1], (uint16_t)(setup[2] | setup[3] << 8),
                                (uint16_t)(setup[4] | setup[5] << 8)};
    enum { OF_DEVICE = 0x100, SET_CONFIGURATION = 9, SET_INTERFACE = 11, GET_DESCRIPTOR = 6 };
    *got = 0;
    if (r.type == 0x80 && r.request == GET_DESCRIPTOR && r.value == OF_DEVICE) {
        *got = describe(data, length);
        return w->usb_reset(w, 0); /* it comes after each reset of the port */
    }
    if (r.type == 0x80 && r.request == GET_DESCRIPTOR && r.value >> 8 != 2 && r.value >> 8 != 3)
        return EPIPE;
    if (r.type == 0x80 && !r.request) {
        memset(data, 0, length);
        *got = length < 2 ? length : 2;
        return 0;
    }
    if (r.type == 0 && r.request == SET_CONFIGURATION)
        return 0;
    if (r.type == 1 && r.request == SET_INTERFACE)
        return r.index == 3 && w->usb_claim(w, 0, 3, r.value) ? EPIPE : 0;
    return w->usb_control(w, 0, &r, data, length, got, 0);
}

/* One packet of the kernel's; false: it is over. */
static bool serve(const struct mos_wires *w, int socket) {
    static uint8_t data[MOST];
    uint8_t header[HEADER], reply[HEADER] = {0};
    if (!transfer(socket, header, sizeof header, false))
        return false;
    bool in = word(header, 3) != 0;
    size_t length = word(header, 6), got = 0;
    put_word(reply, 1, word(header, 1));
    if (word(header, 0) == UNLINK) { /* what it means was answered before */
        put_word(reply, 0, RET_UNLINK);
        return transfer(socket, reply, sizeof reply, true);
    }
    if (length > MOST || (!in && !transfer(socket, data, length, false)))
        return false;
    int e = word(header, 4) ? EPIPE : answer(w, header + 40, data, length, &got);
    if (e == ENODEV)
        return false; /* it is pulled out */
    put_word(reply, 0, RET_SUBMIT);
    put_word(reply, 5, (uint32_t)-e);
    put_word(reply, 6, (uint32_t)(e ? 0 : in ? got : length));
    return transfer(socket, reply, sizeof reply, true) &&
           (!in || e || transfer(socket, data, got, true));
}

static bool plug_in(int socket) {
    char text[64];
    int n = snprintf(text, sizeof text, "0 %d 65538 %d", socket, FAST),
        file = open("/sys/devices/platform/vhci_hcd.0/attach", O_WRONLY);
    bool ok = file >= 0 && write(file, text, (size_t)n) == n;
    close(file);
    close(socket);
    return ok;
}

static void leave(const struct dfu_made *d, const char *folder) {
    char path[200];
    size_t length;
    bool done;
    const uint8_t *bytes = dfu_got(d, 1, &length, &done);
    snprintf(path, sizeof path, "%s/got", folder);
    FILE *f = fopen(path, "wb");
    if (f) {
        fwrite(bytes, 1, length, f);
        fclose(f);
    }
    snprintf(path, sizeof path, "%s/report", folder);
    f = fopen(path, "w");
    if (f) {
        fprintf(f, "%s, %u offences\n", done ? "done" : "not done", dfu_offences(d));
        fclose(f);
    }
}

int main(int argc, char **argv) {
    struct dfu_made *d = dfu_new();
    struct mos_host host = {0};
    int ends[2];
    char stop[200];
    size_t fault = 0;
    if (argc != 3 || socketpair(AF_UNIX, SOCK_STREAM, 0, ends))
        return 2;
    while (fault < sizeof faults / sizeof *faults && strcmp(faults[fault].name, argv[2]) != 0)
        fault++;
    if (fault == sizeof faults / sizeof *faults || !plug_in(ends[1]))
        return 2;
    dfu_host(d, &host);
    dfu_fails(d, faults[fault].fault);
    snprintf(stop, sizeof stop, "%s/stop", argv[1]);
    for (bool on = true; on && access(stop, F_OK) != 0;) {
        fd_set set;
        struct timeval second = {.tv_usec = 100000};
        struct timespec now;
        FD_ZERO(&set);
        FD_SET(ends[0], &set);
        if (select(ends[0] + 1, &set, NULL, NULL, &second) <= 0)
            continue;
        clock_gettime(CLOCK_MONOTONIC, &now);
        dfu_at(d, now.tv_sec * INT64_C(1000000000) + now.tv_nsec);
        on = serve(host.wires, ends[0]);
    }
    close(ends[0]);
    leave(d, argv[1]);
    dfu_free(d);
    return 0;
}
