/* Why symbols of a settled configuration have the values that they have. */
#ifndef MOS_KCONFIG_WHY_H
#define MOS_KCONFIG_WHY_H

#include "kconfig/values.h"

/* An expression with the value of each of its symbols: "NET (y) && (USB (n) || PCI (m))". */
const char *mos_kc_expr_text(struct mos_kc_config *c, const struct mos_kc_expr *e);
/* The parts of an expression that keep it below `wanted`, in the same form; "" if nothing does. */
const char *mos_kc_unmet(struct mos_kc_config *c, const struct mos_kc_expr *e, enum mos_tri wanted);

enum mos_kc_reason {
    MOS_KC_KEPT,
    MOS_KC_NO_SYMBOL,  /* the tree has none of that name */
    MOS_KC_NO_VALUE,   /* it cannot have such a value: `text` says why */
    MOS_KC_NO_PROMPT,  /* nobody can ask for it */
    MOS_KC_HIDDEN,     /* its prompt is not there, or only as a module: `text` is what is unmet */
    MOS_KC_BY_DEFAULT, /* nobody can ask for it here, and its default is more: `text` is unmet */
    MOS_KC_NO_MODULES, /* a module is asked for, and there are none: `by` is what has them */
    MOS_KC_SELECTED,   /* somebody wants more of it: `by` */
    MOS_KC_NOT_CHOSEN, /* another one of its choice is on: `by` */
    MOS_KC_OVERRULED,  /* a later setting asks for something else */
};

struct mos_kc_answer {
    enum mos_kc_reason reason;
    const struct mos_kc_symbol *symbol, *by;
    const char *text, *value; /* value: that it has */
};

/* What became of a request. */
struct mos_kc_answer mos_kc_answer(struct mos_kc_config *c, const struct mos_setting *setting);

#endif
