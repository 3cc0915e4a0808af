#include "tree/resources.h"

#include "base/bytes.h"

#include <string.h>

/* ---- small helpers ---- */

const char *mos_dt_claim_word(enum mos_dt_claim_kind kind) {
    static const char *const words[] = {"registers", "address", "line",  "pin",   "interrupt",
                                        "DMA",       "PWM",     "clock", "reset", "supply",
                                        "power",     "PHY",     "memory"};
    return words[kind];
}

static uint32_t cell_or(const struct mos_dt_node *n, const char *name, uint32_t usual) {
    uint32_t value;
    return mos_dt_cell(n, name, &value) ? value : usual;
}

const char *mos_dt_claim_name(const struct mos_dt_claim *claim) {
    const char *property = claim->property->name;
    const struct mos_dt_kind *kind = mos_dt_kind_of(claim->node, property);
    const char *names = kind                                  ? kind->names
                        : strcmp(property, "reg") == 0        ? "reg-names"
                        : strcmp(property, "interrupts") == 0 ? "interrupt-names"
                                                              : NULL;
    size_t at = 0;
    const char *name = NULL;
    for (size_t i = 0; names && i <= claim->entry; i++)
        name = mos_dt_next_string(mos_dt_property(claim->node, names), &at);
    return name;
}

/* ---- addresses ---- */

/* One step up: through the ranges of `bus`. */
static bool through(const struct mos_dt_node *bus, uint64_t *address) {
    const struct mos_dt_property *ranges = mos_dt_property(bus, "ranges");
    if (!ranges)
        return false;
    if (!ranges->length)
        return true;
    uint32_t child = mos_dt_address_cells(bus), size = mos_dt_size_cells(bus),
             parent = mos_dt_address_cells(bus->parent);
    size_t row = 4 * ((size_t)child + size + parent);
    if (child > 4 || size > 4 || parent > 4 || !row)
        return false;
    for (size_t at = 0; at + row <= ranges->length; at += row) {
        const uint8_t *r = ranges->data + at;
        uint64_t from = mos_dt_number(r, child), to = mos_dt_number(r + 4 * (size_t)child, parent),
                 length = mos_dt_number(r + 4 * ((size_t)child + parent), size);
        if (*address >= from && *address - from < length) {
            *address = to + (*address - from);
            return true;
        }
    }
    return false;
}

bool mos_dt_translate(const struct mos_dt_node *bus, uint64_t *address) {
    for (; bus->parent; bus = bus->parent)
        if (!through(bus, address))
            return false;
    return true;
}

/* ---- the list ---- */

struct lister {
    struct mos_arena *arena;
    const struct mos_dt *dt;
    const struct mos_dt_phandles *all;
    struct mos_vec claims;
    const struct mos_dt_node *node;
    const struct mos_dt_property *property;
    enum mos_dt_claim_kind kind;
};

static struct mos_dt_claim *claim(struct lister *l, enum mos_dt_claim_kind kind,
                                  const struct mos_dt_node *of, size_t entry, uint64_t from) {
    struct mos_dt_claim *c = mos_vec_push(&l->claims);
    *c = (struct mos_dt_claim){.kind = kind,
                               .node = l->node,
                               .property = l->property,
                               .of = of,
                               .entry = entry,
                               .from = from,
                               .count = 1};
    return c;
}

static void list_registers(struct lister *l, const struct mos_dt_node *bus) {
    uint32_t a = mos_dt_address_cells(bus), s = mos_dt_size_cells(bus);
    size_t row = 4 * ((size_t)a + s);
    if (!a || a > 2 || s > 2)
        return;
    bool reserved = strcmp(bus->name, "reserved-memory") == 0;
    for (size_t at = 0; row && at + row <= l->property->length; at += row) {
        uint64_t address = mos_dt_number(l->property->data + at, a),
                 size = mos_dt_number(l->property->data + at + 4 * (size_t)a, s);
        if (!s) {
            claim(l, MOS_DT_CLAIM_ADDRESS, bus, at / row, address);
            continue;
        }
        if (!size || !mos_dt_translate(bus, &address))
            continue;
        claim(l, reserved ? MOS_DT_CLAIM_MEMORY : MOS_DT_CLAIM_REGISTERS, NULL, at / row, address)
            ->count = size;
    }
}

/* The number of a line: all its cells but the flags. */
static uint64_t line_number(const uint8_t *cells, uint32_t count) {
    return count <= 2 ? mos_be32(cells)
                      : (uint64_t)mos_be32(cells) << 16 | (mos_be32(cells + 4) & 0xffff);
}

static void take_line(struct lister *l, const struct mos_dt_node *of, size_t entry,
                      const uint8_t *cells, uint32_t count) {
    if (!count)
        return;
    struct mos_dt_claim *c = claim(l, MOS_DT_CLAIM_LINE, of, entry, line_number(cells, count));
    c->flags = count > 1 ? mos_be32(cells + 4 * (size_t)(count - 1)) : 0;
    c->split = count > 2 ? 16 : 0;
}

/* An interrupt's number: its cells but the one with the trigger. */
static void take_interrupt(struct lister *l, const struct mos_dt_node *of, size_t entry,
                           const uint8_t *cells, uint32_t count) {
    if (!count || count > 4)
        return;
    /* with these both of two are the number: a bank and a line of it */
    bool banked =
        count == 2 && (mos_dt_is_like(of, "armctrl-ic") || mos_dt_is_like(of, "combiner"));
    bool two = count > 2 || banked;
    uint32_t where = count == 2 ? 1 : 2;
    struct mos_dt_claim *c =
        claim(l, MOS_DT_CLAIM_INTERRUPT, of, entry,
              two ? (uint64_t)mos_be32(cells) << 32 | mos_be32(cells + 4) : mos_be32(cells));
    c->flags = count > 1 && !banked ? mos_be32(cells + 4 * (size_t)where) : 0;
    c->split = two ? 32 : 0;
}

/* An interrupt of a nexus (Devicetree Specification v0.4, section 2.4.3): the entry of its map. */
static bool mapped(const struct lister *l, const struct mos_dt_node **parent, const uint8_t *unit,
                   uint32_t unit_cells, const uint8_t **cells, uint32_t *count) {
    const struct mos_dt_property *map = mos_dt_property(*parent, "interrupt-map"),
                                 *mask = mos_dt_property(*parent, "interrupt-map-mask");
    uint32_t a = cell_or(*parent, "#address-cells", 0);
    size_t child = (size_t)a + *count;
    if (!map || a > 4 || (a && unit_cells < a))
        return false;
    for (size_t at = 0, words = map->length / 4; at + child + 1 <= words;) {
        const uint8_t *row = map->data + 4 * at;
        const struct mos_dt_node *to = mos_dt_by_phandle(l->all, mos_be32(row + 4 * child));
        uint32_t up = to ? cell_or(to, "#address-cells", 0) : 0, next;
        if (!to || !mos_dt_cell(to, "#interrupt-cells", &next) ||
            at + child + 1 + up + next > words)
            return false;
        bool fits = true;
        for (size_t i = 0; i < child && fits; i++) {
            uint32_t m =
                mask && mask->length >= 4 * (i + 1) ? mos_be32(mask->data + 4 * i) : 0xffffffff;
            uint32_t have = mos_be32(i < a ? unit + 4 * i : *cells + 4 * (i - a));
            fits = (have & m) == (mos_be32(row + 4 * i) & m);
        }
        if (fits) {
            *parent = to;
            *cells = row + 4 * (child + 1 + up);
            *count = next;
            return true;
        }
        at += child + 1 + up + next;
    }
    return false;
}

static void settle_interrupt(struct lister *l, const struct mos_dt_node *of, size_t entry,
                             const uint8_t *cells, uint32_t count) {
    enum { MOST_HOPS = 16 };
    const struct mos_dt_property *reg = mos_dt_property(l->node, "reg");
    uint32_t unit_cells = reg && l->node->parent ? mos_dt_address_cells(l->node->parent) : 0;
    if (reg && reg->length < 4 * (size_t)unit_cells)
        unit_cells = 0;
    for (unsigned hops = 0; hops < MOST_HOPS && mos_dt_property(of, "interrupt-map"); hops++) {
        if (!mapped(l, &of, reg ? reg->data : NULL, unit_cells, &cells, &count))
            return;
        unit_cells = 0;
    }
    take_interrupt(l, of, entry, cells, count);
    if (mos_dt_property(of, "gpio-controller"))
        take_line(l, of, entry, cells, count);
}

static void list_interrupts(struct lister *l) {
    const struct mos_dt_node *of = mos_dt_interrupt_parent(l->all, l->node);
    uint32_t count;
    if (!of || !mos_dt_cell(of, "#interrupt-cells", &count) || !count ||
        mos_dt_property(l->node, "interrupts-extended"))
        return;
    for (size_t at = 0; at + 4 * (size_t)count <= l->property->length; at += 4 * (size_t)count)
        settle_interrupt(l, of, at / (4 * (size_t)count), l->property->data + at, count);
}

static void each_reference(void *self, size_t index, const struct mos_dt_reference *r) {
    struct lister *l = self;
    if (r->broken || !r->provider)
        return;
    switch (l->kind) {
    case MOS_DT_CLAIM_LINE:
        take_line(l, r->provider, index, r->arguments, r->cells);
        break;
    case MOS_DT_CLAIM_INTERRUPT:
        settle_interrupt(l, r->provider, index, r->arguments, r->cells);
        break;
    case MOS_DT_CLAIM_PWM:
        if (r->cells > 1)
            claim(l, l->kind, r->provider, index, mos_be32(r->arguments));
        break;
    default: {
        struct mos_dt_claim *c =
            claim(l, l->kind, r->provider, index,
                  r->cells ? mos_dt_number(r->arguments, r->cells > 2 ? 2 : r->cells) : 0);
        c->flags = r->cells > 2 ? mos_be32(r->arguments + 8) : 0;
        c->split = r->cells > 1 ? 32 : 0;
        c->count = r->cells != 0;
        break;
    }
    }
}

static const struct {
    const char *cells;
    enum mos_dt_claim_kind kind;
} kinds[] = {
    {"#gpio-cells", MOS_DT_CLAIM_LINE},
    {"#interrupt-cells", MOS_DT_CLAIM_INTERRUPT},
    {"#dma-cells", MOS_DT_CLAIM_DMA},
    {"#pwm-cells", MOS_DT_CLAIM_PWM},
    {"#clock-cells", MOS_DT_CLAIM_CLOCK},
    {"#reset-cells", MOS_DT_CLAIM_RESET},
    {"#power-domain-cells", MOS_DT_CLAIM_DOMAIN},
    {"#phy-cells", MOS_DT_CLAIM_PHY},
};

static void list_references(struct lister *l, const struct mos_dt_kind *kind) {
    if (strncmp(kind->property, "assigned", 8) == 0)
        return;
    l->kind = MOS_DT_CLAIM_KINDS;
    if (!kind->cells)
        l->kind = MOS_DT_CLAIM_SUPPLY;
    for (size_t i = 0; kind->cells && i < sizeof kinds / sizeof *kinds; i++)
        if (strcmp(kinds[i].cells, kind->cells) == 0)
            l->kind = kinds[i].kind;
    if (l->kind != MOS_DT_CLAIM_KINDS)
        mos_dt_references(l->all, kind, l->property, each_reference, l);
}

/* A line that its controller takes at once: gpios has no phandle there. */
static void list_hog(struct lister *l) {
    uint32_t count = cell_or(l->node->parent, "#gpio-cells", 0);
    for (size_t at = 0; count && at + 4 * (size_t)count <= l->property->length;
         at += 4 * (size_t)count)
        take_line(l, l->node->parent, at / (4 * (size_t)count), l->property->data + at, count);
}

static bool list_node(void *self, struct mos_dt_node *node) {
    struct lister *l = self;
    if (mos_dt_has_free_names(node) || !mos_dt_is_on(node))
        return true;
    bool hog = mos_dt_property(node, "gpio-hog") && node->parent;
    l->node = node;
    for (const struct mos_dt_property *p = node->properties; p; p = p->next) {
        const struct mos_dt_kind *kind = mos_dt_kind_of(node, p->name);
        l->property = p;
        if (kind)
            list_references(l, kind);
        else if (strcmp(p->name, "reg") == 0 && node->parent)
            list_registers(l, node->parent);
        else if (strcmp(p->name, "interrupts") == 0)
            list_interrupts(l);
        else if (hog && strcmp(p->name, "gpios") == 0)
            list_hog(l);
    }
    mos_dt_pins_of(l->arena, l->all, node, &l->claims);
    for (struct mos_dt_node *c = node->first_child; c; c = c->next)
        list_node(l, c);
    return true;
}

struct mos_vec mos_dt_claims(struct mos_arena *arena, const struct mos_dt *dt,
                             const struct mos_dt_phandles *all) {
    struct lister l = {.arena = arena,
                       .dt = dt,
                       .all = all,
                       .claims = mos_vec_make(arena, sizeof(struct mos_dt_claim))};
    list_node(&l, dt->root);
    return l.claims;
}
