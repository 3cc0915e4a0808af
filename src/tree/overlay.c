/* Applying an overlay: nodes first, then properties, so that a reference may point to anything
 * the overlay itself adds.  New nodes and properties come before others, and phandles of the
 * overlay are moved behind those of the base, as loaders do it: what comes out is equal. */
#include "tree/tree.h"

#include "base/bytes.h"
#include "base/text.h"

#include <assert.h>
#include <string.h>

struct pair {
    const struct mos_dt_node *from; /* in the overlay */
    struct mos_dt_node *to;         /* in the base */
    const struct mos_dt_node *fragment;
};

struct applier {
    struct mos_ctx *ctx;
    struct mos_dt *base, *overlay;
    unsigned n;
    const char *const *names;
    struct mos_vec pairs; /* of struct pair, parents first */
    const struct mos_dt_node *fragment;
    uint32_t moved_by; /* added to the overlay's own phandles */
    bool ok;
};

static struct mos_dt_node *merged(const struct applier *a, const struct mos_dt_node *from) {
    for (size_t i = 0; i < a->pairs.count; i++) {
        const struct pair *p = mos_vec_at(&a->pairs, i);
        if (p->from == from)
            return p->to;
    }
    return NULL;
}

/* The number of a node of the base, given to it when it has none: that of the overlay, moved. */
static uint32_t number_of(const struct applier *a, const char *name, struct mos_dt_node *to) {
    const struct mos_dt_node *local =
        *name == '/' ? mos_dt_find(a->overlay, name) : mos_dt_by_label(a->overlay, name);
    uint32_t number;
    bool there = mos_dt_cell(to, "phandle", &number) || mos_dt_cell(to, "linux,phandle", &number);
    /* in a blob a loader puts the overlay's number in place of the base's, and so do we */
    if (!local || !local->own_phandle || (there && !a->base->from_blob) ||
        (there && number == local->own_phandle + a->moved_by))
        return mos_dt_phandle(a->base, to);
    uint8_t cell[4];
    mos_put_be32(cell, local->own_phandle + a->moved_by);
    struct mos_dt_property *p = mos_dt_set_copy(a->base, to, "phandle", cell, 4);
    if (!there)
        mos_dt_property_first(to, p);
    return local->own_phandle + a->moved_by;
}

/* The base node that a label or path of the overlay means. */
static struct mos_dt_node *target_of(const struct applier *a, const char *name) {
    const struct mos_dt_node *local =
        *name == '/' ? mos_dt_find(a->overlay, name) : mos_dt_by_label(a->overlay, name);
    struct mos_dt_node *to = local ? merged(a, local) : NULL;
    if (to)
        return to;
    return *name == '/' ? mos_dt_find(a->base, name) : mos_dt_by_label(a->base, name);
}

static void missing(struct applier *a, const char *name, struct mos_place place) {
    struct mos_findings *list = &a->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_TREE_TARGET_MISSING,
                 *name == '/' ? "Overlay %s needs the node %s, which is not in %s."
                              : "Overlay %s needs the label %s, which is not in %s.",
                 a->names[a->n], name, a->base->shown_path);
    a->ok = false;
    mos_finding_at(list, f, place);
    mos_finding_at(list, f, a->base->place);
    const char *later = mos_map_get(&a->base->later, name);
    if (later) {
        mos_finding_why(list, f, "Overlay %s brings it, and is applied after this one.", later);
        mos_finding_try(list, f, "Put %s before %s.", later, a->names[a->n]);
        return;
    }
    struct mos_vec labels = mos_dt_labels(a->base);
    if (*name != '/' && !labels.count) {
        mos_finding_why(list, f, "%s was built without labels (it has no /__symbols__).",
                        a->base->shown_path);
        mos_finding_try(list, f, "Build it with symbols, or write &{/path/of/the/node} instead.");
        return;
    }
    const char *near = *name == '/' ? NULL : mos_near(name, labels.items, labels.count);
    if (near)
        mos_finding_try(list, f, "Write &%s.", near);
    else if (labels.count)
        mos_finding_try(list, f, "Use one of its %zu labels, such as &%s.", labels.count,
                        (const char *)mos_vec_pointer(&labels, 0));
}

static bool has_label(const struct mos_dt_node *node, const char *label) {
    for (size_t i = 0; i < node->labels.count; i++)
        if (strcmp(mos_vec_pointer(&node->labels, i), label) == 0)
            return true;
    return false;
}

static struct mos_finding *refuse(struct applier *a, struct mos_place place, const char *why,
                                  const char *remedy, const char *text) {
    struct mos_findings *list = &a->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_TREE_SAME_PROPERTY, "%s", text);
    a->ok = false;
    mos_finding_at(list, f, place);
    mos_finding_why(list, f, "%s", why);
    mos_finding_try(list, f, "%s", remedy);
    return f;
}

/* A label that names another node already is no new one. */
static void add_label(struct applier *a, const struct mos_dt_node *from, struct mos_dt_node *to,
                      const char *label) {
    struct mos_arena *arena = a->ctx->arena;
    const struct mos_dt_node *other = mos_dt_by_label(a->base, label);
    struct mos_dt_node *symbols = mos_dt_child(a->base->root, "__symbols__");
    if (other == to || has_label(to, label))
        return;
    if (other && !a->overlay->by_loader) {
        struct mos_finding *f = refuse(
            a, from->place, "Whoever applies it lets one of them go, or refuses it.",
            "Choose another label.",
            mos_printf(arena, "Overlay %s gives the label %s to %s; %s has it.", a->names[a->n],
                       label, mos_dt_path(arena, to), mos_dt_path(arena, other)));
        mos_finding_at(&a->ctx->findings, f, other->place);
        return;
    }
    mos_dt_add_label(a->base, to, label);
    if (symbols) {
        mos_dt_set_text(a->base, symbols, label, mos_dt_path(arena, to));
        mos_dt_property_first(symbols, mos_dt_property(symbols, label));
    }
}

/* Two fragments that add one node: the kernel takes no such overlay. */
static void added_twice(struct applier *a, const struct mos_dt_node *from,
                        const struct mos_dt_node *to) {
    struct mos_arena *arena = a->ctx->arena;
    for (size_t i = 0; i < a->pairs.count; i++) {
        const struct pair *p = mos_vec_at(&a->pairs, i);
        if (p->to != to || p->fragment == a->fragment)
            continue;
        struct mos_finding *f =
            refuse(a, from->place, "A running kernel refuses an overlay that adds a node twice.",
                   "Write all of the node in one place.",
                   mos_printf(arena, "Overlay %s adds %s in two places.", a->names[a->n],
                              mos_dt_path(arena, to)));
        mos_finding_at(&a->ctx->findings, f, p->from->place);
        return;
    }
}

/* A number of its own for a node that has one: what refers to it would be lost. */
static void renumbers(struct applier *a, const struct mos_dt_node *from,
                      const struct mos_dt_node *to) {
    struct mos_arena *arena = a->ctx->arena;
    const char *label = from->labels.count ? mos_vec_pointer(&from->labels, 0) : NULL;
    struct mos_finding *f =
        refuse(a, from->place, "What refers to the node by its number would lead nowhere.",
               label ? "Remove the label, or use one that the base has." : "Remove its phandle.",
               mos_printf(arena,
                          label ? "Overlay %s gives %s another phandle, by its label %s."
                                : "Overlay %s gives %s another phandle.%s",
                          a->names[a->n], mos_dt_path(arena, to), label ? label : ""));
    mos_finding_at(&a->ctx->findings, f, to->place);
}

static void merge_nodes(struct applier *a, const struct mos_dt_node *from, struct mos_dt_node *to) {
    struct pair *p = mos_vec_push(&a->pairs);
    *p = (struct pair){from, to, a->fragment};
    bool there = mos_dt_property(to, "phandle") || mos_dt_property(to, "linux,phandle");
    /* what the overlay itself refers to gets the number of the base */
    if (to->added_by != a->n && there && (from->own_phandle || from->labels.count) &&
        !from->referenced && from->parent != a->fragment && !a->overlay->by_loader)
        renumbers(a, from, to);
    for (size_t i = 0; i < from->labels.count; i++)
        add_label(a, from, to, mos_vec_pointer(&from->labels, i));
    for (const struct mos_dt_node *c = from->first_child; c; c = c->next) {
        struct mos_dt_node *child = mos_dt_child(to, c->name);
        if (!child) {
            child = mos_dt_add_node(a->base, to, c->name);
            mos_dt_child_first(child);
            child->added_by = a->n;
            child->place = c->place;
        } else if (child->added_by == a->n && !a->overlay->by_loader) {
            added_twice(a, c, child);
        }
        merge_nodes(a, c, child);
    }
}

static void differs(struct applier *a, const struct mos_dt_node *node,
                    const struct mos_dt_property *earlier, const struct mos_dt_property *later) {
    assert(earlier->set_by && earlier->set_by != a->n);
    struct mos_findings *list = &a->ctx->findings;
    struct mos_finding *f = mos_find(
        list, MOS_RULE_TREE_SAME_PROPERTY, "Overlays %s and %s set %s of %s differently.",
        a->names[earlier->set_by], a->names[a->n], later->name, mos_dt_path(a->ctx->arena, node));
    mos_finding_at(list, f, earlier->place);
    mos_finding_at(list, f, later->place);
    mos_finding_why(list, f, "Whichever is applied last wins and the other's part stops working.");
    mos_finding_try(list, f, "Set it in one place, or use only one of these overlays.");
}

/* Two fragments of one overlay set a property: which of them is the last is nobody's choice. */
static void set_twice(struct applier *a, const struct mos_dt_node *node,
                      const struct mos_dt_property *earlier, const struct mos_dt_property *later) {
    struct mos_arena *arena = a->ctx->arena;
    struct mos_finding *f =
        refuse(a, later->place, "A running kernel refuses an overlay that sets a property twice.",
               "Set it in one place.",
               mos_printf(arena, "Overlay %s sets %s of %s twice.", a->names[a->n], later->name,
                          mos_dt_path(arena, node)));
    mos_finding_at(&a->ctx->findings, f, earlier->place);
}

static void set_property(struct applier *a, const struct mos_dt_property *p,
                         struct mos_dt_node *node) {
    struct mos_arena *arena = a->ctx->arena;
    struct mos_buf data = {.arena = arena};
    struct mos_vec marks = mos_vec_make(arena, sizeof(struct mos_dt_mark));
    size_t done = 0;
    for (size_t i = 0; i < p->marks.count; i++) {
        const struct mos_dt_mark *m = mos_vec_at(&p->marks, i);
        assert(done <= m->offset && m->offset <= p->length);
        struct mos_dt_node *target = target_of(a, m->name);
        if (!target) {
            missing(a, m->name, m->place);
            return;
        }
        mos_buf_add(&data, p->data + done, m->offset - done);
        done = m->offset;
        struct mos_dt_mark *own = mos_vec_push(&marks); /* it is settled, and still has its name */
        *own = *m;
        own->offset = data.length;
        if (m->kind == MOS_DT_PHANDLE) {
            mos_buf_be32(&data, number_of(a, m->name, target));
            done += 4;
        } else {
            const char *path = mos_dt_path(arena, target);
            mos_buf_add(&data, path, strlen(path) + 1);
        }
    }
    mos_buf_add(&data, p->data + done, p->length - done);
    const struct mos_dt_property *before = mos_dt_property(node, p->name);
    bool same = before && before->length == data.length &&
                memcmp(before->data, mos_buf_string(&data), data.length) == 0;
    bool new_one = !before;
    struct mos_dt_property *now =
        mos_dt_set(a->base, node, p->name, mos_buf_string(&data), data.length);
    if (new_one)
        mos_dt_property_first(node, now);
    now->place = p->place;
    now->marks = marks;
    now->set_by = a->n;
    before = now->replaced;
    if (before && before->set_by == a->n && !same && !a->overlay->by_loader)
        set_twice(a, node, before, now);
    else if (before && before->set_by && before->set_by != a->n && !same)
        differs(a, node, before, now);
}

/* Marks must be in order of their offsets; a blob's fixups may come in any. */
static void sort_marks(struct mos_dt_property *p) {
    for (size_t i = 1; i < p->marks.count; i++)
        for (size_t k = i; k; k--) {
            struct mos_dt_mark *x = mos_vec_at(&p->marks, k - 1), *y = mos_vec_at(&p->marks, k);
            if (x->offset <= y->offset)
                break;
            struct mos_dt_mark swap = *x;
            *x = *y;
            *y = swap;
        }
}

/* Two fixups of one place, or overlapping ones: a damaged blob. */
static bool marks_overlap(const struct mos_dt_property *p) {
    for (size_t i = 1; i < p->marks.count; i++) {
        const struct mos_dt_mark *x = mos_vec_at(&p->marks, i - 1), *y = mos_vec_at(&p->marks, i);
        if (x->kind == MOS_DT_PHANDLE && y->offset < x->offset + 4)
            return true;
    }
    return false;
}

static struct mos_dt_node *fragment_target(struct applier *a, const struct mos_dt_node *fragment) {
    struct mos_dt_property *target = mos_dt_property(fragment, "target");
    const char *path = mos_dt_string(fragment, "target-path");
    const char *name = path;
    struct mos_place place = fragment->place;
    if (target && target->marks.count) {
        const struct mos_dt_mark *m = mos_vec_at(&target->marks, 0);
        name = m->name;
        place = m->place;
    }
    struct mos_dt_node *node = name ? target_of(a, name) : NULL;
    if (!node)
        missing(a, name ? name : "of a fragment without a target", place);
    return node;
}

/* Numbers for the nodes that a source refers to, in the order in which it does. */
static bool number_targets(void *self, struct mos_dt_node *node) {
    struct applier *a = self;
    if (mos_dt_cell(node, "phandle", &node->own_phandle))
        mos_dt_remove_property(node, "phandle");
    for (const struct mos_dt_property *p = node->properties; p; p = p->next)
        for (size_t i = 0; i < p->marks.count; i++) {
            const struct mos_dt_mark *m = mos_vec_at(&p->marks, i);
            struct mos_dt_node *to = m->kind != MOS_DT_PHANDLE ? NULL
                                     : *m->name == '/'         ? mos_dt_find(a->overlay, m->name)
                                                       : mos_dt_by_label(a->overlay, m->name);
            if (to && !to->own_phandle)
                to->own_phandle = ++a->overlay->next_phandle;
            if (to)
                to->referenced = true;
        }
    return true;
}

/* A node's number is what comes last in an overlay; one of a blob has it even where nothing refers
 * to it. */
static void place_number(struct applier *a, const struct pair *p) {
    uint32_t number;
    bool own = p->to->added_by == a->n || a->overlay->by_loader; /* who lets go of the base's */
    if (p->from->own_phandle && a->overlay->from_blob && own)
        number_of(a, mos_dt_path(a->ctx->arena, p->from), p->to);
    if (p->to->added_by == a->n && p->from->own_phandle && mos_dt_cell(p->to, "phandle", &number) &&
        number == p->from->own_phandle + a->moved_by)
        mos_dt_property_first(p->to, mos_dt_property(p->to, "phandle"));
}

bool mos_dt_apply(struct mos_ctx *ctx, struct mos_dt *base, struct mos_dt *overlay, unsigned n,
                  const char *const *overlay_names) {
    assert(n && overlay_names);
    struct applier a = {.ctx = ctx,
                        .base = base,
                        .overlay = overlay,
                        .n = n,
                        .names = overlay_names,
                        .pairs = mos_vec_make(ctx->arena, sizeof(struct pair)),
                        .ok = true};
    base->noted = false;
    a.moved_by = mos_dt_highest_phandle(base);
    if (!overlay->from_blob && !overlay->next_phandle)
        mos_dt_walk(overlay->root, number_targets, &a);
    for (const struct mos_dt_node *f = overlay->root->first_child; f; f = f->next) {
        const struct mos_dt_node *body = mos_dt_child(f, "__overlay__");
        a.fragment = f;
        struct mos_dt_node *node = body ? fragment_target(&a, f) : NULL;
        if (node)
            merge_nodes(&a, body, node);
    }
    for (size_t i = 0; i < a.pairs.count && a.ok; i++) {
        const struct pair *p = mos_vec_at(&a.pairs, i);
        for (struct mos_dt_property *q = p->from->properties; q; q = q->next) {
            sort_marks(q);
            if (!marks_overlap(q))
                set_property(&a, q, p->to);
        }
        if (a.ok)
            place_number(&a, p);
    }
    return a.ok;
}
