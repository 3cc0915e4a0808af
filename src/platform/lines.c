/* Serial lines: terminal devices at any speed that they can have, as the kernel's own interface
 * sets it (the C library knows only some). */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <asm/termbits.h>
#include <errno.h>
#include <fcntl.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#ifndef TIOCEXCL /* the headers of the two interfaces cannot be read together */
#define TIOCEXCL 0x540C
#endif

enum { BREAK_MS = 250, MS_NS = 1000000 };

static bool may(unsigned speed) {
    return speed >= 50 && speed <= 16000000;
}

/* Bytes as they are; opening and closing leave the control lines alone. */
static int set_up(int fd, const struct mos_line_settings *s) {
    struct termios2 t;
    if (!may(s->speed))
        return EINVAL;
    if (ioctl(fd, TCGETS2, &t))
        return errno;
    t.c_iflag = IGNPAR;
    t.c_oflag = 0;
    t.c_lflag = 0;
    t.c_cflag = CLOCAL | CREAD | BOTHER | (s->data == 7 ? CS7 : CS8) | (s->stop == 2 ? CSTOPB : 0) |
                (s->parity == 'E'   ? PARENB
                 : s->parity == 'O' ? PARENB | PARODD
                                    : 0);
    t.c_ispeed = t.c_ospeed = s->speed;
    t.c_cc[VMIN] = 1;
    t.c_cc[VTIME] = 0;
    if (ioctl(fd, TCSETS2, &t))
        return errno;
    /* what the device could not do, it has not taken */
    if (ioctl(fd, TCGETS2, &t))
        return errno;
    unsigned off = t.c_ospeed > s->speed ? t.c_ospeed - s->speed : s->speed - t.c_ospeed;
    return off > s->speed / 20 ? EINVAL : 0;
}

static int set_control(int fd, int bit, int on) {
    return on < 0 || ioctl(fd, on ? TIOCMBIS : TIOCMBIC, &bit) == 0 ? 0 : errno;
}

int mos_line_open(const char *path, unsigned speed, int *wire) {
    const struct mos_line_settings usual = {speed, 8, 1, 'N', -1, -1};
    struct stat st;
    if (stat(path, &st))
        return errno;
    if (!S_ISCHR(st.st_mode))
        return ENOTTY;
    int fd = open(path, O_RDWR | O_NOCTTY | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0)
        return errno;
    int e = !isatty(fd) ? ENOTTY : flock(fd, LOCK_EX | LOCK_NB) ? EBUSY : set_up(fd, &usual);
    if (e)
        close(fd);
    else {
        ioctl(fd, TIOCEXCL); /* nobody else opens it from now on, where the kernel knows that */
        *wire = fd;
    }
    return e;
}

int mos_line_set(const struct mos_wires *w, int wire, const struct mos_line_settings *s) {
    (void)w;
    if (!isatty(wire))
        return 0;
    int e = set_up(wire, s);
    e = e ? e : set_control(wire, TIOCM_DTR, s->dtr);
    e = e ? e : set_control(wire, TIOCM_RTS, s->rts);
    return e;
}

int mos_line_break(const struct mos_wires *w, int wire) {
    (void)w;
    struct timespec quarter = {0, BREAK_MS * MS_NS};
    if (ioctl(wire, TIOCSBRK))
        return errno;
    nanosleep(&quarter, NULL);
    return ioctl(wire, TIOCCBRK) ? errno : 0;
}
