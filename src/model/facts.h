/* What follows from a board's definition alone.  Each such fact is worked out here and nowhere
 * else; what needs pieces, layout or programs is the plan's (plan/). */
#ifndef MOS_MODEL_FACTS_H
#define MOS_MODEL_FACTS_H

#include "model/model.h"

/* Does the board boot in that way?  Without `via` it is a script.  The board must have a `boot`. */
bool mos_board_is_via(const struct mos_board *board, enum mos_via via);
/* Does a stage start the kernel by itself, without a loader? */
bool mos_board_is_direct(const struct mos_board *board);
/* The stage at the end of the chain from the ROM; NULL: none is stated. */
const struct mos_stage *mos_board_last_stage(const struct mos_board *board);
/* The kernel's name of the serial port that is the console; NULL: none is stated, or there is none
 * (mos_board_is_mute). */
const char *mos_board_port(const struct mos_board *board);
/* The definition says that the board has no console. */
bool mos_board_is_mute(const struct mos_board *board);
/* The console as the kernel is told of it, "ttyAMA0,115200"; NULL: none. */
const char *mos_board_console(const struct mos_board *board, struct mos_arena *arena);
/* How the console's line is set up, before the kernel or from then on; 115200 bits a second and 8N1
 * where nothing is stated. */
struct mos_console_line {
    unsigned baud, data, stop;
    char parity; /* 'N', 'E' or 'O' */
};
struct mos_console_line mos_board_line(const struct mos_board *board, bool by_kernel);
/* The part of a RAM range that every board has, bytes; false: it is not (wholly) stated. */
bool mos_ram_least(const struct mos_ram *ram, uint64_t *start, uint64_t *length);
/* Some board has that much RAM in the range: less than is there does no harm. */
bool mos_ram_has(const struct mos_ram *ram, uint64_t length);
/* Is it the ROM that starts this stage? */
bool mos_stage_is_first(const struct mos_stage *stage);
/* The stage that the ROM starts; NULL: none is stated. */
const struct mos_stage *mos_board_first_stage(const struct mos_board *board);
/* Where the ROM looks for what a region holds, on the medium of that name; NULL: the region is not
 * for the ROM, or nobody says where it looks there. */
const struct mos_first_place *mos_board_first_place(const struct mos_board *board,
                                                    const struct mos_region *region,
                                                    const char *medium);

#endif
