/* One configuration of a tree: what each symbol comes to with the values that were asked for. */
#ifndef MOS_KCONFIG_VALUES_H
#define MOS_KCONFIG_VALUES_H

#include "kconfig/fragment.h"
#include "kconfig/kconfig.h"

struct mos_kc_value {
    uint8_t stage;                                    /* 0: not worked out; 1: being so; 2: done */
    uint8_t tri, visible, selected, implied, depends; /* enum mos_tri */
    bool written;                                     /* it stands in the configuration */
    bool asked;                                       /* a value was asked for, in the next three */
    uint8_t asked_tri;
    uint32_t rank; /* when it was asked for, counted from 1 */
    const char *asked_text;
    const struct mos_kc_symbol *member; /* of a choice: the one that is on; or NULL */
    const struct mos_kc_symbol *asked_member;
    const char *text;                  /* of int, hex and string */
    const struct mos_setting *setting; /* that asked; or NULL */
};

struct mos_kc_config {
    const struct mos_kc_tree *tree;
    struct mos_arena *arena;
    struct mos_kc_value *values; /* by symbol */
    uint8_t *known;              /* by expression: its value + 1; 0: not known */
    enum mos_tri modules;        /* of the symbol that switches modules on */
    uint32_t ranks;
    size_t pending;         /* symbols that were asked for while they were being worked out */
    struct mos_vec refused; /* of struct mos_kc_refused: settings that are none here */
};

struct mos_kc_refused {
    const struct mos_setting *setting;
    const struct mos_kc_symbol *symbol; /* NULL: the tree has none of that name */
    const char *why;
};

/* A configuration in which nothing is asked for yet. */
struct mos_kc_config *mos_kc_config_new(struct mos_arena *arena, const struct mos_kc_tree *tree);
/* Asks for what settings say (names with CONFIG_), in their order; the last one counts. */
void mos_kc_ask(struct mos_kc_config *c, const struct mos_setting *const *settings, size_t count);
/* A configuration with the same requests, nothing of it worked out. */
struct mos_kc_config *mos_kc_config_again(struct mos_arena *arena, const struct mos_kc_config *c);
/* From now on symbols are worked out when they are asked for, and no others: as after
 * mos_kc_settle, unless a number beyond its range has a say in it. */
void mos_kc_start(struct mos_kc_config *c);
/* Works out all symbols.  What was asked for of a number beyond its range is let go of first. */
void mos_kc_settle(struct mos_kc_config *c);

/* Of a settled configuration. */
enum mos_tri mos_kc_tri(struct mos_kc_config *c, const struct mos_kc_symbol *s);
const char *mos_kc_text(struct mos_kc_config *c, const struct mos_kc_symbol *s);
enum mos_tri mos_kc_expr_value(struct mos_kc_config *c, const struct mos_kc_expr *e);
/* A text as configurations have it, in quotation marks. */
const char *mos_kc_quoted(struct mos_kc_config *c, const char *text);
/* Would a symbol of a settled configuration come to the same if nobody had asked for it, all others
 * being as they are?  Of a member of a choice: if nobody had asked for any member. */
bool mos_kc_is_asked_in_vain(struct mos_kc_config *c, const struct mos_kc_symbol *s);
/* The whole configuration as a file, below a header of our own. */
const char *mos_kc_write(struct mos_kc_config *c, size_t *length);

#endif
