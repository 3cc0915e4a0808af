/* What device trees say, as tables. */
#include "api/trees.h"

#include "base/bytes.h"
#include "base/text.h"
#include "tree/resources.h"

#include <stdlib.h>
#include <string.h>

static const char *path(mosaicum *m, const struct mos_dt_node *n) {
    return mos_dt_path(m->arena, n);
}

/* ---- claims ---- */

static const char *trigger(uint32_t flags) {
    static const char *const words[] = {[1] = "rising edge",
                                        [2] = "falling edge",
                                        [3] = "both edges",
                                        [4] = "high level",
                                        [8] = "low level"};
    flags &= MOS_DT_TRIGGER;
    return flags <= 8 ? words[flags] : NULL;
}

static const char *number_text(mosaicum *m, const struct mos_dt_claim *c) {
    unsigned shift = c->split;
    switch (c->kind) {
    case MOS_DT_CLAIM_REGISTERS:
    case MOS_DT_CLAIM_MEMORY:
        return mos_printf(m->arena, "0x%llx to 0x%llx", (unsigned long long)c->from,
                          (unsigned long long)(c->from + c->count));
    case MOS_DT_CLAIM_ADDRESS:
        return mos_printf(m->arena, "0x%llx", (unsigned long long)c->from);
    case MOS_DT_CLAIM_SUPPLY:
    case MOS_DT_CLAIM_DOMAIN:
        return "";
    default:
        break;
    }
    if (c->name)
        return c->name;
    if (!c->count)
        return "";
    if (shift)
        return mos_printf(m->arena, "%u %u", (unsigned)(c->from >> shift),
                          (unsigned)(c->from & ((1ull << shift) - 1)));
    return mos_printf(m->arena, c->from > 0xffff ? "0x%llx" : "%llu", (unsigned long long)c->from);
}

/* What else is known of it: a trigger, a function. */
static const char *detail(mosaicum *m, const struct mos_dt_claim *c) {
    const char *word = c->kind == MOS_DT_CLAIM_INTERRUPT ? trigger(c->flags) : NULL;
    if (c->kind == MOS_DT_CLAIM_PIN)
        word = c->function ? c->function : mos_printf(m->arena, "function %u", c->flags);
    if (c->kind == MOS_DT_CLAIM_REGISTERS || c->kind == MOS_DT_CLAIM_MEMORY)
        word = mos_size_text(m->arena, c->count);
    return word ? word : "";
}

static int by_kind(const void *x, const void *y) {
    const struct mos_dt_claim *a = x, *b = y;
    if (a->kind != b->kind)
        return a->kind < b->kind ? -1 : 1;
    if (a->kind == MOS_DT_CLAIM_REGISTERS || a->kind == MOS_DT_CLAIM_MEMORY)
        return (a->from > b->from) - (a->from < b->from);
    return 0;
}

/* Stable: claims of one kind stay in the order of the tree. */
static void sort_claims(mosaicum *m, struct mos_vec *claims) {
    struct mos_dt_claim *sorted = mos_alloc_array(m->arena, claims->count, sizeof *sorted);
    size_t n = 0;
    for (int kind = 0; kind < MOS_DT_CLAIM_KINDS; kind++)
        for (size_t i = 0; i < claims->count; i++) {
            const struct mos_dt_claim *c = mos_vec_at(claims, i);
            if ((int)c->kind == kind)
                sorted[n++] = *c;
        }
    size_t ranges = 0;
    while (ranges < n && sorted[ranges].kind == MOS_DT_CLAIM_REGISTERS)
        ranges++;
    if (ranges)
        qsort(sorted, ranges, sizeof *sorted, by_kind);
    claims->items = sorted;
}

void trees_claims(mosaicum *m, const struct trees_one *t) {
    static const struct mosaicum_column columns[] = {
        {"kind", "takes", false},       {"number", "which", false},
        {"detail", "as", false},        {"of", "of", false},
        {"node", "node", false},        {"property", "by", false, true},
        {"entry", "entry", true, true}, {"name", "name", false, true}};
    struct mos_vec claims = mos_dt_claims(m->arena, t->dt, &t->phandles);
    struct report_table r = report_start(&m->report, "claims", NULL, columns, 8);
    sort_claims(m, &claims);
    for (size_t i = 0; i < claims.count; i++) {
        const struct mos_dt_claim *c = mos_vec_at(&claims, i);
        cell_text(&r, mos_dt_claim_word(c->kind));
        cell_text(&r, number_text(m, c));
        cell_text(&r, detail(m, c));
        cell_text(&r, c->of ? path(m, c->of) : "");
        cell_text(&r, path(m, c->node));
        cell_text(&r, c->property->name);
        cell_number(&r, c->entry + 1);
        const char *name = mos_dt_claim_name(c);
        cell_text(&r, name ? name : "");
    }
    r.table.title = claims.count
                        ? mos_printf(m->arena, "%zu claim%s of enabled nodes in %s", claims.count,
                                     claims.count == 1 ? "" : "s", t->name)
                        : mos_printf(m->arena, "No enabled node of %s takes anything.", t->name);
    report_end(&m->report, &r);
}

/* ---- find ---- */

struct search {
    mosaicum *m;
    const struct trees_one *t;
    const char *word;
    struct report_table *table;
    size_t found;
};

static void hit(struct search *s, const struct mos_dt_node *n, const char *by, const char *value,
                struct mos_place place) {
    const struct mos_dt_node *down = mos_dt_off(n);
    cell_text(s->table, path(s->m, n));
    cell_text(s->table, by);
    cell_text(s->table, value);
    cell_text(s->table, down ? down == n ? "off" : "below what is off" : "on");
    cell_text(s->table, place.source ? place_text(s->m->arena, place) : "");
    s->found++;
}

static bool look(void *self, struct mos_dt_node *n) {
    struct search *s = self;
    const struct mos_dt_property *c = mos_dt_property(n, "compatible"),
                                 *p = mos_dt_property(n, s->word);
    const struct mos_dt_node *symbols = mos_dt_child(s->t->dt->root, "__symbols__");
    const char *own = path(s->m, n), *symbol = symbols ? mos_dt_string(symbols, s->word) : NULL;
    for (size_t i = 0; i < n->labels.count; i++)
        if (strcmp(mos_vec_pointer(&n->labels, i), s->word) == 0)
            symbol = own;
    if (symbol && strcmp(symbol, own) == 0)
        hit(s, n, "label", s->word, n->place);
    if (n->parent && (strcmp(n->name, s->word) == 0 || strcmp(own, s->word) == 0 ||
                      (*s->word == '/' && s->word[1] && strstr(own, s->word))))
        hit(s, n, "path", "", n->place);
    size_t at = 0;
    for (const char *text; (text = mos_dt_next_string(c, &at));)
        if (strstr(text, s->word))
            hit(s, n, "compatible", text, c->place);
    if (p)
        hit(s, n, "property", mos_dt_shown_value(s->m->arena, s->t->dt, &s->t->phandles, n, p),
            p->place);
    return true;
}

void trees_find(mosaicum *m, const struct trees_one *t, const char *word) {
    static const struct mosaicum_column columns[] = {{"node", "node", false},
                                                     {"by", "by", false},
                                                     {"value", "value", false},
                                                     {"state", "state", false},
                                                     {"from", "from", false, true}};
    struct report_table r = report_start(&m->report, "found", NULL, columns, 5);
    struct search s = {m, t, word, &r, 0};
    mos_dt_walk(t->dt->root, look, &s);
    r.table.title =
        s.found ? NULL : mos_printf(m->arena, "Nothing in %s is called %s.", t->name, word);
    m->damaged = !s.found;
    report_end(&m->report, &r);
}

/* ---- compare ---- */

struct difference {
    mosaicum *m;
    const struct trees_one *a, *b;
    struct report_table *table;
    size_t count;
};

static void differ(struct difference *d, const struct mos_dt_node *n, const char *property,
                   const char *a, const char *b) {
    cell_text(d->table, path(d->m, n));
    cell_text(d->table, property);
    cell_text(d->table, a);
    cell_text(d->table, b);
    d->count++;
}

static const char *value(const struct difference *d, const struct trees_one *t,
                         const struct mos_dt_node *n, const struct mos_dt_property *p) {
    const char *text = mos_dt_shown_value(d->m->arena, t->dt, &t->phandles, n, p);
    return *text ? text : "(set)";
}

/* Numbers of nodes, and lists of what is called how, say nothing by themselves. */
static bool is_number(const struct mos_dt_property *p) {
    return strcmp(p->name, "phandle") == 0 || strcmp(p->name, "linux,phandle") == 0;
}

static void compare_nodes(struct difference *d, const struct mos_dt_node *x,
                          const struct mos_dt_node *y) {
    for (const struct mos_dt_property *p = x->properties; p; p = p->next) {
        const struct mos_dt_property *q = mos_dt_property(y, p->name);
        const char *a = is_number(p) ? NULL : value(d, d->a, x, p);
        const char *b = a && q ? value(d, d->b, y, q) : "(none)";
        if (a && strcmp(a, b) != 0)
            differ(d, x, p->name, a, b);
    }
    for (const struct mos_dt_property *q = y->properties; q; q = q->next)
        if (!is_number(q) && !mos_dt_property(x, q->name))
            differ(d, y, q->name, "(none)", value(d, d->b, y, q));
    for (const struct mos_dt_node *c = x->first_child; c; c = c->next) {
        const struct mos_dt_node *e = mos_dt_child(y, c->name);
        if (e)
            compare_nodes(d, c, e);
        else
            differ(d, c, "", "(node)", "(none)");
    }
    for (const struct mos_dt_node *e = y->first_child; e; e = e->next)
        if (!mos_dt_child(x, e->name))
            differ(d, e, "", "(none)", "(node)");
}

static void compare_reservations(struct difference *d) {
    const struct mos_vec *x = &d->a->dt->reservations, *y = &d->b->dt->reservations;
    for (size_t i = 0; i < mos_max(x->count, y->count); i++) {
        const struct mos_dt_reservation *r = i < x->count ? mos_vec_at(x, i) : NULL,
                                        *s = i < y->count ? mos_vec_at(y, i) : NULL;
        const char *texts[2] = {"(none)", "(none)"};
        if (r)
            texts[0] = mos_printf(d->m->arena, "0x%llx, 0x%llx", (unsigned long long)r->address,
                                  (unsigned long long)r->size);
        if (s)
            texts[1] = mos_printf(d->m->arena, "0x%llx, 0x%llx", (unsigned long long)s->address,
                                  (unsigned long long)s->size);
        if (strcmp(texts[0], texts[1]) != 0)
            differ(d, d->a->dt->root, "/memreserve/", texts[0], texts[1]);
    }
}

void trees_compare(mosaicum *m, const struct trees_one *a, const struct trees_one *b) {
    struct mosaicum_column *columns = mos_alloc_array(m->arena, 4, sizeof *columns);
    columns[0] = (struct mosaicum_column){"node", "node", false, false};
    columns[1] = (struct mosaicum_column){"property", "property", false, false};
    columns[2] = (struct mosaicum_column){"a", a->name, false, false};
    columns[3] = (struct mosaicum_column){"b", b->name, false, false};
    struct report_table r = report_start(&m->report, "differences", NULL, columns, 4);
    struct difference d = {m, a, b, &r, 0};
    if (a->dt->boot_cpu != b->dt->boot_cpu)
        differ(&d, a->dt->root, "boot CPU", mos_printf(m->arena, "%u", a->dt->boot_cpu),
               mos_printf(m->arena, "%u", b->dt->boot_cpu));
    compare_reservations(&d);
    compare_nodes(&d, a->dt->root, b->dt->root);
    r.table.title = d.count ? mos_printf(m->arena, "%zu node%s or properties differ", d.count,
                                         d.count == 1 ? "" : "s")
                            : "Nothing differs.";
    m->damaged = d.count != 0;
    report_end(&m->report, &r);
}

/* ---- draw ---- */

struct drawing {
    mosaicum *m;
    const struct trees_one *t;
    struct report_table *table;
};

struct device {
    uint64_t address;
    const struct mos_dt_node *node;
};

static int by_address(const void *a, const void *b) {
    const struct device *x = a, *y = b;
    return x->address != y->address ? (x->address > y->address) - (x->address < y->address)
                                    : strcmp(x->node->name, y->node->name);
}

static bool draw_bus(void *self, struct mos_dt_node *bus) {
    const struct drawing *d = self;
    if (mos_dt_off(bus) || strcmp(bus->name, "reserved-memory") == 0)
        return true;
    uint32_t a = mos_dt_address_cells(bus);
    struct mos_vec devices = mos_vec_make(d->m->arena, sizeof(struct device));
    for (const struct mos_dt_node *n = bus->first_child; n; n = n->next) {
        const struct mos_dt_property *reg = mos_dt_property(n, "reg");
        if (reg && mos_dt_string(n, "compatible") && a && a <= 2 && reg->length >= 4 * (size_t)a)
            *(struct device *)mos_vec_push(&devices) =
                (struct device){mos_dt_number(reg->data, a), n};
    }
    if (devices.count)
        qsort(devices.items, devices.count, sizeof(struct device), by_address);
    for (size_t i = 0; i < devices.count; i++) {
        const struct device *v = mos_vec_at(&devices, i);
        cell_text(d->table, path(d->m, bus));
        cell_text(d->table, mos_printf(d->m->arena, "0x%llx", (unsigned long long)v->address));
        cell_text(d->table, v->node->name);
        cell_text(d->table, mos_dt_string(v->node, "compatible"));
        cell_text(d->table, mos_dt_off(v->node) ? "off" : "");
    }
    return true;
}

struct owned {
    const char *of; /* the controller's path */
    const struct mos_dt_claim *claim;
};

/* By controller, then by number. */
static int by_controller(const void *a, const void *b) {
    const struct owned *x = a, *y = b;
    const struct mos_dt_claim *c = x->claim, *d = y->claim;
    if (strcmp(x->of, y->of) != 0)
        return strcmp(x->of, y->of);
    if (c->from != d->from)
        return (c->from > d->from) - (c->from < d->from);
    int names = c->name && d->name ? strcmp(c->name, d->name) : 0;
    return names ? names : strcmp(c->node->name, d->node->name);
}

static void draw_claims(mosaicum *m, const struct mos_vec *claims, enum mos_dt_claim_kind kind,
                        const char *key, const char *title, const char *of) {
    struct mosaicum_column *columns = mos_alloc_array(m->arena, 4, sizeof *columns);
    columns[0] = (struct mosaicum_column){"of", of, false, false};
    columns[1] = (struct mosaicum_column){"number", "which", false, false};
    columns[2] = (struct mosaicum_column){"node", "node", false, false};
    columns[3] = (struct mosaicum_column){"detail", "as", false, false};
    struct report_table r = report_start(&m->report, key, title, columns, 4);
    struct mos_vec some = mos_vec_make(m->arena, sizeof(struct owned));
    for (size_t i = 0; i < claims->count; i++) {
        const struct mos_dt_claim *c = mos_vec_at(claims, i);
        if (c->kind == kind && c->of)
            *(struct owned *)mos_vec_push(&some) = (struct owned){path(m, c->of), c};
    }
    if (some.count)
        qsort(some.items, some.count, sizeof(struct owned), by_controller);
    for (size_t i = 0; i < some.count; i++) {
        const struct mos_dt_claim *c = ((struct owned *)mos_vec_at(&some, i))->claim;
        cell_text(&r, path(m, c->of));
        cell_text(&r, number_text(m, c));
        cell_text(&r, path(m, c->node));
        cell_text(&r, detail(m, c));
    }
    if (r.cells.count)
        report_end(&m->report, &r);
}

void trees_draw(mosaicum *m, const struct trees_one *t) {
    static const struct mosaicum_column columns[] = {{"bus", "bus", false},
                                                     {"address", "address", true},
                                                     {"device", "device", false},
                                                     {"compatible", "compatible", false},
                                                     {"state", "", false}};
    struct mos_vec claims = mos_dt_claims(m->arena, t->dt, &t->phandles);
    struct report_table r =
        report_start(&m->report, "buses", "Buses and their devices", columns, 5);
    struct drawing d = {m, t, &r};
    mos_dt_walk(t->dt->root, draw_bus, &d);
    report_end(&m->report, &r);
    draw_claims(m, &claims, MOS_DT_CLAIM_PIN, "pins", "Pins and their owners", "pins of");
    draw_claims(m, &claims, MOS_DT_CLAIM_INTERRUPT, "interrupts", "Interrupts", "controller");
}

/* ---- who did it ---- */

struct trail {
    mosaicum *m;
    struct trees_one one;
    const struct mos_named *overlays;
    struct report_table *table;
};

static const char *set_at(const struct trail *t, struct mos_place place, unsigned by) {
    if (place.source)
        return place_text(t->m->arena, place);
    const struct mos_overlay *o =
        by && by <= t->overlays->count ? t->overlays->items[by - 1] : NULL;
    return o ? o->r.name : t->one.dt->shown_path;
}

static bool trail_node(void *self, struct mos_dt_node *n) {
    const struct trail *t = self;
    mosaicum *m = t->m;
    cell_text(t->table, path(m, n));
    cell_text(t->table, "");
    cell_text(t->table, "");
    cell_text(t->table, set_at(t, n->place, n->added_by));
    cell_text(t->table, "");
    for (const struct mos_dt_property *p = n->properties; p; p = p->next) {
        const struct mos_dt_property *was = p->replaced;
        if (is_number(p))
            continue; /* it is made */
        cell_text(t->table, path(m, n));
        cell_text(t->table, p->name);
        cell_text(t->table, mos_dt_shown_value(m->arena, t->one.dt, &t->one.phandles, n, p));
        cell_text(t->table, set_at(t, p->place, p->set_by));
        cell_text(t->table, was ? mos_printf(m->arena, "%s at %s",
                                             mos_dt_shown_value(m->arena, t->one.dt,
                                                                &t->one.phandles, n, was),
                                             set_at(t, was->place, was->set_by))
                                : "");
    }
    return true;
}

void show_tree_trail(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {{"node", "node", false},
                                                     {"property", "property", false},
                                                     {"value", "value", false},
                                                     {"from", "from", false},
                                                     {"before", "before", false, true}};
    for (size_t i = 0; i < plan->blobs.count; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, i);
        if (!b->tree)
            continue;
        struct report_table r =
            report_start(&m->report, mos_printf(m->arena, "%s-trail", b->def->r.name),
                         mos_printf(m->arena, "Tree %s: who set what", b->def->r.name), columns, 5);
        struct trail t = {.m = m, .overlays = &plan->board->tree->overlays, .table = &r};
        t.one = (struct trees_one){b->def->r.name, b->tree, mos_dt_phandles_of(m->arena, b->tree)};
        mos_dt_walk(b->tree->root, trail_node, &t);
        report_end(&m->report, &r);
    }
}
