/* Bindings: what the kernel's schema files (Documentation/devicetree/bindings, *.yaml) say about
 * the nodes of a tree.  The language is described there in writing-schema.rst; it is JSON Schema
 * (draft 2019-09) as far as those files use it, with sizes that follow from lists of items. */
#ifndef MOS_BINDINGS_BINDINGS_H
#define MOS_BINDINGS_BINDINGS_H

#include "model/yaml.h"
#include "tree/claims.h"

/* One file. */
struct mos_binding {
    const char *name;            /* from the folder of all: "i2c/i2c-gate.yaml" */
    const struct mos_node *root; /* NULL: it cannot be read */
    bool looked;                 /* … which is known only now */
    bool unread;                 /* not even its bytes */
    unsigned counted; /* the last tree that it was counted for, where it cannot be read */
};

struct mos_bindings {
    struct mos_ctx quiet; /* what is found in the files themselves is nobody's business here */
    struct mos_error ignored;
    const char *folder, *shown; /* as it is opened, and as it is shown */
    struct mos_map files;       /* name -> struct mos_binding * */
    struct mos_map wanted;      /* compatible string -> struct mos_vec *: of files that have it */
    struct mos_map fresh;       /* … of these is not known yet */
    bool hashed;
    uint8_t sha256[MOS_SHA256_SIZE]; /* of all files, once one pass was made */
    size_t lost;   /* folders that cannot be read, files beyond the most that are looked at */
    unsigned tree; /* that is judged, from 1 */
    size_t unread; /* files that cannot be read: all those, and of what it asks for the malformed */
};

/* What is wrong with a node, or with one of its properties. */
struct mos_binding_fault {
    const struct mos_dt_node *node;
    const struct mos_dt_property *property; /* NULL: something is missing */
    const char *missing;                    /* its name; NULL: nothing is */
    const char *text;                       /* what is wrong, behind the name of what has it */
    const char *remedy;                     /* NULL: it follows from the text */
    const struct mos_binding *file;
    const struct mos_node *rule;        /* what it breaks; a place in the file */
    const struct mos_node *description; /* of the property, or NULL */
};

/* files.c */

/* The files below a folder; none is read yet.  NULL: the folder cannot be read, with ctx->error. */
struct mos_bindings *mos_bindings_open(struct mos_ctx *ctx, const char *folder, const char *shown);
/* Files for the compatible strings of a tree's nodes are wanted. */
void mos_bindings_want(struct mos_bindings *b, const struct mos_dt *dt);
/* Finds the files that are wanted since the last time: one pass over all of them.  Counting of what
 * cannot be read begins anew. */
void mos_bindings_look(struct mos_bindings *b);
/* Reads one, once; false: it cannot be read. */
bool mos_bindings_read(struct mos_bindings *b, struct mos_binding *file);

/* A schema: a map in a file. */
struct mos_schema {
    const struct mos_binding *file;
    const struct mos_node *node; /* NULL: there is none */
};
/* What $ref means, seen from a file; node NULL: it is not there.  *type: where it is one of
 * /schemas/types.yaml, its name, else NULL. */
struct mos_schema mos_bindings_refer(struct mos_bindings *b, const struct mos_binding *from,
                                     const char *ref, const char **type);

/* pick.c */

/* The file whose `compatible` lists the first of the node's strings that any does, or whose
 * `select` fits it; *first: it is the node's first.  NULL: none. */
const struct mos_binding *mos_bindings_of(struct mos_bindings *b, const struct mos_dt_node *node,
                                          bool *first);

/* judge.c */

/* All faults of a node and of what is below it without a compatible string of its own, as its file
 * says; of struct mos_binding_fault.  *unknown grows by the parts that could not be judged. */
struct mos_vec mos_bindings_judge(struct mos_bindings *b, const struct mos_binding *file,
                                  const struct mos_dt_node *node, bool known_compatible,
                                  const struct mos_dt_phandles *all, struct mos_arena *arena,
                                  size_t *unknown);

/* value.c: a property's value as schemas look at it. */
enum mos_item_kind { MOS_ITEM_TEXT, MOS_ITEM_NUMBER, MOS_ITEM_LIST };
struct mos_item {
    enum mos_item_kind kind;
    const char *text; /* NUL-terminated */
    int64_t number;
    const struct mos_item *items; /* of a list */
    size_t count;
};
enum mos_value_kind {
    MOS_VALUE_UNKNOWN, /* what the bytes mean is not known */
    MOS_VALUE_FLAG,
    MOS_VALUE_LIST,  /* `list` is its items */
    MOS_VALUE_WRONG, /* the bytes are no such value: `why` */
};
struct mos_bound_value {
    enum mos_value_kind kind;
    struct mos_item list;
    const char *why;
};
/* What a schema says about the form of a value. */
struct mos_value_form {
    const char *types[8]; /* names of /schemas/types.yaml; one of them it is */
    size_t type_count;
    const char *weak; /* "boolean", "text" or "number", as its words suggest; or NULL */
    size_t row;       /* cells of a row of a matrix, 0: not known */
    bool of_rows;     /* its items are lists */
};
struct mos_bound_value mos_bound_value(struct mos_arena *arena, const struct mos_dt_node *node,
                                       const struct mos_dt_property *p,
                                       const struct mos_value_form *form,
                                       const struct mos_dt_phandles *all);

#endif
