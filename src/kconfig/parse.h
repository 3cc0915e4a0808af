/* Reading Kconfig files: what scan.c, parse.c and link.c share. */
#ifndef MOS_KCONFIG_PARSE_H
#define MOS_KCONFIG_PARSE_H

#include "kconfig/kconfig.h"
#include "kconfig/macro.h"

enum kc_token_kind {
    KC_END, /* of the line */
    KC_WORD,
    KC_STRING,
    KC_SIGN, /* "&&", "=", "(" … */
};

struct kc_token {
    enum kc_token_kind kind;
    const char *text; /* macros expanded */
    size_t offset, length;
};

/* One file while it is read. */
struct kc_file {
    const struct kc_file *above; /* that names it */
    const struct mos_source *source;
    const char *path;
    size_t at;       /* of the text */
    unsigned blocks; /* that were opened in it */
};

struct kc_parser {
    struct mos_ctx *ctx;
    struct mos_arena *arena;
    const struct mos_kc_reading *reading;
    struct mos_kc_tree *tree;
    struct mos_kc_macros macros;
    struct kc_file *file;
    struct kc_token token; /* that is looked at */
    size_t line_at;        /* where its line begins */
    struct mos_kc_entry *parent, *entry;
    struct mos_map sources; /* path -> struct mos_source *: read once for all passes */
    unsigned depth;
};

/* ---- scan.c ---- */

/* Goes to the first token of the next line that has one; false: the file has ended, or ctx->error.
 */
bool kc_next_line(struct kc_parser *p);
/* The next token of the line; false with ctx->error. */
bool kc_next(struct kc_parser *p);
/* NAME = VALUE: the rest of the line, which was looked at up to its first word. */
bool kc_is_assignment(struct kc_parser *p, char *op, const char **value);
/* The help text that stands below the line. */
const char *kc_help(struct kc_parser *p);
/* ctx->error about the token that is looked at; false. */
bool kc_wrong(struct kc_parser *p, const char *format, ...) __attribute__((format(printf, 2, 3)));
struct mos_place kc_place(const struct kc_parser *p); /* of the token that is looked at */

/* ---- parse.c ---- */

/* The symbol of that name, a new one if there is none; quoted: a constant. */
struct mos_kc_symbol *kc_symbol(struct mos_kc_tree *tree, const char *name, bool quoted);
const struct mos_kc_expr *kc_expr_symbol(struct mos_kc_tree *tree, struct mos_kc_symbol *symbol);
/* NULL is what always holds. */
const struct mos_kc_expr *kc_and(struct mos_kc_tree *tree, const struct mos_kc_expr *a,
                                 const struct mos_kc_expr *b);
const struct mos_kc_expr *kc_expr(struct mos_kc_tree *tree, enum mos_kc_op op,
                                  const struct mos_kc_expr *a, const struct mos_kc_expr *b);
/* A row of operands, halved: a long row is no deep one. */
const struct mos_kc_expr *kc_row(struct mos_kc_tree *tree, enum mos_kc_op op,
                                 const struct mos_vec *row, size_t from, size_t count);
bool kc_parse(struct kc_parser *p); /* all files; false with ctx->error */

/* ---- link.c ---- */

/* Gives every entry and property its whole condition; false with ctx->error: symbols depend on
 * themselves. */
bool kc_link(struct mos_ctx *ctx, struct mos_kc_tree *tree);

#endif
