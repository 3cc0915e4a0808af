/* The macro language of Kconfig files (Documentation/kbuild/kconfig-macro-language.rst). */
#ifndef MOS_KCONFIG_MACRO_H
#define MOS_KCONFIG_MACRO_H

#include "kconfig/kconfig.h"
#include "kconfig/probe.h"

struct mos_kc_macros {
    struct mos_ctx *ctx;
    struct mos_arena *arena;
    const struct mos_map *vars; /* the environment: NAME -> const char * */
    struct mos_map own;         /* NAME -> struct mos_kc_variable * */
    struct mos_kc_probes *probes;
    struct mos_map *used;    /* those of `vars` that were named */
    struct mos_vec *answers; /* of const char *: results of probes */
    struct mos_vec *said;    /* of const char * */
    struct mos_place place;  /* that is being read: for $(lineno) and errors */
    const char *path;        /* of the file, from the tree: $(filename) */
    size_t grown;            /* bytes that came out of macros so far */
    unsigned depth;
};

/* NAME OP VALUE at a line's beginning; op: ':' for :=, '=' or '+'. */
bool mos_kc_assign(struct mos_kc_macros *m, const char *name, char op, const char *value);
/* Adds a text with its references expanded; false with ctx->error. */
bool mos_kc_expand(struct mos_kc_macros *m, const char *text, size_t length, struct mos_buf *out);
/* The same for the reference that begins at `at` ("$("); *end: behind its parenthesis. */
bool mos_kc_expand_one(struct mos_kc_macros *m, const char *at, const char *limit, const char **end,
                       struct mos_buf *out);
/* ctx->error: what is wrong at m->place; false. */
bool mos_kc_wrong(struct mos_ctx *ctx, struct mos_place place, const char *format, ...)
    __attribute__((format(printf, 3, 4)));

#endif
