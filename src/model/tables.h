/* How the tables of keys are written, for the files that have such tables. */
#ifndef MOS_MODEL_TABLES_H
#define MOS_MODEL_TABLES_H

#include "model/schema.h"

/* A record's keys; `linkage`: static, or nothing where another file refers to it. */
#define KEYS_AS(linkage, short_form, symbol, what, type, ...)                                      \
    static const struct mos_key symbol##_rows[] = {__VA_ARGS__};                                   \
    linkage const struct mos_keys symbol = {.title = what,                                         \
                                            .size = sizeof(type),                                  \
                                            .keys = symbol##_rows,                                 \
                                            .count = sizeof symbol##_rows / sizeof *symbol##_rows, \
                                            .brief = short_form}
#define KEYS(symbol, what, type, ...) KEYS_AS(static, NULL, symbol, what, type, __VA_ARGS__)
#define KEYS_BRIEF(symbol, what, type, short_form, ...)                                            \
    KEYS_AS(static, short_form, symbol, what, type, __VA_ARGS__)
#define FILE_KEYS(symbol, what, type, ...) KEYS_AS(, NULL, symbol, what, type, __VA_ARGS__)
#define FORMAT(T)                                                                                  \
    { "mosaicum", MOS_TYPE_VERSION, AT(T, mosaicum), "format of this file, 1", .required = true }
#define AT(type, member) offsetof(type, member)

/* tables-beside.c: what is done with a board beside it. */
extern const struct mos_keys mos_programming_keys, mos_landmark_keys, mos_acceptance_keys,
    mos_serve_keys;

#endif
