#include "loaders/loaders.h"

#include <string.h>

#ifndef MOS_DIALECTS
#define MOS_DIALECTS "loaders/loaders.def" /* tests bring a list of their own */
#endif

#define MOS_DIALECT(variable) extern const struct mos_dialect variable;
#include MOS_DIALECTS
#undef MOS_DIALECT

static const struct mos_dialect *const dialects[] = {
#define MOS_DIALECT(variable) &variable,
#include MOS_DIALECTS
#undef MOS_DIALECT
};

const struct mos_dialect *mos_dialect_at(size_t index) {
    return index < sizeof dialects / sizeof *dialects ? dialects[index] : NULL;
}

const struct mos_dialect *mos_dialect_find(const char *name) {
    const struct mos_dialect *d;
    for (size_t i = 0; (d = mos_dialect_at(i)); i++)
        if (strcmp(d->name, name) == 0)
            return d;
    return NULL;
}

const char *mos_loaders_recognise(struct mos_arena *arena, const uint8_t *head, size_t length,
                                  const char **about) {
    const struct mos_dialect *d;
    const char *form = NULL;
    for (size_t i = 0; !form && (d = mos_dialect_at(i)); i++)
        form = d->recognise ? d->recognise(arena, head, length, about) : NULL;
    return form;
}

const struct mos_dialect *mos_loaders_read_stored(struct mos_arena *arena, const uint8_t *data,
                                                  size_t length, struct mos_map *out,
                                                  bool *flag_byte) {
    const struct mos_dialect *d;
    for (size_t i = 0; (d = mos_dialect_at(i)); i++)
        if (d->stored && d->stored->read(arena, data, length, out, flag_byte))
            return d;
    return NULL;
}

const struct mos_dialect *mos_loaders_find_compiled(struct mos_arena *arena, const uint8_t *binary,
                                                    size_t length, struct mos_map *out) {
    const struct mos_dialect *d;
    for (size_t i = 0; (d = mos_dialect_at(i)); i++)
        if (d->stored && d->stored->find(arena, binary, length, out))
            return d;
    return NULL;
}
