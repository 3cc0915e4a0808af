#include "tree/tree.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

struct mos_dt *mos_dt_new(struct mos_arena *arena, const char *shown_path) {
    struct mos_dt *dt = mos_alloc(arena, sizeof *dt);
    dt->arena = arena;
    dt->shown_path = shown_path;
    dt->reservations = mos_vec_make(arena, sizeof(struct mos_dt_reservation));
    dt->root = mos_dt_add_node(dt, NULL, "");
    return dt;
}

struct mos_dt_node *mos_dt_add_node(struct mos_dt *dt, struct mos_dt_node *parent,
                                    const char *name) {
    struct mos_dt_node *n = mos_alloc(dt->arena, sizeof *n);
    n->name = name;
    n->parent = parent;
    n->labels = mos_vec_make(dt->arena, sizeof(char *));
    if (parent) {
        struct mos_dt_node **at = &parent->first_child;
        while (*at)
            at = &(*at)->next;
        *at = n;
    }
    return n;
}

struct mos_dt_node *mos_dt_child(const struct mos_dt_node *parent, const char *name) {
    for (struct mos_dt_node *c = parent->first_child; c; c = c->next)
        if (strcmp(c->name, name) == 0)
            return c;
    return NULL;
}

/* The child that a path component of `length` bytes means. */
static struct mos_dt_node *component(const struct mos_dt_node *parent, const char *name,
                                     size_t length) {
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

struct mos_dt_property *mos_dt_property(const struct mos_dt_node *node, const char *name) {
    for (struct mos_dt_property *p = node->properties; p; p = p->next)
        if (strcmp(p->name, name) == 0)
            return p;
    return NULL;
}

struct mos_dt_property *mos_dt_set(struct mos_dt *dt, struct mos_dt_node *node, const char *name,
                                   const void *data, size_t length) {
    struct mos_dt_property **at = &node->properties;
    while (*at && strcmp((*at)->name, name) != 0)
        at = &(*at)->next;
    struct mos_dt_property *p = mos_alloc(dt->arena, sizeof *p);
    p->name = name;
    p->data = data;
    p->length = length;
    p->marks = mos_vec_make(dt->arena, sizeof(struct mos_dt_mark));
    if (*at) {
        p->replaced = *at;
        p->next = (*at)->next;
    }
    *at = p;
    return p;
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

bool mos_dt_remove_property(struct mos_dt_node *node, const char *name) {
    for (struct mos_dt_property **at = &node->properties; *at; at = &(*at)->next)
        if (strcmp((*at)->name, name) == 0) {
            *at = (*at)->next;
            return true;
        }
    return false;
}

void mos_dt_remove_node(struct mos_dt_node *node) {
    struct mos_dt_node **at = &node->parent->first_child;
    while (*at != node)
        at = &(*at)->next;
    *at = node->next;
}

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

struct label_search {
    const char *label;
    struct mos_dt_node *found;
    struct mos_vec *all;
};

static bool match_label(void *self, struct mos_dt_node *node) {
    struct label_search *s = self;
    for (size_t i = 0; i < node->labels.count; i++) {
        const char *label = mos_vec_pointer(&node->labels, i);
        if (s->all)
            mos_vec_push_pointer(s->all, label);
        else if (strcmp(label, s->label) == 0)
            s->found = node;
    }
    return s->found == NULL;
}

struct mos_dt_node *mos_dt_by_label(const struct mos_dt *dt, const char *label) {
    struct label_search s = {.label = label};
    mos_dt_walk(dt->root, match_label, &s);
    if (s.found)
        return s.found;
    const struct mos_dt_node *symbols = mos_dt_child(dt->root, "__symbols__");
    const char *path = symbols ? mos_dt_string(symbols, label) : NULL;
    return path ? mos_dt_find(dt, path) : NULL;
}

struct mos_vec mos_dt_labels(const struct mos_dt *dt) {
    struct mos_vec all = mos_vec_make(dt->arena, sizeof(char *));
    struct label_search s = {.all = &all};
    mos_dt_walk(dt->root, match_label, &s);
    const struct mos_dt_node *symbols = mos_dt_child(dt->root, "__symbols__");
    for (const struct mos_dt_property *p = symbols ? symbols->properties : NULL; p; p = p->next)
        mos_vec_push_pointer(&all, p->name);
    return all;
}

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
        mos_finding_try(&r->ctx->findings, f, "&%s", near);
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
        if (m->kind == MOS_DT_PHANDLE)
            mos_put_be32((uint8_t *)(uintptr_t)p->data + m->offset, mos_dt_phandle(r->dt, target));
        else
            insert_path(r, p, m, mos_dt_path(r->ctx->arena, target));
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
