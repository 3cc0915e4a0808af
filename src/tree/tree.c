#include "tree/tree.h"

#include "base/bytes.h"
#include "base/text.h"

#include <assert.h>
#include <string.h>

enum { MANY = 12, LONGEST_NAME = 255 };

struct mos_dt *mos_dt_new(struct mos_arena *arena, const char *shown_path) {
    struct mos_dt *dt = mos_alloc(arena, sizeof *dt);
    dt->arena = arena;
    dt->shown_path = shown_path;
    dt->reservations = mos_vec_make(arena, sizeof(struct mos_dt_reservation));
    dt->labels = mos_map_make(arena);
    dt->root = mos_dt_add_node(dt, NULL, "");
    return dt;
}

/* ---- children ---- */

static void name_child(struct mos_arena *arena, struct mos_dt_node *parent,
                       struct mos_dt_node *child) {
    assert(child->parent == parent);
    if (!parent->children && parent->child_count < MANY)
        return;
    if (parent->children) {
        if (mos_map_get(parent->children, child->name))
            parent->doubled = true; /* the first one keeps the name */
        else
            mos_map_set(parent->children, child->name, child);
        return;
    }
    parent->children = mos_alloc(arena, sizeof *parent->children);
    *parent->children = mos_map_make(arena);
    for (struct mos_dt_node *c = parent->first_child; c; c = c->next)
        name_child(arena, parent, c);
}

void mos_dt_attach(struct mos_dt_node *parent, struct mos_dt_node *node) {
    assert(!node->next && !node->previous);
    node->parent = parent;
    node->previous = parent->last_child;
    *(parent->last_child ? &parent->last_child->next : &parent->first_child) = node;
    parent->last_child = node;
    parent->child_count++;
    name_child(node->labels.arena, parent, node);
}

struct mos_dt_node *mos_dt_add_node(struct mos_dt *dt, struct mos_dt_node *parent,
                                    const char *name) {
    assert(name);
    struct mos_dt_node *n = mos_alloc(dt->arena, sizeof *n);
    n->name = name;
    n->labels = mos_vec_make(dt->arena, sizeof(char *));
    if (parent)
        mos_dt_attach(parent, n);
    return n;
}

static struct mos_dt_node *find_child(const struct mos_dt_node *parent, const char *name) {
    for (struct mos_dt_node *c = parent->first_child; c; c = c->next)
        if (strcmp(c->name, name) == 0)
            return c;
    return NULL;
}

struct mos_dt_node *mos_dt_child(const struct mos_dt_node *parent, const char *name) {
    return parent->children ? mos_map_get(parent->children, name) : find_child(parent, name);
}

static void unlink_child(struct mos_dt_node *node) {
    assert(node->parent && node->parent->child_count);
    struct mos_dt_node *parent = node->parent;
    *(node->previous ? &node->previous->next : &parent->first_child) = node->next;
    *(node->next ? &node->next->previous : &parent->last_child) = node->previous;
    node->previous = NULL;
}

void mos_dt_child_first(struct mos_dt_node *child) {
    assert(child->parent);
    struct mos_dt_node *parent = child->parent;
    unlink_child(child);
    child->next = parent->first_child;
    *(child->next ? &child->next->previous : &parent->last_child) = child;
    parent->first_child = child;
}

/* ->next stays: whoever walks goes on behind it. */
void mos_dt_remove_node(struct mos_dt_node *node) {
    struct mos_dt_node *parent = node->parent;
    unlink_child(node);
    node->removed = true;
    parent->child_count--;
    if (parent->children && mos_map_get(parent->children, node->name) == node)
        mos_map_set(parent->children, node->name,
                    parent->doubled ? find_child(parent, node->name) : NULL);
}

/* The child that a path component of `length` bytes means. */
static struct mos_dt_node *component(const struct mos_dt_node *parent, const char *name,
                                     size_t length) {
    char exact[LONGEST_NAME + 1];
    if (parent->children && length <= LONGEST_NAME) {
        memcpy(exact, name, length);
        exact[length] = 0;
        struct mos_dt_node *found = mos_map_get(parent->children, exact);
        if (found || memchr(name, '@', length))
            return found;
    }
    struct mos_dt_node *loose = NULL;
    for (struct mos_dt_node *c = parent->first_child; c; c = c->next) {
        if (strncmp(c->name, name, length) != 0)
            continue;
        if (c->name[length] == 0)
            return c;
        if (c->name[length] == '@' && !memchr(name, '@', length) && !loose)
            loose = c;
    }
    return loose;
}

struct mos_dt_node *mos_dt_find(const struct mos_dt *dt, const char *path) {
    struct mos_dt_node *node = dt->root;
    if (*path != '/')
        return NULL;
    while (node && *path) {
        path += strspn(path, "/");
        size_t n = strcspn(path, "/");
        if (n)
            node = component(node, path, n);
        path += n;
    }
    return node;
}

/* ---- properties ---- */

static struct mos_dt_property *find_property(const struct mos_dt_node *node, const char *name) {
    for (struct mos_dt_property *p = node->properties; p; p = p->next)
        if (strcmp(p->name, name) == 0)
            return p;
    return NULL;
}

struct mos_dt_property *mos_dt_property(const struct mos_dt_node *node, const char *name) {
    return node->named ? mos_map_get(node->named, name) : find_property(node, name);
}

static void append_property(struct mos_dt *dt, struct mos_dt_node *node,
                            struct mos_dt_property *p) {
    assert(!p->next);
    *(node->last_property ? &node->last_property->next : &node->properties) = p;
    node->last_property = p;
    node->property_count++;
    if (node->named)
        mos_map_set(node->named, p->name, p);
    if (node->named || node->property_count < MANY)
        return;
    node->named = mos_alloc(dt->arena, sizeof *node->named);
    *node->named = mos_map_make(dt->arena);
    for (struct mos_dt_property *q = node->properties; q; q = q->next)
        mos_map_set(node->named, q->name, q);
}

struct mos_dt_property *mos_dt_set(struct mos_dt *dt, struct mos_dt_node *node, const char *name,
                                   const void *data, size_t length) {
    assert(data || !length);
    struct mos_dt_property *p = mos_dt_property(node, name), *old = NULL, *next = NULL;
    bool is_new = !p;
    if (!is_new) {
        old = mos_alloc(dt->arena, sizeof *old);
        *old = *p;
        next = p->next;
    } else {
        p = mos_alloc(dt->arena, sizeof *p);
    }
    *p = (struct mos_dt_property){.name = name,
                                  .data = data,
                                  .length = length,
                                  .marks = mos_vec_make(dt->arena, sizeof(struct mos_dt_mark)),
                                  .replaced = old,
                                  .next = next};
    if (is_new)
        append_property(dt, node, p);
    return p;
}

/* Takes a property out of its node's list; the map, if there is one, still knows it. */
static bool unlink_property(struct mos_dt_node *node, const struct mos_dt_property *property) {
    struct mos_dt_property *before = NULL, *p = node->properties;
    for (; p && p != property; p = p->next)
        before = p;
    if (!p)
        return false;
    *(before ? &before->next : &node->properties) = p->next;
    if (node->last_property == p)
        node->last_property = before;
    return true;
}

void mos_dt_property_first(struct mos_dt_node *node, struct mos_dt_property *property) {
    unlink_property(node, property);
    property->next = node->properties;
    node->properties = property;
    if (!node->last_property)
        node->last_property = property;
}

bool mos_dt_remove_property(struct mos_dt_node *node, const char *name) {
    assert(node);
    struct mos_dt_property *p = mos_dt_property(node, name);
    if (!p || !unlink_property(node, p))
        return false;
    node->property_count--;
    if (node->named)
        mos_map_set(node->named, name, NULL);
    return true;
}

struct mos_dt_property *mos_dt_set_copy(struct mos_dt *dt, struct mos_dt_node *node,
                                        const char *name, const void *data, size_t length) {
    uint8_t *copy = mos_alloc(dt->arena, length + 1);
    if (length)
        memcpy(copy, data, length);
    return mos_dt_set(dt, node, name, copy, length);
}

void mos_dt_set_text(struct mos_dt *dt, struct mos_dt_node *node, const char *name,
                     const char *text) {
    mos_dt_set(dt, node, name, mos_strdup(dt->arena, text), strlen(text) + 1);
}

/* ---- names and values ---- */

static void write_path(const struct mos_dt_node *node, struct mos_buf *b) {
    if (!node->parent)
        return;
    write_path(node->parent, b);
    mos_buf_printf(b, "/%s", node->name);
}

const char *mos_dt_path(struct mos_arena *arena, const struct mos_dt_node *node) {
    struct mos_buf b = {.arena = arena};
    write_path(node, &b);
    return b.length ? mos_buf_string(&b) : "/";
}

const char *mos_dt_string(const struct mos_dt_node *node, const char *name) {
    const struct mos_dt_property *p = mos_dt_property(node, name);
    if (!p || !p->length || p->data[p->length - 1])
        return NULL;
    return (const char *)p->data;
}

bool mos_dt_cell(const struct mos_dt_node *node, const char *name, uint32_t *value) {
    const struct mos_dt_property *p = mos_dt_property(node, name);
    if (!p || p->length != 4)
        return false;
    *value = mos_be32(p->data);
    return true;
}

bool mos_dt_walk(struct mos_dt_node *node, bool (*each)(void *self, struct mos_dt_node *node),
                 void *self) {
    if (!each(self, node))
        return false;
    for (struct mos_dt_node *c = node->first_child, *next; c; c = next) {
        next = c->next;
        if (!mos_dt_walk(c, each, self))
            return false;
    }
    return true;
}

/* ---- labels ---- */

static bool is_attached(const struct mos_dt *dt, const struct mos_dt_node *node) {
    while (node->parent && !node->removed)
        node = node->parent;
    return node == dt->root;
}

void mos_dt_add_label(struct mos_dt *dt, struct mos_dt_node *node, const char *label) {
    assert(label && *label);
    const struct mos_dt_node *has = mos_map_get(&dt->labels, label);
    mos_vec_push_pointer(&node->labels, label);
    if (!has || !is_attached(dt, has))
        mos_map_set(&dt->labels, label, node);
}

struct mos_dt_node *mos_dt_by_label(const struct mos_dt *dt, const char *label) {
    struct mos_dt_node *found = mos_map_get(&dt->labels, label);
    if (found && is_attached(dt, found))
        return found;
    const struct mos_dt_node *symbols = mos_dt_child(dt->root, "__symbols__");
    const char *path = symbols ? mos_dt_string(symbols, label) : NULL;
    return path ? mos_dt_find(dt, path) : NULL;
}

static bool list_labels(void *self, struct mos_dt_node *node) {
    for (size_t i = 0; i < node->labels.count; i++)
        mos_vec_push_pointer(self, mos_vec_pointer(&node->labels, i));
    return true;
}

struct mos_vec mos_dt_labels(const struct mos_dt *dt) {
    struct mos_vec all = mos_vec_make(dt->arena, sizeof(char *));
    mos_dt_walk(dt->root, list_labels, &all);
    const struct mos_dt_node *symbols = mos_dt_child(dt->root, "__symbols__");
    for (const struct mos_dt_property *p = symbols ? symbols->properties : NULL; p; p = p->next)
        mos_vec_push_pointer(&all, p->name);
    return all;
}

/* ---- phandles ---- */

static bool own_phandle(const struct mos_dt_node *node, uint32_t *value) {
    return mos_dt_cell(node, "phandle", value) || mos_dt_cell(node, "linux,phandle", value);
}

static bool raise_highest(void *self, struct mos_dt_node *node) {
    uint32_t *highest = self, value;
    if (own_phandle(node, &value) && value > *highest && value < 0xffffffff)
        *highest = value;
    return true;
}

uint32_t mos_dt_highest_phandle(const struct mos_dt *dt) {
    uint32_t highest = 0;
    mos_dt_walk(dt->root, raise_highest, &highest);
    return highest;
}

uint32_t mos_dt_phandle(struct mos_dt *dt, struct mos_dt_node *node) {
    uint32_t value;
    node->referenced = true;
    if (own_phandle(node, &value))
        return value;
    if (!dt->highest_phandle)
        dt->highest_phandle = mos_dt_highest_phandle(dt);
    value = ++dt->highest_phandle;
    uint8_t *cell = mos_alloc(dt->arena, 4);
    mos_put_be32(cell, value);
    mos_dt_set(dt, node, "phandle", cell, 4);
    return value;
}

/* ---- references ---- */

struct resolver {
    struct mos_ctx *ctx;
    struct mos_dt *dt;
};

static void unknown_target(struct resolver *r, const struct mos_dt_mark *mark) {
    struct mos_finding *f =
        mos_find(&r->ctx->findings, MOS_RULE_TREE_TARGET_MISSING,
                 *mark->name == '/' ? "There is no node %s in %s." : "There is no label %s in %s.",
                 mark->name, r->dt->shown_path);
    mos_finding_at(&r->ctx->findings, f, mark->place);
    struct mos_vec labels = mos_dt_labels(r->dt);
    const char *near = *mark->name == '/' ? NULL : mos_near(mark->name, labels.items, labels.count);
    if (near)
        mos_finding_try(&r->ctx->findings, f, "Write &%s.", near);
}

/* Puts a path's text in place of the mark and moves the marks behind it. */
static void insert_path(struct resolver *r, struct mos_dt_property *p, struct mos_dt_mark *mark,
                        const char *path) {
    size_t n = strlen(path) + 1;
    uint8_t *data = mos_alloc(r->ctx->arena, p->length + n);
    memcpy(data, p->data, mark->offset);
    memcpy(data + mark->offset, path, n);
    memcpy(data + mark->offset + n, p->data + mark->offset, p->length - mark->offset);
    p->data = data;
    p->length += n;
    for (size_t i = 0; i < p->marks.count; i++) {
        struct mos_dt_mark *other = mos_vec_at(&p->marks, i);
        if (other > mark && other->offset >= mark->offset)
            other->offset += n;
    }
}

static void resolve_property(struct resolver *r, struct mos_dt_property *p) {
    uint8_t *own = NULL; /* a copy of the value: it belongs to whoever gave it */
    for (size_t i = 0; i < p->marks.count; i++) {
        struct mos_dt_mark *m = mos_vec_at(&p->marks, i);
        struct mos_dt_node *target =
            *m->name == '/' ? mos_dt_find(r->dt, m->name) : mos_dt_by_label(r->dt, m->name);
        if (!target) {
            if (!r->dt->overlay)
                unknown_target(r, m);
            continue;
        }
        target->referenced = true;
        if (m->kind == MOS_DT_PHANDLE) {
            uint32_t phandle = mos_dt_phandle(r->dt, target);
            if (!own) {
                own = mos_alloc(r->ctx->arena, p->length);
                memcpy(own, p->data, p->length);
                p->data = own;
            }
            mos_put_be32(own + m->offset, phandle);
        } else {
            insert_path(r, p, m, mos_dt_path(r->ctx->arena, target));
            own = NULL;
        }
    }
}

static bool resolve_node(void *self, struct mos_dt_node *node) {
    for (struct mos_dt_property *p = node->properties; p; p = p->next)
        resolve_property(self, p);
    return true;
}

static bool drop_unused(void *self, struct mos_dt_node *node) {
    (void)self;
    if (node->omit_if_unused && !node->referenced && node->parent)
        mos_dt_remove_node(node);
    return true;
}

void mos_dt_resolve(struct mos_ctx *ctx, struct mos_dt *dt) {
    struct resolver r = {ctx, dt};
    mos_dt_walk(dt->root, resolve_node, &r);
    mos_dt_walk(dt->root, drop_unused, NULL);
}
