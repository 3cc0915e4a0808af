/* The bytes of a property as the items that schemas speak of. */
#include "bindings/bindings.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

enum { MOST_ITEMS = 4096 };

/* Properties of every tree whose form no binding repeats (Devicetree Specification v0.4, chapters 2
 * and 3, and the units of property names in the bindings' writing-schema). */
static const struct {
    const char *name; /* or its end, where it begins with a - */
    const char *type;
} known[] = {
    {"compatible", "string-array"},
    {"status", "string"},
    {"model", "string"},
    {"label", "string"},
    {"device_type", "string"},
    {"phy-mode", "string"},
    {"dr_mode", "string"},
    {"enable-method", "string"},
    {"-names", "string-array"},
    {"clock-frequency", "uint32"},
    {"assigned-clock-rates", "uint32-array"},
    {"data-lanes", "uint32-array"},
    {"firmware-name", "string-array"},
    {"interrupt-controller", "flag"},
    {"gpio-controller", "flag"},
    {"linux,code", "uint32"},
    {"linux,keycodes", "uint32-array"},
    {"reg-shift", "uint32"},
    {"reg-io-width", "uint32"},
    {"link-frequencies", "uint64-array"},
    {"opp-hz", "uint64-array"},
    {"clock-output-names", "string-array"},
    {"interrupt-parent", "phandle"},
    {"#address-cells", "uint32"},
    {"#size-cells", "uint32"},
    {"-cells", "uint32"},
    {"-supply", "phandle"},
    {"-bits", "uint32-array"},
    {"-hz", "uint32-array"},
    {"-ms", "uint32-array"},
    {"-us", "uint32-array"},
    {"-ns", "uint32-array"},
    {"-ps", "uint32-array"},
    {"-sec", "uint32-array"},
    {"-seconds", "uint32-array"},
    {"-microamp", "uint32-array"},
    {"-microvolt", "uint32-array"},
    {"-micro-ohms", "uint32-array"},
    {"-ohms", "uint32-array"},
    {"-percent", "uint32-array"},
};

static const char *known_type(const char *name) {
    for (size_t i = 0; i < sizeof known / sizeof *known; i++)
        if (*known[i].name == '-' ? mos_text_ends(name, known[i].name)
                                  : strcmp(name, known[i].name) == 0)
            return known[i].type;
    return NULL;
}

static struct mos_bound_value wrong(const char *why) {
    return (struct mos_bound_value){.kind = MOS_VALUE_WRONG, .why = why};
}

static struct mos_bound_value of_items(const struct mos_vec *items) {
    return (struct mos_bound_value){
        .kind = MOS_VALUE_LIST,
        .list = {.kind = MOS_ITEM_LIST, .items = items->items, .count = items->count}};
}

static struct mos_bound_value texts(struct mos_arena *arena, const struct mos_dt_property *p) {
    struct mos_vec items = mos_vec_make(arena, sizeof(struct mos_item));
    if (!p->length || p->data[p->length - 1])
        return wrong("is no text");
    for (size_t at = 0; at < p->length && items.count < MOST_ITEMS;) {
        const char *text = (const char *)p->data + at;
        *(struct mos_item *)mos_vec_push(&items) =
            (struct mos_item){.kind = MOS_ITEM_TEXT, .text = text};
        at += strlen(text) + 1;
    }
    return of_items(&items);
}

static int64_t number_at(const uint8_t *data, size_t width, bool sign) {
    uint64_t value = 0;
    for (size_t i = 0; i < width; i++)
        value = value << 8 | data[i];
    if (sign && width < 8 && value >> (8 * width - 1))
        value |= UINT64_MAX << (8 * width);
    return (int64_t)value;
}

/* Numbers from one offset up to another, added to a list. */
static void add_numbers(struct mos_vec *items, const struct mos_dt_property *p, size_t from,
                        size_t to, size_t width, bool sign) {
    for (size_t at = from; at + width <= to; at += width)
        *(struct mos_item *)mos_vec_push(items) = (struct mos_item){
            .kind = MOS_ITEM_NUMBER, .number = number_at(p->data + at, width, sign)};
}

static void add_row(struct mos_arena *arena, struct mos_vec *items, const struct mos_dt_property *p,
                    size_t from, size_t to) {
    struct mos_vec row = mos_vec_make(arena, sizeof(struct mos_item));
    add_numbers(&row, p, from, to, 4, false);
    *(struct mos_item *)mos_vec_push(items) =
        (struct mos_item){.kind = MOS_ITEM_LIST, .items = row.items, .count = row.count};
}

static struct mos_bound_value rows(struct mos_arena *arena, const struct mos_dt_property *p,
                                   size_t cells) {
    struct mos_vec items = mos_vec_make(arena, sizeof(struct mos_item));
    if (!cells || !p->length || p->length % (4 * cells) || p->length / (4 * cells) > MOST_ITEMS)
        return (struct mos_bound_value){0};
    for (size_t at = 0; at < p->length; at += 4 * cells)
        add_row(arena, &items, p, at, at + 4 * cells);
    return of_items(&items);
}

struct split {
    struct mos_arena *arena;
    const struct mos_dt_property *p;
    struct mos_vec items;
    bool broken;
};

static void split_entry(void *self, size_t index, const struct mos_dt_reference *r) {
    struct split *s = self;
    (void)index;
    s->broken |= r->broken != MOS_DT_WHOLE;
    size_t from = s->p->length - 4 * (r->left + 1);
    if (!s->broken)
        add_row(s->arena, &s->items, s->p, from, from + 4 * (1 + (size_t)r->cells));
}

/* Entries that begin with a phandle: by what the providers say, else by where references stand. */
static struct mos_bound_value references(struct mos_arena *arena, const struct mos_dt_node *node,
                                         const struct mos_dt_property *p,
                                         const struct mos_dt_phandles *all) {
    const struct mos_dt_kind *kind = mos_dt_kind_of(node, p->name);
    struct split s = {arena, p, mos_vec_make(arena, sizeof(struct mos_item)), false};
    if (strcmp(p->name, "interconnects") == 0)
        return (struct mos_bound_value){0}; /* a pair is one entry, or each is */
    if (kind && p->length && p->length % 4 == 0) {
        mos_dt_references(all, kind, p, split_entry, &s);
        if (!s.broken)
            return of_items(&s.items);
    }
    const struct mos_dt_mark *m = p->marks.items;
    s.items.count = 0;
    if (!p->marks.count || m[0].offset || p->length % 4)
        return (struct mos_bound_value){0};
    for (size_t i = 0; i < p->marks.count; i++) {
        size_t to = i + 1 < p->marks.count ? m[i + 1].offset : p->length;
        /* one may be an argument of the one before it, a 0 at the end an entry that is left out */
        bool alone = p->marks.count > 1 && kind && kind->cells && to - m[i].offset == 4;
        if (m[i].kind != MOS_DT_PHANDLE || alone || !mos_be32(p->data + to - 4))
            return (struct mos_bound_value){0};
        add_row(arena, &s.items, p, m[i].offset, to);
    }
    return of_items(&s.items);
}

/* "uint32", "int8-array", "uint64-matrix": the width of a number in bytes, and whether one is
 * wanted. */
static size_t width_of(const char *type, bool *sign, bool *one, bool *matrix) {
    *sign = *type == 'i';
    type += *type == 'u';
    if (strncmp(type, "int", 3) != 0)
        return 0;
    size_t width = strncmp(type + 3, "8", 1) == 0    ? 1
                   : strncmp(type + 3, "16", 2) == 0 ? 2
                   : strncmp(type + 3, "32", 2) == 0 ? 4
                   : strncmp(type + 3, "64", 2) == 0 ? 8
                                                     : 0;
    *matrix = strstr(type, "-matrix") != NULL;
    *one = !strchr(type, '-');
    return width;
}

static struct mos_bound_value numbers(struct mos_arena *arena, const struct mos_dt_property *p,
                                      size_t width, bool sign, bool one) {
    struct mos_vec items = mos_vec_make(arena, sizeof(struct mos_item));
    if (one && p->length != width)
        return wrong(mos_printf(arena, "has %s, and one number of %zu bits is wanted",
                                mos_size_text(arena, p->length), 8 * width));
    if (!p->length || p->length % width)
        return wrong(mos_printf(arena, "has %s, which are no numbers of %zu bits",
                                mos_size_text(arena, p->length), 8 * width));
    if (p->length / width > MOST_ITEMS)
        return (struct mos_bound_value){0};
    add_numbers(&items, p, 0, p->length, width, sign);
    return of_items(&items);
}

static bool is_text(const struct mos_dt_property *p) {
    for (size_t i = 0; i < p->length; i++)
        if (p->data[i] ? p->data[i] < 0x20 || p->data[i] > 0x7e : !i || !p->data[i - 1])
            return false;
    return p->length && !p->data[p->length - 1];
}

static bool is_text_type(const char *type) {
    return strcmp(type, "string") == 0 || strcmp(type, "text") == 0 || strstr(type, "string-array");
}

/* The one of several types that the bytes look like. */
static const char *likely(const struct mos_dt_property *p, const struct mos_value_form *form) {
    for (size_t i = 0; form->type_count > 1 && i < form->type_count; i++) {
        const char *type = form->types[i];
        bool sign, one, matrix;
        size_t width = width_of(type, &sign, &one, &matrix);
        if (strcmp(type, "flag") == 0      ? !p->length
            : is_text_type(type)           ? is_text(p)
            : width && one                 ? p->length == width
            : strcmp(type, "phandle") == 0 ? p->length == 4
                                           : p->length && p->length % (width ? width : 4) == 0)
            return type;
    }
    bool no_flag = p->length && form->type_count == 1 && strcmp(form->types[0], "flag") == 0;
    return form->type_count && !(no_flag && form->weak) ? form->types[0] : form->weak;
}

static struct mos_bound_value typed(struct mos_arena *arena, const struct mos_dt_node *node,
                                    const struct mos_dt_property *p, const char *type,
                                    const struct mos_value_form *form,
                                    const struct mos_dt_phandles *all) {
    bool sign, one, matrix;
    size_t width = width_of(type, &sign, &one, &matrix);
    if (width == 4 && (matrix || form->of_rows))
        return rows(arena, p, form->row);
    if (width)
        return matrix ? (struct mos_bound_value){0} : numbers(arena, p, width, sign, one);
    if (strcmp(type, "flag") == 0)
        return p->length ? wrong("has a value, and is there or not")
                         : (struct mos_bound_value){.kind = MOS_VALUE_FLAG};
    if (strcmp(type, "phandle-array") == 0)
        return references(arena, node, p, all);
    if (strcmp(type, "phandle") == 0)
        return p->length == 4 ? numbers(arena, p, 4, false, true) : wrong("is not one reference");
    if (strcmp(type, "number") == 0)
        return p->length % 4 ? (struct mos_bound_value){0} : numbers(arena, p, 4, false, false);
    if (is_text_type(type)) {
        struct mos_bound_value v = texts(arena, p);
        if (strcmp(type, "string") == 0 && v.kind == MOS_VALUE_LIST && v.list.count != 1)
            return wrong("is more than one text");
        return v;
    }
    return (struct mos_bound_value){0};
}

struct mos_bound_value mos_bound_value(struct mos_arena *arena, const struct mos_dt_node *node,
                                       const struct mos_dt_property *p,
                                       const struct mos_value_form *form,
                                       const struct mos_dt_phandles *all) {
    const struct mos_dt_node *controller;
    uint32_t cells;
    if (strcmp(p->name, "reg") == 0 && node->parent)
        return rows(arena, p,
                    mos_dt_address_cells(node->parent) + (size_t)mos_dt_size_cells(node->parent));
    if (strcmp(p->name, "interrupts") == 0) {
        controller = mos_dt_interrupt_parent(all, node);
        return controller && mos_dt_cell(controller, "#interrupt-cells", &cells)
                   ? rows(arena, p, cells)
                   : (struct mos_bound_value){0};
    }
    const struct mos_dt_kind *kind = mos_dt_kind_of(node, p->name);
    const char *type = likely(p, form);
    if (kind && kind->cells && (!type || strcmp(type, "phandle") != 0))
        return references(arena, node, p, all);
    if (!form->type_count && known_type(p->name))
        type = known_type(p->name);
    return type ? typed(arena, node, p, type, form, all) : (struct mos_bound_value){0};
}
