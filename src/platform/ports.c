/* The serial ports of this computer, by libserialport, and who has them open. */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <dirent.h>
#include <dlfcn.h>
#include <errno.h>
#include <grp.h>
#include <libserialport.h>
#include <pwd.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

/* Loaded when the first list is asked for: no other run pays for it. */
static const char file[] = "libserialport.so.0";
#define FUNCTIONS(X)                                                                               \
    X(sp_list_ports)                                                                               \
    X(sp_free_port_list)                                                                           \
    X(sp_get_port_name)                                                                            \
    X(sp_get_port_transport)                                                                       \
    X(sp_get_port_usb_vid_pid)                                                                     \
    X(sp_get_port_usb_manufacturer)                                                                \
    X(sp_get_port_usb_product)                                                                     \
    X(sp_get_port_usb_serial)
static struct {
#define X(name) __typeof__(&name) name;
    FUNCTIONS(X)
#undef X
} sp;
static int loaded; /* an errno value; -1: it is */

static int load(void) {
    if (loaded)
        return loaded < 0 ? 0 : loaded;
    void *handle = dlopen(file, RTLD_NOW | RTLD_LOCAL);
    bool all = handle != NULL;
#define X(name) all = all && (*(void **)&sp.name = dlsym(handle, #name));
    FUNCTIONS(X)
#undef X
    loaded = all ? -1 : ENOSYS;
    return all ? 0 : ENOSYS;
}

/* Where it is plugged in: the folder of its USB interface, "1-4.2:1.0". */
static const char *place_of(const char *path, char *out, size_t room) {
    char link[300], real[4096];
    const char *name = strrchr(path, '/');
    snprintf(link, sizeof link, "/sys/class/tty/%.200s/device", name ? name + 1 : path);
    char *at = realpath(link, real), *found = NULL;
    for (at = at ? strtok(real, "/") : NULL; at; at = strtok(NULL, "/"))
        if (strchr(at, ':') && at[0] >= '0' && at[0] <= '9' && strchr(at, '-'))
            found = at;
    if (!found || strlen(found) >= room)
        return NULL;
    memcpy(out, found, strlen(found) + 1);
    return out;
}

int mos_line_list(const struct mos_wires *w,
                  bool (*each)(void *self, const struct mos_serial_port *port), void *self) {
    (void)w;
    struct sp_port **all;
    int e = load();
    if (e)
        return e;
    if (sp.sp_list_ports(&all) != SP_OK)
        return EIO;
    bool goes_on = true;
    for (size_t i = 0; all[i] && goes_on; i++) {
        char place[64];
        int vendor = 0, product = 0;
        struct mos_serial_port port = {.path = sp.sp_get_port_name(all[i])};
        port.usb = place_of(port.path, place, sizeof place);
        if (sp.sp_get_port_transport(all[i]) == SP_TRANSPORT_USB &&
            sp.sp_get_port_usb_vid_pid(all[i], &vendor, &product) == SP_OK) {
            port.maker = sp.sp_get_port_usb_manufacturer(all[i]);
            port.name = sp.sp_get_port_usb_product(all[i]);
            port.serial = sp.sp_get_port_usb_serial(all[i]);
            port.vendor = (unsigned)vendor;
            port.product = (unsigned)product;
        }
        goes_on = each(self, &port);
    }
    sp.sp_free_port_list(all);
    return 0;
}

/* ---- who has it ---- */

static bool has_open(const char *process, const struct stat *port) {
    char folder[300], path[600];
    snprintf(folder, sizeof folder, "/proc/%.20s/fd", process);
    DIR *d = opendir(folder);
    bool found = false;
    struct dirent *e;
    while (d && !found && (e = readdir(d))) {
        struct stat st;
        snprintf(path, sizeof path, "%s/%.250s", folder, e->d_name);
        found = *e->d_name != '.' && !stat(path, &st) && S_ISCHR(st.st_mode) &&
                st.st_rdev == port->st_rdev;
    }
    if (d)
        closedir(d);
    return found;
}

int mos_line_users(const struct mos_wires *w, const char *port,
                   bool (*each)(void *self, const char *program, unsigned process), void *self) {
    (void)w;
    struct stat st;
    if (stat(port, &st))
        return errno;
    DIR *all = opendir("/proc");
    if (!all)
        return errno;
    bool goes_on = true;
    struct dirent *e;
    while (goes_on && (e = readdir(all))) {
        unsigned process = (unsigned)strtoul(e->d_name, NULL, 10);
        char path[64], name[64] = "";
        if (!process || process == (unsigned)getpid() || !has_open(e->d_name, &st))
            continue;
        snprintf(path, sizeof path, "/proc/%u/comm", process);
        FILE *f = fopen(path, "r");
        if (f && fgets(name, sizeof name, f))
            name[strcspn(name, "\n")] = 0;
        if (f)
            fclose(f);
        goes_on = each(self, name, process);
    }
    closedir(all);
    return 0;
}

int mos_line_group(const struct mos_wires *w, const char *port, char group[64], char user[64]) {
    (void)w;
    struct stat st;
    if (stat(port, &st))
        return errno;
    const struct group *g = getgrgid(st.st_gid);
    const struct passwd *p = getpwuid(getuid());
    if (!g || !p)
        return ENOENT;
    snprintf(group, 64, "%s", g->gr_name);
    snprintf(user, 64, "%s", p->pw_name);
    return 0;
}
