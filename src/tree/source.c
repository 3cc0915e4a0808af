/* The source language of device trees: Devicetree Specification v0.4, chapter 6, with /plugin/. */
#include "tree/source_internal.h"

#include "base/bytes.h"
#include "base/text.h"

#include <ctype.h>
#include <string.h>

static bool node_body(struct mos_dts *d, struct mos_dt_node *node);

/* What the language allows and nobody means: a warning. */
__attribute__((format(printf, 4, 5))) static void mention(struct mos_dts *d,
                                                          const struct mos_cpp_seen *at,
                                                          const char *remedy, const char *format,
                                                          ...) {
    struct mos_findings *list = &d->ctx->findings;
    va_list arguments;
    va_start(arguments, format);
    struct mos_finding *f =
        mos_find(list, MOS_RULE_TREE_SYNTAX, "%s", mos_vprintf(d->ctx->arena, format, arguments));
    va_end(arguments);
    f->severity = MOS_SEVERITY_WARNING;
    mos_finding_at(list, f, mos_dts_place(d, at));
    mos_finding_why(list, f, "It is allowed, and most likely not what is meant.");
    mos_finding_try(list, f, "%s", remedy);
}

/* ---- values ---- */

static void mark(struct mos_dts *d, struct mos_vec *marks, enum mos_dt_mark_kind kind,
                 const char *name, const struct mos_cpp_seen *at) {
    struct mos_dt_mark *m = mos_vec_push(marks);
    *m = (struct mos_dt_mark){kind, d->bytes.length, name, mos_dts_place(d, at)};
}

static bool put_cell(struct mos_dts *d, unsigned bits, uint64_t cell,
                     const struct mos_cpp_seen *at) {
    uint64_t high = bits == 64 ? 0 : cell >> bits;
    uint64_t all = bits == 64 ? 0 : UINT64_MAX >> bits;
    if (high && !(high == all && cell >> (bits - 1) & 1))
        return mos_dts_fail_at(d, at, "Write /bits/ 64 <…> for larger ones.",
                               "This number does not fit into %u bits.", bits);
    uint8_t raw[8];
    mos_put_be64(raw, cell);
    mos_buf_add(&d->bytes, raw + 8 - bits / 8, bits / 8);
    return true;
}

static bool one_cell(struct mos_dts *d, struct mos_vec *marks, unsigned bits) {
    struct mos_cpp_seen at = *mos_dts_part(d);
    if (mos_dts_accept(d, '&')) {
        const char *name = mos_dts_reference(d, &at);
        if (!name)
            return false;
        if (bits != 32)
            return mos_dts_fail_at(d, &at, "Write it without /bits/.",
                                   "References need cells of 32 bits.");
        mark(d, marks, MOS_DT_PHANDLE, name, &at);
        mos_buf_be32(&d->bytes, 0xffffffff); /* as long as it is not resolved */
        return true;
    }
    uint64_t cell;
    return mos_dts_cell_value(d, &cell) && put_cell(d, bits, cell, &at);
}

static bool cells(struct mos_dts *d, struct mos_vec *marks, unsigned bits) {
    while (!mos_dts_accept(d, '>')) {
        if (mos_dts_label(d))
            continue;
        if (mos_dts_at_end(d))
            return mos_dts_fail(d, "Close it with >.", "These cells never end.");
        if (!one_cell(d, marks, bits))
            return false;
    }
    return true;
}

static bool byte_string(struct mos_dts *d) {
    int half = -1;
    while (!mos_dts_accept(d, ']')) {
        if (mos_dts_label(d))
            continue;
        const struct mos_cpp_token *t = &mos_dts_part(d)->t;
        for (uint32_t i = 0; i < t->length || !t->length; i++) {
            int c = t->length ? (unsigned char)t->text[i] : 0;
            if (!isxdigit(c))
                return mos_dts_fail(d, "Write two digits for each byte.",
                                    t->length ? "This is no byte." : "These bytes never end.");
            int digit = isdigit(c) ? c - '0' : tolower(c) - 'a' + 10;
            if (half >= 0)
                mos_buf_char(&d->bytes, (char)(half << 4 | digit));
            half = half < 0 ? digit : -1;
        }
        mos_dts_take(d);
    }
    return half < 0 || mos_dts_fail_at(d, &d->last, "Write two digits for each byte.",
                                       "A byte string has an odd number of digits.");
}

/* The file that a string at hand names, as it is shown; NULL after a finding. */
static const char *named_file(struct mos_dts *d, size_t *folder) {
    struct mos_buf name = {.arena = d->cpp->arena};
    struct mos_cpp_seen at = *mos_dts_here(d);
    *folder = 0;
    if (!mos_dts_string(d, &name)) {
        mos_dts_fail(d, NULL, "The name of a \"file\" is missing here.");
        return NULL;
    }
    return mos_cpp_look(d->cpp, &at, mos_buf_string(&name), true, folder);
}

static bool included_bytes(struct mos_dts *d) {
    uint64_t from = 0, count = UINT64_MAX;
    size_t folder, length;
    char *data;
    if (!mos_dts_expect(d, '(', "/incbin/"))
        return false;
    struct mos_cpp_seen at = *mos_dts_here(d);
    const char *path = named_file(d, &folder);
    if (!path)
        return false;
    if (mos_dts_accept(d, ',') &&
        (!mos_dts_cell_value(d, &from) || !mos_dts_expect(d, ',', "an offset") ||
         !mos_dts_cell_value(d, &count)))
        return false;
    if (!mos_read_file(d->ctx, mos_workspace_path(d->ctx, d->cpp->store->root, path), MOS_DTS_LIMIT,
                       &data, &length))
        return false;
    if (from > length || (count != UINT64_MAX && count > length - from))
        return mos_dts_fail_at(d, &at, NULL, "%s has only %zu bytes.", path, length);
    mos_buf_add(&d->bytes, data + from, (size_t)mos_min(count, length - from));
    return mos_dts_expect(d, ')', "/incbin/");
}

static bool one_value(struct mos_dts *d, struct mos_vec *marks) {
    while (mos_dts_label(d))
        ;
    struct mos_cpp_seen at = *mos_dts_here(d);
    if (at.t.kind == MOS_CPP_STRING) {
        bool ok = mos_dts_string(d, &d->bytes);
        mos_buf_char(&d->bytes, 0);
        return ok;
    }
    if (mos_dts_accept(d, '<'))
        return cells(d, marks, 32);
    if (mos_dts_keyword(d, "/bits/")) {
        uint64_t bits = 0;
        at = *mos_dts_here(d);
        if (!mos_dts_cell_value(d, &bits) || (bits != 8 && bits != 16 && bits != 32 && bits != 64))
            return mos_dts_fail_at(d, &at, NULL, "/bits/ takes 8, 16, 32 or 64.");
        return mos_dts_expect(d, '<', "/bits/") && cells(d, marks, (unsigned)bits);
    }
    if (mos_dts_keyword(d, "/incbin/"))
        return included_bytes(d);
    if (mos_dts_accept(d, '['))
        return byte_string(d);
    if (mos_dts_accept(d, '&')) {
        const char *name = mos_dts_reference(d, &at);
        if (name)
            mark(d, marks, MOS_DT_PATH, name, &at);
        return name != NULL;
    }
    if (mos_cpp_is(&mos_dts_here(d)->t, "\""))
        return mos_dts_string(d, &d->bytes);
    return mos_dts_fail(d, "Write \"text\", <cells>, [bytes] or &label.", "Expected a value here.");
}

static bool property(struct mos_dts *d, struct mos_dt_node *node, const char *name,
                     const struct mos_cpp_seen *at, uint32_t body) {
    struct mos_vec marks = mos_vec_make(d->ctx->arena, sizeof(struct mos_dt_mark));
    d->bytes.length = 0;
    if (mos_dts_accept(d, '='))
        do {
            if (!one_value(d, &marks))
                return false;
        } while (mos_dts_accept(d, ','));
    while (mos_dts_label(d))
        ;
    if (!mos_dts_expect(d, ';', name))
        return false;
    struct mos_dt_property *p = mos_dt_set_copy(d->dt, node, name, d->bytes.data, d->bytes.length);
    if (p->replaced && p->replaced->body == body)
        mention(d, at, "Remove one of them.",
                "Property %s is set twice in the same braces; the last one counts.", name);
    p->marks = marks;
    p->place = mos_dts_place(d, at);
    p->body = body;
    return true;
}

/* ---- nodes ---- */

static void add_label(struct mos_dts *d, struct mos_dt_node *node, const char *label,
                      const struct mos_cpp_seen *at) {
    struct mos_dt_node *other = mos_dt_by_label(d->dt, label);
    if (other == node)
        return;
    mos_dt_add_label(d->dt, node, label);
    if (other) /* the other one may still be deleted */
        *(struct mos_cpp_seen *)mos_vec_push(&d->doubles) = *at;
}

/* Two nodes of one label, at the end. */
static void check_labels(struct mos_dts *d) {
    for (size_t i = 0; i < d->doubles.count && i < d->dt->doubles.count; i++) {
        const struct mos_dt_label *l = mos_vec_at(&d->dt->doubles, i);
        const struct mos_dt_node *first = mos_dt_by_label(d->dt, l->label);
        if (first && first != l->node && !l->node->removed)
            mos_dts_fail_at(d, mos_vec_at(&d->doubles, i), "Choose another label.",
                            "Label %s already names %s.", l->label,
                            mos_dt_path(d->ctx->arena, first));
    }
}

/* Labels in front of a node, with the places where they stand. */
struct labels {
    struct mos_vec names; /* of const char * */
    struct mos_vec seen;  /* of struct mos_cpp_seen */
};

static struct labels read_labels(struct mos_dts *d) {
    struct labels l = {0};
    for (const char *label; (label = mos_dts_label(d));) {
        if (!l.names.arena)
            l = (struct labels){mos_vec_make(d->cpp->arena, sizeof(char *)),
                                mos_vec_make(d->cpp->arena, sizeof(struct mos_cpp_seen))};
        mos_vec_push_pointer(&l.names, label);
        *(struct mos_cpp_seen *)mos_vec_push(&l.seen) = d->last;
    }
    return l;
}

static void give_labels(struct mos_dts *d, struct mos_dt_node *node, const struct labels *l) {
    for (size_t i = 0; i < l->names.count; i++)
        add_label(d, node, mos_vec_pointer(&l->names, i), mos_vec_at(&l->seen, i));
}

/* The node that a reference means; NULL: there is none. */
static struct mos_dt_node *target_of(const struct mos_dts *d, const char *name) {
    return *name == '/' ? mos_dt_find(d->dt, name) : mos_dt_by_label(d->dt, name);
}

/* Behind /delete-node/ or /delete-property/. */
static bool delete_something(struct mos_dts *d, struct mos_dt_node *node, bool is_node) {
    struct mos_cpp_seen at = *mos_dts_here(d);
    if (d->dt->overlay)
        return mos_dts_fail_at(d, &at, "Set status = \"disabled\", or change the base.",
                               "An overlay cannot delete what its base has.");
    const char *name;
    struct mos_dt_node *child;
    if (is_node && mos_dts_accept(d, '&')) {
        name = mos_dts_reference(d, &at);
        child = name ? target_of(d, name) : NULL;
    } else {
        name = mos_dts_name(d, &at);
        child = name && node && is_node ? mos_dt_child(node, name) : NULL;
    }
    if (!name)
        return mos_dts_fail_at(d, &at, NULL, "Expected a name to delete.");
    bool done = is_node ? child && child->parent : node && mos_dt_hide_property(d->dt, node, name);
    if (!done)
        mention(d, &at, "Remove the line, or correct the name.", "There is no %s %s to delete.",
                is_node ? "node" : "property", name);
    else if (is_node)
        mos_dt_hide_node(d->dt, child);
    return mos_dts_expect(d, ';', name);
}

static bool include(struct mos_dts *d) {
    size_t folder;
    const char *path = named_file(d, &folder);
    struct mos_cpp_file *file = path ? mos_cpp_load(d->cpp, path) : NULL;
    if (!file) {
        d->cpp->failed = true;
        return false;
    }
    return mos_cpp_push_file(d->cpp, file, folder, NULL);
}

static bool child_node(struct mos_dts *d, struct mos_dt_node *parent, const char *name,
                       const struct mos_cpp_seen *at, const struct labels *labels, bool omit) {
    struct mos_dt_node *node = mos_dt_child(parent, name);
    if (!node) {
        node = mos_dt_hidden_child(parent, name);
        node = node ? node : mos_dt_add_node(d->dt, parent, name);
        node->place = mos_dts_place(d, at);
    }
    node->omit_if_unused |= omit;
    give_labels(d, node, labels);
    return node_body(d, node);
}

/* One statement inside a node's braces. */
static bool statement(struct mos_dts *d, struct mos_dt_node *node, bool *had_child, uint32_t body) {
    if (mos_dts_keyword(d, "/include/"))
        return include(d);
    bool omit = mos_dts_keyword(d, "/omit-if-no-ref/");
    struct labels labels = read_labels(d);
    omit |= mos_dts_keyword(d, "/omit-if-no-ref/");
    if (mos_dts_keyword(d, "/delete-node/"))
        return delete_something(d, node, true);
    if (mos_dts_keyword(d, "/delete-property/"))
        return delete_something(d, node, false);
    struct mos_cpp_seen at;
    const char *name = mos_dts_name(d, &at);
    if (!name)
        return mos_dts_fail(d, NULL, "Expected a property, a node or }.");
    if (mos_dts_accept(d, '{')) {
        *had_child = true;
        return child_node(d, node, name, &at, &labels, omit);
    }
    if (*had_child)
        return mos_dts_fail_at(d, &at, "Move it in front of the child nodes.",
                               "Property %s stands behind a child node; properties come first.",
                               name);
    return property(d, node, name, &at, body);
}

/* After the opening brace, up to and with "};". */
static bool node_body(struct mos_dts *d, struct mos_dt_node *node) {
    bool had_child = false;
    uint32_t body = ++d->bodies;
    if (++d->depth > MOS_DTS_DEPTH)
        return mos_dts_fail(d, NULL, "Nodes are nested more than %d deep.", MOS_DTS_DEPTH);
    while (!mos_dts_accept(d, '}')) {
        if (mos_dts_at_end(d))
            return mos_dts_fail_at(d, &d->last, "Close it with };.", "Node %s never ends.",
                                   mos_dt_path(d->ctx->arena, node));
        if (!statement(d, node, &had_child, body))
            return false;
    }
    d->depth--;
    return mos_dts_expect(d, ';', "}");
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

static bool no_target(struct mos_dts *d, const char *target, struct mos_place place) {
    struct mos_findings *list = &d->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_TREE_TARGET_MISSING, "There is no %s %s in %s.",
                                     *target == '/' ? "node" : "label", target, d->dt->shown_path);
    mos_finding_at(list, f, place);
    struct mos_vec known = mos_dt_labels(d->dt);
    const char *near = mos_near(target, known.items, known.count);
    if (near)
        mos_finding_try(list, f, "Write &%s.", near);
    d->cpp->failed = true;
    return false;
}

/* Behind the '&' of "&target { … };". */
static bool extend(struct mos_dts *d, const struct labels *labels, bool omit) {
    struct mos_cpp_seen at = d->last;
    const char *target = mos_dts_reference(d, &at);
    if (!target)
        return false;
    struct mos_place place = mos_dts_place(d, &at);
    struct mos_dt_node *node =
        d->dt->overlay ? new_fragment(d, target, place) : target_of(d, target);
    if (!node)
        return no_target(d, target, place);
    node->omit_if_unused |= omit;
    give_labels(d, node, labels);
    if (omit && mos_dts_accept(d, ';'))
        return true;
    return mos_dts_expect(d, '{', target) && node_body(d, node);
}

static bool reserve(struct mos_dts *d) {
    struct mos_dt_reservation r;
    if (!mos_dts_cell_value(d, &r.address) || !mos_dts_cell_value(d, &r.size))
        return false;
    *(struct mos_dt_reservation *)mos_vec_push(&d->dt->reservations) = r;
    return mos_dts_expect(d, ';', "/memreserve/");
}

static bool top_statement(struct mos_dts *d) {
    if (mos_dts_keyword(d, "/dts-v1/"))
        return mos_dts_expect(d, ';', "/dts-v1/");
    if (mos_dts_keyword(d, "/plugin/")) {
        d->dt->overlay = true;
        return mos_dts_expect(d, ';', "/plugin/");
    }
    if (mos_dts_keyword(d, "/include/"))
        return include(d);
    struct labels labels = read_labels(d);
    if (mos_dts_keyword(d, "/memreserve/"))
        return reserve(d);
    bool omit = mos_dts_keyword(d, "/omit-if-no-ref/");
    if (mos_dts_accept(d, '&'))
        return extend(d, &labels, omit);
    if (omit)
        return mos_dts_fail(d, NULL, "Expected &label.");
    if (mos_dts_keyword(d, "/delete-node/"))
        return delete_something(d, NULL, true);
    if (mos_dts_accept(d, '/'))
        return mos_dts_expect(d, '{', "/") && node_body(d, d->dt->root);
    return mos_dts_fail(d, "Write / { … };, &label { … }; or a directive.",
                        "This cannot stand outside of a node.");
}

static void parse(struct mos_dts *d) {
    while (mos_dts_keyword(d, "/include/")) /* it may begin with that */
        if (!include(d))
            return;
    if (!mos_dts_keyword(d, "/dts-v1/"))
        mos_dts_fail(d, "Write /dts-v1/; in its first line.",
                     "The first thing in %s must be /dts-v1/;.", d->dt->shown_path);
    else
        mos_dts_expect(d, ';', "/dts-v1/");
    while (!mos_dts_at_end(d) && top_statement(d))
        ;
    check_labels(d);
}

/* One pass over a file and all that it includes. */
static struct mos_dt *read_file(struct mos_ctx *ctx, struct mos_cpp_store *store,
                                struct mos_cpp_file *file) {
    struct mos_cpp cpp = {
        .ctx = ctx, .store = store, .arena = mos_arena_child(ctx->arena), .base = file};
    struct mos_dts d = {.ctx = ctx,
                        .dt = mos_dt_new(ctx->arena, file->source->shown_path),
                        .cpp = &cpp,
                        .bytes = {.arena = ctx->arena}};
    d.doubles = mos_vec_make(cpp.arena, sizeof(struct mos_cpp_seen));
    size_t before = ctx->findings.items.count;
    mos_cpp_begin(&cpp);
    d.dt->place = mos_place_at(file->source, 0, 0);
    if (mos_cpp_push_file(&cpp, file, 0, NULL))
        parse(&d);
    mos_dt_drop_hidden(d.dt);
    /* what fails has said why: else a tree would be missing without a word */
    if (cpp.failed && !mos_findings_full(&ctx->findings) && ctx->findings.items.count == before)
        mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "%s cannot be read", file->source->shown_path);
    mos_arena_free(cpp.arena);
    return cpp.failed || ctx->error->kind ? NULL : d.dt;
}

struct mos_cpp_store *mos_dt_sources(struct mos_arena *arena, const char *root,
                                     const char *const *folders, size_t folder_count) {
    struct mos_cpp_store *s = mos_cpp_store_new(arena);
    s->root = root;
    s->folders = folders;
    s->folder_count = folder_count;
    return s;
}

void mos_dt_sources_anywhere(struct mos_cpp_store *sources) {
    sources->anywhere = true;
}

bool mos_dt_define(struct mos_cpp_store *sources, const char *text) {
    const struct mos_cpp_macro *m = mos_cpp_define(sources, text);
    if (m)
        mos_vec_push_pointer(&sources->defines, m);
    return m;
}

struct mos_dt *mos_dt_parse(struct mos_ctx *ctx, const struct mos_source *source, const char *root,
                            const char *const *folders, size_t folder_count) {
    struct mos_cpp_store *store = mos_dt_sources(ctx->arena, root, folders, folder_count);
    struct mos_cpp_file *file = mos_cpp_split(store, source);
    mos_map_set(&store->files, source->shown_path, file);
    return read_file(ctx, store, file);
}

struct mos_dt *mos_dt_read_source(struct mos_ctx *ctx, struct mos_cpp_store *sources,
                                  const char *shown_path) {
    struct mos_cpp cpp = {.ctx = ctx, .store = sources};
    sources->pass++;
    struct mos_cpp_file *file = mos_cpp_load(&cpp, shown_path);
    return file ? read_file(ctx, sources, file) : NULL;
}

struct mos_dt *mos_dt_read_text(struct mos_ctx *ctx, struct mos_cpp_store *sources,
                                const char *shown_path, const char *text, size_t length) {
    const struct mos_source *source =
        mos_source_make(ctx->arena, shown_path, text, length, ctx->source_count++);
    sources->pass++;
    sources->texts = ctx->arena;
    struct mos_cpp_file *file = mos_cpp_split(sources, source);
    sources->texts = sources->arena;
    file->pass = sources->pass;
    return read_file(ctx, sources, file);
}
