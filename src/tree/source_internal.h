/* Shared by lex.c, expression.c, preprocess.c and source.c only. */
#ifndef MOS_TREE_SOURCE_INTERNAL_H
#define MOS_TREE_SOURCE_INTERNAL_H

#include "base/map.h"
#include "tree/tree.h"

enum { MOS_DTS_LIMIT = 64 << 20, MOS_DTS_DEPTH = 64, MOS_DTS_INCLUDES = 64 };

/* Where a line of preprocessed text came from. */
struct mos_dts_marker {
    unsigned text_line;              /* the first line that it is about */
    const struct mos_source *source; /* NULL: made by the preprocessor */
    unsigned line;
};

/* One text being read; included files form a stack. */
struct mos_dts_text {
    const struct mos_source *source;
    struct mos_vec markers; /* of struct mos_dts_marker; empty unless preprocessed */
    size_t at;
    struct mos_dts_text *outer;
};

struct mos_dts {
    struct mos_ctx *ctx;
    struct mos_dt *dt;
    struct mos_dts_text *text;
    const char *root; /* the workspace; NULL: no files */
    const char *const *folders;
    size_t folder_count;
    unsigned includes, depth, fragments;
    bool failed;
};

/* lex.c */
struct mos_place mos_dts_place(const struct mos_dts *d, size_t offset, size_t length);
/* Reports the first syntax error (later ones are consequences); returns false. */
bool mos_dts_fail(struct mos_dts *d, size_t offset, size_t length, const char *remedy,
                  const char *format, ...) __attribute__((format(printf, 5, 6)));
void mos_dts_skip(struct mos_dts *d); /* blanks, comments, line markers, ends of includes */
int mos_dts_peek(struct mos_dts *d);  /* the next character after blanks, or -1 at the end */
bool mos_dts_accept(struct mos_dts *d, const char *sign);
bool mos_dts_expect(struct mos_dts *d, const char *sign, const char *after);
/* A name of node, property or label characters; NULL when there is none. */
char *mos_dts_name(struct mos_dts *d);
char *mos_dts_label(struct mos_dts *d); /* "name:" is taken whole; NULL if it is not one */
bool mos_dts_string(struct mos_dts *d, struct mos_buf *out); /* the contents, escapes resolved */
bool mos_dts_number(struct mos_dts *d, uint64_t *value);     /* literal or character */
/* After '&': a label, or a path from &{/…}. */
const char *mos_dts_reference(struct mos_dts *d);

/* expression.c: a parenthesised expression or a literal */
bool mos_dts_cell_value(struct mos_dts *d, uint64_t *value);

/* includes.c: does everything that a source would pull in lie where it may be read?  false after a
 * finding. */
bool mos_dts_may_include(struct mos_dts *d, const struct mos_source *source);

/* preprocess.c: a name as seen from a folder, as a path below the workspace or a root ("<NAME>/…")
 * with its ".." taken out; NULL when it leaves that. */
const char *mos_dts_inside(struct mos_arena *arena, const char *folder, const char *name);
/* A relative path without "." and ".."; NULL: it leads out. */
const char *mos_dts_clean(struct mos_arena *arena, const char *path);
/* The file's text, run through the C preprocessor if it needs that */
struct mos_dts_text *mos_dts_open(struct mos_dts *d, const char *shown_path);
/* A file that is named at `at` of the text, in `length` bytes: its shown path; NULL after a
 * finding. */
const char *mos_dts_find_file(struct mos_dts *d, const char *name, size_t at, size_t length);

#endif
