/* The dialects that there are: one folder each below loaders/, one row each in loaders.def. */
#ifndef MOS_LOADERS_LOADERS_H
#define MOS_LOADERS_LOADERS_H

#include "boot/dialect.h"

/* Of a stage that starts the kernel by itself: no definition names it, and it is in no list. */
extern const struct mos_dialect mos_dialect_stage;
/* NULL: not known. */
const struct mos_dialect *mos_dialect_find(const char *name);
/* In the order of the rows; NULL: there are no more.  The first is what an image is taken for whose
 * loader nobody has named. */
const struct mos_dialect *mos_dialect_at(size_t index);
/* A file of some loader's own making; see struct mos_dialect. */
const char *mos_loaders_recognise(struct mos_arena *arena, const uint8_t *head, size_t length,
                                  const char **about);

/* The dialect in whose form a block of variables is stored; NULL: it is none, or damaged. */
const struct mos_dialect *mos_loaders_read_stored(struct mos_arena *arena, const uint8_t *data,
                                                  size_t length, struct mos_map *out,
                                                  bool *flag_byte);
/* … and whose loader has these variables compiled into it; NULL: no loader that is known. */
const struct mos_dialect *mos_loaders_find_compiled(struct mos_arena *arena, const uint8_t *binary,
                                                    size_t length, struct mos_map *out);

#endif
