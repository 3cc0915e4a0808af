/* What the drivers inside of a kernel answer to, as an expanded image has it in its memory: struct
 * of_device_id and struct amba_id (include/linux/mod_devicetable.h). */
#ifndef MOS_LINUX_MATCH_H
#define MOS_LINUX_MATCH_H

#include "base/buf.h"

struct mos_match {
    struct mos_vec tables; /* of const char *, sorted: compatible texts of match tables */
    struct mos_vec named;  /* … that stand in its code only: somebody may ask for them */
    struct mos_vec parts;  /* of struct mos_match_part: peripherals that are found by number */
};
struct mos_match_part {
    uint32_t id, mask;
};

/* Looks through an expanded image; wide: its pointers have 64 bits.  Texts live in the arena. */
void mos_match_find(struct mos_arena *arena, const uint8_t *bytes, size_t length, bool wide,
                    struct mos_match *out);
/* The same of tables alone, as a module has them, too: sorted, each text once. */
void mos_match_tables(struct mos_arena *arena, const uint8_t *bytes, size_t length, bool wide,
                      struct mos_vec *out);
/* Does a table have this compatible text?  named: or at least the code? */
bool mos_match_has(const struct mos_match *m, const char *compatible, bool named);
/* Does a driver take a peripheral with that number? */
bool mos_match_has_part(const struct mos_match *m, uint32_t id);

/* As lines, and back: "t…", "n…" with a text, "pID MASK". */
void mos_match_write(const struct mos_match *m, struct mos_buf *out);
bool mos_match_read(struct mos_arena *arena, const char *text, struct mos_match *out);

#endif
