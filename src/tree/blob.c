/* Flattened device trees: Devicetree Specification v0.4, chapter 5; overlays additionally carry
 * __fixups__ and __local_fixups__ as the kernel's Documentation/devicetree/dynamic-resolution-notes
 * and overlay-notes describe. */
#include "tree/tree.h"

#include "base/bytes.h"
#include "base/map.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

enum {
    DEEPEST = 64,
};

bool mos_dt_is_blob(const void *data, size_t length) {
    return length >= MOS_DT_HEAD && mos_be32(data) == MOS_DT_MAGIC;
}

struct reader {
    struct mos_ctx *ctx;
    struct mos_dt *dt;
    const uint8_t *data, *strings;
    size_t at, end, strings_size;
    bool failed;
};

static bool fail(struct reader *r, const char *what) {
    if (!r->failed) {
        struct mos_finding *f = mos_find(&r->ctx->findings, MOS_RULE_TREE_SYNTAX,
                                         "%s is a damaged device-tree blob: %s at offset %zu.",
                                         r->dt->shown_path, what, r->at);
        mos_finding_at(&r->ctx->findings, f, mos_place_thing(r->dt->shown_path));
        mos_finding_try(&r->ctx->findings, f, "Get the file again from where it was made.");
    }
    r->failed = true;
    return false;
}

static bool token(struct reader *r, uint32_t *out) {
    if (r->end - r->at < 4)
        return fail(r, "the structure ends early");
    *out = mos_be32(r->data + r->at);
    r->at += 4;
    return true;
}

static void align(struct reader *r) {
    r->at = (size_t)mos_min(mos_round_up(r->at, 4), r->end);
}

static bool read_name(struct reader *r, const char **name) {
    const char *p = (const char *)r->data + r->at;
    const char *end = memchr(p, 0, r->end - r->at);
    if (!end)
        return fail(r, "a name never ends");
    *name = p;
    r->at += (size_t)(end - p) + 1;
    align(r);
    return true;
}

static bool read_property(struct reader *r, struct mos_dt_node *node) {
    uint32_t length, name;
    if (!token(r, &length) || !token(r, &name))
        return false;
    if (length > r->end - r->at)
        return fail(r, "a property is longer than the structure");
    if (name >= r->strings_size || !memchr(r->strings + name, 0, r->strings_size - name))
        return fail(r, "a property's name lies outside the strings");
    if (!r->strings[name])
        return fail(r, "a property has no name");
    struct mos_dt_property *p =
        mos_dt_set(r->dt, node, (const char *)r->strings + name, r->data + r->at, length);
    p->place = mos_place_thing(
        mos_printf(r->ctx->arena, "%s: %s", r->dt->shown_path, (const char *)r->strings + name));
    r->at += length;
    align(r);
    return true;
}

static bool read_node(struct reader *r, struct mos_dt_node *node, unsigned depth) {
    if (depth > DEEPEST)
        return fail(r, "nodes are nested more than 64 deep");
    node->place = mos_place_thing(r->dt->shown_path);
    for (;;) {
        uint32_t t = MOS_DT_NOTHING;
        if (!token(r, &t))
            return false;
        if (t == MOS_DT_END)
            return true;
        if (t == MOS_DT_PROPERTY) {
            if (!read_property(r, node))
                return false;
        } else if (t == MOS_DT_BEGIN) {
            const char *name;
            if (!read_name(r, &name))
                return false;
            if (!*name || strchr(name, '/'))
                return fail(r, "a node has no good name");
            if (!read_node(r, mos_dt_add_node(r->dt, node, name), depth + 1))
                return false;
        } else if (t != MOS_DT_NOTHING) {
            return fail(r, "an unknown token");
        }
    }
}

static bool read_reservations(struct reader *r, size_t offset, size_t total) {
    for (;; offset += 16) {
        if (total - offset < 16)
            return fail(r, "the memory reservations never end");
        struct mos_dt_reservation v = {mos_be64(r->data + offset), mos_be64(r->data + offset + 8)};
        if (!v.address && !v.size)
            return true;
        *(struct mos_dt_reservation *)mos_vec_push(&r->dt->reservations) = v;
    }
}

static bool read_all(struct reader *r, size_t length) {
    const uint8_t *h = r->data;
    if (!mos_dt_is_blob(h, length))
        return fail(r, "it lacks the sign 0xd00dfeed");
    size_t total = mos_be32(h + MOS_DT_TOTAL), structure = mos_be32(h + MOS_DT_STRUCTURE),
           strings = mos_be32(h + MOS_DT_STRINGS), reservations = mos_be32(h + MOS_DT_RESERVATIONS),
           version = mos_be32(h + MOS_DT_VERSION), oldest = mos_be32(h + MOS_DT_OLDEST);
    if (total > length || total < MOS_DT_HEAD)
        return fail(r, "its stated size is wrong");
    if (version < 16 || oldest > 17)
        return fail(r, "its version is none that can be read (16 or 17)");
    if (structure > total || strings > total || reservations > total || structure % 4)
        return fail(r, "a block lies outside of it");
    r->dt->boot_cpu = mos_be32(h + MOS_DT_BOOT_CPU);
    r->strings = h + strings;
    r->strings_size = (size_t)mos_min(mos_be32(h + MOS_DT_STRINGS_SIZE), total - strings);
    r->at = structure;
    r->end = version >= 17 ? structure + (size_t)mos_min(mos_be32(h + MOS_DT_STRUCTURE_SIZE),
                                                         total - structure)
                           : total;
    uint32_t t = MOS_DT_NOTHING;
    const char *name;
    do {
        if (!token(r, &t))
            return false;
    } while (t == MOS_DT_NOTHING);
    if (t != MOS_DT_BEGIN)
        return fail(r, "it does not begin with a node");
    return read_reservations(r, reservations, total) && read_name(r, &name) &&
           read_node(r, r->dt->root, 0);
}

/* ---- what only overlays have ---- */

static bool add_mark(struct mos_dt *dt, struct mos_dt_node *node, const char *property,
                     size_t offset, const char *name) {
    struct mos_dt_property *p = node ? mos_dt_property(node, property) : NULL;
    if (!p || offset > p->length || p->length - offset < 4)
        return false;
    uint8_t *copy = mos_alloc(dt->arena, p->length); /* marks are written into: not the file */
    memcpy(copy, p->data, p->length);
    p->data = copy;
    struct mos_dt_mark *m = mos_vec_push(&p->marks);
    *m = (struct mos_dt_mark){MOS_DT_PHANDLE, offset, name, p->place};
    return true;
}

/* __fixups__: label = "path:property:offset", …  false: one of them points at nothing. */
static bool read_fixups(struct mos_dt *dt, const struct mos_dt_node *fixups) {
    for (const struct mos_dt_property *p = fixups->properties; p; p = p->next) {
        if (!p->length || p->data[p->length - 1])
            return false;
        for (size_t i = 0; i < p->length; i += strlen((const char *)p->data + i) + 1) {
            char *path = mos_strdup(dt->arena, (const char *)p->data + i);
            char *last = strrchr(path, ':');
            if (!last)
                return false;
            *last = 0;
            char *first = strrchr(path, ':');
            if (!first)
                return false;
            *first = 0;
            if (!add_mark(dt, mos_dt_find(dt, path), first + 1, strtoul(last + 1, NULL, 10),
                          p->name))
                return false;
        }
    }
    return true;
}

/* Nodes by their phandle, the first one of each. */
struct phandles {
    struct mos_map nodes; /* phandle in text -> struct mos_dt_node * */
};

static bool note_phandle(void *self, struct mos_dt_node *node) {
    struct phandles *all = self;
    uint32_t value;
    if (!mos_dt_cell(node, "phandle", &value))
        return true;
    const char *text = mos_printf(all->nodes.arena, "%u", value);
    if (!mos_map_get(&all->nodes, text))
        mos_map_set(&all->nodes, text, node);
    return true;
}

/* __local_fixups__ mirrors the tree; each property lists offsets of phandles inside the overlay.
 * They become references by path.  false: one of them points at nothing. */
static bool read_local_fixups(struct mos_dt *dt, const struct phandles *all,
                              const struct mos_dt_node *fixups, struct mos_dt_node *node) {
    if (!node)
        return false;
    for (const struct mos_dt_property *f = fixups->properties; f; f = f->next)
        for (size_t i = 0; i + 4 <= f->length; i += 4) {
            size_t offset = mos_be32(f->data + i);
            struct mos_dt_property *p = mos_dt_property(node, f->name);
            if (!p || offset > p->length || p->length - offset < 4)
                return false;
            const char *value = mos_printf(dt->arena, "%u", mos_be32(p->data + offset));
            struct mos_dt_node *found = mos_map_get(&all->nodes, value);
            if (!found)
                return false;
            found->referenced = true;
            add_mark(dt, node, f->name, offset, mos_dt_path(dt->arena, found));
        }
    for (const struct mos_dt_node *c = fixups->first_child; c; c = c->next)
        if (!read_local_fixups(dt, all, c, mos_dt_child(node, c->name)))
            return false;
    return true;
}

static bool drop_phandle(void *self, struct mos_dt_node *node) {
    (void)self;
    if (!mos_dt_cell(node, "phandle", &node->own_phandle))
        mos_dt_cell(node, "linux,phandle", &node->own_phandle);
    mos_dt_remove_property(node, "phandle");
    mos_dt_remove_property(node, "linux,phandle");
    return true;
}

static bool read_overlay_parts(struct reader *r) {
    struct mos_dt *dt = r->dt;
    for (const struct mos_dt_node *c = dt->root->first_child; c; c = c->next)
        dt->overlay |= mos_dt_child(c, "__overlay__") != NULL;
    if (!dt->overlay)
        return true;
    struct mos_dt_node *n;
    struct phandles all = {mos_map_make(dt->arena)};
    mos_dt_walk(dt->root, note_phandle, &all);
    n = mos_dt_child(dt->root, "__local_fixups__");
    if (n && !read_local_fixups(dt, &all, n, dt->root))
        return fail(r, "a local fix-up points at nothing");
    mos_dt_walk(dt->root, drop_phandle, NULL); /* they are numbered anew when applied */
    if ((n = mos_dt_child(dt->root, "__fixups__")) && !read_fixups(dt, n))
        return fail(r, "a fix-up points at nothing");
    if ((n = mos_dt_child(dt->root, "__symbols__")))
        for (const struct mos_dt_property *p = n->properties; p; p = p->next) {
            const char *path = mos_dt_string(n, p->name);
            struct mos_dt_node *target = path ? mos_dt_find(dt, path) : NULL;
            if (target)
                mos_dt_add_label(dt, target, p->name);
        }
    return true;
}

struct mos_dt *mos_dt_read_blob(struct mos_ctx *ctx, const char *shown_path, const void *data,
                                size_t length) {
    struct mos_dt *dt = mos_dt_new(ctx->arena, shown_path);
    dt->from_blob = true;
    dt->place = mos_place_thing(shown_path);
    struct reader r = {.ctx = ctx, .dt = dt, .data = data};
    return read_all(&r, length) && read_overlay_parts(&r) ? dt : NULL;
}

/* ---- writing ---- */

enum { ENDS = 256, RECENT = 1024 };

/* The strings of a blob: a name that another one ends with is stored in that. */
struct writer {
    struct mos_buf structure, strings;
    struct mos_map names; /* name -> offset + 1 */
    struct {
        const char *name;
        uint32_t offset;
    } lately[RECENT];          /* the same by where a name's text is: most are one text each */
    struct mos_vec ends[ENDS]; /* of struct stored, by the last two characters */
};
struct stored {
    uint32_t offset, length;
};

static struct mos_vec *ends_like(struct writer *w, const char *name, size_t length) {
    unsigned a = length ? (uint8_t)name[length - 1] : 0,
             b = length > 1 ? (uint8_t)name[length - 2] : 0;
    return &w->ends[(a * 31 + b) % ENDS];
}

/* The first place where a name already stands, up to its NUL; UINT32_MAX: nowhere. */
static uint32_t stored_offset(struct writer *w, const char *name, size_t length) {
    const struct mos_vec *all = ends_like(w, name, length);
    for (size_t i = 0; i < all->count; i++) {
        const struct stored *s = mos_vec_at(all, i);
        if (s->length >= length &&
            memcmp(w->strings.data + s->offset + s->length - length, name, length) == 0)
            return (uint32_t)(s->offset + s->length - length);
    }
    return UINT32_MAX;
}

static uint32_t new_string(struct writer *w, const char *name) {
    size_t length = strlen(name);
    uint32_t offset = length > 1 ? stored_offset(w, name, length) : UINT32_MAX;
    if (offset != UINT32_MAX)
        return offset;
    offset = (uint32_t)w->strings.length;
    *(struct stored *)mos_vec_push(ends_like(w, name, length)) =
        (struct stored){offset, (uint32_t)length};
    mos_buf_add(&w->strings, name, length + 1);
    return offset;
}

static uint32_t string_offset(struct writer *w, const char *name) {
    assert(name);
    size_t slot = ((uintptr_t)name >> 4 ^ (uintptr_t)name >> 14) % RECENT;
    if (w->lately[slot].name == name)
        return w->lately[slot].offset;
    uintptr_t known = (uintptr_t)mos_map_get(&w->names, name);
    if (!known) {
        known = (uintptr_t)new_string(w, name) + 1;
        mos_map_set(&w->names, name, (void *)known);
    }
    w->lately[slot].name = name;
    return w->lately[slot].offset = (uint32_t)(known - 1);
}

static void write_node(struct writer *w, const struct mos_dt_node *node) {
    mos_buf_be32(&w->structure, MOS_DT_BEGIN);
    mos_buf_add(&w->structure, node->name, strlen(node->name) + 1);
    mos_buf_align(&w->structure, 4);
    for (const struct mos_dt_property *p = node->properties; p; p = p->next) {
        uint8_t head[12];
        mos_put_be32(head, MOS_DT_PROPERTY);
        mos_put_be32(head + 4, (uint32_t)p->length);
        mos_put_be32(head + 8, string_offset(w, p->name));
        mos_buf_add(&w->structure, head, sizeof head);
        mos_buf_add(&w->structure, p->data, p->length);
        mos_buf_align(&w->structure, 4);
        assert(w->structure.length % 4 == 0);
    }
    for (const struct mos_dt_node *c = node->first_child; c; c = c->next)
        write_node(w, c);
    mos_buf_be32(&w->structure, MOS_DT_END);
}

static bool add_symbols(void *self, struct mos_dt_node *node) {
    struct mos_dt *dt = self;
    if (!node->labels.count)
        return true;
    struct mos_dt_node *symbols = mos_dt_child(dt->root, "__symbols__");
    if (!symbols)
        symbols = mos_dt_add_node(dt, dt->root, "__symbols__");
    mos_dt_phandle(dt, node); /* an overlay refers to it by its number */
    for (size_t i = 0; i < node->labels.count; i++)
        mos_dt_set_text(dt, symbols, mos_vec_pointer(&node->labels, i),
                        mos_dt_path(dt->arena, node));
    return true;
}

void mos_dt_keep_labels(struct mos_dt *dt) {
    mos_dt_walk(dt->root, add_symbols, dt);
}

void mos_dt_write_blob(struct mos_ctx *ctx, struct mos_dt *dt, bool with_symbols,
                       struct mos_buf *out) {
    assert(dt->root && !dt->root->parent);
    if (with_symbols)
        mos_dt_keep_labels(dt);
    struct writer w = {.structure = {.arena = ctx->arena},
                       .strings = {.arena = ctx->arena},
                       .names = mos_map_make(ctx->arena)};
    for (size_t i = 0; i < ENDS; i++)
        w.ends[i] = mos_vec_make(ctx->arena, sizeof(struct stored));
    write_node(&w, dt->root);
    mos_buf_be32(&w.structure, MOS_DT_FINISH);
    struct mos_buf blob = {.arena = ctx->arena};
    mos_buf_zeros(&blob, MOS_DT_HEAD);
    size_t reservations = blob.length;
    for (size_t i = 0; i < dt->reservations.count; i++) {
        const struct mos_dt_reservation *v = mos_vec_at(&dt->reservations, i);
        uint8_t raw[16];
        mos_put_be64(raw, v->address);
        mos_put_be64(raw + 8, v->size);
        mos_buf_add(&blob, raw, sizeof raw);
    }
    mos_buf_zeros(&blob, 16);
    size_t structure = blob.length;
    mos_buf_add(&blob, w.structure.data, w.structure.length);
    size_t strings = blob.length;
    mos_buf_add(&blob, mos_buf_string(&w.strings), w.strings.length);
    const uint32_t header[10] = {MOS_DT_MAGIC,
                                 (uint32_t)blob.length,
                                 (uint32_t)structure,
                                 (uint32_t)strings,
                                 (uint32_t)reservations,
                                 17,
                                 16,
                                 dt->boot_cpu,
                                 (uint32_t)w.strings.length,
                                 (uint32_t)w.structure.length};
    for (size_t i = 0; i < 10; i++)
        mos_put_be32(blob.data + 4 * i, header[i]);
    mos_buf_add(out, blob.data, blob.length);
}
