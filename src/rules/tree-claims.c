/* What nodes of a tree take of others: does each reference lead to something of that kind, with as
 * many cells as that takes, and does nobody else have the same? */
#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"
#include "rules/tree-view.h"

#include <stdio.h>
#include <string.h>

struct claims_view {
    struct mos_tree_view *t;
    const struct mos_dt_node *node;         /* that is looked at */
    const struct mos_dt_property *property; /* … and of it */
    const struct mos_dt_kind *kind;
    bool theirs; /* the property is not ours */
};

static struct mos_place place_of(const struct claims_view *v, const struct mos_dt_node *n,
                                 const struct mos_dt_property *p) {
    return mos_tree_place(v->t, n, p);
}

static struct mos_finding *tell(struct claims_view *v, enum mos_rule_id rule,
                                const struct mos_dt_property *p, const char *text) {
    return mos_tree_tell(v->t, rule, v->node, p, text);
}

static const char *path(const struct claims_view *v, const struct mos_dt_node *n) {
    return mos_tree_path(v->t, n);
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
    struct mos_finding *f = tell(
        v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
        mos_printf(v->t->arena, "%s of %s: entry %zu has %zu cell%s behind %s, which takes %u.",
                   v->property->name, path(v, v->node), index + 1, r->left, r->left == 1 ? "" : "s",
                   path(v, r->provider), r->cells));
    if (!f)
        return;
    const struct mos_dt_property *cells = mos_dt_property(r->provider, v->kind->cells);
    mos_finding_at(v->t->list, f, place_of(v, r->provider, cells));
    mos_finding_why(v->t->list, f, "The kernel reads %s there, and refuses the whole property.",
                    v->kind->cells);
    mos_finding_try(v->t->list, f, "Write %u cell%s behind each reference to it.", r->cells,
                    r->cells == 1 ? "" : "s");
}

static bool is_set_by_us(const struct mos_dt_node *n, const char *property) {
    const struct mos_dt_property *p = n ? mos_dt_property(n, property) : NULL;
    return p && p->set_by;
}

/* Did our files bring about that this needs that, and that it is off?  What many devices do without
 * (DMA, a clock of several) must be written, or switched off, by an overlay of ours. */
static bool is_our_doing(const struct claims_view *v, const struct mos_dt_node *down) {
    if (v->property->set_by)
        return true;
    bool much = strcmp(v->property->name, "clocks") == 0 ||
                strcmp(v->property->name, "dmas") == 0 ||
                strcmp(v->property->name, "interrupts-extended") == 0;
    return (much && is_set_by_us(down, "status")) ||
           (v->kind->must &&
            (!v->theirs || is_set_by_us(v->node, "status") || is_set_by_us(down, "status")));
}

/* Nobody provides it: the driver waits for ever. */
static void check_provider(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    const struct mos_dt_node *down = mos_dt_off(r->provider);
    if (!down || !is_our_doing(v, down))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_PROVIDER_OFF, v->property,
             mos_printf(v->t->arena, "%s of %s: entry %zu is %s, and %s is switched off.",
                        v->property->name, path(v, v->node), index + 1, path(v, r->provider),
                        down == r->provider ? "that" : path(v, down)));
    if (!f)
        return;
    mos_finding_at(v->t->list, f, place_of(v, down, mos_dt_property(down, "status")));
    mos_finding_why(v->t->list, f,
                    "The kernel puts the device off until it is there, which is never.");
    mos_finding_try(v->t->list, f, "Set status = \"okay\" in %s, or switch off %s.", path(v, down),
                    path(v, v->node));
}

static void try_below(const struct claims_view *v, struct mos_finding *f, uint64_t count) {
    if (count < 2)
        mos_finding_try(v->t->list, f, "Write 0: they are counted from 0.");
    else
        mos_finding_try(v->t->list, f, "Write one of 0 to %llu: they are counted from 0.",
                        (unsigned long long)count - 1);
}

/* Controllers with a number of lines that their kind says. */
static const struct {
    const char *like;
    uint32_t lines;
    const char *also; /* its compatible has this, too; or NULL */
} line_counts[] = {
    {"fsl,imx", 32, "-gpio"},   {"allwinner,", 32},
    {"rockchip,gpio-bank", 32}, {"arm,pl061", 8},
    {"brcm,bcm2835-gpio", 54},  {"brcm,bcm2711-gpio", 58},
    {"nxp,pca9555", 16},        {"nxp,pca9535", 16},
    {"nxp,pca9534", 8},         {"nxp,pca9554", 8},
    {"nxp,pca9557", 8},         {"nxp,pca6416", 16},
    {"nxp,pcal6416", 16},       {"ti,tca6416", 16},
    {"ti,tca6408", 8},          {"ti,tca6424", 24},
    {"ti,tca9539", 16},         {"ti,tca9554", 8},
    {"ti,pca9555", 16},         {"ti,pca9535", 16},
    {"microchip,mcp23017", 16}, {"microchip,mcp23008", 8},
    {"nxp,pcf8574", 8},         {"nxp,pcf8575", 16},
    {"ti,omap4-gpio", 32},      {"maxim,max7310", 8},
    {"maxim,max7325", 16},      {"nvidia,tegra210-gpio", 256},
};

/* How many lines a controller has, and where it says so; false: it is not known. */
static bool lines_of(const struct claims_view *v, const struct mos_dt_node *n, uint64_t *count,
                     const struct mos_dt_property **where) {
    static const char *const names[] = {"ngpios", "snps,nr-gpios", "ti,ngpio"};
    uint32_t number;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (mos_dt_cell(n, names[i], &number)) {
            *where = mos_dt_property(n, names[i]);
            *count = number;
            return true;
        }
    *where = mos_dt_property(n, "compatible");
    for (size_t i = 0; i < sizeof line_counts / sizeof *line_counts; i++)
        if (mos_dt_is_like(n, line_counts[i].like) &&
            (!line_counts[i].also || mos_dt_is_like(n, line_counts[i].also))) {
            *count = line_counts[i].lines;
            return true;
        }
    /* those whose lines are all pins of one controller */
    const struct mos_dt_property *p = mos_dt_property(n, "gpio-ranges");
    *where = p;
    *count = 0;
    uint64_t next = 0;
    for (size_t at = 0; p && at + 16 <= p->length; at += 16) {
        if (!mos_dt_by_phandle(&v->t->phandles, mos_be32(p->data + at)))
            return false;
        uint64_t from = mos_be32(p->data + at + 4), some = mos_be32(p->data + at + 12);
        if (from != next || !some)
            return false;
        next = from + some;
    }
    *count = next;
    return next;
}

/* A line that the controller has not. */
static void check_line(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    uint64_t lines;
    const struct mos_dt_property *where;
    if (!v->kind->cells || strcmp(v->kind->cells, "#gpio-cells") != 0 || !r->cells ||
        r->cells > 3 || (r->cells == 3 && !mos_dt_is_like(r->provider, "allwinner,")) ||
        !lines_of(v, r->provider, &lines, &where))
        return;
    uint32_t line = mos_be32(r->arguments + (r->cells == 3 ? 4 : 0)); /* a bank is before it */
    if (mos_dt_is_like(r->provider, "qcom,pm") || mos_dt_is_like(r->provider, "qcom,spmi"))
        lines++; /* counted from 1 */
    if (line < lines)
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BEYOND_LIMIT, v->property,
             mos_printf(v->t->arena, "%s of %s: entry %zu is line %u of %s, which has %llu.",
                        v->property->name, path(v, v->node), index + 1, line, path(v, r->provider),
                        (unsigned long long)lines));
    if (!f)
        return;
    mos_finding_at(v->t->list, f, place_of(v, r->provider, where));
    mos_finding_why(v->t->list, f, "The kernel refuses the line, and the device that asks for it.");
    try_below(v, f, lines);
}

/* In a source, where others are labels, it is a cell that was left over. */
static void tell_left_over(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
             mos_printf(v->t->arena,
                        "%s of %s: entry %zu begins with the number 0x%x, not with a label.",
                        v->property->name, path(v, v->node), index + 1, r->phandle));
    if (!f)
        return;
    mos_finding_why(v->t->list, f, "The entry before it takes fewer cells than are written.");
    mos_finding_try(v->t->list, f, "Write as many cells as it takes, or a label here.");
}

static void tell_no_node(struct claims_view *v, const char *what) {
    struct mos_finding *f = tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property, what);
    if (!f)
        return;
    mos_finding_why(v->t->list, f, "The kernel takes the property as if it were not there.");
    mos_finding_try(v->t->list, f, "Write a label: <&LABEL …>.");
}

static void tell_no_provider(struct claims_view *v, size_t index, const struct mos_dt_reference *r,
                             const char *name) {
    const char *shown =
        name ? mos_printf(v->t->arena, *name == '/' ? "&{%s}" : "&%s", name) : path(v, r->provider);
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
             mos_printf(v->t->arena, "%s of %s: entry %zu is %s, which has no %s.",
                        v->property->name, path(v, v->node), index + 1, shown, v->kind->cells));
    if (!f)
        return;
    mos_finding_at(v->t->list, f, place_of(v, r->provider, NULL));
    mos_finding_why(
        v->t->list, f,
        "It is nothing of that kind for the kernel, or too many cells stand before it.");
    mos_finding_try(v->t->list, f, "Name the node that has %s, or correct the cells before it.",
                    v->kind->cells);
}

static void check_form(struct claims_view *v, size_t index, const struct mos_dt_reference *r) {
    const char *name = r->arguments ? written(v, r) : NULL;
    if (r->broken == MOS_DT_CUT)
        tell_cut(v, index, r);
    else if (r->provider && !name && v->property->marks.count)
        tell_left_over(v, index, r);
    else if (r->broken == MOS_DT_UNEVEN)
        tell_no_node(v, mos_printf(v->t->arena, "%s of %s has %zu bytes, which are no cells.",
                                   v->property->name, path(v, v->node), v->property->length));
    else if (r->broken == MOS_DT_NO_NODE)
        tell_no_node(v, mos_printf(v->t->arena,
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
    if (named == count || (!mos_tree_is_ours(p) && !mos_tree_is_ours(v->property)))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, p,
             mos_printf(v->t->arena, "%s of %s has %zu name%s; %s has %zu entr%s.", names,
                        path(v, v->node), named, named == 1 ? "" : "s", v->property->name, count,
                        count == 1 ? "y" : "ies"));
    if (!f)
        return;
    mos_finding_at(v->t->list, f, place_of(v, v->node, v->property));
    mos_finding_why(v->t->list, f,
                    named > count ? "A driver that asks for the last of them by its name gets none."
                                  : "A driver asks for them by their names, and misses the last.");
    mos_finding_try(v->t->list, f, "Name each entry once, in the same order.");
}

static void check_reference(struct claims_view *v) {
    size_t told = v->t->told;
    v->theirs = !mos_tree_is_ours(v->property);
    size_t count = mos_dt_references(&v->t->phandles, v->kind, v->property, each_reference, v);
    if (v->t->told == told)
        check_names(v, v->kind->names, count);
}

static void check_interrupts(struct claims_view *v) {
    const struct mos_dt_node *parent = mos_dt_interrupt_parent(&v->t->phandles, v->node);
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
             mos_printf(v->t->arena, "interrupts of %s has %zu cell%s; %s takes %u each.",
                        path(v, v->node), v->property->length / 4,
                        v->property->length == 4 ? "" : "s", path(v, parent), cells));
    if (!f)
        return;
    mos_finding_at(v->t->list, f, place_of(v, parent, mos_dt_property(parent, "#interrupt-cells")));
    mos_finding_why(v->t->list, f, "The kernel maps another interrupt, or none.");
    mos_finding_try(v->t->list, f, "Write %u cell%s for each interrupt.", cells,
                    cells == 1 ? "" : "s");
}

static void check_reg_names(struct claims_view *v) {
    const struct mos_dt_node *bus = v->node->parent;
    size_t row = 4 * ((size_t)mos_dt_address_cells(bus) + mos_dt_size_cells(bus));
    if (row && row <= 32 && v->property->length % row == 0)
        check_names(v, "reg-names", v->property->length / row);
}

/* pinctrl-names names pinctrl-0, pinctrl-1 … */
static void check_states(struct claims_view *v) {
    size_t states = 0, named = mos_dt_string_count(v->property);
    char name[24];
    const struct mos_dt_property *last = NULL, *p;
    while (snprintf(name, sizeof name, "pinctrl-%zu", states), p = mos_dt_property(v->node, name)) {
        last = p;
        states++;
    }
    if (states == named || (!mos_tree_is_ours(v->property) && !mos_tree_is_ours(last)))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
             mos_printf(v->t->arena, "pinctrl-names of %s has %zu name%s; there %s %zu state%s.",
                        path(v, v->node), named, named == 1 ? "" : "s", states == 1 ? "is" : "are",
                        states, states == 1 ? "" : "s"));
    if (!f)
        return;
    if (last)
        mos_finding_at(v->t->list, f, place_of(v, v->node, last));
    mos_finding_why(v->t->list, f, "The kernel takes the states by their names.");
    mos_finding_try(v->t->list, f, "Write a pinctrl-N for each name, counted from 0.");
}

static void check_interrupt_parent(struct claims_view *v) {
    uint32_t number;
    const struct mos_dt_node *to = mos_dt_cell(v->node, "interrupt-parent", &number)
                                       ? mos_dt_by_phandle(&v->t->phandles, number)
                                       : NULL;
    if (to && mos_dt_property(to, "#interrupt-cells"))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_BROKEN_REFERENCE, v->property,
             mos_printf(v->t->arena, "interrupt-parent of %s is %s, which takes no interrupts.",
                        path(v, v->node), to ? path(v, to) : "no node"));
    if (!f)
        return;
    if (to)
        mos_finding_at(v->t->list, f, place_of(v, to, NULL));
    mos_finding_why(v->t->list, f, "It has no #interrupt-cells; the kernel maps no interrupt.");
    mos_finding_try(v->t->list, f, "Name an interrupt controller.");
}

/* The controller of its interrupts is switched off, and one of the two is our doing. */
static void check_interrupt_off(struct claims_view *v) {
    const struct mos_dt_node *to = mos_dt_interrupt_parent(&v->t->phandles, v->node);
    const struct mos_dt_node *down = to ? mos_dt_off(to) : NULL;
    if (!down ||
        (!v->property->set_by && !is_set_by_us(v->node, "status") && !is_set_by_us(down, "status")))
        return;
    struct mos_finding *f =
        tell(v, MOS_RULE_TREE_PROVIDER_OFF, v->property,
             mos_printf(v->t->arena, "interrupts of %s go to %s, and %s is switched off.",
                        path(v, v->node), path(v, to), down == to ? "that" : path(v, down)));
    if (!f)
        return;
    mos_finding_at(v->t->list, f, place_of(v, down, mos_dt_property(down, "status")));
    mos_finding_why(v->t->list, f,
                    "Nobody maps them: the driver waits for them, or works without.");
    mos_finding_try(v->t->list, f, "Set status = \"okay\" in %s, or switch off %s.", path(v, down),
                    path(v, v->node));
}

static bool check_node(void *self, struct mos_dt_node *node) {
    struct claims_view *v = self;
    if (mos_dt_has_free_names(node) || mos_dt_off(node))
        return true;
    for (const struct mos_dt_property *p = node->properties; p; p = p->next) {
        v->node = node;
        v->property = p;
        v->kind = mos_dt_kind_of(node, p->name);
        if (strcmp(p->name, "interrupts") == 0)
            check_interrupt_off(v);
        if (v->kind)
            check_reference(v);
        else if (strcmp(p->name, "interrupts") == 0 && mos_tree_is_ours(p))
            check_interrupts(v);
        else if (strcmp(p->name, "reg") == 0 && node->parent)
            check_reg_names(v);
        else if (strcmp(p->name, "pinctrl-names") == 0)
            check_states(v);
        else if (strcmp(p->name, "interrupt-parent") == 0 && mos_tree_is_ours(p))
            check_interrupt_parent(v);
    }
    return true;
}

/* What combinations of overlays have in common is counted once. */
static void note_once(struct mos_ctx *ctx, const char *text) {
    for (size_t i = 0; i < ctx->not_proved.count; i++)
        if (strcmp(mos_vec_pointer(&ctx->not_proved, i), text) == 0)
            return;
    mos_vec_push_pointer(&ctx->not_proved, text);
}

struct looked_at {
    const struct mos_plan *plan;
    const struct mos_blob_plan *blob;
};

static void check_tree(void *self, struct mos_dt *dt) {
    const struct looked_at *l = self;
    const struct mos_blob_plan *b = l->blob;
    struct mos_ctx *ctx = l->plan->ctx;
    struct mos_tree_view t = {
        .plan = l->plan, .dt = dt, .list = &ctx->findings, .arena = ctx->arena};
    struct claims_view v = {.t = &t};
    t.phandles = mos_dt_phandles_of(ctx->arena, dt);
    t.claims = mos_dt_claims(ctx->arena, dt, &t.phandles);
    mos_dt_walk(dt->root, check_node, &v);
    mos_tree_check_addresses(&t);
    mos_tree_check_shared(&t);
    mos_tree_check_sense(&t);
    mos_tree_check_speeds(&t);
    if (t.told > MOS_TREE_MOST_TOLD)
        note_once(ctx, mos_printf(ctx->arena,
                                  "%zu more references of tree %s that are wrong, "
                                  "too: the first %d are told",
                                  t.told - MOS_TREE_MOST_TOLD, b->def->r.name, MOS_TREE_MOST_TOLD));
}

void mos_rule_tree_claims(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->blobs.count; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, i);
        struct looked_at l = {plan, b};
        if (b->tree && !b->tree->overlay)
            mos_plan_each_tree(plan->self, b, check_tree, &l);
    }
}
