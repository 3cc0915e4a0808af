/* A tree of Kconfig files: what it declares (the kernel's
 * Documentation/kbuild/kconfig-language.rst and kconfig-macro-language.rst).  Once read it is never
 * changed: any number of configurations is worked out over one (values.h). */
#ifndef MOS_KCONFIG_KCONFIG_H
#define MOS_KCONFIG_KCONFIG_H

#include "base/ctx.h"
#include "base/map.h"

enum mos_tri { MOS_TRI_N, MOS_TRI_M, MOS_TRI_Y };

enum mos_kc_type {
    MOS_KC_UNKNOWN, /* only ever used: its value is its name */
    MOS_KC_BOOL,
    MOS_KC_TRISTATE,
    MOS_KC_INT,
    MOS_KC_HEX,
    MOS_KC_STRING,
};

enum mos_kc_op {
    MOS_KC_SYMBOL,
    MOS_KC_NOT,
    MOS_KC_AND,
    MOS_KC_OR,
    MOS_KC_EQUAL, /* from here on of two symbols */
    MOS_KC_UNEQUAL,
    MOS_KC_LESS,
    MOS_KC_MORE,
    MOS_KC_LESS_EQUAL,
    MOS_KC_MORE_EQUAL,
};

struct mos_kc_symbol;
struct mos_kc_expr {
    enum mos_kc_op op;
    uint16_t depth;
    uint32_t index; /* of all expressions of the tree */
    union {
        const struct mos_kc_expr *left;
        struct mos_kc_symbol *symbol;
    };
    union {
        const struct mos_kc_expr *right; /* AND, OR */
        struct mos_kc_symbol *other;     /* comparisons */
    };
};

struct mos_kc_entry;
/* A prompt, default, range, or a symbol that is selected or implied.  No condition: always. */
struct mos_kc_property {
    struct mos_kc_property *next;        /* of the symbol, of the same kind */
    const struct mos_kc_property *other; /* select, imply: the next one with the same target */
    struct mos_kc_entry *entry;          /* where it stands */
    const char *text;                    /* of a prompt */
    const struct mos_kc_expr *value;     /* of a default */
    struct mos_kc_symbol *symbol;        /* selected or implied; the lower end of a range */
    struct mos_kc_symbol *upper;
    const struct mos_kc_expr *stated;    /* its own `if` */
    const struct mos_kc_expr *condition; /* with all that stands around it */
    struct mos_place place;
};

enum mos_kc_kind {
    MOS_KC_PROMPT,
    MOS_KC_DEFAULT,
    MOS_KC_RANGE,
    MOS_KC_SELECT,
    MOS_KC_IMPLY,
    MOS_KC_KINDS,
};

struct mos_kc_symbol {
    const char *name; /* without CONFIG_; NULL: a choice that has none */
    uint32_t index;   /* of all symbols of the tree */
    enum mos_kc_type type;
    bool constant; /* y, m, n, or what stands in quotation marks */
    bool is_choice, optional;
    bool from_environment; /* its value is that of a variable, and never written */
    struct mos_kc_property *first[MOS_KC_KINDS], *last[MOS_KC_KINDS];
    const struct mos_kc_property *selected_by, *implied_by; /* through ->other */
    const struct mos_kc_expr *depends;                /* of any of its entries; NULL: on nothing */
    struct mos_kc_symbol *choice;                     /* it is one of that; or NULL */
    struct mos_kc_symbol *next_member;                /* … and the one behind it */
    struct mos_kc_symbol *first_member, *last_member; /* of a choice */
    struct mos_kc_entry *entry; /* its first one; NULL: it is declared nowhere */
};

enum mos_kc_entry_kind {
    MOS_KC_ENTRY_ROOT,
    MOS_KC_ENTRY_CONFIG,
    MOS_KC_ENTRY_CHOICE,
    MOS_KC_ENTRY_MENU,
    MOS_KC_ENTRY_COMMENT,
    MOS_KC_ENTRY_IF,
};

struct mos_kc_entry {
    enum mos_kc_entry_kind kind;
    struct mos_kc_symbol *symbol; /* of a config or choice */
    struct mos_kc_entry *parent, *first, *last, *next;
    struct mos_kc_entry *again;           /* the symbol's next entry */
    const char *text;                     /* of a menu or comment */
    const char *help;                     /* or NULL */
    const struct mos_kc_expr *stated;     /* its own `depends on` or `if` */
    const struct mos_kc_expr *depends;    /* with those of all above it */
    const struct mos_kc_expr *visible_if; /* of a menu, its own */
    const struct mos_kc_expr *visible;    /* of all menus above it */
    struct mos_place place;
};

/* What differs between trees of several ages: each has a resolver of its own. */
struct mos_kc_manner {
    bool whole;  /* what cannot be seen is written, too */
    bool ends;   /* "# end of MENU" is written */
    bool raw;    /* backslashes of texts are neither read nor written as such */
    bool zeros;  /* a number without a value is 0, else an empty text */
    bool clamps; /* a number beyond its range becomes the nearest one, else it is let go of */
    bool capped; /* what is implied stays within its dependencies, and may be a module */
    bool once;   /* of members of a choice that are asked for the first one counts, not the last */
    bool ranked; /* choices: the last member that was asked for, none that was switched off */
};

struct mos_kc_tree {
    struct mos_kc_manner manner;
    struct mos_arena *arena;
    struct mos_kc_entry *root;
    struct mos_map symbols; /* name -> struct mos_kc_symbol *: not of constants in quotes */
    struct mos_map quoted;
    struct mos_vec all; /* of struct mos_kc_symbol *, by index */
    uint32_t expr_count;
    struct mos_kc_symbol *n, *m, *y, *modules; /* modules NULL: no symbol is said to be it */
    size_t file_count;
    uint8_t sha256[32];     /* of all files, and all that probes printed */
    const char *version;    /* of the sources, as their makefile has it; NULL: it does not say */
    struct mos_map used;    /* variables of the environment that macros named: NAME -> value */
    struct mos_vec answers; /* of const char *: what probes printed, in the order of asking */
    struct mos_vec said;    /* of const char *: what $(info) and $(warning-if) print */
};

/* What a tree is read with. */
struct mos_kc_reading {
    const char *source; /* folder of the tree */
    const char *shown;  /* the same as its user knows it */
    const char *start;  /* its first file, "Kconfig" if NULL */
    struct mos_kc_manner manner;
    struct mos_map vars; /* NAME -> const char *: the environment of its macros and probes */
    struct mos_kc_probes *probes;
    struct mos_map files; /* those that are read already: path -> struct mos_source * */
};

/* Reads a tree; NULL with ctx->error.  A probe that is not known yet is run (probe.h). */
struct mos_kc_tree *mos_kc_read(struct mos_ctx *ctx, const struct mos_kc_reading *reading);

/* NULL: nothing of the tree mentions it. */
struct mos_kc_symbol *mos_kc_find(const struct mos_kc_tree *tree, const char *name);
const char *mos_kc_type_word(enum mos_kc_type type); /* as Kconfig files have it */

#endif
