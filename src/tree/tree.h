/* Device trees in memory: nodes, properties with places, labels and references. */
#ifndef MOS_TREE_TREE_H
#define MOS_TREE_TREE_H

#include "base/ctx.h"
#include "base/map.h"

enum mos_dt_mark_kind {
    MOS_DT_PHANDLE, /* a cell that is the phandle of what `name` means */
    MOS_DT_PATH,    /* bytes to be replaced by its path, NUL included */
};

/* A reference inside a property's value. */
struct mos_dt_mark {
    enum mos_dt_mark_kind kind;
    size_t offset;    /* in the value */
    const char *name; /* a label, or a path that begins with / */
    struct mos_place place;
};

/* The head of a blob: offsets of its fields, big-endian (Devicetree Specification v0.4, section
 * 5.2), and the tokens of its structure block (5.4). */
enum { MOS_DT_HEAD = 40 };
#define MOS_DT_MAGIC 0xd00dfeedu
enum mos_dt_head {
    MOS_DT_TOTAL = 4, /* bytes of all of it */
    MOS_DT_STRUCTURE = 8,
    MOS_DT_STRINGS = 12,
    MOS_DT_RESERVATIONS = 16,
    MOS_DT_VERSION = 20,
    MOS_DT_OLDEST = 24, /* version that it can be read as */
    MOS_DT_BOOT_CPU = 28,
    MOS_DT_STRINGS_SIZE = 32,
    MOS_DT_STRUCTURE_SIZE = 36,
};
enum mos_dt_token {
    MOS_DT_BEGIN = 1,
    MOS_DT_END = 2,
    MOS_DT_PROPERTY = 3,
    MOS_DT_NOTHING = 4,
    MOS_DT_FINISH = 9,
};

struct mos_dt_property {
    const char *name;
    const uint8_t *data; /* big-endian, as in a blob */
    size_t length;
    struct mos_vec marks; /* of struct mos_dt_mark */
    struct mos_place place;
    const struct mos_dt_property *replaced;
    unsigned set_by; /* 0: the base; n: the n-th overlay */
    uint32_t body;   /* the pair of braces in its source */
    bool removed;    /* hidden, see mos_dt_hide_property */
    struct mos_dt_property *next;
};

struct mos_dt_node {
    const char *name; /* with its unit address; "" is the root */
    struct mos_dt_node *parent, *first_child, *last_child, *previous, *next;
    struct mos_dt_property *properties, *last_property;
    uint32_t child_count, property_count;
    /* Where there are many, by name: an entry that is gone is NULL. */
    struct mos_map *children, *named;
    struct mos_vec labels; /* of const char *; see mos_dt_add_label */
    struct mos_place place;
    bool omit_if_unused; /* /omit-if-no-ref/ */
    bool referenced;
    bool removed;         /* it is no part of its tree any more, nor what is below it */
    bool hides;           /* some of its children or properties are hidden */
    bool doubled;         /* two children of one name were added: a damaged blob */
    unsigned added_by;    /* as set_by */
    uint32_t own_phandle; /* of a node of an overlay: its number before it is applied; 0: none */
};

struct mos_dt_label {
    const char *label;
    struct mos_dt_node *node;
};

struct mos_dt_reservation {
    uint64_t address, size;
};

struct mos_dt {
    struct mos_arena *arena;
    struct mos_dt_node *root;
    struct mos_vec reservations; /* of struct mos_dt_reservation */
    bool overlay;                /* /plugin/, or a blob with fragments */
    bool by_loader;              /* … that is applied as a loader does, who refuses less */
    bool from_blob;
    const char *shown_path;
    struct mos_place place;
    uint32_t boot_cpu;
    struct mos_buf taken;   /* by phandle - 1: not 0 where a node has it */
    bool noted;             /* … it was looked at */
    uint32_t next_phandle;  /* where to look for a free one */
    bool hides;             /* something is hidden */
    struct mos_map labels;  /* label -> the first node in the tree that has it */
    struct mos_vec doubles; /* of struct mos_dt_label: those that are not the first */
    struct mos_map later;   /* label -> name of an overlay that brings it, and is not applied yet */
};

/* A tree with nothing but its root; `shown_path` is kept by reference. */
struct mos_dt *mos_dt_new(struct mos_arena *arena, const char *shown_path);
/* The same tree once more, with its places; names and values are not copied. */
struct mos_dt *mos_dt_copy(struct mos_arena *arena, const struct mos_dt *dt);
/* A new last child (parent NULL: of none yet).  `name` is kept by reference; it may be there twice,
 * which a blob may not have: mos_dt_child finds the first. */
struct mos_dt_node *mos_dt_add_node(struct mos_dt *dt, struct mos_dt_node *parent,
                                    const char *name);
/* Gives a node that belongs to no tree to a parent, as its last child. */
void mos_dt_attach(struct mos_dt_node *parent, struct mos_dt_node *node);
/* Puts a child, or a property, before all others of its node. */
void mos_dt_child_first(struct mos_dt_node *child);
void mos_dt_property_first(struct mos_dt_node *node, struct mos_dt_property *property);
/* A child by its whole name, unit address included; NULL: there is none. */
struct mos_dt_node *mos_dt_child(const struct mos_dt_node *parent, const char *name);
/* A node by its path from the root; a component without unit address fits the only node that
 * begins with it. */
struct mos_dt_node *mos_dt_find(const struct mos_dt *dt, const char *path);
/* NULL: it has none of that name. */
struct mos_dt_property *mos_dt_property(const struct mos_dt_node *node, const char *name);
/* Sets a property; what an earlier one of that name was is kept as its trail (->replaced), and
 * pointers to it now see the new one. */
struct mos_dt_property *mos_dt_set(struct mos_dt *dt, struct mos_dt_node *node, const char *name,
                                   const void *data, size_t length);
/* The same with a copy of the bytes. */
struct mos_dt_property *mos_dt_set_copy(struct mos_dt *dt, struct mos_dt_node *node,
                                        const char *name, const void *data, size_t length);
/* The text with its NUL, copied. */
void mos_dt_set_text(struct mos_dt *dt, struct mos_dt_node *node, const char *name,
                     const char *text);
/* false: it had none.  A node goes with all below it; whoever walks may go on from its ->next. */
bool mos_dt_remove_property(struct mos_dt_node *node, const char *name);
void mos_dt_remove_node(struct mos_dt_node *node);
/* What a source deletes leaves its place: when it comes again it stands there, and until
 * mos_dt_drop_hidden it stays in the lists, marked as removed.  false: it had none. */
void mos_dt_hide_node(struct mos_dt *dt, struct mos_dt_node *node);
bool mos_dt_hide_property(struct mos_dt *dt, struct mos_dt_node *node, const char *name);
/* A hidden child comes back, without anything in it; NULL: there is none of that name. */
struct mos_dt_node *mos_dt_hidden_child(struct mos_dt_node *parent, const char *name);
void mos_dt_drop_hidden(struct mos_dt *dt);
/* "/soc/serial@9000000"; "/" of the root. */
const char *mos_dt_path(struct mos_arena *arena, const struct mos_dt_node *node);
/* The first string of a property, or NULL when it is no string. */
const char *mos_dt_string(const struct mos_dt_node *node, const char *name);
/* A property of exactly four bytes as a number; false: it is none. */
bool mos_dt_cell(const struct mos_dt_node *node, const char *name, uint32_t *value);

/* `label` is kept by reference; where several nodes have one, the first that is still in the tree
 * is found. */
void mos_dt_add_label(struct mos_dt *dt, struct mos_dt_node *node, const char *label);
/* A node by a label of the sources, or by /__symbols__ of a blob. */
struct mos_dt_node *mos_dt_by_label(const struct mos_dt *dt, const char *label);
/* Every label a tree knows, for near misses: of const char *. */
struct mos_vec mos_dt_labels(const struct mos_dt *dt);
/* Calls `each` for every node, parents first; stops when it returns false. */
bool mos_dt_walk(struct mos_dt_node *node, bool (*each)(void *self, struct mos_dt_node *node),
                 void *self);
/* The node's phandle, given to it (the lowest free one) when it has none. */
uint32_t mos_dt_phandle(struct mos_dt *dt, struct mos_dt_node *node);
uint32_t mos_dt_highest_phandle(const struct mos_dt *dt);

/* Settles references inside the tree: phandles and paths are written into the values.  Unknown
 * names are findings (tree.target-missing); those of an overlay are kept for its application. */
void mos_dt_resolve(struct mos_ctx *ctx, struct mos_dt *dt);

/* source.c: reads device-tree source text (Devicetree Specification v0.4, chapter 6, and
 * /plugin/), preprocessed as C is.  Files that it includes are looked for beside it and in
 * `folders`; `sources` reads each file once, whatever number of trees it is part of.  Texts and
 * names of the trees live in its arena.  root NULL: no files. */
struct mos_cpp_store;
struct mos_cpp_store *mos_dt_sources(struct mos_arena *arena, const char *root,
                                     const char *const *folders, size_t folder_count);
/* Names of files may lead out of `root`: whoever may not read there is refused by the host. */
void mos_dt_sources_anywhere(struct mos_cpp_store *sources);
/* A macro of all that is read from now on: "NAME" or "NAME=TEXT"; false: it is no macro. */
bool mos_dt_define(struct mos_cpp_store *sources, const char *text);
/* NULL after a finding (tree.syntax) or error. */
struct mos_dt *mos_dt_read_source(struct mos_ctx *ctx, struct mos_cpp_store *sources,
                                  const char *shown_path);
/* The same of a text that was read already and that no other file includes: nothing of it stays in
 * the store.  `text` is NUL-terminated, and kept by reference as `shown_path` is. */
struct mos_dt *mos_dt_read_text(struct mos_ctx *ctx, struct mos_cpp_store *sources,
                                const char *shown_path, const char *text, size_t length);
/* The same from text in memory. */
struct mos_dt *mos_dt_parse(struct mos_ctx *ctx, const struct mos_source *source, const char *root,
                            const char *const *folders, size_t folder_count);

/* blob.c: the flattened form (Devicetree Specification v0.4, chapter 5). */
bool mos_dt_is_blob(const void *data, size_t length);
struct mos_dt *mos_dt_read_blob(struct mos_ctx *ctx, const char *shown_path, const void *data,
                                size_t length);
/* Adds /__symbols__ from the labels; labelled nodes get phandles. */
void mos_dt_keep_labels(struct mos_dt *dt);
/* Version 17.  with_symbols: with its labels kept. */
void mos_dt_write_blob(struct mos_ctx *ctx, struct mos_dt *dt, bool with_symbols,
                       struct mos_buf *out);

/* overlay-blob.c: an overlay with its references unsettled, as a blob for others to apply.  What
 * such a blob cannot say is a finding (tree.target-missing), and `out` is of no use then. */
void mos_dt_write_overlay(struct mos_ctx *ctx, struct mos_dt *dt, bool with_symbols,
                          struct mos_buf *out);

/* overlay.c: applies an overlay, the n-th (from 1), to a base.  Findings: tree.target-missing,
 * tree.same-property. */
bool mos_dt_apply(struct mos_ctx *ctx, struct mos_dt *base, struct mos_dt *overlay, unsigned n,
                  const char *const *overlay_names);

#endif
