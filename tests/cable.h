/* A serial line between two terminals, or a terminal and something else. */
#ifndef MOS_TESTS_CABLE_H
#define MOS_TESTS_CABLE_H

#include <stddef.h>
#include <stdint.h>
#include <sys/types.h>

/* A terminal that passes bytes as they are, as a serial port does; `held` keeps it alive while
 * nobody has it open. */
struct cable_end {
    int board, held;
    char port[64];
};
void cable_end_open(struct cable_end *end);
void cable_end_close(struct cable_end *end);

/* Bytes both ways between two files, until one of them ends.  change (NULL: none) makes of `length`
 * bytes what arrives, in `out` (of twice as many), and tells how many. */
void cable_run(int a, int b, size_t (*change)(void *self, const char *in, size_t length, char *out),
               void *self);
/* The same in a process of its own, which does not outlive this one. */
pid_t cable_plug(int a, int b,
                 size_t (*change)(void *self, const char *in, size_t length, char *out),
                 void *self);
void cable_unplug(pid_t cable);
/* For them, a bad line: bytes as they come, but for one in so many, which is lost, doubled, another
 * one, or late. */
struct cable_noise {
    uint64_t seed, one_in;
};
size_t cable_noise(void *self, const char *in, size_t length, char *out);
/* A shell of this computer at a terminal of its own stands in for a board, at the other end of the
 * line; path: of its programs. */
pid_t cable_shell(int board, const char *path);

#endif
