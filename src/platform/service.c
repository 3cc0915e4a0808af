/* Storage devices that this user may not open, from the system's storage service: it asks its user
 * whether that may be, and hands the opened descriptor over D-Bus (org.freedesktop.UDisks2.Block,
 * OpenDevice). */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <ctype.h>
#include <dbus/dbus.h>
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <string.h>

enum { LONGEST = 256, PATIENCE_MS = 120000 /* somebody types a password */ };

/* Loaded when the first device is asked for: no other run pays for it. */
static const char file[] = "libdbus-1.so.3";
#define FUNCTIONS(X)                                                                               \
    X(dbus_error_init)                                                                             \
    X(dbus_error_free)                                                                             \
    X(dbus_bus_get)                                                                                \
    X(dbus_connection_set_exit_on_disconnect)                                                      \
    X(dbus_connection_send_with_reply_and_block)                                                   \
    X(dbus_message_new_method_call)                                                                \
    X(dbus_message_unref)                                                                          \
    X(dbus_message_iter_init)                                                                      \
    X(dbus_message_iter_init_append)                                                               \
    X(dbus_message_iter_append_basic)                                                              \
    X(dbus_message_iter_open_container)                                                            \
    X(dbus_message_iter_close_container)                                                           \
    X(dbus_message_iter_get_arg_type)                                                              \
    X(dbus_message_iter_get_basic)
static struct {
#define X(name) __typeof__(&name) name;
    FUNCTIONS(X)
#undef X
} bus;
static DBusConnection *connection; /* NULL: there is no bus, or no library */

static void connect_once(void) {
    void *handle = dlopen(file, RTLD_NOW | RTLD_LOCAL);
    bool all = handle != NULL;
#define X(name) all = all && (*(void **)&bus.name = dlsym(handle, #name));
    FUNCTIONS(X)
#undef X
    if (!all)
        return;
    DBusError error;
    bus.dbus_error_init(&error);
    connection = bus.dbus_bus_get(DBUS_BUS_SYSTEM, &error);
    if (connection)
        bus.dbus_connection_set_exit_on_disconnect(connection, false);
    bus.dbus_error_free(&error);
}

/* What the service calls the device of a path below /dev: its name, what is no letter, digit or _
 * as _ and two digits. */
static bool object_of(const char *path, char out[LONGEST]) {
    size_t n = (size_t)snprintf(out, LONGEST, "/org/freedesktop/UDisks2/block_devices/");
    const char *name = strncmp(path, "/dev/", 5) == 0 ? path + 5 : "";
    if (!*name || strchr(name, '/'))
        return false;
    for (; *name && n + 4 < LONGEST; name++)
        n += (size_t)snprintf(out + n, LONGEST - n,
                              isalnum((unsigned char)*name) || *name == '_' ? "%c" : "_%02x",
                              (unsigned char)*name);
    return !*name;
}

static int errno_of(const DBusError *e) {
    if (strcmp(e->name, "org.freedesktop.DBus.Error.ServiceUnknown") == 0 ||
        strcmp(e->name, "org.freedesktop.DBus.Error.NameHasNoOwner") == 0)
        return ENOSYS;
    if (strcmp(e->name, "org.freedesktop.DBus.Error.UnknownObject") == 0 ||
        strcmp(e->name, "org.freedesktop.DBus.Error.UnknownMethod") == 0)
        return ENODEV;
    /* errors of its open() come as texts only */
    return strstr(e->message, "busy") ? EBUSY : strstr(e->message, "ead-only") ? EROFS : EACCES;
}

/* mode "r" or "rw", and a map of one option: flags of open(2) besides. */
static bool put_arguments(DBusMessage *call, const char *mode, dbus_int32_t flags) {
    DBusMessageIter all, options, option, value;
    const char *name = "flags";
    bus.dbus_message_iter_init_append(call, &all);
    return bus.dbus_message_iter_append_basic(&all, DBUS_TYPE_STRING, &mode) &&
           bus.dbus_message_iter_open_container(&all, DBUS_TYPE_ARRAY, "{sv}", &options) &&
           bus.dbus_message_iter_open_container(&options, DBUS_TYPE_DICT_ENTRY, NULL, &option) &&
           bus.dbus_message_iter_append_basic(&option, DBUS_TYPE_STRING, &name) &&
           bus.dbus_message_iter_open_container(&option, DBUS_TYPE_VARIANT, "i", &value) &&
           bus.dbus_message_iter_append_basic(&value, DBUS_TYPE_INT32, &flags) &&
           bus.dbus_message_iter_close_container(&option, &value) &&
           bus.dbus_message_iter_close_container(&options, &option) &&
           bus.dbus_message_iter_close_container(&all, &options);
}

int mos_service_open(const char *path, bool to_write, int *device) {
    static pthread_once_t once = PTHREAD_ONCE_INIT;
    char object[LONGEST];
    DBusError error;
    DBusMessageIter result;
    pthread_once(&once, connect_once);
    if (!connection || !object_of(path, object))
        return ENOSYS;
    DBusMessage *call = bus.dbus_message_new_method_call(
        "org.freedesktop.UDisks2", object, "org.freedesktop.UDisks2.Block", "OpenDevice");
    dbus_int32_t flags = to_write ? O_EXCL | O_DIRECT | O_CLOEXEC : O_CLOEXEC;
    if (!call || !put_arguments(call, to_write ? "rw" : "r", flags))
        return ENOMEM;
    bus.dbus_error_init(&error);
    DBusMessage *reply =
        bus.dbus_connection_send_with_reply_and_block(connection, call, PATIENCE_MS, &error);
    bus.dbus_message_unref(call);
    int e = reply ? 0 : errno_of(&error);
    bus.dbus_error_free(&error);
    if (!reply)
        return e;
    e = EPROTO;
    if (bus.dbus_message_iter_init(reply, &result) &&
        bus.dbus_message_iter_get_arg_type(&result) == DBUS_TYPE_UNIX_FD) {
        bus.dbus_message_iter_get_basic(&result, device);
        e = *device < 0 ? EPROTO : 0;
    }
    bus.dbus_message_unref(reply);
    return e;
}
