/* The C preprocessor of tree sources: files read and split into tokens once, then any number of
 * passes over them (C11, section 6.10, as assembler sources are treated: what is no directive and
 * no macro passes through).  Shared by cpp-*.c and lex.c only. */
#ifndef MOS_TREE_CPP_H
#define MOS_TREE_CPP_H

#include "base/ctx.h"
#include "base/map.h"

#include <string.h>

enum mos_cpp_kind {
    MOS_CPP_END,
    MOS_CPP_NAME,      /* a C identifier */
    MOS_CPP_NUMBER,    /* a preprocessing number */
    MOS_CPP_STRING,    /* with its quotes, as a character is */
    MOS_CPP_CHARACTER, /* */
    MOS_CPP_SIGN,      /* a punctuator, or any other character */
    MOS_CPP_WORD,      /* a name of the tree language whose parts follow; none of them is a macro */
    MOS_CPP_DIRECTIVE, /* a line that begins with # and a directive's word */
    MOS_CPP_PARAMETER, /* in a macro's text */
};
enum mos_cpp_flag {
    MOS_CPP_SPACE = 1, /* white space stands before it */
    MOS_CPP_LABEL = 2, /* a colon follows at once */
    MOS_CPP_STRINGIFY = 4,
    MOS_CPP_PASTE = 8, /* ## follows, in a macro's text */
    MOS_CPP_KEEP = 16, /* not to be expanded any more */
    MOS_CPP_MADE = 32, /* its text stands in no file: pasted, or lines joined in it */
    MOS_CPP_REST = 64, /* a parameter that takes all further arguments */
};

struct mos_cpp_name {
    const char *text; /* NUL-terminated, one of each */
    uint32_t length, hash;
    const struct mos_cpp_macro *macro; /* good in pass `pass` only */
    uint32_t pass;
    uint8_t word;    /* a directive, enum mos_cpp_word; 0: none */
    uint8_t builtin; /* enum mos_cpp_builtin; 0: none */
    bool disabled;   /* it is being expanded */
};

struct mos_cpp_token {
    union {
        struct mos_cpp_name *name;                 /* NAME and WORD */
        const struct mos_cpp_directive *directive; /* DIRECTIVE */
    };
    const char *text;
    uint32_t length;
    uint8_t kind, flags;
    uint16_t parameter; /* its index */
};

struct mos_cpp_file;
struct mos_cpp_macro {
    struct mos_cpp_name *name;
    const struct mos_cpp_file *file; /* NULL: from the command line */
    const char *at;                  /* its name there */
    const struct mos_cpp_token *body;
    uint32_t count;
    uint16_t parameters;
    bool like_function, rest; /* the last parameter takes all further arguments */
    bool pastes;              /* it has a # or ## */
};

enum mos_cpp_word {
    MOS_CPP_DEFINE = 1,
    MOS_CPP_UNDEF,
    MOS_CPP_INCLUDE,
    MOS_CPP_INCLUDE_NEXT,
    MOS_CPP_IF,
    MOS_CPP_IFDEF,
    MOS_CPP_IFNDEF,
    MOS_CPP_ELIF,
    MOS_CPP_ELSE,
    MOS_CPP_ENDIF,
    MOS_CPP_ERROR,
    MOS_CPP_WARNING,
    MOS_CPP_LINE,
    MOS_CPP_PRAGMA,
    MOS_CPP_OTHER_WORD, /* one that means nothing in a tree source */
};
enum mos_cpp_builtin {
    MOS_CPP_FILE = 1,
    MOS_CPP_LINE_NUMBER,
    MOS_CPP_BASE_FILE,
    MOS_CPP_INCLUDE_LEVEL,
    MOS_CPP_COUNTER,
    MOS_CPP_CLOCK, /* __DATE__ and the like: refused */
    MOS_CPP_HAS_INCLUDE,
    MOS_CPP_DEFINED,
    MOS_CPP_VARIABLE, /* __VA_ARGS__ */
};

struct mos_cpp_directive {
    enum mos_cpp_word word;
    const char *at;                     /* its # */
    const struct mos_cpp_token *tokens; /* what stands behind its word, to the line's end */
    uint32_t count;
    uint32_t token;                       /* its own index in the file */
    const struct mos_cpp_macro *macro;    /* of a sound #define */
    const char *wrong;                    /* what is wrong with it; NULL: nothing */
    const struct mos_cpp_directive *next; /* #elif, #else or #endif of the same #if; NULL: none */
    const char *rest;                     /* of #error: the text */
    uint32_t rest_length;
    struct mos_cpp_found {
        struct mos_cpp_file *file; /* NULL: not looked for yet */
        size_t folder;             /* it was found in, + 1 */
    } * found;                     /* of #include */
};

struct mos_cpp_file {
    const struct mos_source *source;
    const char *folder; /* where "names" in it are looked for first */
    const struct mos_cpp_token *tokens;
    uint32_t count;
    const struct mos_cpp_directive *unended; /* an #if without #endif */
    const char *open_comment;                /* one that never ends; NULL: none */
    struct mos_vec joined;                   /* of struct mos_cpp_joined */
    struct mos_vec lines;                    /* of const struct mos_cpp_directive *: #line */
    uint32_t pass;                           /* the last one it was read in */
    uint32_t once_pass;                      /* the last one it said #pragma once in */
};

/* Where a token stands whose text was put together of several lines. */
struct mos_cpp_joined {
    const char *text, *at;
};

/* Names and files that were read; they live as long as its arena. */
struct mos_cpp_store {
    struct mos_arena *arena;
    struct mos_arena *texts;    /* for what is being split: that, or one for this pass only */
    const char *root;           /* the workspace; NULL: no files */
    bool anywhere;              /* names may lead out of it: who named them has allowed it */
    const char *const *folders; /* where files are looked for */
    size_t folder_count;
    struct mos_cpp_name **names;
    uint32_t name_count, name_slots; /* a power of two */
    struct mos_map files;            /* shown path -> struct mos_cpp_file * */
    struct mos_vec defines;          /* of const struct mos_cpp_macro * */
    uint32_t pass;                   /* counts what is read with it */
};

/* ---- cpp-lex.c ---- */

/* Empty, without files; it lives in the arena. */
struct mos_cpp_store *mos_cpp_store_new(struct mos_arena *arena);
/* The one name of that text, made when it is new; `text` is copied. */
struct mos_cpp_name *mos_cpp_intern(struct mos_cpp_store *store, const char *text, size_t length);
/* Splits a text; `source` and what it points to outlive the store. */
struct mos_cpp_file *mos_cpp_split(struct mos_cpp_store *store, const struct mos_source *source);
/* A macro from "NAME" or "NAME=TEXT"; NULL: it is none. */
const struct mos_cpp_macro *mos_cpp_define(struct mos_cpp_store *store, const char *text);
/* The text of a string token, without its quotes or angles. */
char *mos_cpp_unquoted(struct mos_arena *arena, const struct mos_cpp_token *t);
/* The place of a token's text in its file. */
size_t mos_cpp_offset(const struct mos_cpp_file *file, const char *text);
/* Tokens of a text that is no file's: a pasted one, or what is left of a number. */
size_t mos_cpp_tokens(struct mos_cpp_store *store, struct mos_arena *arena, const char *text,
                      size_t length, const struct mos_cpp_token **tokens);

/* ---- cpp-file.c ---- */

/* A token as it comes out, and where whoever wrote it wrote it: what a macro puts in stands where
 * the macro was used, its arguments where they are written. */
struct mos_cpp_seen {
    struct mos_cpp_token t;
    const struct mos_cpp_file *file; /* NULL: the command line */
    const char *own;
    uint32_t own_length;
    uint32_t use; /* index + 1 of struct mos_cpp_use; 0: it came through no macro */
};

/* One use of a macro. */
struct mos_cpp_use {
    const struct mos_cpp_macro *macro;
    const struct mos_cpp_file *file;
    const char *own;
    uint32_t own_length, outer; /* the use that its name came through, as above */
};

/* A file being read; those that include it are behind it. */
struct mos_cpp_buffer {
    struct mos_cpp_file *file;
    uint32_t at;
    size_t folder;                      /* the one it was found in, + 1 */
    const struct mos_cpp_directive *by; /* that included it; NULL: the tree language did */
    struct mos_cpp_buffer *outer;
};

struct mos_cpp {
    struct mos_ctx *ctx;
    struct mos_cpp_store *store;
    struct mos_arena *arena; /* of this pass */
    /* does what a directive says: set by mos_cpp_begin */
    void (*obey)(struct mos_cpp *c, const struct mos_cpp_directive *d);
    struct mos_cpp_buffer *buffer;
    struct mos_vec contexts; /* of struct mos_cpp_context */
    struct mos_vec uses;     /* of struct mos_cpp_use */
    const struct mos_cpp_file *base;
    uint32_t counter, level, depth, files;
    uint64_t tokens;
    uint8_t space; /* MOS_CPP_SPACE: one stood before a macro that has not brought a token yet */
    bool failed, in_condition;
};

/* The first thing that is wrong (later ones are consequences); returns false.  More places: where
 * the macros are that it came through, and what included the file. */
bool mos_cpp_fail(struct mos_cpp *c, const struct mos_cpp_seen *at, const char *remedy,
                  const char *format, ...) __attribute__((format(printf, 4, 5)));
struct mos_place mos_cpp_place(struct mos_cpp *c, const struct mos_cpp_seen *at);
/* A file by the name that is shown for it; NULL after an error. */
struct mos_cpp_file *mos_cpp_load(struct mos_cpp *c, const char *shown);
/* A file by its name as seen from the file that is read now, then from the folders behind
 * `*folder`, where it is found; its shown name.  NULL after a finding. */
const char *mos_cpp_look(struct mos_cpp *c, const struct mos_cpp_seen *at, const char *name,
                         bool beside, size_t *folder);
bool mos_cpp_push_file(struct mos_cpp *c, struct mos_cpp_file *file, size_t folder,
                       const struct mos_cpp_directive *by);
/* 1: it is there; 0: it is not; -1: it lies outside. */
int mos_cpp_has(struct mos_cpp *c, const char *name, bool beside);

/* ---- cpp-macro.c ---- */

struct mos_cpp_context {
    const struct mos_cpp_token *at, *end;       /* a macro's text as it stands, or … */
    const struct mos_cpp_seen *seen, *seen_end; /* … tokens with their places */
    struct mos_cpp_name *name;                  /* the macro; NULL: of none */
    const struct mos_cpp_file *file;            /* where it was used */
    const char *own;
    uint32_t own_length, use;
    bool barrier; /* the end of an argument or line: nothing behind it is looked at */
};

/* The next token, macros expanded, directives obeyed.  words: names of the tree language whole. */
void mos_cpp_next(struct mos_cpp *c, struct mos_cpp_seen *out, bool words);
/* All tokens of a row, expanded. */
struct mos_vec mos_cpp_expand(struct mos_cpp *c, const struct mos_cpp_seen *seen, size_t count);
/* Puts tokens before what comes next; they are kept by reference. */
void mos_cpp_push_back(struct mos_cpp *c, const struct mos_cpp_seen *seen, size_t count);
/* The macro that a name is in this pass; NULL: none. */
static inline const struct mos_cpp_macro *mos_cpp_macro_of(const struct mos_cpp *c,
                                                           const struct mos_cpp_name *name) {
    return name->pass == c->store->pass ? name->macro : NULL;
}
void mos_cpp_set_macro(struct mos_cpp *c, struct mos_cpp_name *name,
                       const struct mos_cpp_macro *macro);
static inline bool mos_cpp_is(const struct mos_cpp_token *t, const char *sign) {
    size_t n = strlen(sign);
    return t->kind == MOS_CPP_SIGN && t->length == n && memcmp(t->text, sign, n) == 0;
}

/* ---- expression.c ---- */

/* Where the tokens of an integer expression come from (C's operators on 64 bits). */
struct mos_expression {
    void *self;
    const struct mos_cpp_token *(*peek)(void *self);
    void (*next)(void *self);
    /* a number, or what stands for one, is taken; false after a complaint */
    bool (*operand)(void *self, uint64_t *value, bool *without_sign);
    bool (*complain)(void *self, const char *message); /* about the token at hand; false */
    bool with_sign; /* numbers are signed unless they say otherwise */
    unsigned depth;
};
/* false after a complaint. */
bool mos_expression_value(struct mos_expression *e, uint64_t *value);
/* A number's text, or as much of it as is one; *length: how much.  false: it is none. */
bool mos_expression_number(const char *text, size_t *length, uint64_t *value, bool *without_sign);
/* One character of a string or character, behind a backslash if there is one. */
char mos_expression_character(const char *text, size_t length, size_t *at);

/* ---- cpp-directive.c ---- */

/* A new pass: nothing is defined but what every source has, and the store's own. */
void mos_cpp_begin(struct mos_cpp *c);

#endif
