#include "tree/text.h"

#include "base/bytes.h"
#include "base/text.h"

#include <ctype.h>
#include <string.h>

/* ---- values ---- */

/* Texts, each with its NUL: printable, and not all of them empty. */
static bool is_texts(const struct mos_dt_property *p) {
    bool any = false;
    if (!p->length || p->data[p->length - 1])
        return false;
    for (size_t i = 0; i < p->length; i++) {
        uint8_t c = p->data[i];
        if (!c && (!i || !p->data[i - 1]))
            return false;
        if (c && (c < 0x20 || c > 0x7e) && c != '\n' && c != '\t')
            return false;
        any |= c != 0;
    }
    return any;
}

static void add_text(struct mos_buf *b, const char *text) {
    mos_buf_char(b, '"');
    for (; *text; text++) {
        if (*text == '"' || *text == '\\')
            mos_buf_char(b, '\\');
        if (*text == '\n')
            mos_buf_text(b, "\\n");
        else if (*text == '\t')
            mos_buf_text(b, "\\t");
        else
            mos_buf_char(b, *text);
    }
    mos_buf_char(b, '"');
}

static void add_texts(struct mos_buf *b, const struct mos_dt_property *p) {
    for (size_t at = 0; at < p->length; at += strlen((const char *)p->data + at) + 1) {
        if (at)
            mos_buf_text(b, ", ");
        add_text(b, (const char *)p->data + at);
    }
}

/* Cells of a value that refer to nodes. */
struct references {
    const struct mos_dt_writer *w;
    const struct mos_dt_property *property;
    const char **cells; /* what stands there, by cell; NULL: the number */
    bool *starts;       /* a group of cells begins here */
    size_t count;
};

static void note(struct references *r, size_t cell, const struct mos_dt_node *node) {
    const char *text = node && r->w->reference ? r->w->reference(r->w->self, node) : NULL;
    if (cell >= r->count)
        return;
    r->starts[cell] = true;
    if (text)
        r->cells[cell] = text;
}

static void each_reference(void *self, size_t index, const struct mos_dt_reference *ref) {
    struct references *r = self;
    (void)index;
    if (ref->arguments)
        note(r, (size_t)(ref->arguments - r->property->data) / 4 - 1, ref->provider);
}

/* Every cell is the number of a node. */
static bool is_row_of_nodes(const char *name) {
    static const char *const names[] = {"interrupt-parent",
                                        "remote-endpoint",
                                        "memory-region",
                                        "operating-points-v2",
                                        "i2c-parent",
                                        "phy-handle",
                                        "msi-parent",
                                        "next-level-cache",
                                        "ports",
                                        "cpus",
                                        "cpu",
                                        "target",
                                        "sound-dai",
                                        "affinity"};
    if (strncmp(name, "pinctrl-", 8) == 0 && isdigit((unsigned char)name[8]))
        return true;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (strcmp(name, names[i]) == 0)
            return true;
    return false;
}

static void find_references(struct references *r, const struct mos_dt_node *node) {
    const struct mos_dt_property *p = r->property;
    const struct mos_dt_kind *kind = mos_dt_kind_of(node, p->name);
    if (p->marks.count && !r->w->dt->overlay)
        kind = NULL; /* it is known where they are */
    for (size_t i = 0; i < p->marks.count; i++) {
        const struct mos_dt_mark *m = mos_vec_at(&p->marks, i);
        if (m->kind == MOS_DT_PHANDLE && m->offset % 4 == 0 && m->offset + 4 <= p->length)
            note(r, m->offset / 4, mos_dt_by_phandle(r->w->all, mos_be32(p->data + m->offset)));
    }
    if (kind && !mos_text_ends(p->name, "-supply"))
        mos_dt_references(r->w->all, kind, p, each_reference, r);
    else if (!p->marks.count && (is_row_of_nodes(p->name) || mos_text_ends(p->name, "-supply")))
        for (size_t i = 0; i < r->count; i++)
            note(r, i, mos_dt_by_phandle(r->w->all, mos_be32(p->data + 4 * i)));
}

static void add_cells(const struct mos_dt_writer *w, struct mos_buf *b,
                      const struct mos_dt_node *node, const struct mos_dt_property *p) {
    size_t count = p->length / 4;
    struct references r = {w, p, mos_alloc_array(w->arena, count, sizeof(char *)),
                           mos_alloc_array(w->arena, count, sizeof(bool)), count};
    bool number = strcmp(p->name, "phandle") == 0 || strcmp(p->name, "linux,phandle") == 0;
    if (!number)
        find_references(&r, node);
    mos_buf_char(b, '<');
    for (size_t i = 0; i < count; i++) {
        uint32_t v = mos_be32(p->data + 4 * i);
        if (i && r.starts[i])
            mos_buf_text(b, ">, <");
        else if (i)
            mos_buf_char(b, ' ');
        if (r.cells[i])
            mos_buf_text(b, r.cells[i]);
        else
            mos_buf_printf(b, v < 10 ? "%u" : "0x%x", v);
    }
    mos_buf_char(b, '>');
}

static void add_bytes(struct mos_buf *b, const struct mos_dt_property *p) {
    mos_buf_char(b, '[');
    for (size_t i = 0; i < p->length; i++)
        mos_buf_printf(b, i ? " %02x" : "%02x", p->data[i]);
    mos_buf_char(b, ']');
}

/* Of an overlay: references that are not settled, by their names. */
static const char *marked_text(const struct mos_dt_writer *w, const struct mos_dt_property *p) {
    struct mos_buf b = {.arena = w->arena};
    mos_buf_char(&b, '<');
    for (size_t at = 0; at < p->length; at += 4) {
        const struct mos_dt_mark *m = NULL;
        for (size_t i = 0; i < p->marks.count && !m; i++) {
            m = mos_vec_at(&p->marks, i);
            m = m->offset == at ? m : NULL;
        }
        if (at)
            mos_buf_char(&b, ' ');
        if (m)
            mos_buf_printf(&b, *m->name == '/' ? "&{%s}" : "&%s", m->name);
        else
            mos_buf_printf(&b, "0x%x", mos_be32(p->data + at));
    }
    mos_buf_char(&b, '>');
    return b.data;
}

static bool has_open_marks(const struct mos_dt_writer *w, const struct mos_dt_property *p) {
    for (size_t i = 0; i < p->marks.count; i++) {
        const struct mos_dt_mark *m = mos_vec_at(&p->marks, i);
        if (m->kind != MOS_DT_PHANDLE || m->offset % 4)
            return false;
    }
    return w->dt->overlay && p->marks.count && p->length % 4 == 0;
}

/* Does a reference in it say that it has cells? */
static bool has_cells(const struct mos_dt_property *p) {
    for (size_t i = 0; i < p->marks.count; i++)
        if (((struct mos_dt_mark *)mos_vec_at(&p->marks, i))->kind == MOS_DT_PHANDLE)
            return true;
    return false;
}

const char *mos_dt_value_text(const struct mos_dt_writer *w, const struct mos_dt_node *node,
                              const struct mos_dt_property *p) {
    struct mos_buf b = {.arena = w->arena};
    if (!p->length)
        return "";
    if (has_open_marks(w, p))
        return marked_text(w, p);
    if (!has_cells(p) && is_texts(p))
        add_texts(&b, p);
    else if (p->length % 4 == 0)
        add_cells(w, &b, node, p);
    else
        add_bytes(&b, p);
    return mos_buf_string(&b);
}

static const char *by_path(void *self, const struct mos_dt_node *node) {
    struct mos_arena *arena = self;
    return mos_printf(arena, "&{%s}", mos_dt_path(arena, node));
}

const char *mos_dt_shown_value(struct mos_arena *arena, const struct mos_dt *dt,
                               const struct mos_dt_phandles *all, const struct mos_dt_node *node,
                               const struct mos_dt_property *property) {
    struct mos_dt_writer w = {arena, dt, all, by_path, arena};
    return mos_dt_value_text(&w, node, property);
}

/* ---- all of it ---- */

struct source {
    struct mos_dt_writer w;
    struct mos_dt *dt;
    struct mos_buf text;
    struct mos_map labels; /* label -> node */
    const char *why;
};

static bool is_label(const char *text) {
    if (!*text || isdigit((unsigned char)*text))
        return false;
    for (; *text; text++)
        if (!isalnum((unsigned char)*text) && *text != '_')
            return false;
    return true;
}

static bool is_name(const char *text) {
    for (const char *p = text; *p; p++)
        if (!isalnum((unsigned char)*p) && !strchr(",._+*#?@-", *p))
            return false;
    return *text;
}

/* A label of the node; made of its name when it has none. */
static const char *by_label(void *self, const struct mos_dt_node *node) {
    struct source *s = self;
    for (size_t i = 0; i < node->labels.count; i++)
        if (mos_map_get(&s->labels, mos_vec_pointer(&node->labels, i)) == node)
            return mos_printf(s->w.arena, "&%s", (const char *)mos_vec_pointer(&node->labels, i));
    return NULL;
}

static bool take_symbols(void *self, struct mos_dt_node *node) {
    struct source *s = self;
    for (size_t i = 0; i < node->labels.count; i++)
        if (is_label(mos_vec_pointer(&node->labels, i)) &&
            !mos_map_get(&s->labels, mos_vec_pointer(&node->labels, i)))
            mos_map_set(&s->labels, mos_vec_pointer(&node->labels, i), node);
    return true;
}

/* Labels for nodes that have a phandle and none of their own. */
static bool make_label(void *self, struct mos_dt_node *node) {
    struct source *s = self;
    uint32_t number;
    if (by_label(s, node) || !node->parent || !mos_dt_cell(node, "phandle", &number))
        return true;
    char *label =
        mos_printf(s->w.arena, "%s%s", isdigit((unsigned char)*node->name) ? "n" : "", node->name);
    for (char *p = label; *p; p++)
        if (!isalnum((unsigned char)*p))
            *p = '_';
    if (mos_map_get(&s->labels, label))
        label = mos_printf(s->w.arena, "%s_%u", label, number);
    if (mos_map_get(&s->labels, label))
        return true;
    mos_map_set(&s->labels, label, node);
    mos_vec_push_pointer(&node->labels, label);
    return true;
}

static void indent(struct source *s, unsigned depth) {
    while (depth--)
        mos_buf_char(&s->text, '\t');
}

static void write_property(struct source *s, const struct mos_dt_node *node,
                           const struct mos_dt_property *p, unsigned depth) {
    if (!is_name(p->name))
        s->why = mos_printf(s->w.arena, "a property is called \"%s\"", p->name);
    const char *value = mos_dt_value_text(&s->w, node, p);
    indent(s, depth);
    mos_buf_printf(&s->text, *value ? "%s = " : "%s", p->name);
    mos_buf_text(&s->text, value);
    mos_buf_text(&s->text, ";\n");
}

/* Of an overlay: what its references come to is written anew. */
static bool is_made(const struct source *s, const struct mos_dt_node *node) {
    return s->dt->overlay && node->parent == s->dt->root &&
           (strcmp(node->name, "__fixups__") == 0 || strcmp(node->name, "__local_fixups__") == 0 ||
            strcmp(node->name, "__symbols__") == 0);
}

static void write_node(struct source *s, const struct mos_dt_node *node, unsigned depth) {
    if (node->parent && !is_name(node->name))
        s->why = mos_printf(s->w.arena, "a node is called \"%s\"", node->name);
    if (node->doubled || (node->parent && mos_dt_child(node->parent, node->name) != node))
        s->why = mos_printf(s->w.arena, "%s has two nodes of one name",
                            mos_dt_path(s->w.arena, node->parent ? node->parent : node));
    indent(s, depth);
    for (size_t i = 0; i < node->labels.count; i++)
        if (mos_map_get(&s->labels, mos_vec_pointer(&node->labels, i)) == node)
            mos_buf_printf(&s->text, "%s: ", (const char *)mos_vec_pointer(&node->labels, i));
    mos_buf_printf(&s->text, "%s {\n", node->parent ? node->name : "/");
    for (const struct mos_dt_property *p = node->properties; p; p = p->next)
        write_property(s, node, p, depth + 1);
    for (const struct mos_dt_node *c = node->first_child; c; c = c->next) {
        if (is_made(s, c))
            continue;
        if (c != node->first_child || node->properties)
            mos_buf_char(&s->text, '\n');
        write_node(s, c, depth + 1);
    }
    indent(s, depth);
    mos_buf_text(&s->text, "};\n");
}

/* The labels that /__symbols__ of a blob keeps. */
static void read_symbols(struct mos_dt *dt) {
    const struct mos_dt_node *symbols = mos_dt_child(dt->root, "__symbols__");
    for (const struct mos_dt_property *p = symbols ? symbols->properties : NULL; p; p = p->next) {
        const char *path = mos_dt_string(symbols, p->name);
        struct mos_dt_node *node = path ? mos_dt_find(dt, path) : NULL;
        if (node && is_label(p->name) && dt->from_blob && !dt->overlay)
            mos_vec_push_pointer(&node->labels, p->name);
    }
}

const char *mos_dt_source_text(struct mos_arena *arena, struct mos_dt *dt, const char **why) {
    struct mos_dt_phandles all = mos_dt_phandles_of(arena, dt);
    struct source s = {.dt = dt, .text = {.arena = arena}, .labels = mos_map_make(arena)};
    s.w = (struct mos_dt_writer){arena, dt, &all, by_label, &s};
    read_symbols(dt);
    mos_dt_walk(dt->root, take_symbols, &s);
    if (!dt->overlay)
        mos_dt_walk(dt->root, make_label, &s);
    mos_buf_text(&s.text, dt->overlay ? "/dts-v1/;\n/plugin/;\n\n" : "/dts-v1/;\n\n");
    if (dt->boot_cpu)
        mos_buf_printf(&s.text, "/* The boot CPU is %u, which a source cannot say. */\n",
                       dt->boot_cpu);
    for (size_t i = 0; i < dt->reservations.count; i++) {
        const struct mos_dt_reservation *r = mos_vec_at(&dt->reservations, i);
        mos_buf_printf(&s.text, "/memreserve/ 0x%llx 0x%llx;\n", (unsigned long long)r->address,
                       (unsigned long long)r->size);
    }
    write_node(&s, dt->root, 0);
    *why = s.why;
    return s.why ? NULL : mos_buf_string(&s.text);
}
