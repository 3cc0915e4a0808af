/* What cannot work in a tree, whatever else there is: devices below a bus that is off, names that
 * lead nowhere, voltages, supplies in a circle, parts beyond their chip. */
#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"
#include "rules/tree-view.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* ---- below what is off ---- */

/* Do our files want this device? */
static bool is_wanted(const struct mos_dt_node *n) {
    const struct mos_dt_property *status = mos_dt_property(n, "status");
    if (!mos_dt_property(n, "compatible") || !mos_dt_is_on(n))
        return false;
    return mos_tree_has_our_node(n) || mos_tree_is_ours(status);
}

static void check_below(struct mos_tree_view *v, const struct mos_dt_node *n) {
    const struct mos_dt_node *down = n->parent ? mos_dt_off(n->parent) : NULL;
    if (!down || !is_wanted(n))
        return;
    for (const struct mos_dt_node *p = n->parent; p != down->parent; p = p->parent)
        if (is_wanted(p))
            return; /* it was told of that one */
    const struct mos_dt_property *status = mos_dt_property(down, "status");
    const struct mos_dt_property *own = mos_dt_property(n, "status");
    unsigned who = n->added_by || !own ? n->added_by : own->set_by;
    if (mos_tree_is_ours(status) && status->set_by == who)
        return; /* switched off by whoever wrote it */
    struct mos_finding *f =
        mos_tree_tell(v, MOS_RULE_TREE_BUS_OFF, n, NULL,
                      mos_printf(v->arena, "%s lies below %s, which is switched off.",
                                 mos_tree_path(v, n), mos_tree_path(v, down)));
    if (!f)
        return;
    mos_finding_at(v->list, f, mos_tree_place(v, down, status));
    mos_finding_why(v->list, f, "The kernel does not look at anything below it.");
    mos_finding_try(v->list, f, "Set status = \"okay\" in %s, too.", mos_tree_path(v, down));
}

/* ---- words ---- */

/* What is none of the words that the specification has (v0.4, section 2.3.4) switches nothing on.
 */
static void check_status(struct mos_tree_view *v, const struct mos_dt_node *n) {
    const struct mos_dt_property *p = mos_dt_property(n, "status");
    const char *word = p ? mos_dt_string(n, "status") : NULL;
    if (!mos_tree_is_ours(p) ||
        (word && (mos_dt_is_on(n) || strcmp(word, "disabled") == 0 ||
                  strcmp(word, "reserved") == 0 || strncmp(word, "fail", 4) == 0)))
        return;
    struct mos_finding *f = mos_tree_tell(
        v, MOS_RULE_TREE_SWITCHED_OFF, n, p,
        mos_printf(v->arena, "%s is switched off: its status is %s%s%s.", mos_tree_path(v, n),
                   word ? "\"" : "", word ? word : "no text", word ? "\"" : ""));
    if (!f)
        return;
    mos_finding_why(v->list, f, "Only \"okay\" switches a device on.");
    mos_finding_try(v->list, f, "Write \"okay\" or \"disabled\".");
}

/* ---- aliases ---- */

static void check_aliases(struct mos_tree_view *v, const struct mos_dt_node *aliases) {
    for (const struct mos_dt_property *p = aliases->properties; p; p = p->next) {
        const char *to = mos_dt_string(aliases, p->name);
        if (!mos_tree_is_ours(p) || strcmp(p->name, "phandle") == 0)
            continue;
        const char *path = to && *to == '/' ? mos_strndup(v->arena, to, strcspn(to, ":")) : NULL;
        if (path && mos_dt_find(v->dt, path))
            continue;
        struct mos_finding *f =
            mos_tree_tell(v, MOS_RULE_TREE_NODE_MISSING, aliases, p,
                          mos_printf(v->arena, "The alias %s is %s, and there is no such node.",
                                     p->name, to ? to : "no text"));
        if (!f)
            return;
        mos_finding_why(v->list, f, "The device keeps no number of its own, or another one.");
        mos_finding_try(v->list, f, "Write the path of a node, or a label: %s = &LABEL;.", p->name);
    }
}

/* ---- endpoints ---- */

static void tell_alone(struct mos_tree_view *v, const struct mos_dt_node *n,
                       const struct mos_dt_property *p, const struct mos_dt_node *peer,
                       const char *text) {
    struct mos_finding *f = mos_tree_tell(v, MOS_RULE_TREE_ENDPOINT_ALONE, n, p, text);
    if (!f)
        return;
    if (peer)
        mos_finding_at(v->list, f,
                       mos_tree_place(v, peer, mos_dt_property(peer, "remote-endpoint")));
    mos_finding_why(v->list, f, "A driver follows the links from both sides, and finds no device.");
    mos_finding_try(v->list, f, "Set remote-endpoint in both endpoints, each to the other one.");
}

/* Both lead to each other: is the partner's device there? */
static void check_partner(struct mos_tree_view *v, const struct mos_dt_node *n,
                          const struct mos_dt_property *p, const struct mos_dt_node *peer) {
    const struct mos_dt_node *down = mos_dt_off(peer);
    if (!down || !p->set_by)
        return;
    struct mos_finding *f = mos_tree_tell(
        v, MOS_RULE_TREE_PROVIDER_OFF, n, p,
        mos_printf(v->arena, "%s leads to %s, and %s is switched off.", mos_tree_path(v, n),
                   mos_tree_path(v, peer), mos_tree_path(v, down)));
    if (!f)
        return;
    mos_finding_at(v->list, f, mos_tree_place(v, down, mos_dt_property(down, "status")));
    mos_finding_why(v->list, f, "A chain of devices waits until all of them are there.");
    mos_finding_try(v->list, f, "Set status = \"okay\" in %s.", mos_tree_path(v, down));
}

static void check_endpoint(struct mos_tree_view *v, const struct mos_dt_node *n) {
    const struct mos_dt_property *p = mos_dt_property(n, "remote-endpoint");
    bool is_one = strncmp(n->name, "endpoint", 8) == 0 && (!n->name[8] || n->name[8] == '@');
    if (!p) {
        if (is_one && n->added_by)
            tell_alone(v, n, NULL, NULL,
                       mos_printf(v->arena, "%s has no remote-endpoint.", mos_tree_path(v, n)));
        return;
    }
    uint32_t own = 0, back = 0, number;
    if (!mos_tree_is_ours(p) || !mos_dt_cell(n, "remote-endpoint", &number))
        return;
    const struct mos_dt_node *peer = mos_dt_by_phandle(&v->phandles, number);
    if (peer && mos_dt_cell(peer, "remote-endpoint", &back) && mos_dt_cell(n, "phandle", &own) &&
        back == own) {
        check_partner(v, n, p, peer);
        return;
    }
    if (!peer)
        tell_alone(
            v, n, p, NULL,
            mos_printf(v->arena, "remote-endpoint of %s leads nowhere.", mos_tree_path(v, n)));
    else
        tell_alone(v, n, p, peer,
                   mos_printf(v->arena, "%s leads to %s, which does not lead back.",
                              mos_tree_path(v, n), mos_tree_path(v, peer)));
}

/* ---- voltages ---- */

struct voltage {
    uint32_t least, most; /* microvolts */
    const struct mos_dt_property *least_at, *most_at;
};

/* false: it does not say both. */
static bool voltage_of(const struct mos_dt_node *n, struct voltage *u) {
    u->least_at = mos_dt_property(n, "regulator-min-microvolt");
    u->most_at = mos_dt_property(n, "regulator-max-microvolt");
    return mos_dt_cell(n, "regulator-min-microvolt", &u->least) &&
           mos_dt_cell(n, "regulator-max-microvolt", &u->most);
}

static const char *volts(const struct mos_tree_view *v, uint32_t microvolts) {
    uint32_t thousandths = microvolts / 1000;
    if (thousandths % 1000 == 0)
        return mos_printf(v->arena, "%u V", thousandths / 1000);
    char *text = mos_printf(v->arena, "%u.%03u", thousandths / 1000, thousandths % 1000);
    size_t n = strlen(text);
    while (text[n - 1] == '0')
        text[--n] = 0;
    return mos_printf(v->arena, "%s V", text);
}

static const char *range_text(const struct mos_tree_view *v, const struct voltage *u) {
    return u->least == u->most
               ? volts(v, u->least)
               : mos_printf(v->arena, "%s to %s", volts(v, u->least), volts(v, u->most));
}

static void check_regulator(struct mos_tree_view *v, const struct mos_dt_node *n) {
    struct voltage u;
    if (!voltage_of(n, &u) || (!mos_tree_is_ours(u.least_at) && !mos_tree_is_ours(u.most_at)))
        return;
    bool fixed = mos_dt_is_compatible(n, "regulator-fixed") && u.least != u.most;
    if (u.least <= u.most && !fixed)
        return;
    const struct mos_dt_property *first = mos_tree_is_ours(u.least_at) ? u.least_at : u.most_at;
    struct mos_finding *f = mos_tree_tell(
        v, MOS_RULE_TREE_VOLTAGE, n, first,
        u.least > u.most ? mos_printf(v->arena, "%s gives at least %s and at most %s.",
                                      mos_tree_path(v, n), volts(v, u.least), volts(v, u.most))
                         : mos_printf(v->arena, "%s is a fixed regulator, and gives %s.",
                                      mos_tree_path(v, n), range_text(v, &u)));
    if (!f)
        return;
    mos_finding_at(v->list, f, mos_tree_place(v, n, first == u.least_at ? u.most_at : u.least_at));
    mos_finding_why(v->list, f, "The kernel refuses the regulator, and all that it feeds.");
    mos_finding_try(v->list, f, "Correct one of the two limits.");
}

static const struct mos_dt_node *supply_of(const struct mos_tree_view *v,
                                           const struct mos_dt_node *n, const char *name) {
    uint32_t number;
    return mos_dt_cell(n, name, &number) ? mos_dt_by_phandle(&v->phandles, number) : NULL;
}

/* A consumer's property that needs a voltage of one of its supplies. */
static const struct need {
    const char *property, *supply; /* property: its beginning where it ends with "-" */
    uint32_t least, most;          /* microvolts: one between is enough */
} needs[] = {
    {"sd-uhs-", "vqmmc-supply", 1700000, 1950000},
    {"mmc-hs200-1_8v", "vqmmc-supply", 1700000, 1950000},
    {"mmc-hs400-1_8v", "vqmmc-supply", 1700000, 1950000},
    {"mmc-ddr-1_8v", "vqmmc-supply", 1700000, 1950000},
    {"mmc-hs200-1_2v", "vqmmc-supply", 1100000, 1300000},
    {"mmc-hs400-1_2v", "vqmmc-supply", 1100000, 1300000},
    {"mmc-ddr-1_2v", "vqmmc-supply", 1100000, 1300000},
    {"mmc-ddr-3_3v", "vqmmc-supply", 2700000, 3600000},
};

static const struct mos_dt_property *needing(const struct mos_dt_node *n, const char *name) {
    size_t k = strlen(name);
    if (name[k - 1] != '-')
        return mos_dt_property(n, name);
    for (const struct mos_dt_property *p = n->properties; p; p = p->next)
        if (strncmp(p->name, name, k) == 0)
            return p;
    return NULL;
}

static bool any_is_ours(const struct mos_dt_property *a, const struct mos_dt_property *b,
                        const struct mos_dt_property *c, const struct mos_dt_property *d) {
    return mos_tree_is_ours(a) || mos_tree_is_ours(b) || mos_tree_is_ours(c) || mos_tree_is_ours(d);
}

static void check_need(struct mos_tree_view *v, const struct mos_dt_node *n,
                       const struct need *need) {
    const struct mos_dt_property *p = needing(n, need->property),
                                 *by = mos_dt_property(n, need->supply);
    const struct mos_dt_node *r = p && by ? supply_of(v, n, need->supply) : NULL;
    struct voltage u;
    if (!r || !voltage_of(r, &u) || u.least > u.most ||
        (u.least <= need->most && u.most >= need->least) ||
        !any_is_ours(p, by, u.least_at, u.most_at))
        return;
    struct mos_finding *f =
        mos_tree_tell(v, MOS_RULE_TREE_VOLTAGE, n, mos_tree_is_ours(p) ? p : by,
                      mos_printf(v->arena, "%s has %s, which needs %s; %s gives %s.",
                                 mos_tree_path(v, n), p->name,
                                 volts(v, need->least > 2000000   ? 3300000
                                          : need->least > 1500000 ? 1800000
                                                                  : 1200000),
                                 mos_tree_path(v, r), range_text(v, &u)));
    if (!f)
        return;
    mos_finding_at(v->list, f, mos_tree_place(v, r, u.most_at));
    mos_finding_why(v->list, f, "The mode is agreed upon, and fails at the first transfer.");
    mos_finding_try(v->list, f, "Remove %s, or let the regulator reach that voltage.", p->name);
}

/* Operating points of a processor against what feeds it. */
static void check_points(struct mos_tree_view *v, const struct mos_dt_node *n) {
    const struct mos_dt_property *by = mos_dt_property(n, "cpu-supply");
    const struct mos_dt_node *r = by ? supply_of(v, n, "cpu-supply") : NULL,
                             *table = supply_of(v, n, "operating-points-v2");
    struct voltage u;
    if (!r || !table || !voltage_of(r, &u) || u.least > u.most)
        return;
    for (const struct mos_dt_node *o = table->first_child; o; o = o->next) {
        const struct mos_dt_property *p = mos_dt_property(o, "opp-microvolt");
        if (!p || p->length < 4 || !mos_dt_is_on(o) || !any_is_ours(p, by, u.least_at, u.most_at))
            continue;
        bool three = p->length >= 12;
        uint32_t least = mos_be32(p->data + (three ? 4 : 0)),
                 most = mos_be32(p->data + (three ? 8 : 0));
        if (most >= u.least && least <= u.most)
            continue;
        struct mos_finding *f = mos_tree_tell(
            v, MOS_RULE_TREE_VOLTAGE, o, p,
            mos_printf(v->arena, "%s needs %s; %s gives %s.", mos_tree_path(v, o),
                       volts(v, mos_be32(p->data)), mos_tree_path(v, r), range_text(v, &u)));
        if (!f)
            return;
        f->severity = MOS_SEVERITY_WARNING;
        mos_finding_at(v->list, f, mos_tree_place(v, r, u.most_at));
        mos_finding_why(v->list, f, "The kernel leaves the operating point out.");
        mos_finding_try(v->list, f, "Widen the regulator's limits, or remove the point.");
    }
}

/* ---- supplies in a circle ---- */

/* Does a chain of supplies lead from `n` to `goal`?  ours: one of its links is. */
static bool leads_to(const struct mos_tree_view *v, const struct mos_dt_node *n,
                     const struct mos_dt_node *goal, unsigned depth, bool *ours) {
    enum { DEEPEST = 12 };
    for (const struct mos_dt_property *p = n->properties; p && depth < DEEPEST; p = p->next) {
        const struct mos_dt_node *r =
            mos_text_ends(p->name, "-supply") && p->length == 4 ? supply_of(v, n, p->name) : NULL;
        if (!r || !(r == goal || leads_to(v, r, goal, depth + 1, ours)))
            continue;
        *ours |= mos_tree_is_ours(p);
        return true;
    }
    return false;
}

static void check_loop(struct mos_tree_view *v, const struct mos_dt_node *n) {
    for (const struct mos_dt_property *p = n->properties; p; p = p->next) {
        bool ours = mos_tree_is_ours(p);
        const struct mos_dt_node *r =
            mos_text_ends(p->name, "-supply") && p->length == 4 ? supply_of(v, n, p->name) : NULL;
        if (!r || !ours || !(r == n || leads_to(v, r, n, 0, &ours)))
            continue;
        if (v->loop && leads_to(v, n, v->loop, 0, &ours))
            return; /* it is the same circle */
        v->loop = n;
        struct mos_finding *f =
            mos_tree_tell(v, MOS_RULE_TREE_SUPPLY_LOOP, n, p,
                          r == n ? mos_printf(v->arena, "%s is fed by itself.", mos_tree_path(v, n))
                                 : mos_printf(v->arena, "%s is fed by %s, which it feeds itself.",
                                              mos_tree_path(v, n), mos_tree_path(v, r)));
        if (!f)
            return;
        if (r != n)
            mos_finding_at(v->list, f, mos_tree_place(v, r, NULL));
        mos_finding_why(v->list, f, "Each waits for the other one, and neither is ever there.");
        mos_finding_try(v->list, f, "Correct %s: it is what the regulator is fed by.", p->name);
        return;
    }
}

/* ---- parts of chips ---- */

/* Memory chips whose names have their size in them. */
static const struct chip {
    const char *begin;
    enum {
        MEGABITS,
        KILOBITS,
        BEGINS, /* megabits are the first digits of a longer number: 12835 is 128 */
    } how;
} chips[] = {
    {"w25q", MEGABITS},   {"w25m", MEGABITS},   {"gd25q", MEGABITS},  {"gd25lq", MEGABITS},
    {"xm25qh", MEGABITS}, {"mx25l", BEGINS},    {"mx25u", BEGINS},    {"mx66l", BEGINS},
    {"mx66u", BEGINS},    {"n25q", MEGABITS},   {"mt25ql", MEGABITS}, {"mt25qu", MEGABITS},
    {"s25fl", MEGABITS},  {"is25lp", MEGABITS}, {"is25wp", MEGABITS}, {"en25q", MEGABITS},
    {"m25p", MEGABITS},   {"24c", KILOBITS},
};

static uint64_t number_that_begins(const char *digits, size_t count) {
    static const unsigned sizes[] = {128, 256, 512, 64, 32, 16};
    char text[8];
    for (size_t i = 0; count >= 4 && i < sizeof sizes / sizeof *sizes; i++) {
        int n = snprintf(text, sizeof text, "%u", sizes[i]);
        if (strncmp(digits, text, (size_t)n) == 0)
            return sizes[i];
    }
    return 0;
}

/* In bytes; 0: not known. */
static uint64_t size_in_name(const char *name) {
    const char *comma = strchr(name, ','), *part = comma ? comma + 1 : name;
    for (size_t i = 0; i < sizeof chips / sizeof *chips; i++) {
        size_t n = strlen(chips[i].begin);
        size_t count = strncmp(part, chips[i].begin, n) == 0 ? strspn(part + n, "0123456789") : 0;
        const char *digits = part + n;
        if (!count || count > 5)
            continue;
        uint64_t number = strtoul(digits, NULL, 10);
        bool giga = chips[i].how != KILOBITS && digits[count] == 'g', few = number < 16;
        if (giga)
            number *= 1024;
        else if (chips[i].how == BEGINS)
            number = number_that_begins(digits, count);
        else if (chips[i].how == MEGABITS && few && *digits == '0')
            return 0; /* 01 may be a gigabit */
        if (!number || number > 4096 || (number & (number - 1)))
            return 0;
        return (number << (chips[i].how == KILOBITS ? 10 : 20)) / 8;
    }
    return 0;
}

/* How large a flash or memory chip is, and where that is said; 0: it is not known. */
static uint64_t chip_size(const struct mos_tree_view *v, const struct mos_dt_node *chip,
                          struct mos_place *where) {
    const struct mos_dt_property *names = mos_dt_property(chip, "compatible"),
                                 *reg = mos_dt_property(chip, "reg"),
                                 *own = mos_dt_property(chip, "size");
    uint32_t a = chip->parent ? mos_dt_address_cells(chip->parent) : 0,
             s = chip->parent ? mos_dt_size_cells(chip->parent) : 0, number;
    *where = mos_tree_place(v, chip, names);
    if (own && mos_dt_cell(chip, "size", &number)) {
        *where = mos_tree_place(v, chip, own);
        return number;
    }
    if (mos_dt_is_compatible(chip, "cfi-flash") || mos_dt_is_compatible(chip, "jedec-flash") ||
        mos_dt_is_compatible(chip, "mtd-ram")) {
        uint64_t sum = 0;
        size_t row = 4 * ((size_t)a + s);
        for (size_t at = 0; reg && row && s && at + row <= reg->length; at += row)
            sum += mos_dt_number(reg->data + at + 4 * (size_t)a, s);
        *where = mos_tree_place(v, chip, reg);
        return sum;
    }
    size_t at = 0;
    for (const char *text; (text = mos_dt_next_string(names, &at));) {
        uint64_t size = size_in_name(text);
        if (size)
            return size;
    }
    const struct mos_hardware *h = v->plan->board->hardware;
    for (size_t i = 0; h && i < h->media.count; i++) {
        const struct mos_medium *m = h->media.items[i];
        if (!mos_has(m->node) || mos_dt_find(v->dt, m->node->text) != chip || !m->size ||
            !mos_has(m->size->at_least))
            continue;
        *where = m->size->at_least->place;
        return m->size->at_least->number;
    }
    return 0;
}

struct part {
    uint64_t from, size;
    const struct mos_dt_node *node;
    const struct mos_dt_property *reg;
};

static int by_offset(const void *a, const void *b) {
    const struct part *x = a, *y = b;
    return (x->from > y->from) - (x->from < y->from);
}

static struct mos_vec parts_of(const struct mos_tree_view *v, const struct mos_dt_node *table) {
    struct mos_vec parts = mos_vec_make(v->arena, sizeof(struct part));
    uint32_t a = mos_dt_address_cells(table), s = mos_dt_size_cells(table);
    for (const struct mos_dt_node *n = table->first_child; n; n = n->next) {
        const struct mos_dt_property *reg = mos_dt_property(n, "reg");
        if (!reg || !a || !s || a > 2 || s > 2 || reg->length != 4 * (size_t)(a + s) ||
            !mos_dt_is_on(n))
            continue;
        struct part *p = mos_vec_push(&parts);
        *p = (struct part){mos_dt_number(reg->data, a), mos_dt_number(reg->data + 4 * (size_t)a, s),
                           n, reg};
    }
    if (parts.count)
        qsort(parts.items, parts.count, sizeof(struct part), by_offset);
    return parts;
}

static const char *span_text(const struct mos_tree_view *v, const struct part *p) {
    return mos_printf(v->arena, "0x%llx to 0x%llx", (unsigned long long)p->from,
                      (unsigned long long)(p->from + p->size));
}

static void check_parts(struct mos_tree_view *v, const struct mos_dt_node *table,
                        const struct mos_dt_node *chip, bool apart) {
    struct mos_place where;
    uint64_t size = chip_size(v, chip, &where), end = 0;
    struct mos_vec parts = parts_of(v, table);
    const struct part *last = NULL;
    for (size_t i = 0; i < parts.count; i++) {
        const struct part *p = mos_vec_at(&parts, i);
        bool ours = mos_tree_is_ours(p->reg);
        struct mos_finding *f = NULL;
        if (size && p->from + p->size > size && (ours || mos_tree_has_our_node(chip))) {
            f = mos_tree_tell(v, MOS_RULE_TREE_PARTITION_OUTSIDE, p->node, p->reg,
                              mos_printf(v->arena, "%s ends at 0x%llx; %s has %s.",
                                         mos_tree_path(v, p->node),
                                         (unsigned long long)(p->from + p->size), chip->name,
                                         mos_size_text(v->arena, size)));
            if (f)
                mos_finding_at(v->list, f, where);
        } else if (apart && last && p->from < end && (ours || mos_tree_is_ours(last->reg))) {
            f = mos_tree_tell(v, MOS_RULE_TREE_PARTITION_OUTSIDE, p->node, p->reg,
                              mos_printf(v->arena, "%s and %s overlap: %s and %s.",
                                         last->node->name, p->node->name, span_text(v, last),
                                         span_text(v, p)));
            if (f)
                mos_finding_at(v->list, f, mos_tree_place(v, last->node, last->reg));
        }
        if (f) {
            mos_finding_why(v->list, f, "What is written to one of them is not where it seems.");
            mos_finding_try(v->list, f, "Correct the reg of %s.", p->node->name);
        }
        if (p->from + p->size > end) {
            end = p->from + p->size;
            last = p;
        }
    }
}

static bool is_memory_chip(const struct mos_dt_node *n) {
    return mos_dt_is_like(n, "24c") || mos_dt_is_like(n, "eeprom");
}

/* ---- reserved memory that is not there ---- */

static void check_reserved(struct mos_tree_view *v) {
    const struct mos_hardware *h = v->plan->board->hardware;
    for (size_t i = 0; h && h->ram.count && i < v->claims.count; i++) {
        const struct mos_dt_claim *c = mos_vec_at(&v->claims, i);
        bool inside = c->kind != MOS_DT_CLAIM_MEMORY || !mos_tree_is_ours(c->property);
        const struct mos_ram *last = NULL;
        for (size_t k = 0; k < h->ram.count && !inside; k++) {
            const struct mos_ram *r = h->ram.items[k];
            uint64_t most = 0;
            if (r->r.broken || !mos_has(r->start))
                return;
            for (size_t s = 0; s < r->sizes.count; s++)
                if (mos_has(r->sizes.items[s]))
                    most = mos_max(most, r->sizes.items[s]->number);
            if (!most)
                return;
            last = r;
            inside = c->from >= r->start->number && c->from + c->count <= r->start->number + most;
        }
        if (inside)
            continue;
        struct mos_finding *f = mos_tree_tell(
            v, MOS_RULE_TREE_RESERVED_OVERLAP, c->node, c->property,
            mos_printf(v->arena, "%s reserves 0x%llx to 0x%llx, where the board has no RAM.",
                       mos_tree_path(v, c->node), (unsigned long long)c->from,
                       (unsigned long long)(c->from + c->count)));
        if (!f)
            return;
        mos_finding_at(v->list, f, last->r.key_place);
        mos_finding_why(v->list, f, "The kernel reserves nothing there, and its driver fails.");
        mos_finding_try(v->list, f, "Move it into RAM that is fitted.");
    }
}

/* ---- all of it ---- */

static bool check_node(void *self, struct mos_dt_node *n) {
    struct mos_tree_view *v = self;
    if (mos_dt_has_free_names(n))
        return true;
    check_status(v, n);
    check_below(v, n);
    if (mos_dt_off(n))
        return true;
    check_endpoint(v, n);
    check_regulator(v, n);
    check_loop(v, n);
    check_points(v, n);
    for (size_t i = 0; i < sizeof needs / sizeof *needs; i++)
        check_need(v, n, &needs[i]);
    if (n->parent && mos_dt_is_compatible(n, "fixed-partitions"))
        check_parts(v, n, n->parent, true);
    else if (is_memory_chip(n) && n->first_child)
        check_parts(v, n, n, false);
    return true;
}

void mos_tree_check_sense(struct mos_tree_view *v) {
    const struct mos_dt_node *aliases = mos_dt_child(v->dt->root, "aliases");
    mos_dt_walk(v->dt->root, check_node, v);
    if (aliases)
        check_aliases(v, aliases);
    check_reserved(v);
}
