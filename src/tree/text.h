/* Trees as source text. */
#ifndef MOS_TREE_TEXT_H
#define MOS_TREE_TEXT_H

#include "tree/claims.h"

/* What is needed to write values so that a person can read them. */
struct mos_dt_writer {
    struct mos_arena *arena;
    const struct mos_dt *dt;
    const struct mos_dt_phandles *all;
    /* what stands for a reference to a node: "&label", "&{/path}"; NULL: its number stands there */
    const char *(*reference)(void *self, const struct mos_dt_node *node);
    void *self;
};

/* A property's value as it stands behind the "="; "" where it is empty. */
const char *mos_dt_value_text(const struct mos_dt_writer *w, const struct mos_dt_node *node,
                              const struct mos_dt_property *property);
/* The same with references as paths: for people. */
const char *mos_dt_shown_value(struct mos_arena *arena, const struct mos_dt *dt,
                               const struct mos_dt_phandles *all, const struct mos_dt_node *node,
                               const struct mos_dt_property *property);
/* All of a tree, so that it compiles to the same blob again: labels are those of /__symbols__, or
 * made of names where something refers to a node.  NULL: it has what a source cannot say, and *why
 * says what. */
const char *mos_dt_source_text(struct mos_arena *arena, struct mos_dt *dt, const char **why);

#endif
