/* Shared by judge.c and item.c only. */
#ifndef MOS_BINDINGS_JUDGE_INTERNAL_H
#define MOS_BINDINGS_JUDGE_INTERNAL_H

#include "bindings/bindings.h"

enum mos_verdict { MOS_GOOD, MOS_BAD, MOS_OPEN /* it cannot be told */ };

struct mos_judge {
    struct mos_bindings *b;
    struct mos_arena *arena;
    const struct mos_dt_phandles *all;
    struct mos_vec faults; /* of struct mos_binding_fault */
    bool known_compatible; /* else the file is about another name of the device */
    const struct mos_dt_node *top;
    size_t unknown;
    unsigned depth;
    size_t steps; /* schemas looked at so far */
    bool each;    /* a word about one text is about each of several */
    /* of the last item that was bad: */
    const char *why, *remedy;
    struct mos_schema broken;
};
enum { MOS_JUDGE_DEPTH = 48, MOS_JUDGE_STEPS = 20000 };

/* Words that constrain nothing. */
bool mos_schema_is_talk(const char *key);
/* Is a schema the word "true" or "false"? */
bool mos_schema_is(const struct mos_node *schema, const char *word);
/* Both, one after the other. */
static inline enum mos_verdict mos_verdict_and(enum mos_verdict a, enum mos_verdict b) {
    return a == MOS_BAD || b == MOS_BAD ? MOS_BAD : a == MOS_OPEN || b == MOS_OPEN ? MOS_OPEN : a;
}

/* item.c: a property's value; why and broken are set where it is bad. */
enum mos_verdict mos_judge_value(struct mos_judge *j, struct mos_schema s,
                                 const struct mos_dt_node *node, const struct mos_dt_property *p);
/* judge.c: does a schema fit a node?  false too where that cannot be told. */
bool mos_judge_fits(struct mos_bindings *b, struct mos_schema s, const struct mos_dt_node *node);
/* A text, such as a node's name. */
enum mos_verdict mos_judge_text(struct mos_judge *j, struct mos_schema s, const char *text);

#endif
