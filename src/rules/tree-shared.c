/* What two devices take that only one can have: lines, pins, channels, registers; and interrupts
 * that two of them want in different forms. */
#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"
#include "rules/tree-view.h"

#include <stdlib.h>
#include <string.h>

/* Did our files bring a claim about: do they set it, or switch on who makes it? */
static bool is_our_claim(const struct mos_dt_claim *c) {
    return mos_tree_is_ours(c->property) || mos_tree_is_ours(c->group) ||
           mos_tree_our_status(c->node);
}

/* The property to be shown for a claim: ours, if there is one. */
static const struct mos_dt_property *shown(const struct mos_dt_claim *c) {
    if (mos_tree_is_ours(c->property))
        return c->property;
    if (mos_tree_is_ours(c->group))
        return c->group;
    const struct mos_dt_property *status = mos_tree_our_status(c->node);
    return status ? status : c->property;
}

static bool is_below(const struct mos_dt_node *n, const struct mos_dt_node *above) {
    for (; n; n = n->parent)
        if (n == above)
            return true;
    return false;
}

static bool is_named(const struct mos_dt_property *p, const char *text) {
    return strstr(p->name, text) != NULL;
}

static bool is_regulator(const struct mos_dt_node *n) {
    return mos_dt_property(n, "regulator-name") || mos_dt_is_like(n, "regulator");
}

/* Two claims, that of our files behind the other one: it is shown first. */
static void put_ours_last(const struct mos_dt_claim **a, const struct mos_dt_claim **b) {
    const struct mos_dt_claim *first = *a;
    if (!is_our_claim(*a) || is_our_claim(*b))
        return;
    *a = *b;
    *b = first;
}

/* ---- order ---- */

static int by_thing(const void *x, const void *y) {
    const struct mos_dt_claim *a = *(const struct mos_dt_claim *const *)x,
                              *b = *(const struct mos_dt_claim *const *)y;
    if (a->kind != b->kind)
        return a->kind < b->kind ? -1 : 1;
    if (a->of != b->of)
        return a->of < b->of ? -1 : 1;
    if ((a->name != NULL) != (b->name != NULL))
        return a->name ? 1 : -1;
    int c = a->name ? strcmp(a->name, b->name) : (a->from > b->from) - (a->from < b->from);
    return c ? c : (a > b) - (a < b); /* as in the tree */
}

static bool same_thing(const struct mos_dt_claim *a, const struct mos_dt_claim *b) {
    return a->kind == b->kind && a->of == b->of && (a->name != NULL) == (b->name != NULL) &&
           (a->name ? strcmp(a->name, b->name) == 0 : a->from == b->from);
}

/* ---- telling ---- */

static const char *thing(const struct mos_tree_view *v, const struct mos_dt_claim *c) {
    const char *of = c->of ? mos_tree_path(v, c->of) : "";
    unsigned shift = c->split;
    if (!c->name && shift)
        return mos_printf(v->arena, "%s %u %u of %s", mos_dt_claim_word(c->kind),
                          (unsigned)(c->from >> shift), (unsigned)(c->from & ((1ull << shift) - 1)),
                          of);
    if (c->name)
        return mos_printf(v->arena, "%s %s of %s", mos_dt_claim_word(c->kind), c->name, of);
    if (c->from > 0xffff)
        return mos_printf(v->arena, "%s 0x%llx of %s", mos_dt_claim_word(c->kind),
                          (unsigned long long)c->from, of);
    return mos_printf(v->arena, "%s %llu of %s", mos_dt_claim_word(c->kind),
                      (unsigned long long)c->from, of);
}

static struct mos_finding *tell(struct mos_tree_view *v, enum mos_rule_id rule,
                                const struct mos_dt_claim *a, const struct mos_dt_claim *b,
                                const char *text) {
    struct mos_finding *f = mos_tree_tell(v, rule, b->node, shown(b), text);
    if (f)
        mos_finding_at(v->list, f, mos_tree_place(v, a->node, shown(a)));
    return f;
}

static void tell_twice(struct mos_tree_view *v, const struct mos_dt_claim *a,
                       const struct mos_dt_claim *b, const char *why, const char *remedy) {
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_CLAIMED_TWICE, a, b,
             mos_printf(v->arena, "%s and %s both take %s.", mos_tree_path(v, a->node),
                        mos_tree_path(v, b->node), thing(v, b)));
    if (!f)
        return;
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "%s", remedy);
}

/* ---- what may be shared ---- */

static bool wants_interrupt(const struct mos_dt_claim *c) {
    return strncmp(c->property->name, "interrupts", 10) == 0;
}

/* Lines that drivers ask for together: what switches several things at once. */
static bool may_share_line(const struct mos_dt_claim *a, const struct mos_dt_claim *b) {
    if (wants_interrupt(a) && wants_interrupt(b))
        return true;
    if (is_regulator(a->node) && is_regulator(b->node))
        return true;
    static const char *const shared[] = {"reset", "powerdown", "shutdown"};
    for (size_t i = 0; i < sizeof shared / sizeof *shared; i++)
        if (is_named(a->property, shared[i]) && is_named(b->property, shared[i]))
            return true;
    return false;
}

static bool may_share(const struct mos_dt_claim *a, const struct mos_dt_claim *b) {
    switch (a->kind) {
    case MOS_DT_CLAIM_LINE:
        return may_share_line(a, b);
    case MOS_DT_CLAIM_PIN:
    case MOS_DT_CLAIM_PWM:
        return false;
    case MOS_DT_CLAIM_DMA:
        return a->flags != b->flags;
    default:
        return true;
    }
}

static void check_pair(struct mos_tree_view *v, const struct mos_dt_claim *a,
                       const struct mos_dt_claim *b) {
    static const struct {
        const char *why, *remedy;
    } rows[MOS_DT_CLAIM_KINDS] = {
        [MOS_DT_CLAIM_LINE] = {"A line is given to the first who asks; the other one's driver "
                               "fails.",
                               "Use another line, or switch off one of them."},
        [MOS_DT_CLAIM_PIN] = {"A pin has one user; the driver of the second one is refused.",
                              "Use another pin, or switch off one of them."},
        [MOS_DT_CLAIM_PWM] = {"A channel is given to the first who asks.",
                              "Use another channel, or switch off one of them."},
        [MOS_DT_CLAIM_DMA] = {"A request line has one user; data of the second one never moves.",
                              "Use another request line, or switch off one of them."},
    };
    if (may_share(a, b) || (!is_our_claim(a) && !is_our_claim(b)))
        return;
    put_ours_last(&a, &b);
    tell_twice(v, a, b, rows[a->kind].why, rows[a->kind].remedy);
}

/* Two trigger types on one interrupt. */
static void check_trigger(struct mos_tree_view *v, const struct mos_dt_claim *a,
                          const struct mos_dt_claim *b) {
    static const char *const words[] = {[1] = "rising edge",
                                        [2] = "falling edge",
                                        [3] = "both edges",
                                        [4] = "high level",
                                        [8] = "low level"};
    put_ours_last(&a, &b);
    uint32_t x = a->flags & MOS_DT_TRIGGER, y = b->flags & MOS_DT_TRIGGER;
    if (!x || !y || x == y || x > 8 || y > 8 || !words[x] || !words[y] ||
        (!is_our_claim(a) && !is_our_claim(b)))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_TRIGGER_DIFFERS, a, b,
             mos_printf(v->arena, "%s and %s want %s: %s and %s.", mos_tree_path(v, a->node),
                        mos_tree_path(v, b->node), thing(v, b), words[x], words[y]));
    if (!f)
        return;
    mos_finding_why(v->list, f, "An interrupt has one trigger: the kernel refuses the second one.");
    mos_finding_try(v->list, f,
                    "Write the same trigger in both, or give one of them another line.");
}

static void check_group(struct mos_tree_view *v, const struct mos_dt_claim *const *all,
                        size_t count) {
    enum { MOST_PAIRS = 64 };
    for (size_t i = 0; i < count && i < MOST_PAIRS; i++)
        for (size_t k = i + 1; k < count && k < MOST_PAIRS; k++) {
            const struct mos_dt_claim *a = all[i], *b = all[k];
            bool again = k && all[k - 1]->node == b->node && k - 1 > i;
            if (a->node == b->node || again)
                continue;
            if (a->kind == MOS_DT_CLAIM_INTERRUPT)
                check_trigger(v, a, b);
            else
                check_pair(v, a, b);
        }
}

/* ---- lines whose pin is something else ---- */

/* "gpio5" and "pin5" are the pin with that number. */
static bool is_number(const char *name, uint64_t number) {
    const char *digits = name + (strncmp(name, "gpio", 4) == 0  ? 4
                                 : strncmp(name, "pin", 3) == 0 ? 3
                                                                : 0);
    char *end;
    return digits != name && *digits >= '0' && *digits <= '9' &&
           strtoull(digits, &end, 10) == number && !*end;
}

static const struct mos_dt_claim *pin_claim(const struct mos_tree_view *v,
                                            const struct mos_dt_pin *pin,
                                            const struct mos_dt_node *but) {
    for (size_t i = 0; i < v->claims.count; i++) {
        const struct mos_dt_claim *c = mos_vec_at(&v->claims, i);
        if (c->kind == MOS_DT_CLAIM_PIN && c->of == pin->of && c->node != but &&
            (pin->name ? c->name && strcmp(c->name, pin->name) == 0
             : c->name ? is_number(c->name, pin->number)
                       : c->from == pin->number))
            return c;
    }
    return NULL;
}

static void check_muxed(struct mos_tree_view *v, const struct mos_dt_claim *line) {
    struct mos_dt_pin pin;
    if (!mos_dt_pin_of_line(v->arena, v->dt, &v->phandles, line->of, line->from, &pin))
        return;
    const struct mos_dt_claim *other = pin_claim(v, &pin, line->node);
    if (!other || is_below(line->node, other->node) || is_below(other->node, line->node) ||
        mos_dt_is_line_function(other) || (!is_our_claim(line) && !is_our_claim(other)))
        return;
    const char *function =
        other->function ? other->function : mos_printf(v->arena, "function %u", other->flags);
    struct mos_finding *f = tell(v, MOS_RULE_TREE_CLAIMED_TWICE, other, line,
                                 mos_printf(v->arena, "%s takes %s, whose pin %s makes %s.",
                                            mos_tree_path(v, line->node), thing(v, line),
                                            mos_tree_path(v, other->node), function));
    if (!f)
        return;
    mos_finding_why(v->list, f, "The pin is connected to that function, and no line any more.");
    mos_finding_try(v->list, f, "Use another line, or switch off one of them.");
}

/* ---- registers ---- */

static int by_start(const void *x, const void *y) {
    const struct mos_dt_claim *a = *(const struct mos_dt_claim *const *)x,
                              *b = *(const struct mos_dt_claim *const *)y;
    if (a->from != b->from)
        return a->from < b->from ? -1 : 1;
    return (a > b) - (a < b);
}

/* Registers that several drivers reach through one. */
static bool may_overlap(const struct mos_dt_node *n) {
    const char *type = mos_dt_string(n, "device_type");
    return mos_dt_is_compatible(n, "syscon") || mos_dt_is_compatible(n, "simple-mfd") ||
           mos_dt_is_compatible(n, "simple-bus") || (type && strcmp(type, "memory") == 0);
}

static void check_overlap(struct mos_tree_view *v, const struct mos_dt_claim *a,
                          const struct mos_dt_claim *b) {
    if (a->node == b->node || is_below(a->node, b->node) || is_below(b->node, a->node) ||
        may_overlap(a->node) || may_overlap(b->node) ||
        (!mos_tree_is_ours(a->property) && !mos_tree_is_ours(b->property)))
        return;
    struct mos_finding *f = tell(v, MOS_RULE_TREE_CLAIMED_TWICE, a, b,
                                 mos_printf(v->arena, "%s and %s both take the registers at %s.",
                                            mos_tree_path(v, a->node), mos_tree_path(v, b->node),
                                            mos_address_text(v->arena, mos_max(a->from, b->from))));
    if (!f)
        return;
    mos_finding_why(v->list, f,
                    "The first driver reserves 0x%llx to 0x%llx; the other one is refused.",
                    (unsigned long long)a->from, (unsigned long long)(a->from + a->count));
    mos_finding_try(v->list, f, "Correct the reg of one of them, or switch it off.");
}

static void check_registers(struct mos_tree_view *v, const struct mos_dt_claim **all,
                            size_t count) {
    if (count)
        qsort(all, count, sizeof *all, by_start);
    uint64_t end = 0;
    size_t widest = 0;
    for (size_t i = 0; i < count; i++) {
        if (i && all[i]->from < end)
            check_overlap(v, all[widest], all[i]);
        if (i && all[i - 1] != all[widest] && all[i]->from < all[i - 1]->from + all[i - 1]->count)
            check_overlap(v, all[i - 1], all[i]);
        if (all[i]->from + all[i]->count > end) {
            end = all[i]->from + all[i]->count;
            widest = i;
        }
    }
}

/* ---- reserved memory ---- */

static void check_reserved(struct mos_tree_view *v, const struct mos_dt_claim *a,
                           const struct mos_dt_claim *b) {
    if (a->node == b->node || (!mos_tree_is_ours(a->property) && !mos_tree_is_ours(b->property)))
        return;
    struct mos_finding *f = tell(v, MOS_RULE_TREE_RESERVED_OVERLAP, a, b,
                                 mos_printf(v->arena, "%s and %s both reserve the memory at %s.",
                                            mos_tree_path(v, a->node), mos_tree_path(v, b->node),
                                            mos_address_text(v->arena, mos_max(a->from, b->from))));
    if (!f)
        return;
    mos_finding_why(v->list, f, "%s is 0x%llx to 0x%llx, %s 0x%llx to 0x%llx.", a->node->name,
                    (unsigned long long)a->from, (unsigned long long)(a->from + a->count),
                    b->node->name, (unsigned long long)b->from,
                    (unsigned long long)(b->from + b->count));
    mos_finding_try(v->list, f, "Move one of them.");
}

void mos_tree_check_shared(struct mos_tree_view *v) {
    size_t count = v->claims.count, registers = 0, memory = 0;
    const struct mos_dt_claim **all = mos_alloc_array(v->arena, count, sizeof *all);
    const struct mos_dt_claim **some = mos_alloc_array(v->arena, count, sizeof *some);
    for (size_t i = 0; i < count; i++)
        all[i] = mos_vec_at(&v->claims, i);
    for (size_t i = 0; i < count; i++)
        if (all[i]->kind == MOS_DT_CLAIM_REGISTERS)
            some[registers++] = all[i];
    check_registers(v, some, registers);
    for (size_t i = 0; i < count; i++)
        if (all[i]->kind == MOS_DT_CLAIM_MEMORY)
            some[memory++] = all[i];
    if (memory)
        qsort(some, memory, sizeof *some, by_start);
    for (size_t i = 1; i < memory; i++)
        if (some[i]->from < some[i - 1]->from + some[i - 1]->count)
            check_reserved(v, some[i - 1], some[i]);
    for (size_t i = 0; i < count; i++)
        if (all[i]->kind == MOS_DT_CLAIM_LINE)
            check_muxed(v, all[i]);
    if (count)
        qsort(all, count, sizeof *all, by_thing);
    for (size_t i = 0, k; i < count; i = k) {
        for (k = i + 1; k < count && same_thing(all[i], all[k]);)
            k++;
        if (k - i > 1 && all[i]->of)
            check_group(v, all + i, k - i);
    }
}
