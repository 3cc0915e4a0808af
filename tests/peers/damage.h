/* Boards that start from what we built, with one thing damaged. */
#ifndef MOS_PEERS_DAMAGE_H
#define MOS_PEERS_DAMAGE_H

#include "peers.h"

/* An emulated machine, how its loader is made to look at the disk, and the same told to a
 * rehearsal. */
struct damaged_machine {
    const char *cpu, *device, *typed, *tree, *loader, *facts;
};
enum { DAMAGED_ARM64, DAMAGED_ARM, DAMAGED_RISCV };
extern const struct damaged_machine damaged_machines[];

struct damaged_board {
    const char *via;
    const char *files[3]; /* of its boot volume */
    int machine;          /* of damaged_machines */
    const char *board, *image;
};
enum { DAMAGED_BOARDS = 6, DAMAGED_IN_FLASH = 3 };
extern const struct damaged_board damaged_boards[];
/* Builds one into a new folder, below out/. */
void damaged_board_make(size_t b, const char *w);

struct damage {
    uint64_t seed;
    const char *image, *folder; /* of this case */
    int machine;
    const char *flash; /* NULL: its loader has no variables of ours */
    char what[200];
};
/* A file of its boot volume out of the image, malloc'ed, and another one in its place. */
char *damage_take(struct damage *d, const char *file, size_t *length);
void damage_put(struct damage *d, const char *file, const void *bytes, size_t length);
/* One text for another in its boot script, once; without `waits`, rootwait goes, too. */
void damage_script(struct damage *d, const char *from, const char *to, bool waits);
/* A whole copy of what was built of board `b` in `w`, to be damaged. */
void damage_begin(struct damage *d, size_t b, const char *w);
/* Damages the image of board `b` in one way; d->what tells how. */
void damage_something(struct damage *d, size_t b);

/* listened.c: what listen made of a board on a port of ours, whose log goes to a new file. */
struct heard {
    char end[16], stage[40], symptom[60];
};
void listen_hear(const char *w, const char *board, unsigned port, const char *log,
                 struct heard *out);
/* Is a word one of a list with blanks between? */
bool listen_among(const char *list, const char *word);

#endif
