/* This computer's serial lines and sockets. */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netdb.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

enum { LONGEST_NAME = 256, MOST_WIRES = 24, SECOND_MS = 1000, MS = 1000000 };

/* ---- lines ---- */

static int open_server(const char *where, int *wire) {
    char host[LONGEST_NAME];
    const char *colon = strrchr(where, ':');
    size_t n = colon ? (size_t)(colon - where) : 0;
    if (!colon || !n || n >= sizeof host || !colon[1])
        return EINVAL;
    memcpy(host, where, n);
    host[n] = 0;
    struct addrinfo *all = NULL, hints = {.ai_socktype = SOCK_STREAM};
    if (getaddrinfo(host, colon + 1, &hints, &all))
        return EHOSTUNREACH;
    int e = EHOSTUNREACH;
    for (struct addrinfo *a = all; a && e; a = a->ai_next) {
        int fd = socket(a->ai_family, a->ai_socktype | SOCK_CLOEXEC, a->ai_protocol);
        e = fd < 0 ? errno : connect(fd, a->ai_addr, a->ai_addrlen) ? errno : 0;
        if (fd >= 0 && e)
            close(fd);
        else if (!e) {
            fcntl(fd, F_SETFL, O_NONBLOCK);
            *wire = fd;
        }
    }
    freeaddrinfo(all);
    return e;
}

static int open_line(const struct mos_wires *w, const char *port, unsigned speed, int *wire) {
    (void)w;
    return strncmp(port, "tcp:", 4) == 0 ? open_server(port + 4, wire)
                                         : mos_line_open(port, speed, wire);
}

static int read_line(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got) {
    (void)w;
    ssize_t n = read(wire, to, size);
    if (n < 0 && (errno == EAGAIN || errno == EINTR))
        n = 0;
    else if (n <= 0)
        return n < 0 && errno != EIO ? errno : ENODEV;
    *got = (size_t)n;
    return 0;
}

static int write_line(const struct mos_wires *w, int wire, const void *from, size_t length) {
    (void)w;
    for (const char *p = from; length;) {
        ssize_t n = write(wire, p, length);
        if (n > 0) {
            p += n;
            length -= (size_t)n;
        } else if (n < 0 && errno == EAGAIN) {
            struct pollfd one = {wire, POLLOUT, 0};
            int ready = poll(&one, 1, 10 * SECOND_MS);
            if (ready <= 0)
                return ready ? errno : ETIMEDOUT;
        } else
            return n < 0 && errno != EIO ? errno : ENODEV;
    }
    return 0;
}

/* ---- datagrams ---- */

static struct sockaddr_in address_of(const struct mos_peer *p) {
    struct sockaddr_in a = {.sin_family = AF_INET, .sin_port = htons(p->port)};
    a.sin_addr.s_addr = htonl(p->address);
    return a;
}

static int receive(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got,
                   struct mos_peer *from) {
    (void)w;
    struct sockaddr_in a;
    socklen_t length = sizeof a;
    ssize_t n = recvfrom(wire, to, size, 0, (struct sockaddr *)&a, &length);
    if (n < 0)
        return errno;
    *got = (size_t)n;
    *from = (struct mos_peer){ntohl(a.sin_addr.s_addr), ntohs(a.sin_port)};
    return 0;
}

static int send_one(const struct mos_wires *w, int wire, const void *bytes, size_t length,
                    const struct mos_peer *to) {
    (void)w;
    struct sockaddr_in a;
    if (to)
        a = address_of(to);
    ssize_t n = to ? sendto(wire, bytes, length, 0, (struct sockaddr *)&a, sizeof a)
                   : send(wire, bytes, length, 0);
    return n < 0 ? errno : 0;
}

static int connect_datagrams(const struct mos_wires *w, int wire, const struct mos_peer *to) {
    (void)w;
    struct sockaddr_in a = address_of(to);
    return connect(wire, (struct sockaddr *)&a, sizeof a) ? errno : 0;
}

/* ---- both ---- */

static void close_wire(const struct mos_wires *w, int wire) {
    (void)w;
    if (wire >= MOS_USB_WIRES)
        mos_usb_close(wire);
    else if (!mos_keys_close(wire) && !mos_http_close(wire))
        close(wire);
}

static volatile sig_atomic_t stopped;

void mos_platform_stop_waiting(void) {
    stopped = 1;
}

static int wait_for(const struct mos_wires *w, const int *wires, size_t count, int64_t ns,
                    unsigned *ready) {
    (void)w;
    struct pollfd all[MOST_WIRES];
    for (size_t i = 0; i < count; i++)
        all[i] = (struct pollfd){wires[i], POLLIN, 0};
    int64_t ms = ns <= 0 ? 0 : (ns + MS - 1) / MS;
    ms = stopped ? 0 : ms > 3600 * SECOND_MS ? 3600 * SECOND_MS : ms;
    int n = poll(all, (nfds_t)count, (int)ms);
    if (stopped || n < 0) {
        int e = stopped ? EINTR : errno;
        stopped = 0;
        return e;
    }
    *ready = 0;
    for (size_t i = 0; i < count; i++)
        *ready |= all[i].revents ? 1U << i : 0;
    return 0;
}

const struct mos_wires mos_platform_wires = {
    .open_line = open_line,
    .set_line = mos_line_set,
    .send_break = mos_line_break,
    .list_lines = mos_line_list,
    .line_users = mos_line_users,
    .line_group = mos_line_group,
    .open_keys = mos_keys_open,
    .open_datagrams = mos_network_open,
    .connect_datagrams = connect_datagrams,
    .open_overhear = mos_network_overhear,
    .list_addresses = mos_network_list,
    .neighbour = mos_network_neighbour,
    .open_http = mos_http_open,
    .step_http = mos_http_step,
    .close = close_wire,
    .wait = wait_for,
    .read = read_line,
    .write = write_line,
    .receive = receive,
    .send = send_one,
    .usb_list = mos_usb_list,
    .usb_open = mos_usb_open,
    .usb_claim = mos_usb_claim,
    .usb_control = mos_usb_control,
    .usb_reset = mos_usb_reset,
};
