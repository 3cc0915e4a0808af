/* The keyboard of whoever started the program, key by key. */
#define _GNU_SOURCE /* cfmakeraw */
#include "platform/platform.h"

#include <errno.h>
#include <stdlib.h>
#include <termios.h>
#include <unistd.h>

static struct termios before;
static volatile bool changed;

static void set_back(void) {
    if (changed)
        tcsetattr(0, TCSADRAIN, &before);
    changed = false;
}

int mos_keys_open(const struct mos_wires *w, int *wire) {
    static bool registered;
    (void)w;
    struct termios t;
    if (!isatty(0))
        return ENOTTY;
    if (tcgetattr(0, &before))
        return errno;
    t = before;
    cfmakeraw(&t);
    t.c_oflag = before.c_oflag; /* what is printed meanwhile has its line ends */
    t.c_cc[VMIN] = 1;
    t.c_cc[VTIME] = 0;
    if (!registered && atexit(set_back))
        return ENOMEM;
    registered = true;
    if (tcsetattr(0, TCSADRAIN, &t))
        return errno;
    changed = true;
    *wire = 0;
    return 0;
}

bool mos_keys_close(int wire) {
    if (wire == 0)
        set_back();
    return wire == 0;
}
