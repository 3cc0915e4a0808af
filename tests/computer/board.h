/* A board that is made up: a loader at a prompt over a serial line, storage that it writes by its
 * commands, and a network card that asks for files; on a clock of its own.  It answers as real
 * loaders do (their texts were taken down from some), and fails where it is told to. */
#ifndef MOS_TESTS_BOARD_H
#define MOS_TESTS_BOARD_H

#include "mosaicum/host.h"

enum { BOARD_RAM = 4 << 20 };
#define BOARD_RAM_AT UINT64_C(0x40000000)

struct board_fault {
    uint64_t line_loses, line_flips; /* one character in so many that comes to the board; 0: none */
    uint64_t answers_flip;           /* one character in so many of what it says at its prompt */
    uint64_t net_loses, net_doubles; /* one datagram in so many */
    uint64_t dies_after;             /* commands: then it is silent; 0: never */
    uint64_t resets_after;           /* commands: then it starts anew, its RAM is lost */
    uint64_t line_goes_after;        /* commands: then the line is gone */
    bool write_fails;                /* … at `at`: the command says so */
    bool write_lies;                 /* … the command says that all is well */
    bool bits_flip;                  /* what is written at `at` comes back otherwise */
    bool read_lies;                  /* reads of `at` do nothing, and say that all is well */
    uint64_t wraps;                  /* storage begins anew there; 0: never */
    uint64_t at;
    bool mute;          /* no loader is there at all */
    const char *lacks;  /* a command that it has not */
    const char *no_net; /* every file is refused with these words */
};

struct board_made;

/* kind "mmc", "virtio" or "sf"; `name` is what the part says of itself. */
struct board_made *board_new(const char *kind, const char *name, uint64_t size);
void board_free(struct board_made *b);
void board_fails(struct board_made *b, struct board_fault fault); /* from now on */
/* It gets power: its countdown runs, what was in RAM is lost. */
void board_power(struct board_made *b);
uint8_t *board_storage(struct board_made *b);
unsigned long board_commands(const struct board_made *b); /* that were entered so far */
unsigned long board_written(const struct board_made *b);  /* bytes of storage, so far */
/* Moves to or from whatever device is the current one of a loader that has just started. */
unsigned long board_strays(const struct board_made *b);
const char *board_typed(const struct board_made *b);      /* all of them, a line each */
/* The host, with its wires and its clock. */
void board_host(struct board_made *b, struct mos_host *host);

#endif
