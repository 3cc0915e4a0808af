/* Conflicts of meaning that can be planted into a tree. */
#ifndef PEERS_CONFLICTS_H
#define PEERS_CONFLICTS_H

#include "peers.h"

#include "tree/resources.h"

struct site {
    struct core core;
    struct mos_dt *dt;
    struct mos_dt_phandles all;
    struct mos_vec claims;
    unsigned seed;
    char text[3000];   /* the overlay's fragments */
    const char *other; /* the node that it clashes with; NULL: none */
};

struct conflict {
    const char *rule;             /* that tells it; NULL: it is correct */
    bool (*make)(struct site *s); /* writes s->text; false: this tree has nothing for it */
};
extern const struct conflict conflicts[]; /* ends with no `make` */

#endif
