/* Shared by lex.c, cpp-file.c and source.c only. */
#ifndef MOS_TREE_SOURCE_INTERNAL_H
#define MOS_TREE_SOURCE_INTERNAL_H

#include "tree/cpp.h"
#include "tree/tree.h"

enum { MOS_DTS_LIMIT = 64 << 20, MOS_DTS_DEPTH = 64 };

/* A source being read. */
struct mos_dts {
    struct mos_ctx *ctx;
    struct mos_dt *dt;
    struct mos_cpp *cpp;
    struct mos_cpp_seen token, last; /* the one at hand, and the one that was taken before */
    bool have;                       /* there is one at hand */
    unsigned depth, fragments;
    uint32_t bodies;        /* pairs of braces so far */
    struct mos_vec doubles; /* of struct mos_cpp_seen: labels that another node has, too */
    struct mos_buf bytes;   /* of the value that is read */
};

/* lex.c */

/* The token at hand, names of the tree language whole; never NULL. */
static inline const struct mos_cpp_seen *mos_dts_here(struct mos_dts *d) {
    if (!d->have)
        mos_cpp_next(d->cpp, &d->token, true);
    d->have = true;
    return &d->token;
}
/* The same with such a name taken apart into C's tokens. */
const struct mos_cpp_seen *mos_dts_part(struct mos_dts *d);
void mos_dts_take(struct mos_dts *d);
static inline bool mos_dts_at_end(struct mos_dts *d) {
    return mos_dts_here(d)->t.kind == MOS_CPP_END;
}
/* Reports the first syntax error (later ones are consequences) at the token at hand, or at another;
 * returns false. */
bool mos_dts_fail(struct mos_dts *d, const char *remedy, const char *format, ...)
    __attribute__((format(printf, 3, 4)));
bool mos_dts_fail_at(struct mos_dts *d, const struct mos_cpp_seen *at, const char *remedy,
                     const char *format, ...) __attribute__((format(printf, 4, 5)));
/* A sign such as ";", which a longer one may begin with. */
bool mos_dts_take_sign(struct mos_dts *d, char sign);
static inline bool mos_dts_accept(struct mos_dts *d, char sign) {
    return *mos_dts_here(d)->t.text == sign && mos_dts_take_sign(d, sign);
}
bool mos_dts_expect(struct mos_dts *d, char sign, const char *after);
/* "/name/" */
bool mos_dts_take_keyword(struct mos_dts *d, const char *keyword);
static inline bool mos_dts_keyword(struct mos_dts *d, const char *keyword) {
    return *mos_dts_here(d)->t.text == '/' && mos_dts_take_keyword(d, keyword);
}
/* A name of node or property characters, and where it stands; NULL when there is none. */
const char *mos_dts_name(struct mos_dts *d, struct mos_cpp_seen *at);
const char *mos_dts_label(struct mos_dts *d); /* "name:" is taken whole; NULL if it is not one */
bool mos_dts_string(struct mos_dts *d, struct mos_buf *out); /* the contents, escapes resolved */
/* A literal, a character or a parenthesised expression. */
bool mos_dts_cell_value(struct mos_dts *d, uint64_t *value);
/* After '&', which is `at`: a label, or a path from &{/…}.  `at` comes to span it. */
const char *mos_dts_reference(struct mos_dts *d, struct mos_cpp_seen *at);
static inline struct mos_place mos_dts_place(struct mos_dts *d, const struct mos_cpp_seen *at) {
    return mos_cpp_place(d->cpp, at);
}

#endif
