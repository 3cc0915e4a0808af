#include "tree/tree.h"

#include "base/bytes.h"
#include "base/text.h"

#include <assert.h>
#include <string.h>

enum { MANY = 32, LONGEST_NAME = 255 };

struct mos_dt *mos_dt_new(struct mos_arena *arena, const char *shown_path) {
    struct mos_dt *dt = mos_alloc(arena, sizeof *dt);
    dt->arena = arena;
    dt->shown_path = shown_path;
    dt->reservations = mos_vec_make(arena, sizeof(struct mos_dt_reservation));
    dt->labels = mos_map_make(arena);
    dt->later = mos_map_make(arena);
    dt->doubles = mos_vec_make(arena, sizeof(struct mos_dt_label));
    dt->root = mos_dt_add_node(dt, NULL, "");
    return dt;
}

/* Most names differ early, and most that do not are one text. */
static inline bool is_same(const char *a, const char *b) {
    return a == b || (*a == *b && strcmp(a, b) == 0);
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
        if (!c->removed)
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
        if (!c->removed && is_same(c->name, name))
            return c;
    return NULL;
}

struct mos_dt_node *mos_dt_child(const struct mos_dt_node *parent, const char *name) {
    return parent->children ? mos_map_get(parent->children, name) : find_child(parent, name);
}

static void unlink_child(struct mos_dt_node *node) {
    assert(node->parent);
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

static void forget_child(struct mos_dt_node *node) {
    struct mos_dt_node *parent = node->parent;
    node->removed = true;
    parent->child_count--;
    if (parent->children && mos_map_get(parent->children, node->name) == node)
        mos_map_set(parent->children, node->name,
                    parent->doubled ? find_child(parent, node->name) : NULL);
}

/* ->next stays: whoever walks goes on behind it. */
void mos_dt_remove_node(struct mos_dt_node *node) {
    unlink_child(node);
    forget_child(node);
}

/* ---- what a source deletes ---- */

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

/* Another node that has the label, too; NULL: none. */
static struct mos_dt_node *next_with(const struct mos_dt *dt, const char *label,
                                     const struct mos_dt_node *but) {
    for (size_t i = 0; i < dt->doubles.count; i++) {
        const struct mos_dt_label *l = mos_vec_at(&dt->doubles, i);
        if (l->node != but && !l->node->removed && strcmp(l->label, label) == 0)
            return l->node;
    }
    return NULL;
}

static void hide_labels(struct mos_dt *dt, struct mos_dt_node *node) {
    for (size_t i = 0; i < node->labels.count; i++) {
        const char *label = mos_vec_pointer(&node->labels, i);
        if (mos_map_get(&dt->labels, label) == node)
            mos_map_set(&dt->labels, label, next_with(dt, label, node));
    }
    node->labels.count = 0;
}

void mos_dt_hide_node(struct mos_dt *dt, struct mos_dt_node *node) {
    assert(node->parent && !node->removed);
    for (struct mos_dt_node *c = node->first_child; c; c = c->next)
        if (!c->removed)
            mos_dt_hide_node(dt, c);
    for (struct mos_dt_property *p = node->properties; p; p = p->next)
        if (!p->removed)
            mos_dt_hide_property(dt, node, p->name);
    hide_labels(dt, node);
    node->omit_if_unused = false;
    node->parent->hides = dt->hides = true;
    forget_child(node);
}

struct mos_dt_node *mos_dt_hidden_child(struct mos_dt_node *parent, const char *name) {
    struct mos_dt_node *c = parent->hides ? parent->first_child : NULL;
    while (c && !(c->removed && strcmp(c->name, name) == 0))
        c = c->next;
    if (c) {
        c->removed = false;
        parent->child_count++;
        if (parent->children)
            mos_map_set(parent->children, c->name, c);
    }
    return c;
}

static bool drop_below(void *self, struct mos_dt_node *node) {
    (void)self;
    for (struct mos_dt_node *c = node->first_child, *next; c && node->hides; c = next) {
        next = c->next;
        if (c->removed)
            unlink_child(c);
    }
    for (struct mos_dt_property *p = node->properties, *next; p && node->hides; p = next) {
        next = p->next;
        if (p->removed)
            unlink_property(node, p);
    }
    return true;
}

void mos_dt_drop_hidden(struct mos_dt *dt) {
    if (dt->hides)
        mos_dt_walk(dt->root, drop_below, NULL);
    dt->hides = false;
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
        if (c->removed || strncmp(c->name, name, length) != 0)
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
        if (!p->removed && is_same(p->name, name))
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
        if (!q->removed)
            mos_map_set(node->named, q->name, q);
}

/* One that was deleted: what is set anew stands in its place. */
static struct mos_dt_property *hidden_property(const struct mos_dt_node *node, const char *name) {
    struct mos_dt_property *p = node->properties;
    while (p && !(p->removed && strcmp(p->name, name) == 0))
        p = p->next;
    return p;
}

bool mos_dt_hide_property(struct mos_dt *dt, struct mos_dt_node *node, const char *name) {
    struct mos_dt_property *p = mos_dt_property(node, name);
    if (!p)
        return false;
    p->removed = node->hides = dt->hides = true;
    node->property_count--;
    if (node->named)
        mos_map_set(node->named, name, NULL);
    return true;
}

struct mos_dt_property *mos_dt_set(struct mos_dt *dt, struct mos_dt_node *node, const char *name,
                                   const void *data, size_t length) {
    assert(data || !length);
    struct mos_dt_property *p = mos_dt_property(node, name), *old = NULL, *next = NULL;
    bool is_new = !p;
    if (!p && node->hides && (p = hidden_property(node, name))) {
        next = p->next;
        node->property_count++;
        is_new = false;
        if (node->named)
            mos_map_set(node->named, name, p);
    } else if (!is_new) {
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
    else if (has != node)
        *(struct mos_dt_label *)mos_vec_push(&dt->doubles) = (struct mos_dt_label){label, node};
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

/* ---- copies ---- */

static void copy_node(struct mos_dt *to, struct mos_dt_node *node, const struct mos_dt_node *of) {
    node->place = of->place;
    node->added_by = of->added_by;
    node->referenced = of->referenced;
    for (size_t i = 0; i < of->labels.count; i++)
        mos_dt_add_label(to, node, mos_vec_pointer(&of->labels, i));
    for (const struct mos_dt_property *p = of->properties; p; p = p->next) {
        struct mos_dt_property *q = mos_alloc(to->arena, sizeof *q), *next = q->next;
        *q = *p;
        q->marks = mos_vec_copy(to->arena, &p->marks);
        q->next = next;
        append_property(to, node, q);
    }
    for (const struct mos_dt_node *c = of->first_child; c; c = c->next)
        copy_node(to, mos_dt_add_node(to, node, c->name), c);
}

struct mos_dt *mos_dt_copy(struct mos_arena *arena, const struct mos_dt *dt) {
    struct mos_dt *to = mos_dt_new(arena, dt->shown_path);
    to->overlay = dt->overlay;
    to->from_blob = dt->from_blob;
    to->place = dt->place;
    to->boot_cpu = dt->boot_cpu;
    to->reservations = mos_vec_copy(arena, &dt->reservations);
    copy_node(to, to->root, dt->root);
    return to;
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
