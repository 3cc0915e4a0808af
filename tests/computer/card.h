/* A small card image with its ledger, for tests that write it: four raw regions (of the build, the
 * device and the factory; a ROM starts the first) and two partitions. */
#ifndef MOS_TESTS_CARD_H
#define MOS_TESTS_CARD_H

#include "disk/table.h"
#include "support.h"

enum { KIB = 1 << 10, MIB = 1 << 20, CARD_SIZE = 4 * MIB };

struct card_part {
    const char *name, *owner;
    unsigned number;
    uint64_t at, length, data; /* bytes of data at its start; then CARD_ZERO that must be zero */
    bool grows, starts;
};
enum { CARD_FIRST, CARD_LOADER, CARD_ENV, CARD_SERIAL, CARD_BOOT, CARD_ROOT, CARD_PARTS };
enum { CARD_ZERO = 32 * KIB };
extern const struct card_part card_parts[CARD_PARTS];

/* Its table on a medium of `size`. */
struct mos_table_data card_table(struct core *c, uint64_t size);
/* Its bytes; `seed` makes another build of it.  image: CARD_SIZE bytes. */
void card_fill(struct core *c, uint8_t *image, uint64_t seed);
/* Puts a block of CARD_BLOCK bytes of variables where its environment lies; card_put() says then which
 * of them each unit has of its own. */
enum { CARD_BLOCK = 16 * KIB };
void card_put_variables(struct core *c, uint8_t *image);
/* Puts a FAT volume with a file, tide.txt, where its boot region lies; edit: the path of a younger
 * one in it, or NULL.  bytes: of an image, or a device that carries one. */
void card_put_volume(struct core *c, uint8_t *bytes, const char *edit);
/* Writes card.img and ledger.json into a folder; stamp: which build it is. */
void card_put(struct core *c, const uint8_t *image, const char *folder, const char *stamp);

#endif
