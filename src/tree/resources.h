/* What the enabled nodes of a tree take: register ranges, lines, pins, interrupts, channels. */
#ifndef MOS_TREE_RESOURCES_H
#define MOS_TREE_RESOURCES_H

#include "tree/claims.h"

enum mos_dt_claim_kind {
    MOS_DT_CLAIM_REGISTERS, /* of the processor's addresses */
    MOS_DT_CLAIM_ADDRESS,   /* on a bus whose addresses have no size */
    MOS_DT_CLAIM_LINE,      /* of a GPIO controller */
    MOS_DT_CLAIM_PIN,       /* of a pin controller, given a function */
    MOS_DT_CLAIM_INTERRUPT,
    MOS_DT_CLAIM_DMA,
    MOS_DT_CLAIM_PWM,
    MOS_DT_CLAIM_CLOCK,
    MOS_DT_CLAIM_RESET,
    MOS_DT_CLAIM_SUPPLY,
    MOS_DT_CLAIM_DOMAIN,
    MOS_DT_CLAIM_PHY,
    MOS_DT_CLAIM_MEMORY, /* reserved */
    MOS_DT_CLAIM_KINDS,
};

struct mos_dt_claim {
    enum mos_dt_claim_kind kind;
    const struct mos_dt_node *node;         /* that takes it */
    const struct mos_dt_property *property; /* by this */
    const struct mos_dt_node *of;           /* controller, provider or bus; NULL: the processor's */
    size_t entry;                           /* of the property, from 0 */
    uint64_t from, count; /* number, address or line; count is 1 but of ranges, 0: it has none */
    unsigned split;       /* a number of two cells: the upper one begins at this bit; 0: of one */
    const char *name;     /* a pin or group that has no number; or NULL */
    const struct mos_dt_property *group; /* of a pin: the list it stands in */
    const char *function;                /* … and what it is made; NULL: by number, in flags */
    uint32_t flags;                      /* of a line or interrupt; a pin's function */
};

/* One word for a kind: "pin", "interrupt". */
const char *mos_dt_claim_word(enum mos_dt_claim_kind kind);
/* What its node calls the entry (in clock-names, reg-names …); NULL: nothing. */
const char *mos_dt_claim_name(const struct mos_dt_claim *claim);
/* Trigger of an interrupt: bits as in include/dt-bindings/interrupt-controller/irq.h; 0: none is
 * stated. */
enum { MOS_DT_TRIGGER = 15 };

/* All claims of nodes that are not switched off, in the order of the tree; of struct mos_dt_claim.
 * What cannot be read (broken references, ranges that lead nowhere) is left out. */
struct mos_vec mos_dt_claims(struct mos_arena *arena, const struct mos_dt *dt,
                             const struct mos_dt_phandles *all);

/* The processor's address of `address` on the bus below `bus`; false: it has none. */
bool mos_dt_translate(const struct mos_dt_node *bus, uint64_t *address);
/* pins.c: pins that a node takes in the state that its driver starts with. */
void mos_dt_pins_of(struct mos_arena *arena, const struct mos_dt_phandles *all,
                    const struct mos_dt_node *node, struct mos_vec *claims);
/* The pin that a line of a GPIO controller is: *of its pin controller, as such a claim has it.
 * false: not known. */
struct mos_dt_pin {
    const struct mos_dt_node *of;
    uint64_t number;
    const char *name; /* NULL: the number */
};
bool mos_dt_pin_of_line(struct mos_arena *arena, const struct mos_dt *dt,
                        const struct mos_dt_phandles *all, const struct mos_dt_node *controller,
                        uint64_t line, struct mos_dt_pin *pin);
/* Is a pin's function that of a GPIO line? */
bool mos_dt_is_line_function(const struct mos_dt_claim *pin);

#endif
