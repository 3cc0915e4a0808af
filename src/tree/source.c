/* The source language of device trees: Devicetree Specification v0.4, chapter 6, with /plugin/. */
#include "tree/source_internal.h"

#include "base/bytes.h"
#include "base/text.h"

#include <ctype.h>
#include <string.h>

static bool node_body(struct mos_dts *d, struct mos_dt_node *node);

/* ---- values ---- */

struct value {
    struct mos_buf bytes;
    struct mos_vec marks; /* of struct mos_dt_mark */
};

static void mark(struct mos_dts *d, struct value *v, enum mos_dt_mark_kind kind, const char *name,
                 struct mos_place place) {
    (void)d;
    struct mos_dt_mark *m = mos_vec_push(&v->marks);
    *m = (struct mos_dt_mark){kind, v->bytes.length, name, place};
}

static bool put_cell(struct mos_dts *d, struct value *v, unsigned bits, uint64_t cell, size_t at) {
    uint64_t high = bits == 64 ? 0 : cell >> bits;
    uint64_t all = bits == 64 ? 0 : UINT64_MAX >> bits;
    if (high && !(high == all && cell >> (bits - 1) & 1))
        return mos_dts_fail(d, at, d->text->at - at, "Write /bits/ 64 <…> for larger ones.",
                            "This number does not fit into %u bits.", bits);
    uint8_t raw[8];
    mos_put_be64(raw, cell);
    mos_buf_add(&v->bytes, raw + 8 - bits / 8, bits / 8);
    return true;
}

static bool one_cell(struct mos_dts *d, struct value *v, unsigned bits) {
    size_t at = d->text->at;
    if (mos_dts_accept(d, "&")) {
        at = d->text->at - 1;
        const char *name = mos_dts_reference(d);
        if (!name)
            return false;
        if (bits != 32)
            return mos_dts_fail(d, at, 1, "Write it without /bits/.",
                                "References need cells of 32 bits.");
        mark(d, v, MOS_DT_PHANDLE, name, mos_dts_place(d, at, d->text->at - at));
        mos_buf_be32(&v->bytes, 0xffffffff); /* as long as it is not resolved */
        return true;
    }
    uint64_t cell;
    mos_dts_skip(d);
    at = d->text->at;
    return mos_dts_cell_value(d, &cell) && put_cell(d, v, bits, cell, at);
}

static bool cells(struct mos_dts *d, struct value *v, unsigned bits) {
    while (!mos_dts_accept(d, ">")) {
        if (mos_dts_label(d))
            continue;
        if (mos_dts_peek(d) < 0)
            return mos_dts_fail(d, d->text->at, 1, "Close it with >.", "These cells never end.");
        if (!one_cell(d, v, bits))
            return false;
    }
    return true;
}

static bool byte_string(struct mos_dts *d, struct value *v) {
    int half = -1;
    for (;;) {
        int c = mos_dts_peek(d);
        if (c == ']' || !isxdigit(c < 0 ? ' ' : c))
            break;
        d->text->at++;
        int digit = isdigit(c) ? c - '0' : tolower(c) - 'a' + 10;
        if (half < 0) {
            half = digit;
        } else {
            mos_buf_char(&v->bytes, (char)(half << 4 | digit));
            half = -1;
        }
    }
    if (half >= 0)
        return mos_dts_fail(d, d->text->at - 1, 1, "Write two digits for each byte.",
                            "A byte string has an odd number of digits.");
    return mos_dts_expect(d, "]", "a byte string");
}

static bool included_bytes(struct mos_dts *d, struct value *v) {
    struct mos_buf name = {.arena = d->ctx->arena};
    size_t at = d->text->at;
    uint64_t from = 0, count = UINT64_MAX;
    if (!mos_dts_expect(d, "(", "/incbin/") || !mos_dts_string(d, &name))
        return mos_dts_fail(d, at, 1, NULL, "/incbin/ needs (\"file\").");
    if (mos_dts_accept(d, ",") &&
        (!mos_dts_cell_value(d, &from) || !mos_dts_expect(d, ",", "an offset") ||
         !mos_dts_cell_value(d, &count)))
        return false;
    const char *path = mos_dts_find_file(d, mos_buf_string(&name), at, 1);
    if (!path)
        return false;
    char *data;
    size_t length;
    if (!mos_read_file(d->ctx, mos_workspace_path(d->ctx, d->root, path), MOS_DTS_LIMIT, &data,
                       &length))
        return false;
    if (from > length || (count != UINT64_MAX && count > length - from))
        return mos_dts_fail(d, at, 1, NULL, "%s has only %zu bytes.", path, length);
    mos_buf_add(&v->bytes, data + from, (size_t)mos_min(count, length - from));
    return mos_dts_expect(d, ")", "/incbin/");
}

static bool one_value(struct mos_dts *d, struct value *v) {
    while (mos_dts_label(d))
        ;
    int c = mos_dts_peek(d);
    if (c == '"') {
        bool ok = mos_dts_string(d, &v->bytes);
        mos_buf_char(&v->bytes, 0);
        return ok;
    }
    if (mos_dts_accept(d, "/bits/")) {
        uint64_t bits = 0;
        size_t at = d->text->at;
        if (!mos_dts_number(d, &bits) || (bits != 8 && bits != 16 && bits != 32 && bits != 64))
            return mos_dts_fail(d, at, 1, NULL, "/bits/ takes 8, 16, 32 or 64.");
        return mos_dts_expect(d, "<", "/bits/") && cells(d, v, (unsigned)bits);
    }
    if (mos_dts_accept(d, "/incbin/"))
        return included_bytes(d, v);
    if (mos_dts_accept(d, "<"))
        return cells(d, v, 32);
    if (mos_dts_accept(d, "["))
        return byte_string(d, v);
    if (mos_dts_accept(d, "&")) {
        size_t at = d->text->at - 1;
        const char *name = mos_dts_reference(d);
        if (name)
            mark(d, v, MOS_DT_PATH, name, mos_dts_place(d, at, d->text->at - at));
        return name != NULL;
    }
    return mos_dts_fail(d, d->text->at, 1, "Write \"text\", <cells>, [bytes] or &label.",
                        "Expected a value here.");
}

static bool property(struct mos_dts *d, struct mos_dt_node *node, const char *name,
                     struct mos_place place) {
    struct value v = {.bytes = {.arena = d->ctx->arena},
                      .marks = mos_vec_make(d->ctx->arena, sizeof(struct mos_dt_mark))};
    if (mos_dts_accept(d, "="))
        do {
            if (!one_value(d, &v))
                return false;
        } while (mos_dts_accept(d, ","));
    while (mos_dts_label(d))
        ;
    if (!mos_dts_expect(d, ";", name))
        return false;
    struct mos_dt_property *p =
        mos_dt_set(d->dt, node, name, mos_buf_string(&v.bytes), v.bytes.length);
    p->marks = v.marks;
    p->place = place;
    return true;
}

/* ---- nodes ---- */

static void add_label(struct mos_dts *d, struct mos_dt_node *node, const char *label) {
    struct mos_dt_node *other = mos_dt_by_label(d->dt, label);
    if (other == node)
        return;
    if (other && !d->failed)
        mos_dts_fail(d, d->text->at - strlen(label) - 1, strlen(label), "Choose another label.",
                     "Label %s already names %s.", label, mos_dt_path(d->ctx->arena, other));
    mos_dt_add_label(d->dt, node, label);
}

static bool delete_something(struct mos_dts *d, struct mos_dt_node *node) {
    bool is_node = mos_dts_accept(d, "/delete-node/");
    if (!is_node && !mos_dts_accept(d, "/delete-property/"))
        return mos_dts_fail(d, d->text->at, 1, NULL, "This directive cannot stand here.");
    mos_dts_skip(d);
    size_t at = d->text->at;
    if (d->dt->overlay)
        return mos_dts_fail(d, at, 1, "Set status = \"disabled\", or change the base.",
                            "An overlay cannot delete what its base has.");
    const char *name;
    struct mos_dt_node *child;
    if (is_node && mos_dts_accept(d, "&")) {
        name = mos_dts_reference(d);
        child = !name          ? NULL
                : *name == '/' ? mos_dt_find(d->dt, name)
                               : mos_dt_by_label(d->dt, name);
    } else {
        name = mos_dts_name(d);
        child = name && node && is_node ? mos_dt_child(node, name) : NULL;
    }
    if (!name)
        return mos_dts_fail(d, at, 1, NULL, "Expected a name to delete.");
    bool done = is_node ? child && child->parent : node && mos_dt_remove_property(node, name);
    if (!done)
        return mos_dts_fail(d, at, d->text->at - at, NULL, "There is no %s %s to delete.",
                            is_node ? "node" : "property", name);
    if (is_node)
        mos_dt_remove_node(child);
    return mos_dts_expect(d, ";", name);
}

static bool include(struct mos_dts *d) {
    struct mos_buf name = {.arena = d->ctx->arena};
    mos_dts_skip(d);
    size_t at = d->text->at;
    if (!mos_dts_string(d, &name))
        return mos_dts_fail(d, at, 1, NULL, "/include/ needs \"file\".");
    if (++d->includes > MOS_DTS_INCLUDES)
        return mos_dts_fail(d, at, name.length + 2, NULL, "More than %d files are included.",
                            MOS_DTS_INCLUDES);
    const char *path = mos_dts_find_file(d, mos_buf_string(&name), at, name.length + 2);
    if (!path)
        return false;
    struct mos_dts_text *inner = mos_dts_open(d, path);
    if (!inner)
        return false;
    inner->outer = d->text;
    d->text = inner;
    return true;
}

static bool child_node(struct mos_dts *d, struct mos_dt_node *parent, const char *name, size_t at,
                       size_t length, const struct mos_vec *labels, bool omit) {
    struct mos_dt_node *node = mos_dt_child(parent, name);
    if (!node) {
        node = mos_dt_add_node(d->dt, parent, name);
        node->place = mos_dts_place(d, at, length);
    }
    node->omit_if_unused |= omit;
    for (size_t i = 0; i < labels->count; i++)
        add_label(d, node, mos_vec_pointer(labels, i));
    return node_body(d, node);
}

/* One statement inside a node's braces. */
static bool statement(struct mos_dts *d, struct mos_dt_node *node, bool *had_child) {
    if (mos_dts_accept(d, "/include/"))
        return include(d);
    struct mos_vec labels = mos_vec_make(d->ctx->arena, sizeof(char *));
    bool omit = mos_dts_accept(d, "/omit-if-no-ref/");
    for (char *label; (label = mos_dts_label(d));)
        mos_vec_push_pointer(&labels, label);
    omit |= mos_dts_accept(d, "/omit-if-no-ref/");
    if (mos_dts_peek(d) == '/')
        return delete_something(d, node);
    size_t at = d->text->at;
    const char *name = mos_dts_name(d);
    if (!name)
        return mos_dts_fail(d, at, 1, NULL, "Expected a property, a node or }.");
    size_t length = d->text->at - at;
    if (mos_dts_accept(d, "{")) {
        *had_child = true;
        return child_node(d, node, name, at, length, &labels, omit);
    }
    if (*had_child)
        return mos_dts_fail(d, at, length, "Move it in front of the child nodes.",
                            "Property %s stands behind a child node; properties come first.", name);
    return property(d, node, name, mos_dts_place(d, at, length));
}

/* After the opening brace, up to and with "};". */
static bool node_body(struct mos_dts *d, struct mos_dt_node *node) {
    bool had_child = false;
    if (++d->depth > MOS_DTS_DEPTH)
        return mos_dts_fail(d, d->text->at, 1, NULL, "Nodes are nested more than %d deep.",
                            MOS_DTS_DEPTH);
    while (!mos_dts_accept(d, "}")) {
        if (mos_dts_peek(d) < 0)
            return mos_dts_fail(d, d->text->at ? d->text->at - 1 : 0, 1, "Close it with };.",
                                "Node %s never ends.", mos_dt_path(d->ctx->arena, node));
        if (!statement(d, node, &had_child))
            return false;
    }
    d->depth--;
    return mos_dts_expect(d, ";", "}");
}

/* ---- the top of a file ---- */

/* A fragment for "&target { … };" of an overlay. */
static struct mos_dt_node *new_fragment(struct mos_dts *d, const char *target,
                                        struct mos_place place) {
    const char *name = mos_printf(d->ctx->arena, "fragment@%u", d->fragments++);
    struct mos_dt_node *f = mos_dt_add_node(d->dt, d->dt->root, name);
    f->place = place;
    if (*target == '/') {
        mos_dt_set_text(d->dt, f, "target-path", target);
        f->properties->place = place;
    } else {
        static const uint8_t unresolved[4] = {0xff, 0xff, 0xff, 0xff};
        struct mos_dt_property *p = mos_dt_set(d->dt, f, "target", unresolved, 4);
        struct mos_dt_mark *m = mos_vec_push(&p->marks);
        *m = (struct mos_dt_mark){MOS_DT_PHANDLE, 0, target, place};
        p->place = place;
    }
    struct mos_dt_node *body = mos_dt_add_node(d->dt, f, "__overlay__");
    body->place = place;
    return body;
}

static bool extend(struct mos_dts *d, const struct mos_vec *labels) {
    size_t at = d->text->at - 1;
    const char *target = mos_dts_reference(d);
    if (!target)
        return false;
    size_t length = d->text->at - at;
    struct mos_place place = mos_dts_place(d, at, length);
    struct mos_dt_node *node;
    if (d->dt->overlay) {
        node = new_fragment(d, target, place);
    } else {
        node = *target == '/' ? mos_dt_find(d->dt, target) : mos_dt_by_label(d->dt, target);
    }
    if (!node) {
        struct mos_finding *f =
            mos_find(&d->ctx->findings, MOS_RULE_TREE_TARGET_MISSING, "There is no %s %s in %s.",
                     *target == '/' ? "node" : "label", target, d->dt->shown_path);
        mos_finding_at(&d->ctx->findings, f, place);
        struct mos_vec known = mos_dt_labels(d->dt);
        const char *near = mos_near(target, known.items, known.count);
        if (near)
            mos_finding_try(&d->ctx->findings, f, "Write &%s.", near);
        d->failed = true;
        return false;
    }
    for (size_t i = 0; i < labels->count; i++)
        add_label(d, node, mos_vec_pointer(labels, i));
    return mos_dts_expect(d, "{", target) && node_body(d, node);
}

static bool reserve(struct mos_dts *d) {
    struct mos_dt_reservation r;
    if (!mos_dts_cell_value(d, &r.address) || !mos_dts_cell_value(d, &r.size))
        return false;
    *(struct mos_dt_reservation *)mos_vec_push(&d->dt->reservations) = r;
    return mos_dts_expect(d, ";", "/memreserve/");
}

static bool top_statement(struct mos_dts *d) {
    if (mos_dts_accept(d, "/dts-v1/"))
        return mos_dts_expect(d, ";", "/dts-v1/");
    if (mos_dts_accept(d, "/plugin/")) {
        d->dt->overlay = true;
        return mos_dts_expect(d, ";", "/plugin/");
    }
    if (mos_dts_accept(d, "/include/"))
        return include(d);
    struct mos_vec labels = mos_vec_make(d->ctx->arena, sizeof(char *));
    for (char *label; (label = mos_dts_label(d));)
        mos_vec_push_pointer(&labels, label);
    if (mos_dts_accept(d, "/memreserve/"))
        return reserve(d);
    if (mos_dts_accept(d, "/omit-if-no-ref/"))
        return mos_dts_accept(d, "&") ? extend(d, &labels)
                                      : mos_dts_fail(d, d->text->at, 1, NULL, "Expected &label.");
    if (mos_dts_accept(d, "&"))
        return extend(d, &labels);
    size_t at = d->text->at;
    if (mos_dts_accept(d, "/delete-node/")) {
        d->text->at = at;
        return delete_something(d, NULL);
    }
    if (mos_dts_accept(d, "/"))
        return mos_dts_expect(d, "{", "/") && node_body(d, d->dt->root);
    return mos_dts_fail(d, at, 1, "Write / { … };, &label { … }; or a directive.",
                        "This cannot stand outside of a node.");
}

static struct mos_dt *parse(struct mos_dts *d) {
    d->dt->place = mos_dts_place(d, 0, 0);
    if (!mos_dts_accept(d, "/dts-v1/"))
        mos_dts_fail(d, d->text->at, 1, "Write /dts-v1/; in its first line.",
                     "The first thing in %s must be /dts-v1/;.", d->dt->shown_path);
    else
        mos_dts_expect(d, ";", "/dts-v1/");
    while (mos_dts_peek(d) >= 0 && top_statement(d))
        ;
    return d->failed || d->ctx->error->kind ? NULL : d->dt;
}

struct mos_dt *mos_dt_parse(struct mos_ctx *ctx, const struct mos_source *source, const char *root,
                            const char *const *folders, size_t folder_count) {
    struct mos_dts_text text = {.source = source,
                                .markers = mos_vec_make(ctx->arena, sizeof(struct mos_dts_marker))};
    struct mos_dts d = {.ctx = ctx,
                        .dt = mos_dt_new(ctx->arena, source->shown_path),
                        .text = &text,
                        .root = root,
                        .folders = folders,
                        .folder_count = folder_count};
    return parse(&d);
}

struct mos_dt *mos_dt_read_source(struct mos_ctx *ctx, const char *root, const char *shown_path,
                                  const char *const *folders, size_t folder_count) {
    struct mos_dts d = {.ctx = ctx,
                        .dt = mos_dt_new(ctx->arena, shown_path),
                        .root = root,
                        .folders = folders,
                        .folder_count = folder_count};
    d.text = mos_dts_open(&d, shown_path);
    return d.text ? parse(&d) : NULL;
}
