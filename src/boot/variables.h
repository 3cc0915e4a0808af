/* A loader's variables with where each was set, and the text that people write them in. */
#ifndef MOS_BOOT_VARIABLES_H
#define MOS_BOOT_VARIABLES_H

#include "base/buf.h"
#include "base/ctx.h"
#include "base/map.h"

/* One variable.  Maps of them are by name: name -> const struct mos_loader_variable *. */
struct mos_loader_variable {
    const char *name, *value;
    struct mos_place place;
    const struct mos_loader_variable *replaced; /* what stood there before; NULL: nothing */
};

/* `name` and `value` stay the caller's and must live as long as the map. */
void mos_variables_set(struct mos_arena *arena, struct mos_map *map, const char *name,
                       const char *value, struct mos_place place);
/* Reads name=value lines (a # starts a comment line; a line that ends in \ goes on).  Lines
 * without a = are findings of board.schema, two different values of one name of
 * loader.env-doubled. */
void mos_variables_read_text(struct mos_ctx *ctx, const struct mos_source *source,
                             struct mos_map *into);

#endif
