/* What nodes take of others: references with the cells behind them, read by what their provider
 * says of itself (Devicetree Specification v0.4, section 2.4; for the rest the properties that
 * Linux resolves alike everywhere, drivers/of/property.c). */
#ifndef MOS_TREE_CLAIMS_H
#define MOS_TREE_CLAIMS_H

#include "tree/tree.h"

/* The nodes of a tree by their phandle. */
struct mos_dt_phandles {
    struct mos_vec rows; /* of struct mos_dt_phandle, by number */
};
struct mos_dt_phandle {
    uint32_t number;
    const struct mos_dt_node *node;
};
struct mos_dt_phandles mos_dt_phandles_of(struct mos_arena *arena, const struct mos_dt *dt);
/* NULL: no node has that number. */
const struct mos_dt_node *mos_dt_by_phandle(const struct mos_dt_phandles *all, uint32_t number);

/* A kind of reference: clocks, lines, resets … */
struct mos_dt_kind {
    const char *property; /* its name, or its end where `suffix` */
    const char *cells;    /* the provider's property with the number of cells; NULL: none follow */
    const char *names;    /* the property that names each of them; NULL: there is none */
    bool suffix;
    bool defaults; /* a provider that does not say how many takes none */
    bool must;     /* a driver cannot do without: it waits until the provider is there */
};
/* Is it, or is it below, a node whose properties whoever wrote the tree has named: labels and
 * aliases?  None of them means what its name says elsewhere. */
bool mos_dt_has_free_names(const struct mos_dt_node *node);
/* The kind that a property is; NULL: it refers to nothing that is known. */
const struct mos_dt_kind *mos_dt_kind_of(const struct mos_dt_node *node, const char *property);

enum mos_dt_broken {
    MOS_DT_WHOLE,
    MOS_DT_NO_NODE,     /* no node has the phandle */
    MOS_DT_NO_PROVIDER, /* the node does not say how many cells follow: it is no such thing */
    MOS_DT_CUT,         /* fewer cells are left than the provider takes */
    MOS_DT_UNEVEN,      /* the value is no row of cells */
};

/* One entry of such a property, as far as it can be read. */
struct mos_dt_reference {
    const struct mos_dt_node *provider; /* NULL: a hole (phandle 0), or there is no such node */
    uint32_t phandle, cells;            /* that the provider takes */
    const uint8_t *arguments;           /* big-endian; of a whole one that many cells */
    size_t left;                        /* cells that are left behind the phandle */
    enum mos_dt_broken broken;
};

/* Calls `each` for every entry, in order, holes included; what is broken is the last one.  Returns
 * the number of entries that are whole. */
size_t mos_dt_references(const struct mos_dt_phandles *all, const struct mos_dt_kind *kind,
                         const struct mos_dt_property *property,
                         void (*each)(void *self, size_t index, const struct mos_dt_reference *r),
                         void *self);

/* Does a node's own status let the kernel look at it? */
bool mos_dt_is_on(const struct mos_dt_node *node);
/* The node whose status keeps the kernel from looking at this one: it, or the nearest one above
 * that is switched off; NULL: none. */
const struct mos_dt_node *mos_dt_off(const struct mos_dt_node *node);
/* The controller that `interrupts` of a node goes to; NULL: none. */
const struct mos_dt_node *mos_dt_interrupt_parent(const struct mos_dt_phandles *all,
                                                  const struct mos_dt_node *node);
/* The string at *at of a property's value, which moves behind it; NULL: there is no whole one left.
 * property NULL: it has none. */
const char *mos_dt_next_string(const struct mos_dt_property *property, size_t *at);
/* Strings in a property's value. */
size_t mos_dt_string_count(const struct mos_dt_property *property);
/* Cells of an address and of a size below a node (2 and 1 where it does not say). */
uint32_t mos_dt_address_cells(const struct mos_dt_node *bus);
uint32_t mos_dt_size_cells(const struct mos_dt_node *bus);
/* A number of so many cells (at most its lower 64 bits). */
uint64_t mos_dt_number(const uint8_t *data, uint32_t cells);
/* Does one of its compatible strings begin with, or contain, a text? */
bool mos_dt_is_like(const struct mos_dt_node *node, const char *text);
/* Has `compatible` exactly this one? */
bool mos_dt_is_compatible(const struct mos_dt_node *node, const char *name);

#endif
