/* YAML text to a tree of nodes with places: the only user of libyaml. */
#ifndef MOS_MODEL_YAML_H
#define MOS_MODEL_YAML_H

#include "base/ctx.h"

enum mos_node_kind { MOS_NODE_SCALAR, MOS_NODE_MAP, MOS_NODE_LIST };

struct mos_node {
    enum mos_node_kind kind;
    struct mos_place place; /* the scalar, or the whole collection's first character */
    const char *key;        /* in a map: its name, else NULL */
    struct mos_place key_place;
    const char *text;        /* scalars; never NULL */
    bool plain;              /* a scalar without quotes */
    bool flow;               /* written with { } or [ ], or inside such a collection */
    struct mos_node **items; /* maps and lists */
    size_t count;
    /* after merging (merge.h): */
    const struct mos_origin *origin; /* who stated it; NULL before */
    const struct mos_node *replaced; /* what it took the place of */
    struct mos_vec removed; /* maps: of struct mos_removal, what was taken out; may be empty */
};

/* `~name:` in a origin. */
struct mos_removal {
    const struct mos_node *what;  /* the item that went */
    const struct mos_node *where; /* the ~name item */
};

enum {
    MOS_YAML_LIMIT = 4 << 20,
    MOS_YAML_DEPTH = 64,
    MOS_YAML_NODES = 1000000,
    MOS_YAML_ITEMS = 4000 /* of one map or list */
};

/* Parses one document.  NULL when it cannot be parsed at all or breaks a limit: then there is one
 * finding marked unparsable.  Anchors, aliases, tags, merge keys and doubled keys are findings of
 * their own and the rest is still returned. */
struct mos_node *mos_yaml_parse(struct mos_ctx *ctx, const struct mos_source *source);

/* yaml-write.c: a text as a scalar that reads back as that text, in block and in flow, quoted where
 * it must be; and as (part of) a comment, on one line whatever it holds. */
void mos_yaml_scalar(struct mos_buf *out, const char *text);
void mos_yaml_comment(struct mos_buf *out, const char *text);

/* A scalar or a list of scalars for people: "a", "[a, b]"; a list of one as its item. */
const char *mos_node_text(struct mos_arena *arena, const struct mos_node *node);

/* The item of a map with this key, or NULL. */
struct mos_node *mos_node_get(const struct mos_node *map, const char *key);

#endif
