/* Addresses: do they fit the bus, is a node where its name says, and is nobody else there? */
#include "rules/rules.h"

#include "base/text.h"
#include "rules/tree-view.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

static const char *shown(const struct mos_tree_view *v, const struct mos_dt_node *n) {
    return n->parent ? mos_tree_path(v, n) : "the root";
}

/* ---- one node ---- */

static void check_width(struct mos_tree_view *v, const struct mos_dt_node *n,
                        const struct mos_dt_property *reg, uint32_t a, uint32_t s) {
    struct mos_finding *f =
        mos_tree_tell(v, MOS_RULE_TREE_CELLS, n, reg,
                      mos_printf(v->arena,
                                 "reg of %s has %zu cell%s; below %s each address takes %u and its "
                                 "size %u.",
                                 mos_tree_path(v, n), reg->length / 4, reg->length == 4 ? "" : "s",
                                 shown(v, n->parent), a, s));
    if (!f)
        return;
    mos_finding_why(v->list, f, "The kernel leaves such a device out, or takes another address.");
    mos_finding_try(v->list, f,
                    "Write %u cell%s for each, or change #address-cells and #size-cells above.",
                    a + s, a + s == 1 ? "" : "s");
}

/* The address in a node's name; false: there is none, or it is written in another way. */
static bool unit_address(const struct mos_dt_node *n, uint64_t *address) {
    const char *unit = strchr(n->name, '@');
    char *end;
    if (!unit || !isxdigit((unsigned char)unit[1]))
        return false;
    *address = strtoull(unit + 1, &end, 16);
    return !*end;
}

static void check_cells(struct mos_tree_view *v, const struct mos_dt_node *n) {
    const struct mos_dt_property *reg = mos_dt_property(n, "reg");
    if (!reg || !n->parent || !mos_tree_is_ours(reg))
        return;
    uint32_t a = mos_dt_address_cells(n->parent), s = mos_dt_size_cells(n->parent);
    size_t row = 4 * ((size_t)a + s);
    if (a > 4 || s > 4 || !row)
        return;
    if (reg->length % row || !reg->length) {
        check_width(v, n, reg, a, s);
        return;
    }
    uint64_t named, address = mos_dt_number(reg->data, a);
    const char *type = mos_dt_string(n->parent, "device_type");
    uint64_t everywhere = address;
    if (!a || a > 2 || (type && strcmp(type, "pci") == 0) || !unit_address(n, &named) ||
        address == named || (mos_dt_translate(n->parent, &everywhere) && everywhere == named) ||
        (!s && (address & 0x3fffffff) == named))
        return;
    struct mos_finding *f = mos_tree_tell(
        v, MOS_RULE_TREE_CELLS, n, reg,
        mos_printf(v->arena, "%s is at %s by its name, and at %s by its reg.", mos_tree_path(v, n),
                   mos_address_text(v->arena, named), mos_address_text(v->arena, address)));
    if (!f)
        return;
    f->severity = MOS_SEVERITY_WARNING; /* it works, and misleads */
    mos_finding_why(v->list, f, "The kernel goes by reg; below %s an address takes %u cell%s.",
                    shown(v, n->parent), a, a == 1 ? "" : "s");
    mos_finding_try(v->list, f, "State the same address in both.");
}

/* ---- addresses on a bus ---- */

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

static bool first_address(const struct mos_dt_node *n, uint32_t cells, uint64_t *out) {
    const struct mos_dt_property *reg = mos_dt_property(n, "reg");
    *out = reg && reg->length >= 4 * (size_t)cells ? mos_dt_number(reg->data, cells) : 0;
    return reg && reg->length >= 4 * (size_t)cells;
}

static void tell_taken(struct mos_tree_view *v, const struct mos_dt_node *bus, const struct seat *a,
                       const struct seat *b) {
    const struct mos_dt_property *p = mos_dt_property(a->node, "reg"),
                                 *q = mos_dt_property(b->node, "reg");
    bool first = mos_tree_is_ours(p) || mos_tree_our_status(a->node),
         second = mos_tree_is_ours(q) || mos_tree_our_status(b->node);
    if (!first && !second)
        return;
    if (first && !second) { /* ours is shown first */
        tell_taken(v, bus, b, a);
        return;
    }
    bool same = a->node->parent == b->node->parent;
    struct mos_finding *f = mos_tree_tell(
        v, MOS_RULE_TREE_ADDRESS_TAKEN, b->node, q,
        same ? mos_printf(v->arena, "%s and %s are both at 0x%llx of %s.", a->node->name,
                          b->node->name, (unsigned long long)a->address, mos_tree_path(v, bus))
             : mos_printf(v->arena,
                          "%s and %s are both at 0x%llx: %s leads to the bus of the "
                          "other one.",
                          mos_tree_path(v, a->node), mos_tree_path(v, b->node),
                          (unsigned long long)a->address, mos_tree_path(v, b->node->parent)));
    if (!f)
        return;
    mos_finding_at(v->list, f, mos_tree_place(v, a->node, p));
    mos_finding_why(v->list, f, "The second one is refused by the bus: it is in use.");
    mos_finding_try(v->list, f, "Give one of them another reg, or set its status = \"disabled\".");
}

/* A bus whose addresses have no size: one device each. */
static bool is_bus(const struct mos_dt_node *bus, uint32_t *cells) {
    uint32_t size;
    return mos_dt_cell(bus, "#address-cells", cells) && mos_dt_cell(bus, "#size-cells", &size) &&
           !size && *cells && *cells <= 2 && bus->child_count;
}

static void check_bus(struct mos_tree_view *v, const struct mos_dt_node *bus) {
    uint32_t cells;
    if (!is_bus(bus, &cells))
        return;
    struct seat *seats = mos_alloc_array(v->arena, bus->child_count, sizeof *seats);
    size_t count = 0;
    for (const struct mos_dt_node *n = bus->first_child; n; n = n->next)
        if (count < bus->child_count && first_address(n, cells, &seats[count].address) &&
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

/* ---- I2C: channels of a multiplexer, and what the bus takes ---- */

static bool is_i2c(const struct mos_dt_node *n) {
    return strncmp(n->name, "i2c", 3) == 0 &&
           (!n->name[3] || n->name[3] == '@' || isdigit((unsigned char)n->name[3]) ||
            strcmp(n->name, "i2c-gate") == 0 || strcmp(n->name, "i2c-arb") == 0);
}

/* The bus that a channel leads to; NULL: it is no channel. */
static const struct mos_dt_node *upstream(const struct mos_tree_view *v,
                                          const struct mos_dt_node *channel) {
    uint32_t number, cells;
    const struct mos_dt_node *mux = channel->parent;
    if (!mux || !is_i2c(channel))
        return NULL;
    if (mos_dt_cell(mux, "i2c-parent", &number))
        return mos_dt_by_phandle(&v->phandles, number);
    if (strcmp(mux->name, "i2c-mux") == 0 && mux->parent && !mos_dt_property(mux, "reg"))
        mux = mux->parent; /* a chip that is more than a multiplexer */
    const struct mos_dt_node *bus = mux->parent;
    return bus && is_i2c(bus) && is_bus(bus, &cells) ? bus : NULL;
}

/* A device behind a channel answers on the bus before it, too, while the channel is open. */
static void check_channel(struct mos_tree_view *v, const struct mos_dt_node *channel) {
    enum { MOST_HOPS = 8 };
    const struct mos_dt_node *bus = upstream(v, channel);
    for (unsigned hops = 0; bus && hops < MOST_HOPS; hops++, bus = upstream(v, bus))
        for (const struct mos_dt_node *a = bus->first_child; a; a = a->next)
            for (const struct mos_dt_node *b = channel->first_child; b; b = b->next) {
                struct seat x = {.node = a}, y = {.node = b};
                if (first_address(a, 1, &x.address) && first_address(b, 1, &y.address) &&
                    x.address == y.address && !mos_dt_off(a) && !mos_dt_off(b))
                    tell_taken(v, bus, &x, &y);
            }
}

static void check_range(struct mos_tree_view *v, const struct mos_dt_node *bus, uint64_t most,
                        const char *why) {
    uint32_t cells;
    for (const struct mos_dt_node *n = is_bus(bus, &cells) ? bus->first_child : NULL; n;
         n = n->next) {
        const struct mos_dt_property *reg = mos_dt_property(n, "reg");
        uint64_t at;
        if (!mos_tree_is_ours(reg) || mos_dt_off(n) || !first_address(n, 1, &at) || at <= most ||
            at >> 30)
            continue;
        struct mos_finding *f = mos_tree_tell(
            v, MOS_RULE_TREE_BEYOND_LIMIT, n, reg,
            mos_printf(v->arena, "%s is at 0x%llx of %s, whose addresses end at 0x%llx.", n->name,
                       (unsigned long long)at, mos_tree_path(v, bus), (unsigned long long)most));
        if (!f)
            return;
        mos_finding_why(v->list, f, "%s", why);
        mos_finding_try(v->list, f, "Write the address that the device has on its bus.");
    }
}

/* ---- chip selects ---- */

static void count_entry(void *self, size_t index, const struct mos_dt_reference *r) {
    (void)r;
    *(size_t *)self = index + 1;
}

/* As many as the controller says that it has, or as it has lines for them; 0: it does not say. */
static uint64_t selects_of(struct mos_tree_view *v, const struct mos_dt_node *bus,
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

static void check_selects(struct mos_tree_view *v, const struct mos_dt_node *bus) {
    const struct mos_dt_property *where;
    uint64_t selects = strncmp(bus->name, "spi", 3) == 0 ? selects_of(v, bus, &where) : 0, at;
    for (const struct mos_dt_node *n = selects ? bus->first_child : NULL; n; n = n->next) {
        const struct mos_dt_property *reg = mos_dt_property(n, "reg");
        if (mos_dt_off(n) || !first_address(n, 1, &at) || at < selects ||
            (!mos_tree_is_ours(reg) && !mos_tree_is_ours(where)))
            continue;
        struct mos_finding *f = mos_tree_tell(
            v, MOS_RULE_TREE_BEYOND_LIMIT, n, reg,
            mos_printf(v->arena, "%s is at chip select %llu of %s, which has %llu.", n->name,
                       (unsigned long long)at, mos_tree_path(v, bus), (unsigned long long)selects));
        if (!f)
            return;
        mos_finding_at(v->list, f, mos_tree_place(v, bus, where));
        mos_finding_why(v->list, f, "The bus refuses the device, which never appears.");
        if (selects == 1)
            mos_finding_try(v->list, f, "Write 0: they are counted from 0.");
        else
            mos_finding_try(v->list, f, "Write one of 0 to %llu: they are counted from 0.",
                            (unsigned long long)selects - 1);
    }
}

static bool check_node(void *self, struct mos_dt_node *n) {
    struct mos_tree_view *v = self;
    if (mos_dt_has_free_names(n))
        return true;
    check_cells(v, n);
    if (mos_dt_off(n))
        return true;
    check_bus(v, n);
    check_selects(v, n);
    if (is_i2c(n)) {
        check_channel(v, n);
        check_range(v, n, 0x7f, "An address of I2C has seven bits; the kernel refuses the device.");
    } else if (strncmp(n->name, "mdio", 4) == 0 && !mos_dt_is_like(n, "mux")) {
        check_range(v, n, 31, "An address on MDIO has five bits; the kernel refuses the device.");
    }
    return true;
}

void mos_tree_check_addresses(struct mos_tree_view *v) {
    mos_dt_walk(v->dt->root, check_node, v);
}
