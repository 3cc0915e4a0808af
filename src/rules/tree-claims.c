/* What nodes of a tree take of others: does each reference lead to something of that kind, with as
 * many cells as that takes, and does nobody else have the same? */
#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"
#include "tree/claims.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_TOLD = 12 }; /* of one tree: the rest follows from the same mistake, as a rule */

struct claims_view {
    const struct mos_plan *plan;
    const struct mos_dt *dt;
    struct mos_dt_phandles phandles;
    const struct mos_dt_node *node;         /* that is looked at */
    const struct mos_dt_property *property; /* … and of it */
    const struct mos_dt_kind *kind;
    struct mos_findings *list;
    struct mos_arena *arena;
    size_t told;
    bool theirs; /* the property is that of a blob from outside */
};

/* What a blob from outside says of itself is its maker's; what our files set in it is ours. */
static bool is_ours(const struct claims_view *v, const struct mos_dt_property *p) {
    return p && (!v->dt->from_blob || p->set_by || p->place.source);
}

static struct mos_place place_of(const struct claims_view *v, const struct mos_dt_node *n,
                                 const struct mos_dt_property *p) {
    return p && p->place.source ? p->place : n->place.source ? n->place : v->dt->place;
}

static struct mos_finding *tell(struct claims_view *v, enum mos_rule_id rule,
                                const struct mos_dt_property *p, const char *text) {
    if (++v->told > MOST_TOLD)
        return NULL;
    struct mos_finding *f = mos_find(v->list, rule, "%s", text);
    mos_finding_at(v->list, f, place_of(v, v->node, p));
    return f;
}

static const char *path(const struct claims_view *v, const struct mos_dt_node *n) {
    return mos_dt_path(v->arena, n);
}

/* ---- references ---- */

/* The label or path that stands in the source where the cells of an entry begin; NULL: a number. */
static const char *written(const struct claims_view *v, const struct mos_dt_reference *r) {
    size_t offset = (size_t)(r->arguments - v->property->data) - 4;
    for (size_t i = 0; i < v->property->marks.count; i++) {
        const struct mos_dt_mark *m = mos_vec_at(&v->property->marks, i);
        if (m->kind == MOS_DT_PHANDLE && m->offset == offset)
            return m->name;
    }
    return NULL;
}

static void tell_cut(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
             mos_printf(v->arena, "%s of %s: entry %zu has %zu cell%s behind %s, which takes %u.",
                        v->property->name, path(v, v->node), index + 1, r->left,
                        r->left == 1 ? "" : "s", path(v, r->provider), r->cells));
    if (!f)
        return;
    const struct mos_dt_property *cells = mos_dt_property(r->provider, v->kind->cells);
    mos_finding_at(v->list, f, place_of(v, r->provider, cells));
    mos_finding_why(v->list, f, "The kernel reads %s there, and refuses the whole property.",
                    v->kind->cells);
    mos_finding_try(v->list, f, "Write %u cell%s behind each reference to it.", r->cells,
                    r->cells == 1 ? "" : "s");
}

static bool is_set_by_us(const struct mos_dt_node *n, const char *property) {
    const struct mos_dt_property *p = n ? mos_dt_property(n, property) : NULL;
    return p && p->set_by;
}

/* Did our files bring about that this needs that, and that it is off?  What many devices do without
 * (DMA, a clock of several) must be written by an overlay of ours. */
static bool is_our_doing(const struct claims_view *v, const struct mos_dt_node *down) {
    if (v->property->set_by)
        return true;
    bool clock = strcmp(v->property->name, "clocks") == 0 && is_set_by_us(down, "status") &&
                 !mos_dt_property(v->node, "#clock-cells");
    return clock || (v->kind->must && (!v->theirs || is_set_by_us(v->node, "status") ||
                                       is_set_by_us(down, "status")));
}

/* Nobody provides it: the driver waits for ever. */
static void check_provider(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    const struct mos_dt_node *down = mos_dt_off(r->provider);
    if (!down || !is_our_doing(v, down))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_PROVIDER_OFF, v->property,
             mos_printf(v->arena, "%s of %s: entry %zu is %s, and %s is switched off.",
                        v->property->name, path(v, v->node), index + 1, path(v, r->provider),
                        down == r->provider ? "that" : path(v, down)));
    if (!f)
        return;
    mos_finding_at(v->list, f, place_of(v, down, mos_dt_property(down, "status")));
    mos_finding_why(v->list, f,
                    "The kernel puts the device off until it is there, which is never.");
    mos_finding_try(v->list, f, "Set status = \"okay\" in %s, or switch off %s.", path(v, down),
                    path(v, v->node));
}

static void try_below(const struct claims_view *v, struct mos_finding *f, uint64_t count) {
    if (count < 2)
        mos_finding_try(v->list, f, "Write 0: they are counted from 0.");
    else
        mos_finding_try(v->list, f, "Write one of 0 to %llu: they are counted from 0.",
                        (unsigned long long)count - 1);
}

/* A line that the controller has not. */
static void check_line(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    uint32_t lines;
    if (!v->kind->cells || strcmp(v->kind->cells, "#gpio-cells") != 0 || !r->cells ||
        !mos_dt_cell(r->provider, "ngpios", &lines) || mos_be32(r->arguments) < lines)
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BEYOND_LIMIT, v->property,
             mos_printf(v->arena, "%s of %s: entry %zu is line %u of %s, which has %u.",
                        v->property->name, path(v, v->node), index + 1, mos_be32(r->arguments),
                        path(v, r->provider), lines));
    if (!f)
        return;
    mos_finding_at(v->list, f, place_of(v, r->provider, mos_dt_property(r->provider, "ngpios")));
    mos_finding_why(v->list, f, "The kernel refuses the line, and the device that asks for it.");
    try_below(v, f, lines);
}

/* In a source, where others are labels, it is a cell that was left over. */
static void tell_left_over(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    struct mos_finding *f = tell(
        v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
        mos_printf(v->arena, "%s of %s: entry %zu begins with the number 0x%x, not with a label.",
                   v->property->name, path(v, v->node), index + 1, r->phandle));
    if (!f)
        return;
    mos_finding_why(v->list, f, "The entry before it takes fewer cells than are written.");
    mos_finding_try(v->list, f, "Write as many cells as it takes, or a label here.");
}

static void tell_no_node(struct claims_view *v, const char *what) {
    struct mos_finding *f = tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property, what);
    if (!f)
        return;
    mos_finding_why(v->list, f, "The kernel takes the property as if it were not there.");
    mos_finding_try(v->list, f, "Write a label: <&LABEL …>.");
}

static void tell_no_provider(struct claims_view *v, size_t index, const struct mos_dt_reference *r,
                             const char *name) {
    const char *shown =
        name ? mos_printf(v->arena, *name == '/' ? "&{%s}" : "&%s", name) : path(v, r->provider);
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
             mos_printf(v->arena, "%s of %s: entry %zu is %s, which has no %s.", v->property->name,
                        path(v, v->node), index + 1, shown, v->kind->cells));
    if (!f)
        return;
    mos_finding_at(v->list, f, place_of(v, r->provider, NULL));
    mos_finding_why(
        v->list, f,
        "It is nothing of that kind for the kernel, or too many cells stand before it.");
    mos_finding_try(v->list, f, "Name the node that has %s, or correct the cells before it.",
                    v->kind->cells);
}

static void check_form(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    const char *name = r->arguments ? written(v, r) : NULL;
    if (r->broken == MOS_DT_CUT)
        tell_cut(v, index, r);
    else if (r->provider && !name && v->property->marks.count)
        tell_left_over(v, index, r);
    else if (r->broken == MOS_DT_UNEVEN)
        tell_no_node(v, mos_printf(v->arena, "%s of %s has %zu bytes, which are no cells.",
                                   v->property->name, path(v, v->node), v->property->length));
    else if (r->broken == MOS_DT_NO_NODE)
        tell_no_node(v, mos_printf(v->arena,
                                   "%s of %s: entry %zu is 0x%x, which is the phandle of no node.",
                                   v->property->name, path(v, v->node), index + 1, r->phandle));
    else if (r->broken == MOS_DT_NO_PROVIDER)
        tell_no_provider(v, index, r, name);
}

static void each_reference(void *self, size_t index, const struct mos_dt_reference *r) {
    struct claims_view *v = self;
    if (r->provider && !r->broken)
        check_provider(v, index, r);
    if (!v->theirs && r->provider && !r->broken)
        check_line(v, index, r);
    if (!v->theirs)
        check_form(v, index, r);
}

/* As many names as there are things that they name. */
static void check_names(struct claims_view *v, const char *names, size_t count) {
    const struct mos_dt_property *p = names ? mos_dt_property(v->node, names) : NULL;
    size_t named = p ? mos_dt_string_count(p) : count;
    if (named <= count || (!is_ours(v, p) && !is_ours(v, v->property)))
        return;
    struct mos_finding *f = tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, p,
                                 mos_printf(v->arena, "%s of %s has %zu names; %s has %zu entr%s.",
                                            names, path(v, v->node), named, v->property->name,
                                            count, count == 1 ? "y" : "ies"));
    if (!f)
        return;
    mos_finding_at(v->list, f, place_of(v, v->node, v->property));
    mos_finding_why(v->list, f, "A driver that asks for the last of them by its name gets none.");
    mos_finding_try(v->list, f, "Name each entry once, in the same order.");
}

static void check_reference(struct claims_view *v) {
    size_t told = v->told;
    v->theirs = !is_ours(v, v->property);
    size_t count = mos_dt_references(&v->phandles, v->kind, v->property, each_reference, v);
    if (v->told == told && !v->theirs)
        check_names(v, v->kind->names, count);
}

static void check_interrupts(struct claims_view *v) {
    const struct mos_dt_node *parent = mos_dt_interrupt_parent(&v->phandles, v->node);
    uint32_t cells;
    if (!parent || !mos_dt_cell(parent, "#interrupt-cells", &cells) || !cells ||
        mos_dt_property(v->node, "interrupts-extended"))
        return;
    if (v->property->length % (4 * (size_t)cells) == 0) {
        check_names(v, "interrupt-names", v->property->length / (4 * (size_t)cells));
        return;
    }
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
             mos_printf(v->arena, "interrupts of %s has %zu cell%s; %s takes %u each.",
                        path(v, v->node), v->property->length / 4,
                        v->property->length == 4 ? "" : "s", path(v, parent), cells));
    if (!f)
        return;
    mos_finding_at(v->list, f, place_of(v, parent, mos_dt_property(parent, "#interrupt-cells")));
    mos_finding_why(v->list, f, "The kernel maps another interrupt, or none.");
    mos_finding_try(v->list, f, "Write %u cell%s for each interrupt.", cells,
                    cells == 1 ? "" : "s");
}

/* ---- addresses on a bus ---- */

static bool first_address(const struct mos_dt_node *n, uint32_t cells, uint64_t *out) {
    const struct mos_dt_property *reg = mos_dt_property(n, "reg");
    *out = 0;
    if (!reg || reg->length < 4 * (size_t)cells)
        return false;
    for (uint32_t i = 0; i < cells; i++)
        *out = *out << 32 | mos_be32(reg->data + 4 * (size_t)i);
    return true;
}

struct seat {
    uint64_t address;
    size_t order;
    const struct mos_dt_node *node;
};

static int by_address(const void *a, const void *b) {
    const struct seat *x = a, *y = b;
    if (x->address != y->address)
        return x->address < y->address ? -1 : 1;
    return (x->order > y->order) - (x->order < y->order);
}

static void tell_taken(struct claims_view *v, const struct mos_dt_node *bus, const struct seat *a,
                       const struct seat *b) {
    const struct mos_dt_property *p = mos_dt_property(a->node, "reg"),
                                 *q = mos_dt_property(b->node, "reg");
    if (!is_ours(v, p) && !is_ours(v, q))
        return;
    v->node = b->node;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_ADDRESS_TAKEN, q,
             mos_printf(v->arena, "%s and %s are both at 0x%llx of %s.", a->node->name,
                        b->node->name, (unsigned long long)a->address, path(v, bus)));
    if (!f)
        return;
    mos_finding_at(v->list, f, place_of(v, a->node, p));
    mos_finding_why(v->list, f, "The second one is refused by the bus: it is in use.");
    mos_finding_try(v->list, f, "Give one of them another reg, or set its status = \"disabled\".");
}

/* A bus whose addresses have no size: one device each. */
static void check_bus(struct claims_view *v, const struct mos_dt_node *bus) {
    uint32_t address, size;
    if (!mos_dt_cell(bus, "#address-cells", &address) || !mos_dt_cell(bus, "#size-cells", &size) ||
        size || !address || address > 2 || !bus->child_count)
        return;
    struct seat *seats = mos_alloc_array(v->arena, bus->child_count, sizeof *seats);
    size_t count = 0;
    for (const struct mos_dt_node *n = bus->first_child; n; n = n->next)
        if (count < bus->child_count && first_address(n, address, &seats[count].address) &&
            !mos_dt_off(n)) {
            seats[count].node = n;
            seats[count].order = count;
            count++;
        }
    if (count)
        qsort(seats, count, sizeof *seats, by_address);
    for (size_t i = 1; i < count; i++)
        if (seats[i - 1].address == seats[i].address)
            tell_taken(v, bus, &seats[i - 1], &seats[i]);
}

/* ---- chip selects ---- */

static void count_entry(void *self, size_t index, const struct mos_dt_reference *r) {
    (void)r;
    *(size_t *)self = index + 1;
}

/* As many as the controller says that it has, or as it has lines for them; 0: it does not say. */
static uint64_t selects_of(struct claims_view *v, const struct mos_dt_node *bus,
                           const struct mos_dt_property **where) {
    const struct mos_dt_property *lines = mos_dt_property(bus, "cs-gpios");
    size_t count = 0;
    uint32_t number = 0;
    *where = mos_dt_property(bus, "num-cs");
    mos_dt_cell(bus, "num-cs", &number);
    if (lines)
        mos_dt_references(&v->phandles, mos_dt_kind_of(bus, "cs-gpios"), lines, count_entry,
                          &count);
    *where = count > number ? lines : *where;
    return count > number ? count : number;
}

static void check_selects(struct claims_view *v, const struct mos_dt_node *bus) {
    const struct mos_dt_property *where;
    uint64_t selects = strncmp(bus->name, "spi", 3) == 0 ? selects_of(v, bus, &where) : 0, at;
    for (const struct mos_dt_node *n = selects ? bus->first_child : NULL; n; n = n->next) {
        const struct mos_dt_property *reg = mos_dt_property(n, "reg");
        if (mos_dt_off(n) || !first_address(n, 1, &at) || at < selects ||
            (!is_ours(v, reg) && !is_ours(v, where)))
            continue;
        v->node = n;
        struct mos_finding *f =
            tell(v, MOS_RULE_TREE_BEYOND_LIMIT, reg,
                 mos_printf(v->arena, "%s is at chip select %llu of %s, which has %llu.", n->name,
                            (unsigned long long)at, path(v, bus), (unsigned long long)selects));
        if (!f)
            return;
        mos_finding_at(v->list, f, place_of(v, bus, where));
        mos_finding_why(v->list, f, "The bus refuses the device, which never appears.");
        try_below(v, f, selects);
    }
}

static bool check_node(void *self, struct mos_dt_node *node) {
    struct claims_view *v = self;
    if (mos_dt_off(node))
        return true;
    for (const struct mos_dt_property *p = node->properties; p; p = p->next) {
        v->node = node;
        v->property = p;
        v->kind = mos_dt_kind_of(node, p->name);
        if (v->kind)
            check_reference(v);
        else if (strcmp(p->name, "interrupts") == 0 && is_ours(v, p))
            check_interrupts(v);
    }
    check_bus(v, node);
    check_selects(v, node);
    return true;
}

void mos_rule_tree_claims(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->blobs.count; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, i);
        struct claims_view v = {
            .plan = plan, .dt = b->tree, .list = &plan->ctx->findings, .arena = plan->ctx->arena};
        if (!b->tree || b->tree->overlay)
            continue;
        v.phandles = mos_dt_phandles_of(plan->ctx->arena, b->tree);
        mos_dt_walk(b->tree->root, check_node, &v);
        if (v.told > MOST_TOLD)
            mos_vec_push_pointer(&plan->ctx->not_proved,
                                 mos_printf(v.arena,
                                            "%zu more references of tree %s that are wrong, "
                                            "too: the first %d are told",
                                            v.told - MOST_TOLD, b->def->r.name, MOST_TOLD));
    }
}
