/* mosaicum/wires.h - what leads from this computer to a board: serial lines and the network, as the
 * core sees them.
 *
 * Protocols live in the core and know neither ports nor sockets nor a clock; they are driven
 * through the functions below, so that a made-up board (tests, fuzz targets) is a handful of them.
 * Every function returns 0 or a positive errno value; outputs are untouched on failure.
 */
#ifndef MOSAICUM_WIRES_H
#define MOSAICUM_WIRES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* The other end of a datagram, IPv4. */
struct mos_peer {
    uint32_t address; /* 192.0.2.1 is 0xc0000201 */
    uint16_t port;
};

/* A USB device. */
struct mos_usb_device {
    uint16_t vendor, product;
    char port[40]; /* "1-4.2" */
};

/* A request to one (USB 2.0, 9.3). */
struct mos_usb_request {
    uint8_t type, request; /* bit 7 of type: data comes from the device */
    uint16_t value, index;
};

/* How a serial line is set up: bits a second, and what stands beside each byte. */
struct mos_line_settings {
    unsigned speed;
    unsigned data, stop; /* bits: 7 or 8, 1 or 2 */
    char parity;         /* 'N', 'E' or 'O' */
    int dtr, rts;        /* 1: on, 0: off, -1: as they are */
};

/* A serial port of this computer. */
struct mos_serial_port {
    const char *path;         /* "/dev/ttyUSB0" */
    const char *usb;          /* where it is plugged in, "1-4.2:1.0"; NULL: it is no USB device */
    unsigned vendor, product; /* of a USB device, else 0 */
    const char *maker, *name, *serial; /* its own words; NULL: it has none */
};

/* An IPv4 address of this computer. */
struct mos_own_address {
    const char *interface; /* "eth1" */
    unsigned index;        /* of it: another one when it was unplugged and came back */
    uint32_t address;      /* 0: the interface has none */
    unsigned prefix;       /* bits of the network */
    bool carrier, loopback;
};

/* What somebody asks by HTTP, and what is answered. */
struct mos_http_request {
    struct mos_peer from;
    const char *path;     /* "/kernel", decoded */
    const char *range;    /* the field Range; NULL: none */
    const char *if_range; /* the field If-Range; NULL: none */
    bool head;            /* only the fields are wanted */
};
struct mos_http_answer {
    unsigned status;
    const char *text; /* the body, UTF-8; NULL: it is of `file` */
    void *file;
    uint64_t size, first, length; /* of the file, bytes; the part of it that goes */
    const char *tag;              /* of this very content, without quotes; NULL: none */
};
struct mos_http {
    void *self;
    /* The answer; texts and file stay until ended(). */
    void (*asked)(void *self, const struct mos_http_request *request,
                  struct mos_http_answer *answer);
    /* `length` bytes of a file; an errno value. */
    int (*read)(void *self, void *file, void *to, size_t length, uint64_t at);
    /* The file of an answer is not read any more: all of its part went, or not. */
    void (*ended)(void *self, void *file, bool all);
};

enum { MOS_OVERHEARD = 80 }; /* the longest heads of IPv4 and TCP, as far as the flags */

struct mos_wires {
    void *user;
    /* A serial line: the path of a terminal device, 8 bits, no parity, one stop bit, for nobody but
     * the caller (EBUSY), its control lines left as they are; or "tcp:HOST:PORT", where `speed`
     * (bits a second) is somebody else's.  EINVAL: a speed that the device cannot have. */
    int (*open_line)(const struct mos_wires *w, const char *port, unsigned speed, int *wire);
    /* Sets an open line up anew; what is no serial line (tcp:…) takes anything. */
    int (*set_line)(const struct mos_wires *w, int wire, const struct mos_line_settings *s);
    /* A break of a quarter of a second; ENOTTY: the line has none. */
    int (*send_break)(const struct mos_wires *w, int wire);
    /* Tells of every serial port that is there now; stops when each() returns false. */
    int (*list_lines)(const struct mos_wires *w,
                      bool (*each)(void *self, const struct mos_serial_port *port), void *self);
    /* Programs, but the caller, that have a port open: each name is told.  What may not be looked
     * at is left out. */
    int (*line_users)(const struct mos_wires *w, const char *port,
                      bool (*each)(void *self, const char *program, unsigned process), void *self);
    /* Who may open a port: the name of its group, and that of whoever started this; ENOENT: they
     * have none. */
    int (*line_group)(const struct mos_wires *w, const char *port, char group[64], char user[64]);
    /* The keyboard of whoever started this, key by key as they are pressed, without echo; closing
     * it sets it back.  ENOTTY: there is none. */
    int (*open_keys)(const struct mos_wires *w, int *wire);
    /* A socket for datagrams at one of this computer's addresses (0: all of them), port 0: any that
     * is free; of one interface only, or of all (NULL).  EADDRNOTAVAIL, EADDRINUSE, EACCES. */
    int (*open_datagrams)(const struct mos_wires *w, const char *interface,
                          const struct mos_peer *own, int *wire);
    /* What comes in at an interface before this computer's own filters, cut after MOS_OVERHEARD
     * bytes, by read(): packets of IPv4 for the ports (UDP; TCP only as it connects), and ARP.
     * EPERM: it may not be looked at. */
    int (*open_overhear)(const struct mos_wires *w, unsigned interface, const uint16_t *ports,
                         size_t count, int *wire);
    /* Tells of every network interface of this computer: once for each address, or once; stops when
     * each() returns false. */
    int (*list_addresses)(const struct mos_wires *w,
                          bool (*each)(void *self, const struct mos_own_address *address),
                          void *self);
    /* The hardware address that an address of the neighbourhood has now; ENOENT: not known. */
    int (*neighbour)(const struct mos_wires *w, uint32_t address, uint8_t ethernet[6]);
    /* Serves by HTTP at own; the wire can be read when step_http is to be called, and it is to be
     * called again *within ns even so.  One at a time (EBUSY); ENOSYS: its library is not there. */
    int (*open_http)(const struct mos_wires *w, const char *interface, const struct mos_peer *own,
                     const struct mos_http *host, int *wire);
    int (*step_http)(const struct mos_wires *w, int wire, int64_t *within);
    /* From now on only what that one sends comes, and it can be sent to without naming it. */
    int (*connect_datagrams)(const struct mos_wires *w, int wire, const struct mos_peer *to);
    void (*close)(const struct mos_wires *w, int wire);
    /* Waits until one of `count` (at most 24) can be read, or `ns` have passed: *ready has a bit
     * for each that can.  EINTR: nobody wants to wait longer. */
    int (*wait)(const struct mos_wires *w, const int *wires, size_t count, int64_t ns,
                unsigned *ready);
    /* What has come on a line, at least a byte, without waiting; ENODEV: it is gone. */
    int (*read)(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got);
    /* All of it, however slow the line is. */
    int (*write)(const struct mos_wires *w, int wire, const void *from, size_t length);
    /* One datagram, cut off at `size`. */
    int (*receive)(const struct mos_wires *w, int wire, void *to, size_t size, size_t *got,
                   struct mos_peer *from);
    int (*send)(const struct mos_wires *w, int wire, const void *bytes, size_t length,
                const struct mos_peer *to); /* NULL: whom it is connected to */
    /* Tells of every USB device that is plugged in now; stops when each() returns false. */
    int (*usb_list)(const struct mos_wires *w,
                    bool (*each)(void *self, const struct mos_usb_device *device), void *self);
    int (*usb_open)(const struct mos_wires *w, const char *port, int *wire);
    /* An interface for nobody but the caller, with one of its alternate settings. */
    int (*usb_claim)(const struct mos_wires *w, int wire, unsigned interface, unsigned alternate);
    /* EPIPE: it refuses the request; ENODEV: it is gone; ETIMEDOUT. *got: bytes of data. */
    int (*usb_control)(const struct mos_wires *w, int wire, const struct mos_usb_request *request,
                       void *data, size_t length, size_t *got, unsigned ms);
    /* It is as if it had been plugged in anew; ENODEV: it is another device now. */
    int (*usb_reset)(const struct mos_wires *w, int wire);
};

#endif
