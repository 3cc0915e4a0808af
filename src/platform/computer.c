/* This computer's storage devices: the kernel's texts about them, and the devices themselves. */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <time.h>
#include <unistd.h>

#ifndef BLKGETDISKSEQ /* since Linux 5.15 */
#define BLKGETDISKSEQ _IOR(0x12, 128, __u64)
#endif

enum { LONGEST = 4096, ALIGNED = 4096, BOUNCE = 1 << 20 };

/* ---- the kernel's texts ---- */

/* Only below /sys and /proc. */
static int kernel_path(const char *name, char out[LONGEST]) {
    size_t n = strcspn(name, "/");
    bool known =
        (n == 3 && strncmp(name, "sys", n) == 0) || (n == 4 && strncmp(name, "proc", n) == 0);
    if (!known || strstr(name, "/../"))
        return EINVAL;
    return snprintf(out, LONGEST, "/%s", name) < LONGEST ? 0 : ENAMETOOLONG;
}

static int read_text(const struct mos_computer *c, const char *name, char *to, size_t size,
                     size_t *got) {
    (void)c;
    char path[LONGEST];
    int e = kernel_path(name, path);
    int fd = e ? -1 : open(path, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (fd < 0)
        return e ? e : errno;
    size_t n = 0;
    while (!e && n < size) {
        ssize_t r = read(fd, to + n, size - n);
        if (r == 0)
            break;
        if (r > 0)
            n += (size_t)r;
        else if (errno != EINTR)
            e = errno;
    }
    close(fd);
    if (!e)
        *got = n;
    return e;
}

static int list_names(const struct mos_computer *c, const char *name,
                      bool (*each)(void *self, const char *name), void *self) {
    (void)c;
    char path[LONGEST];
    int e = kernel_path(name, path);
    DIR *d = e ? NULL : opendir(path);
    if (!d)
        return e ? e : errno;
    struct dirent *entry;
    bool more = true;
    while (more && (entry = readdir(d)))
        if (strcmp(entry->d_name, ".") != 0 && strcmp(entry->d_name, "..") != 0)
            more = each(self, entry->d_name);
    closedir(d);
    return 0;
}

static int read_its_link(const struct mos_computer *c, const char *name, char *to, size_t size) {
    (void)c;
    char path[LONGEST];
    int e = kernel_path(name, path);
    ssize_t n = e ? -1 : readlink(path, to, size - 1);
    if (n < 0)
        return e ? e : errno;
    to[n] = 0;
    return 0;
}

static uint64_t number_of(dev_t device) {
    return mos_block_number(major(device), minor(device));
}

static int device_of(const struct mos_computer *c, const char *path, bool *is_device,
                     uint64_t *number) {
    (void)c;
    struct stat st;
    if (stat(path, &st))
        return errno;
    *is_device = S_ISBLK(st.st_mode);
    *number = number_of(*is_device ? st.st_rdev : st.st_dev);
    return 0;
}

/* ---- devices ---- */

/* Devices that may be asked for from the system's storage service. */
static char asked[16][64];

static bool may_ask(const char *path) {
    for (size_t i = 0; i < sizeof asked / sizeof *asked; i++)
        if (strcmp(asked[i], path) == 0)
            return true;
    return false;
}

/* The service's descriptor; it has the caller's flags, or is not taken. */
static int open_by_service(const char *path, int flags, int *fd) {
    int e = mos_service_open(path, (flags & O_ACCMODE) == O_RDWR, fd), has;
    if (e)
        return e == ENOSYS || e == ENODEV ? EACCES : e;
    has = fcntl(*fd, F_GETFL);
    if (has < 0 || (has & O_ACCMODE) != (flags & O_ACCMODE) ||
        fcntl(*fd, F_SETFL, has | (flags & O_DIRECT))) {
        close(*fd);
        return EACCES;
    }
    return 0;
}

static int open_block(const char *path, int flags, int *device) {
    struct stat st;
    if (stat(path, &st))
        return errno;
    if (!S_ISBLK(st.st_mode)) /* never opened: a pipe would wait, a character device act */
        return ENOTBLK;
    int fd = open(path, flags | O_CLOEXEC | O_NONBLOCK), error = fd < 0 ? errno : 0;
    if (error == EACCES && may_ask(path))
        error = open_by_service(path, flags, &fd);
    if (error)
        return error;
    struct stat now;
    int e = fstat(fd, &now) ? errno : !S_ISBLK(now.st_mode) ? ENOTBLK : 0;
    e = e ? e : now.st_rdev != st.st_rdev ? ENXIO : 0;
    if (e)
        close(fd);
    else
        *device = fd;
    return e;
}

static int open_to_look(const struct mos_computer *c, const char *path, int *device) {
    (void)c;
    return open_block(path, O_RDONLY, device);
}

static int open_to_write(const struct mos_computer *c, const char *path, int *device) {
    (void)c;
    int fd;
    int e = open_block(path, O_RDWR | O_EXCL | O_DIRECT, &fd);
    if (e)
        return e;
    if (flock(fd, LOCK_EX | LOCK_NB)) {
        e = errno == EWOULDBLOCK ? EBUSY : errno;
        close(fd);
        return e;
    }
    *device = fd;
    return 0;
}

static int ask_for(const struct mos_computer *c, const char *path) {
    int device;
    (void)c;
    char *place = NULL;
    for (size_t i = 0; i < sizeof asked / sizeof *asked && !may_ask(path); i++)
        if (!*asked[i] && strlen(path) < sizeof asked[i])
            place = memcpy(asked[i], path, strlen(path) + 1);
    int e = open_block(path, O_RDONLY, &device);
    if (!e)
        close(device);
    else if (place)
        *place = 0; /* it said no: it is not asked once more */
    return e;
}

static void close_device(const struct mos_computer *c, int device) {
    (void)c;
    close(device);
}

static int device_info(const struct mos_computer *c, int device, struct mos_device_info *out) {
    (void)c;
    struct stat st;
    uint64_t size, sequence;
    int sector, read_only;
    if (fstat(device, &st) || ioctl(device, BLKGETSIZE64, &size) ||
        ioctl(device, BLKSSZGET, &sector) || ioctl(device, BLKROGET, &read_only))
        return errno;
    *out = (struct mos_device_info){.size = size,
                                    .sector = (uint32_t)sector,
                                    .number = number_of(st.st_rdev),
                                    .read_only = read_only != 0};
    if (ioctl(device, BLKGETDISKSEQ, &sequence) == 0)
        out->sequence = sequence;
    return 0;
}

/* One transfer; the bytes lie where the device can take them. */
static int move_aligned(int device, void *bytes, size_t length, uint64_t offset, bool writing) {
    for (size_t n = 0; n < length;) {
        ssize_t r = writing ? pwrite(device, (char *)bytes + n, length - n, (off_t)(offset + n))
                            : pread(device, (char *)bytes + n, length - n, (off_t)(offset + n));
        if (r < 0 && errno == EINTR)
            continue;
        if (r <= 0)
            return r ? errno : writing ? ENOSPC : EIO;
        n += (size_t)r;
    }
    return 0;
}

static int move(int device, void *bytes, size_t length, uint64_t offset, bool writing) {
    if ((uintptr_t)bytes % ALIGNED == 0)
        return move_aligned(device, bytes, length, offset, writing);
    size_t room = length < BOUNCE ? (length + ALIGNED - 1) / ALIGNED * ALIGNED : BOUNCE;
    char *bounce = aligned_alloc(ALIGNED, room ? room : ALIGNED);
    int e = bounce ? 0 : ENOMEM;
    for (size_t n, at = 0; !e && at < length; at += n) {
        n = length - at < BOUNCE ? length - at : BOUNCE;
        if (writing)
            memcpy(bounce, (char *)bytes + at, n);
        e = move_aligned(device, bounce, n, offset + at, writing);
        if (!writing && !e)
            memcpy((char *)bytes + at, bounce, n);
    }
    free(bounce);
    return e;
}

static int read_device(const struct mos_computer *c, int device, void *to, size_t length,
                       uint64_t offset) {
    (void)c;
    return move(device, to, length, offset, false);
}

static int write_device(const struct mos_computer *c, int device, const void *from, size_t length,
                        uint64_t offset) {
    (void)c;
    return move(device, (void *)(uintptr_t)from, length, offset, true);
}

static int flush(const struct mos_computer *c, int device) {
    (void)c;
    return fsync(device) ? errno : 0;
}

static int read_table(const struct mos_computer *c, int device) {
    (void)c;
    return ioctl(device, BLKRRPART) ? errno : 0;
}

static bool wait_a_moment(const struct mos_computer *c) {
    (void)c;
    const struct timespec moment = {0, 250 * 1000 * 1000};
    return nanosleep(&moment, NULL) == 0; /* a signal ends it */
}

static int unmount(const struct mos_computer *c, const char *path) {
    (void)c;
    return umount2(path, UMOUNT_NOFOLLOW) ? errno : 0;
}

const struct mos_computer mos_platform_computer = {
    .text = read_text,
    .names = list_names,
    .link = read_its_link,
    .device_of = device_of,
    .open_to_look = open_to_look,
    .open_to_write = open_to_write,
    .ask_for = ask_for,
    .close = close_device,
    .info = device_info,
    .read = read_device,
    .write = write_device,
    .flush = flush,
    .read_table = read_table,
    .wait = wait_a_moment,
    .unmount = unmount,
};
