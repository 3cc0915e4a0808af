/* Who serves the nodes of the tree: what is needed before the root is mounted, and what the
 * user's own files bring. */
#include "rules/rules.h"

#include "linux/devices.h"
#include "plan/drivers.h"
#include "rules/tree-view.h"

#include "base/bytes.h"
#include "base/text.h"

#include <ctype.h>
#include <string.h>

enum { MOST_EARLY = 64, MOST_TOLD = 12 };

struct drivers_view {
    const struct mos_plan *plan;
    const struct mos_drivers *drivers;
    const struct mos_dt *dt;
    struct mos_dt_phandles phandles;
    struct mos_findings *list;
    struct mos_arena *arena;
    const struct mos_dt_node *seen[MOST_EARLY]; /* that are needed early, each once */
    size_t seen_count, told, unknown, most_unknown;
    const char *lost_root; /* the root's medium, which has no node; or NULL */
    const struct mos_dt_node
        *user;              /* that needs the one which is looked at; NULL: the board does */
    const char *as;         /* what it is to the board: "the root's medium card" */
    struct mos_place place; /* … and where that is said */
};

static struct mos_place place_of(const struct drivers_view *v, const struct mos_dt_node *n) {
    const struct mos_dt_property *p = mos_dt_property(n, "compatible");
    return p && p->place.source ? p->place : n->place.source ? n->place : v->dt->place;
}

/* Settings that bring a symbol to y, or to m, with all that it needs; NULL: none are known. */
static const char *settings_for(const struct drivers_view *v, const char *symbol, const char *to) {
    const struct mos_plan *plan = v->plan;
    struct mos_arena *arena = v->arena;
    const char *own = mos_printf(arena, "CONFIG_%s", symbol);
    if (!plan->kernel_settled.config)
        return mos_printf(arena, "%s=%s", own, to);
    struct mos_buf text = {.arena = arena};
    const struct mos_kc_way way = mos_kc_wish(arena, plan->kernel_settled.config, own, to);
    for (size_t i = 0; i < way.count; i++)
        mos_buf_printf(&text, "%s%s=%s",
                       !i                   ? ""
                       : i + 1 == way.count ? " and "
                                            : ", ",
                       way.set[i]->symbol, way.set[i]->value);
    return way.set ? mos_buf_string(&text) : NULL;
}

static void try_driver(const struct drivers_view *v, struct mos_finding *f,
                       const struct mos_driver *d, bool early) {
    const char *set = d->symbol ? settings_for(v, d->symbol, early ? "y" : "m") : NULL;
    if (d->symbol && !set && !early)
        set = settings_for(v, d->symbol, "y");
    if (set && d->file)
        mos_finding_try(v->list, f, "Add %s to a fragment: it builds %s.", set, d->file);
    else if (d->module && early)
        mos_finding_try(v->list, f, "Add its module to a ramdisk, or build it in.");
    else if (d->module)
        mos_finding_try(v->list, f, "Add the kernel's modules to the root.");
    else
        mos_finding_try(v->list, f,
                        "Use a kernel that has a driver for it, or correct compatible.");
}

/* What is known of a driver that does not come in time. */
static const char *state_of(const struct drivers_view *v, const struct mos_driver *d) {
    if (d->served == MOS_SERVED_ROOT || d->served == MOS_SERVED_MODULE)
        return mos_printf(v->arena, "its driver is the module %s, which no ramdisk has", d->module);
    if (d->served == MOS_SERVED_OFF)
        return mos_printf(v->arena, "its driver is not built (CONFIG_%s)", d->symbol);
    return v->drivers->has_match ? "neither the kernel nor its modules have a driver for it"
                                 : "the kernel's sources have no driver for it";
}

/* ---- before the root is there ---- */

static void tell_early(struct drivers_view *v, const struct mos_dt_node *n,
                       const struct mos_driver *d) {
    const char *path = mos_dt_path(v->arena, n);
    bool module = d->served == MOS_SERVED_ROOT || d->served == MOS_SERVED_MODULE;
    if (v->told++ >= MOST_TOLD)
        return;
    const char *for_whom =
        v->user ? mos_printf(v->arena, "%s, which %s needs", path, mos_dt_path(v->arena, v->user))
                : mos_printf(v->arena, "%s, %s", path, v->as);
    struct mos_finding *f =
        mos_find(v->list, module ? MOS_RULE_KERNEL_NEEDED_EARLY : MOS_RULE_KERNEL_DRIVER_MISSING,
                 "%s: %s.", for_whom, state_of(v, d));
    mos_finding_at(v->list, f, place_of(v, n));
    mos_finding_at(v->list, f, v->place);
    mos_finding_why(v->list, f, "Without it %s is not there when the kernel needs it.", v->as);
    try_driver(v, f, d, true);
}

static void need_for(struct drivers_view *v, const struct mos_dt_node *user,
                     const struct mos_dt_node *n);

struct wanted_by {
    struct drivers_view *v;
    const struct mos_dt_node *node;
};

static void need_provider(void *self, size_t index, const struct mos_dt_reference *r) {
    struct wanted_by *w = self;
    const struct mos_dt_node *n = r->provider;
    (void)index;
    /* what has no compatible is part of what is above it: a pin's state, a regulator of a chip */
    while (n && n->parent && !mos_dt_property(n, "compatible"))
        n = n->parent;
    if (n != w->node)
        need_for(w->v, w->node, n);
}

/* pinctrl-0 and so on: states that lie below their controller. */
static void need_pins(struct wanted_by *w, const struct mos_dt_property *p) {
    if (strncmp(p->name, "pinctrl-", 8) != 0 || !isdigit((unsigned char)p->name[8]))
        return;
    for (size_t at = 0; at + 4 <= p->length; at += 4) {
        const struct mos_dt_reference r = {
            .provider = mos_dt_by_phandle(&w->v->phandles, mos_be32(p->data + at))};
        need_provider(w, at / 4, &r);
    }
}

static void need(struct drivers_view *v, const struct mos_dt_node *n);

static void need_for(struct drivers_view *v, const struct mos_dt_node *user,
                     const struct mos_dt_node *n) {
    const struct mos_dt_node *saved = v->user;
    v->user = user;
    if (n && n->parent)
        need(v, n);
    v->user = saved;
}

/* A node, and all that it waits for. */
static void need(struct drivers_view *v, const struct mos_dt_node *n) {
    for (size_t i = 0; i < v->seen_count; i++)
        if (v->seen[i] == n)
            return;
    if (v->seen_count == MOST_EARLY) {
        v->unknown++; /* nobody looks any further */
        return;
    }
    v->seen[v->seen_count++] = n;
    if (mos_dt_off(n))
        return; /* other rules tell that */
    if (mos_plan_wants_driver(n)) {
        struct mos_driver d = mos_plan_driver_of(v->drivers, n);
        bool late = d.served == MOS_SERVED_ROOT || d.served == MOS_SERVED_MODULE;
        bool unsure = late && v->drivers->entry->ramdisk && !v->drivers->has_ramdisk;
        if (d.served == MOS_SERVED_UNKNOWN || unsure)
            v->unknown++;
        else if (late || d.served == MOS_SERVED_OFF || d.served == MOS_SERVED_BY_NONE)
            tell_early(v, n, &d);
    }
    struct wanted_by w = {v, n};
    for (const struct mos_dt_property *p = n->properties; p; p = p->next) {
        const struct mos_dt_kind *kind = mos_dt_kind_of(n, p->name);
        need_pins(&w, p);
        /* a clock that never comes is waited for, too */
        if (kind && (kind->must || strcmp(kind->property, "clocks") == 0))
            mos_dt_references(&v->phandles, kind, p, need_provider, &w);
    }
    if (mos_dt_property(n, "interrupts"))
        need_for(v, n, mos_dt_interrupt_parent(&v->phandles, n));
    const struct mos_dt_node *bus = n->parent;
    while (bus && (mos_plan_is_plain_bus(bus) || !mos_dt_property(bus, "compatible")))
        bus = bus->parent;
    need_for(v, n, bus);
}

static const struct mos_dt_node *alias(const struct drivers_view *v, const char *stem,
                                       unsigned long number) {
    const struct mos_dt_node *aliases = mos_dt_child(v->dt->root, "aliases");
    const char *to =
        aliases ? mos_dt_string(aliases, mos_printf(v->arena, "%s%lu", stem, number)) : NULL;
    return to ? mos_dt_find(v->dt, to) : NULL;
}

/* The node that is stated, else that of the alias with the number of the kernel's name. */
static const struct mos_dt_node *node_of(const struct drivers_view *v, const struct mos_value *node,
                                         const char *name, const char *stem) {
    size_t length;
    unsigned long number;
    if (mos_has(node) && node->text[0] == '/')
        return mos_dt_find(v->dt, node->text);
    if (mos_has(node)) {
        const struct mos_dt_node *aliases = mos_dt_child(v->dt->root, "aliases");
        const char *to = aliases ? mos_dt_string(aliases, node->text) : NULL;
        return to ? mos_dt_find(v->dt, to) : NULL;
    }
    return name && mos_device_number(name, &length, &number) ? alias(v, stem, number) : NULL;
}

static void check_root(struct drivers_view *v) {
    const struct mos_region_plan *root = mos_plan_root(v->plan);
    for (size_t i = 0; root && i < v->plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&v->plan->media, i);
        const struct mos_medium *def = m->medium;
        const char *kernel = mos_has(def->kernel) ? def->kernel->text : "";
        for (size_t k = 0; k < m->regions.count; k++) {
            if (mos_vec_pointer(&m->regions, k) != root)
                continue;
            const struct mos_dt_node *n =
                node_of(v, def->node, strncmp(kernel, "mmcblk", 6) == 0 ? kernel : NULL, "mmc");
            v->as = mos_printf(v->arena, "the root's medium %s", m->name);
            v->place = mos_has(def->node) ? def->node->place : def->r.key_place;
            if (n)
                need(v, n);
            else
                v->lost_root = v->as;
        }
    }
}

static void check_console(struct drivers_view *v) {
    const struct mos_hardware *h = v->plan->board->hardware;
    const struct mos_console *c = h ? h->console : NULL;
    const struct mos_dt_node *n =
        c ? node_of(v, c->node, mos_text_or(c->port, NULL), "serial") : NULL;
    if (!n)
        return;
    v->as = "the console";
    v->place = mos_has(c->node) ? c->node->place : c->port->place;
    need(v, n);
}

/* ---- what is ours ---- */

static bool check_ours(void *self, struct mos_dt_node *n) {
    struct drivers_view *v = self;
    const struct mos_dt_property *p = mos_dt_property(n, "compatible");
    if (!p || !p->set_by || !mos_tree_is_ours(p) || !mos_plan_wants_driver(n))
        return true;
    for (size_t i = 0; i < v->seen_count; i++)
        if (v->seen[i] == n)
            return true; /* told, where there is anything to tell */
    struct mos_driver d = mos_plan_driver_of(v->drivers, n);
    bool lost = d.served == MOS_SERVED_MODULE && v->drivers->has_root;
    v->unknown += d.served == MOS_SERVED_UNKNOWN;
    if ((!lost && d.served != MOS_SERVED_OFF && d.served != MOS_SERVED_BY_NONE) ||
        v->told++ >= MOST_TOLD)
        return true;
    struct mos_finding *f = mos_find(
        v->list, MOS_RULE_TREE_NO_DRIVER, "%s (%s): %s.", mos_dt_path(v->arena, n),
        (const char *)p->data,
        lost ? mos_printf(v->arena, "its module %s is in neither ramdisk nor root", d.module)
             : state_of(v, &d));
    mos_finding_at(v->list, f, place_of(v, n));
    mos_finding_why(v->list, f, "The device is described, and nothing ever uses it.");
    try_driver(v, f, &d, false);
    return true;
}

static void check_tree(void *self, struct mos_dt *dt) {
    struct drivers_view *v = self;
    v->dt = dt;
    v->seen_count = 0;
    v->user = NULL;
    v->unknown = 0;
    v->phandles = mos_dt_phandles_of(v->arena, dt);
    check_root(v);
    check_console(v);
    mos_dt_walk(dt->root, check_ours, v);
    v->most_unknown = v->unknown > v->most_unknown ? v->unknown : v->most_unknown;
}

static void note(const struct drivers_view *v, const char *text) {
    mos_vec_push_pointer(&v->plan->ctx->not_proved, text);
}

void mos_rule_kernel_drivers(const struct mos_plan *plan) {
    struct mos_ctx *ctx = plan->ctx;
    const struct mos_drivers *d = mos_plan_drivers(plan->self);
    if (!d || !d->entry->tree || !d->entry->tree->tree || (!d->has_match && !d->build))
        return;
    struct drivers_view v = {
        .plan = plan, .drivers = d, .list = &ctx->findings, .arena = ctx->arena};
    mos_plan_each_tree(plan->self, d->entry->tree, check_tree, &v);
    if (v.most_unknown)
        note(&v, mos_printf(ctx->arena,
                            "drivers of %zu node%s: neither the kernel, its modules nor its "
                            "sources tell (show drivers)",
                            v.most_unknown, v.most_unknown == 1 ? "" : "s"));
    if (v.told > MOST_TOLD)
        note(&v, mos_printf(ctx->arena, "%zu more nodes without a driver (show drivers)",
                            v.told - MOST_TOLD));
    if (v.lost_root)
        note(&v, mos_printf(ctx->arena,
                            "the drivers that %s needs: which node of the tree it is (node:)",
                            v.lost_root));
}
