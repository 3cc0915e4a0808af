#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

static const char *const range_names[] = {"as loaded", "as moved", "as it runs"};

struct ram_view {
    const struct mos_plan *plan;
    const struct mos_entry_plan *e;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static const char *span_text(const struct ram_view *v, struct mos_ram_span s) {
    return mos_printf(v->arena, "%s to %s", mos_address_text(v->arena, s.start),
                      mos_address_text(v->arena, s.start + s.length));
}

static const char *why_overlap(const struct ram_view *v, const struct mos_placement *a,
                               size_t range) {
    (void)v;
    if (range == MOS_RANGE_FINAL)
        return "The kernel clears and uses that memory before it has read the rest.";
    return a->given ? "What is loaded second destroys what was loaded first."
                    : "The loader needs both at the same time.";
}

/* A kernel that expands itself does so after the loader has moved everything else away. */
static bool is_gone(const struct ram_view *v, const struct mos_placement *a, size_t i,
                    const struct mos_placement *b, size_t k) {
    return a == &v->e->step.kernel && i != MOS_RANGE_LOADED && v->e->header.expanded_size &&
           k == MOS_RANGE_LOADED &&
           (b->ranges[MOS_RANGE_MOVED].length || b == &v->e->step.container);
}

/* The first overlap of two things is enough: one cause, one finding. */
static void check_pair(const struct ram_view *v, const struct mos_placement *a,
                       const struct mos_placement *b) {
    for (size_t i = 0; i < MOS_RANGE_COUNT; i++)
        for (size_t k = 0; k < MOS_RANGE_COUNT; k++) {
            struct mos_ram_span x = a->ranges[i], y = b->ranges[k];
            if (is_gone(v, a, i, b, k) || !x.length || !y.length || x.start >= y.start + y.length ||
                y.start >= x.start + x.length)
                continue;
            uint64_t from = mos_max(x.start, y.start);
            uint64_t to = mos_min(x.start + x.length, y.start + y.length);
            bool fixed = a->by_loader && b->by_loader;
            struct mos_finding *f =
                mos_find(v->list, fixed ? MOS_RULE_RAM_BY_LOADER : MOS_RULE_RAM_OVERLAP,
                         "Entry %s: the %s (%s) and the %s (%s) both use %s at %s.",
                         v->e->def->r.name, a->what, range_names[i], b->what, range_names[k],
                         mos_size_about(v->arena, to - from), mos_address_text(v->arena, from));
            mos_finding_at(v->list, f, a->place);
            if (b->place.source != a->place.source || b->place.offset != a->place.offset)
                mos_finding_at(v->list, f, b->place);
            mos_finding_why(v->list, f, "%s: %s, %s: %s. %s", a->what, span_text(v, x), b->what,
                            span_text(v, y), why_overlap(v, a, i == MOS_RANGE_FINAL ? i : k));
            uint64_t end =
                mos_max(a->ranges[MOS_RANGE_LOADED].start + a->ranges[MOS_RANGE_LOADED].length,
                        a->ranges[MOS_RANGE_FINAL].start + a->ranges[MOS_RANGE_FINAL].length);
            mos_finding_try(v->list, f,
                            fixed ? "Put %s at %s in the loader's variables."
                                  : "Set %s: %s, or remove the address: then one is chosen.",
                            b->what, mos_address_text(v->arena, mos_round_up(end, 2 << 20)));
            return;
        }
}

/* The part of a RAM range that every board has; length 0: that is not stated. */
static struct mos_ram_span smallest(const struct mos_ram *ram) {
    struct mos_ram_span s = {0, 0};
    return mos_ram_least(ram, &s.start, &s.length) ? s : (struct mos_ram_span){0, 0};
}

static bool in_some_ram(const struct ram_view *v, struct mos_ram_span s) {
    const struct mos_named *ram = &v->plan->board->hardware->ram;
    for (size_t i = 0; i < ram->count; i++) {
        struct mos_ram_span r = smallest(ram->items[i]);
        if (s.start >= r.start && s.length <= r.length && s.start - r.start <= r.length - s.length)
            return true;
    }
    return false;
}

static void check_outside(const struct ram_view *v, const struct mos_placement *p) {
    for (size_t i = 0; i < MOS_RANGE_COUNT; i++) {
        struct mos_ram_span s = p->ranges[i];
        if (!s.length || in_some_ram(v, s))
            continue;
        const struct mos_ram *def = v->plan->board->hardware->ram.items[0];
        struct mos_ram_span ram = smallest(def);
        struct mos_finding *f = mos_find(
            v->list, MOS_RULE_RAM_OUTSIDE, "Entry %s: the %s (%s, %s) lies outside the RAM.",
            v->e->def->r.name, p->what, range_names[i], span_text(v, s));
        mos_finding_at(v->list, f, p->place);
        mos_finding_at(v->list, f, def->start->place);
        mos_finding_why(v->list, f, "RAM %s in its smallest size goes from %s.", def->r.name,
                        span_text(v, ram));
        mos_finding_try(v->list, f,
                        p->given ? "Remove the address: then one is chosen."
                                 : "Use less content, or state more RAM.");
        return;
    }
}

/* What a held range covers: a place of its own, or the end of the first RAM range. */
static struct mos_ram_span held_span(const struct ram_view *v, const struct mos_held *h) {
    const struct mos_ram_map *ram = &v->plan->ram;
    if (mos_has(h->start) && mos_has(h->size))
        return (struct mos_ram_span){h->start->number, h->size->number};
    if (mos_has(h->top) && h->top->number <= ram->length)
        return (struct mos_ram_span){ram->start + ram->length - h->top->number, h->top->number};
    return (struct mos_ram_span){0, 0};
}

static void check_held(const struct ram_view *v, const struct mos_placement *p) {
    const struct mos_named *held = &v->plan->board->hardware->held;
    for (size_t i = 0; i < held->count * MOS_RANGE_COUNT; i++) {
        const struct mos_held *h = held->items[i / MOS_RANGE_COUNT];
        struct mos_ram_span s = p->ranges[i % MOS_RANGE_COUNT], x = held_span(v, h);
        if (!s.length || !x.length || s.start >= x.start + x.length ||
            x.start >= s.start + s.length)
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_RAM_HELD,
                     "Entry %s: the %s (%s, %s) lies in RAM that belongs to %s.", v->e->def->r.name,
                     p->what, range_names[i % MOS_RANGE_COUNT], span_text(v, s), h->r.name);
        mos_finding_at(v->list, f, p->place);
        mos_finding_at(v->list, f, h->r.key_place);
        mos_finding_why(v->list, f, "%s holds %s.", h->r.name, span_text(v, x));
        mos_finding_try(v->list, f,
                        p->given ? "Remove the address: then one is chosen."
                                 : "Use less content, or state a smaller held range.");
        return;
    }
}

static void reserved(const struct ram_view *v, const struct mos_placement *p, size_t range,
                     struct mos_ram_span x, struct mos_place place, const char *name) {
    struct mos_ram_span s = p->ranges[range];
    if (!s.length || !x.length || s.start >= x.start + x.length || x.start >= s.start + s.length)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_RAM_HELD,
                 "Entry %s: the %s (%s, %s) lies in RAM that the tree keeps for %s.",
                 v->e->def->r.name, p->what, range_names[range], span_text(v, s), name);
    mos_finding_at(v->list, f, p->place);
    mos_finding_at(v->list, f, place);
    mos_finding_why(v->list, f, "Whoever it is kept for uses %s from the start.", span_text(v, x));
    mos_finding_try(v->list, f,
                    p->given ? "Remove the address: then one is chosen."
                             : "Set addresses: {…} behind it.");
}

static uint64_t cells_at(const uint8_t *p, uint32_t cells) {
    return cells == 2 ? mos_be64(p) : mos_be32(p);
}

/* Children of /reserved-memory with a place of their own (Devicetree Specification v0.4, 3.5). */
static void check_reserved(const struct ram_view *v, const struct mos_placement *p) {
    const struct mos_dt *dt = v->e->tree ? v->e->tree->tree : NULL;
    const struct mos_dt_node *all = dt ? mos_dt_child(dt->root, "reserved-memory") : NULL;
    uint32_t address = 2, size = 1;
    if (!all)
        return;
    mos_dt_cell(all, "#address-cells", &address);
    mos_dt_cell(all, "#size-cells", &size);
    size_t row = 4 * ((size_t)address + size);
    if (address < 1 || address > 2 || size < 1 || size > 2)
        return;
    for (const struct mos_dt_node *n = all->first_child; n; n = n->next) {
        const struct mos_dt_property *reg = mos_dt_property(n, "reg");
        struct mos_place place = n->place.source ? n->place : dt->place;
        for (size_t at = 0; reg && at + row <= reg->length; at += row) {
            struct mos_ram_span x = {cells_at(reg->data + at, address),
                                     cells_at(reg->data + at + 4 * address, size)};
            for (size_t i = 0; i < MOS_RANGE_COUNT; i++)
                reserved(v, p, i, x, place, n->name);
        }
    }
}

static void check_alignment(const struct ram_view *v, const struct mos_placement *p) {
    struct mos_ram_span s = p->ranges[MOS_RANGE_LOADED];
    if (!p->given || !s.length || p->alignment < 2 || (s.start - p->offset) % p->alignment == 0)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_RAM_MISALIGNED, "Entry %s: the %s cannot start at %s.",
                 v->e->def->r.name, p->what, mos_address_text(v->arena, s.start));
    mos_finding_at(v->list, f, p->place);
    if (p->offset)
        mos_finding_why(v->list, f, "It must lie %s behind a multiple of %s.",
                        mos_size_text(v->arena, p->offset), mos_size_text(v->arena, p->alignment));
    else
        mos_finding_why(v->list, f, "Its start must be a multiple of %s.",
                        mos_size_text(v->arena, p->alignment));
    mos_finding_try(
        v->list, f, "Write %s.",
        mos_address_text(v->arena, mos_round_up(s.start - p->offset, p->alignment) + p->offset));
}

/* A 32-bit kernel maps the first 768 MiB of its RAM and reads tree and ramdisk through that
 * (Documentation/arm/booting.rst, section 4). */
static void check_reach(const struct ram_view *v, const struct mos_placement *p) {
    enum { LOW = 768 << 20 };
    const struct mos_hardware *h = v->plan->board->hardware;
    struct mos_ram_span s =
        p->ranges[p->ranges[MOS_RANGE_MOVED].length ? MOS_RANGE_MOVED : MOS_RANGE_LOADED];
    uint64_t end = v->plan->ram.start + LOW;
    if (mos_cpu_of(h->cpu) != MOS_CPU_ARM || !s.length || s.start + s.length <= end)
        return;
    struct mos_finding *f = mos_find(
        v->list, MOS_RULE_RAM_BEYOND_LOWMEM, "Entry %s: the kernel cannot reach its %s at %s.",
        v->e->def->r.name, p->what, mos_address_text(v->arena, s.start));
    mos_finding_at(v->list, f, p->place);
    mos_finding_at(v->list, f, h->cpu->place);
    mos_finding_why(v->list, f,
                    "The loader moves it to the top of its RAM; a 32-bit kernel sees the first "
                    "768 MiB.");
    mos_finding_try(v->list, f, "Set %s: \"%s\" among the values of the environment.",
                    v->plan->dialect->symbols.limit_of[p == &v->e->step.tree ? 1 : 2],
                    mos_address_text(v->arena, end));
}

void mos_rule_ram(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        struct ram_view v = {plan, e, &plan->ctx->findings, plan->ctx->arena};
        if (!e->settled)
            continue;
        const struct mos_placement *const all[] = {&e->step.kernel, &e->step.tree, &e->step.ramdisk,
                                                   &e->step.container};
        enum { COUNT = sizeof all / sizeof *all };
        for (size_t k = 0; k < COUNT; k++) {
            check_outside(&v, all[k]);
            check_held(&v, all[k]);
            check_reserved(&v, all[k]);
            check_alignment(&v, all[k]);
            if (all[k] == &e->step.tree || all[k] == &e->step.ramdisk)
                check_reach(&v, all[k]);
            for (size_t n = k + 1; n < COUNT; n++)
                check_pair(&v, all[k], all[n]);
        }
    }
}
