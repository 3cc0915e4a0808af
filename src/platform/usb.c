/* This computer's USB devices, by libusb. */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <dlfcn.h>
#include <errno.h>
#include <libusb.h>
#include <pthread.h>
#include <stdio.h>
#include <string.h>

enum { MOST = 4 };

/* A list of devices that libusb has begun is only renewed by what udevd tells; where none runs, a
 * device that comes later is not in it.  So each look, and each open device, has a context of its
 * own. */
static struct {
    libusb_context *context;
    libusb_device_handle *handle;
    unsigned interface;
    bool claimed;
} open_ones[MOST];
static int loaded; /* an errno value */

/* Loaded when the first device is looked for: no other run pays for it. */
static const char file[] = "libusb-1.0.so.0";
#define FUNCTIONS(X)                                                                               \
    X(libusb_init)                                                                                 \
    X(libusb_exit)                                                                                 \
    X(libusb_get_device_list)                                                                      \
    X(libusb_free_device_list)                                                                     \
    X(libusb_get_device_descriptor)                                                                \
    X(libusb_get_port_numbers)                                                                     \
    X(libusb_get_bus_number)                                                                       \
    X(libusb_open)                                                                                 \
    X(libusb_close)                                                                                \
    X(libusb_claim_interface)                                                                      \
    X(libusb_release_interface)                                                                    \
    X(libusb_set_interface_alt_setting)                                                            \
    X(libusb_control_transfer)                                                                     \
    X(libusb_reset_device)
static struct {
#define X(name) __typeof__(&name) name;
    FUNCTIONS(X)
#undef X
} usb;

static int errno_of(int e) {
    switch (e) {
    case LIBUSB_SUCCESS:
        return 0;
    case LIBUSB_ERROR_NO_DEVICE:
    case LIBUSB_ERROR_NOT_FOUND:
        return ENODEV;
    case LIBUSB_ERROR_PIPE:
        return EPIPE;
    case LIBUSB_ERROR_TIMEOUT:
        return ETIMEDOUT;
    case LIBUSB_ERROR_ACCESS:
        return EACCES;
    case LIBUSB_ERROR_BUSY:
        return EBUSY;
    case LIBUSB_ERROR_NO_MEM:
        return ENOMEM;
    default:
        return EIO;
    }
}

static void load_once(void) {
    void *handle = dlopen(file, RTLD_NOW | RTLD_LOCAL);
    bool all = handle != NULL;
#define X(name) all = all && (*(void **)&usb.name = dlsym(handle, #name));
    FUNCTIONS(X)
#undef X
    loaded = all ? 0 : ENOSYS;
}

static int start(libusb_context **context) {
    static pthread_once_t once = PTHREAD_ONCE_INIT;
    pthread_once(&once, load_once);
    return loaded ? loaded : errno_of(usb.libusb_init(context));
}

/* "1-4.2": its bus, and the ports that lead to it. */
static void port_of(libusb_device *d, char *out, size_t size) {
    uint8_t ports[8];
    int n = usb.libusb_get_port_numbers(d, ports, sizeof ports), at;
    at = snprintf(out, size, "%u", usb.libusb_get_bus_number(d));
    for (int i = 0; i < n && at < (int)size; i++)
        at += snprintf(out + at, size - (size_t)at, "%c%u", i ? '.' : '-', ports[i]);
}

/* Each device of a context in turn until one returns false. */
static int walk(libusb_context *context, bool (*each)(void *self, libusb_device *d), void *self) {
    libusb_device **list;
    ssize_t n = usb.libusb_get_device_list(context, &list);
    if (n < 0)
        return errno_of((int)n);
    for (ssize_t i = 0; i < n && each(self, list[i]); i++)
        ;
    usb.libusb_free_device_list(list, 1);
    return 0;
}

struct listing {
    bool (*each)(void *self, const struct mos_usb_device *device);
    void *self;
};

static bool list_one(void *self, libusb_device *d) {
    const struct listing *l = self;
    struct libusb_device_descriptor is;
    struct mos_usb_device out;
    if (usb.libusb_get_device_descriptor(d, &is))
        return true;
    out.vendor = is.idVendor;
    out.product = is.idProduct;
    port_of(d, out.port, sizeof out.port);
    return l->each(l->self, &out);
}

int mos_usb_list(const struct mos_wires *w,
                 bool (*each)(void *self, const struct mos_usb_device *device), void *self) {
    struct listing l = {each, self};
    libusb_context *context;
    (void)w;
    int e = start(&context);
    if (e)
        return e;
    e = walk(context, list_one, &l);
    usb.libusb_exit(context);
    return e;
}

struct opening {
    const char *port;
    int slot, errnum;
};

static bool open_one(void *self, libusb_device *d) {
    struct opening *o = self;
    char port[40];
    port_of(d, port, sizeof port);
    if (strcmp(port, o->port) != 0)
        return true;
    o->errnum = errno_of(usb.libusb_open(d, &open_ones[o->slot].handle));
    return false;
}

int mos_usb_open(const struct mos_wires *w, const char *port, int *wire) {
    struct opening o = {port, 0, ENODEV};
    (void)w;
    while (o.slot < MOST && open_ones[o.slot].handle)
        o.slot++;
    if (o.slot == MOST)
        return EMFILE;
    open_ones[o.slot].claimed = false;
    int e = start(&open_ones[o.slot].context);
    if (e)
        return e;
    e = walk(open_ones[o.slot].context, open_one, &o);
    e = e ? e : o.errnum;
    if (e) {
        open_ones[o.slot].handle = NULL;
        usb.libusb_exit(open_ones[o.slot].context);
        return e;
    }
    *wire = MOS_USB_WIRES + o.slot;
    return 0;
}

void mos_usb_close(int wire) {
    int slot = wire - MOS_USB_WIRES;
    if (open_ones[slot].claimed)
        usb.libusb_release_interface(open_ones[slot].handle, (int)open_ones[slot].interface);
    usb.libusb_close(open_ones[slot].handle);
    usb.libusb_exit(open_ones[slot].context);
    open_ones[slot].handle = NULL;
}

int mos_usb_claim(const struct mos_wires *w, int wire, unsigned interface, unsigned alternate) {
    (void)w;
    int slot = wire - MOS_USB_WIRES;
    libusb_device_handle *h = open_ones[slot].handle;
    if (!open_ones[slot].claimed) {
        int e = errno_of(usb.libusb_claim_interface(h, (int)interface));
        if (e)
            return e;
        open_ones[slot].claimed = true;
        open_ones[slot].interface = interface;
    }
    return errno_of(usb.libusb_set_interface_alt_setting(h, (int)interface, (int)alternate));
}

int mos_usb_control(const struct mos_wires *w, int wire, const struct mos_usb_request *r,
                    void *data, size_t length, size_t *got, unsigned ms) {
    (void)w;
    int n = usb.libusb_control_transfer(open_ones[wire - MOS_USB_WIRES].handle, r->type, r->request,
                                        r->value, r->index, data, (uint16_t)length, ms);
    if (n < 0)
        return errno_of(n);
    *got = (size_t)n;
    return 0;
}

int mos_usb_reset(const struct mos_wires *w, int wire) {
    (void)w;
    return errno_of(usb.libusb_reset_device(open_ones[wire - MOS_USB_WIRES].handle));
}
