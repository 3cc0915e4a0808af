/* A made-up storage service on a bus of the test's own: it lends devices as the system's does.
 *   lender yes|no|busy|other    other: it lends something else than what was asked for */
#define _GNU_SOURCE
#include <dbus/dbus.h>
#include <fcntl.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

static const char service[] = "org.freedesktop.UDisks2",
                  failed[] = "org.freedesktop.UDisks2.Error.Failed",
                  refused[] = "org.freedesktop.UDisks2.Error.NotAuthorized";

/* The path that an object is named after; false: of none. */
static bool path_of(const char *object, char *out, size_t size) {
    static const char above[] = "/org/freedesktop/UDisks2/block_devices/";
    if (strncmp(object, above, strlen(above)) != 0)
        return false;
    snprintf(out, size, "/dev/%s", object + strlen(above));
    return true;
}

/* (s mode, a{sv} options): the flags of open(2) that they mean; -1: they are no such arguments. */
static int flags_of(DBusMessage *call) {
    DBusMessageIter all, options, option, value;
    const char *mode, *name;
    dbus_int32_t more = 0;
    if (!dbus_message_has_signature(call, "sa{sv}"))
        return -1;
    dbus_message_iter_init(call, &all);
    dbus_message_iter_get_basic(&all, &mode);
    dbus_message_iter_next(&all);
    for (dbus_message_iter_recurse(&all, &options);
         dbus_message_iter_get_arg_type(&options) == DBUS_TYPE_DICT_ENTRY;
         dbus_message_iter_next(&options)) {
        dbus_message_iter_recurse(&options, &option);
        dbus_message_iter_get_basic(&option, &name);
        dbus_message_iter_next(&option);
        dbus_message_iter_recurse(&option, &value);
        if (strcmp(name, "flags") != 0 || dbus_message_iter_get_arg_type(&value) != DBUS_TYPE_INT32)
            return -1;
        dbus_message_iter_get_basic(&value, &more);
    }
    return more | (strcmp(mode, "rw") == 0 ? O_RDWR : strcmp(mode, "r") == 0 ? O_RDONLY : O_WRONLY);
}

static DBusMessage *answer(DBusMessage *call, const char *how) {
    char path[300];
    int flags = flags_of(call);
    if (!dbus_message_is_method_call(call, "org.freedesktop.UDisks2.Block", "OpenDevice") ||
        flags < 0 || !path_of(dbus_message_get_path(call), path, sizeof path))
        return dbus_message_new_error(call, failed, "no such request");
    if (strcmp(how, "no") == 0)
        return dbus_message_new_error(call, refused, "Not authorized to perform operation");
    if (strcmp(how, "busy") == 0)
        return dbus_message_new_error(call, failed, "Error opening it: Device or resource busy");
    int fd = open(strcmp(how, "other") == 0 ? "/dev/zero" : path, flags);
    if (fd < 0)
        return dbus_message_new_error(call, failed, "Error opening it");
    DBusMessage *reply = dbus_message_new_method_return(call);
    dbus_message_append_args(reply, DBUS_TYPE_UNIX_FD, &fd, DBUS_TYPE_INVALID);
    close(fd);
    fprintf(stderr, "lent %s %s%s\n", path, (flags & O_ACCMODE) == O_RDWR ? "rw" : "r",
            flags & O_EXCL ? " for one" : "");
    return reply;
}

int main(int argc, char **argv) {
    DBusError error;
    dbus_error_init(&error);
    DBusConnection *c = argc == 2 ? dbus_bus_get(DBUS_BUS_SYSTEM, &error) : NULL;
    if (!c || dbus_bus_request_name(c, service, 0, &error) != DBUS_REQUEST_NAME_REPLY_PRIMARY_OWNER)
        return 2;
    while (dbus_connection_read_write(c, -1)) {
        DBusMessage *call;
        while ((call = dbus_connection_pop_message(c)) != NULL) {
            if (dbus_message_get_type(call) == DBUS_MESSAGE_TYPE_METHOD_CALL) {
                DBusMessage *reply = answer(call, argv[1]);
                dbus_connection_send(c, reply, NULL);
                dbus_message_unref(reply);
            }
            dbus_message_unref(call);
        }
    }
    return 0;
}
