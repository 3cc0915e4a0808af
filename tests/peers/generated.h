/* Trees made from a seed, for file systems that others judge. */
#ifndef MOS_TESTS_GENERATED_H
#define MOS_TESTS_GENERATED_H

#include "support.h"

#include "content/entry.h"

/* The same seed and flags give the same tree. */
struct generator {
    uint64_t seed;
    struct mos_sink sink;
    struct mos_arena *arena;
    bool fat;       /* neither owners nor links */
    bool seconds;   /* times without parts of a second; attributes that anybody may restore */
    size_t entries; /* that are still to come */
    char last_file[300];
};
void generate_tree(struct generator *g);

#endif
