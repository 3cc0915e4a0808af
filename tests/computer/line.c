/* The made-up board of board.h on a terminal device of this computer: what a serial gadget, or one
 * end of a pseudo-terminal, is for.
 *   line TERMINAL FOLDER    gives it power, until there is FOLDER/stop
 * Leaves FOLDER/storage: what the board's storage holds then. */
#include "computer/board.h"

#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

enum { SIZE = 8 << 20, LINE = 1 };

static int64_t now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec * INT64_C(1000000000) + t.tv_nsec;
}

static int open_raw(const char *path) {
    struct termios t;
    int tty = open(path, O_RDWR | O_NOCTTY | O_NONBLOCK);
    if (tty < 0 || tcgetattr(tty, &t))
        return -1;
    t.c_iflag = t.c_oflag = t.c_lflag = 0;
    t.c_cflag = CS8 | CREAD | CLOCAL;
    tcsetattr(tty, TCSANOW, &t);
    return tty;
}

/* What the board says goes out as the line takes it; nothing of it is kept for later. */
static void put(int tty, const char *bytes, size_t length) {
    for (int tries = 0; length && tries < 200; tries++) {
        ssize_t n = write(tty, bytes, length);
        struct pollfd room = {tty, POLLOUT, 0};
        if (n > 0) {
            bytes += n;
            length -= (size_t)n;
        } else if (poll(&room, 1, 100) < 0) {
            return;
        }
    }
}

int main(int argc, char **argv) {
    static char bytes[4096];
    char path[300];
    struct mos_host host = {0};
    struct board_made *b = board_new("mmc", "QEMU!", SIZE);
    int tty = argc == 3 ? open_raw(argv[1]) : -1;
    if (tty < 0)
        return 2;
    board_host(b, &host);
    const struct mos_wires *w = host.wires;
    snprintf(path, sizeof path, "%s/stop", argv[2]);
    board_power(b);
    for (int64_t last = now(); access(path, F_OK) != 0;) {
        struct pollfd in = {tty, POLLIN, 0};
        size_t got = 0;
        unsigned ready;
        int wire = LINE;
        poll(&in, 1, 5);
        ssize_t n = read(tty, bytes, sizeof bytes);
        if (n > 0)
            w->write(w, LINE, bytes, (size_t)n);
        int64_t passed = now() - last;
        last += passed;
        w->wait(w, &wire, 1, passed, &ready);
        while (!w->read(w, LINE, bytes, sizeof bytes, &got) && got)
            put(tty, bytes, got);
    }
    snprintf(path, sizeof path, "%s/storage", argv[2]);
    FILE *f = fopen(path, "wb");
    if (f) {
        fwrite(board_storage(b), 1, SIZE, f);
        fclose(f);
    }
    board_free(b);
    return f ? 0 : 1;
}
