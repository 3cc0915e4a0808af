/* Values judged by schemas. */
#include "bindings/judge_internal.h"
#include "bindings/pattern.h"

#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { DEEPEST_TYPE = 12, MOST_WORDS = 8 };

static enum mos_verdict judge_item(struct mos_judge *j, struct mos_schema s,
                                   const struct mos_item *item);

bool mos_schema_is(const struct mos_node *schema, const char *word) {
    return schema->kind == MOS_NODE_SCALAR && schema->plain && strcmp(schema->text, word) == 0;
}

bool mos_schema_is_talk(const char *key) {
    static const char *const words[] = {"description", "title",      "maintainers", "$id",
                                        "$schema",     "$comment",   "examples",    "select",
                                        "default",     "deprecated", "$defs",       "definitions",
                                        "then",        "else",       "type",        "format"};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (strcmp(key, words[i]) == 0)
            return true;
    return false;
}

/* ---- what kind of value a schema is about ---- */

static bool is_number(const struct mos_node *n, int64_t *value) {
    if (n->kind != MOS_NODE_SCALAR || !n->plain || !*n->text)
        return false;
    char *end;
    errno = 0;
    *value = *n->text == '-' ? strtoll(n->text, &end, 0) : (int64_t)strtoull(n->text, &end, 0);
    return !*end && !errno;
}

static void add_type(struct mos_value_form *form, const char *type) {
    enum { MOST = sizeof form->types / sizeof *form->types };
    for (size_t i = 0; i < form->type_count; i++)
        if (strcmp(form->types[i], type) == 0)
            return;
    if (form->type_count < MOST)
        form->types[form->type_count++] = type;
}

/* All types that a schema names, wherever it does. */
static void types_of(struct mos_judge *j, struct mos_schema s, unsigned depth,
                     struct mos_value_form *form) {
    int64_t ignored;
    if (!s.node || s.node->kind == MOS_NODE_SCALAR || depth > DEEPEST_TYPE)
        return;
    for (size_t i = 0; i < s.node->count; i++) {
        const struct mos_node *k = s.node->items[i];
        struct mos_schema below = {s.file, k};
        const char *type = NULL;
        if (!k->key) { /* of a list: each is one */
            types_of(j, below, depth + 1, form);
        } else if (strcmp(k->key, "$ref") == 0 && k->kind == MOS_NODE_SCALAR) {
            below = mos_bindings_refer(j->b, s.file, k->text, &type);
            if (type)
                add_type(form, type);
            types_of(j, below, depth + 1, form);
        } else if (strcmp(k->key, "type") == 0 && k->kind == MOS_NODE_SCALAR) {
            if (strcmp(k->text, "boolean") == 0)
                add_type(form, "flag");
        } else if (strcmp(k->key, "const") == 0) {
            form->weak = mos_schema_is(k, "true") ? "flag"
                         : is_number(k, &ignored) ? "number"
                                                  : "text";
        } else if (strcmp(k->key, "enum") == 0 && k->count) {
            form->weak = is_number(k->items[0], &ignored) ? "number" : "text";
        } else if (strcmp(k->key, "minimum") == 0 || strcmp(k->key, "maximum") == 0 ||
                   strcmp(k->key, "multipleOf") == 0) {
            form->weak = "number";
        } else if (strcmp(k->key, "pattern") == 0) {
            form->weak = "text";
        } else if (!mos_schema_is_talk(k->key) && strcmp(k->key, "not") != 0) {
            types_of(j, below, depth + 1, form);
        }
    }
}

/* Entries that a list must have, as its schema says; SIZE_MAX: no limit. */
static void sizes_of(const struct mos_node *schema, size_t *least, size_t *most) {
    const struct mos_node *items = mos_node_get(schema, "items"),
                          *low = mos_node_get(schema, "minItems"),
                          *high = mos_node_get(schema, "maxItems");
    int64_t value;
    *least = 0;
    *most = SIZE_MAX;
    if (items && items->kind == MOS_NODE_LIST)
        *least = *most = items->count;
    if (high && is_number(high, &value)) {
        *most = (size_t)value;
        if (!items && !low)
            *least = *most;
    }
    if (low && is_number(low, &value))
        *least = (size_t)value;
}

/* Cells of a row where the schema of a matrix fixes them; 0: it does not. */
static size_t row_of(struct mos_judge *j, struct mos_schema s, unsigned depth, bool *of_rows) {
    const struct mos_node *items = s.node && s.node->kind == MOS_NODE_MAP && depth < DEEPEST_TYPE
                                       ? mos_node_get(s.node, "items")
                                       : NULL;
    if (items && items->kind == MOS_NODE_LIST)
        items = items->count ? items->items[0] : NULL;
    if (items && items->kind == MOS_NODE_MAP) {
        size_t least, most;
        sizes_of(items, &least, &most);
        *of_rows |= least || most != SIZE_MAX;
        if (least == most)
            return least;
    }
    const struct mos_node *all = s.node && s.node->kind == MOS_NODE_MAP && depth < DEEPEST_TYPE
                                     ? mos_node_get(s.node, "allOf")
                                     : NULL;
    for (size_t i = 0; all && i < all->count; i++) {
        size_t row = row_of(j, (struct mos_schema){s.file, all->items[i]}, depth + 1, of_rows);
        if (row)
            return row;
    }
    return 0;
}

/* ---- single values ---- */

static const char *item_text(struct mos_judge *j, const struct mos_item *item) {
    while (item->kind == MOS_ITEM_LIST && item->count == 1)
        item = item->items;
    if (item->kind == MOS_ITEM_TEXT)
        return mos_printf(j->arena, "\"%s\"", item->text);
    if (item->kind == MOS_ITEM_LIST)
        return mos_printf(j->arena, "%zu entries", item->count);
    return mos_printf(j->arena, "%lld", (long long)item->number);
}

static enum mos_verdict bad(struct mos_judge *j, struct mos_schema at, const char *why,
                            const char *remedy) {
    j->why = why;
    j->remedy = remedy;
    j->broken = at;
    return MOS_BAD;
}

static bool equals(const struct mos_item *item, const struct mos_node *value) {
    int64_t number;
    if (value->kind == MOS_NODE_LIST && item->kind == MOS_ITEM_LIST) {
        bool same = value->count == item->count;
        for (size_t i = 0; same && i < item->count; i++)
            same = equals(&item->items[i], value->items[i]);
        return same;
    }
    if (value->kind != MOS_NODE_SCALAR || item->kind == MOS_ITEM_LIST)
        return false;
    if (item->kind == MOS_ITEM_TEXT)
        return strcmp(item->text, value->text) == 0;
    return is_number(value, &number) && number == item->number;
}

/* "1, 2 or 4" */
static const char *choices(struct mos_judge *j, const struct mos_node *list) {
    struct mos_buf b = {.arena = j->arena};
    size_t count = list->count > MOST_WORDS ? MOST_WORDS : list->count;
    for (size_t i = 0; i < count; i++)
        mos_buf_printf(&b, "%s%s",
                       !i                                       ? ""
                       : i + 1 == count && count == list->count ? " or "
                                                                : ", ",
                       list->items[i]->text);
    if (count < list->count)
        mos_buf_printf(&b, " … (%zu in all)", list->count);
    return mos_buf_string(&b);
}

static enum mos_verdict judge_limit(struct mos_judge *j, struct mos_schema s,
                                    const struct mos_node *k, const struct mos_item *item) {
    int64_t limit;
    if (item->kind != MOS_ITEM_NUMBER || !is_number(k, &limit))
        return MOS_OPEN;
    bool low = strstr(k->key, "inimum") != NULL, sharp = strncmp(k->key, "exclusive", 9) == 0;
    if (strcmp(k->key, "multipleOf") == 0)
        return !limit || item->number % limit == 0
                   ? MOS_GOOD
                   : bad(j, (struct mos_schema){s.file, k},
                         mos_printf(j->arena, "is %lld, and must be a multiple of %lld",
                                    (long long)item->number, (long long)limit),
                         NULL);
    bool good = low ? item->number > limit - !sharp : item->number < limit + !sharp;
    return good ? MOS_GOOD
                : bad(j, (struct mos_schema){s.file, k},
                      mos_printf(j->arena, "is %lld, and must be %s %lld", (long long)item->number,
                                 low     ? sharp ? "more than" : "at least"
                                 : sharp ? "less than"
                                         : "at most",
                                 (long long)limit),
                      NULL);
}

/* A word about one value. */
static enum mos_verdict judge_single(struct mos_judge *j, struct mos_schema s,
                                     const struct mos_node *k, const struct mos_item *item) {
    struct mos_schema at = {s.file, k};
    bool of_lists = k->kind == MOS_NODE_LIST && k->count && k->items[0]->kind == MOS_NODE_LIST;
    while (!of_lists && item->kind == MOS_ITEM_LIST && item->count == 1)
        item = item->items;
    if (item->kind == MOS_ITEM_LIST && !item->count)
        return MOS_OPEN;
    if (item->kind == MOS_ITEM_LIST && j->each && !of_lists && item->items->kind == MOS_ITEM_TEXT) {
        enum mos_verdict v = MOS_GOOD;
        for (size_t i = 0; i < item->count && v != MOS_BAD; i++)
            v = mos_verdict_and(v, judge_single(j, s, k, &item->items[i]));
        return v;
    }
    if (item->kind == MOS_ITEM_LIST && !of_lists)
        return bad(j, at, mos_printf(j->arena, "has %zu entries, and one is wanted", item->count),
                   NULL);
    if (strcmp(k->key, "const") == 0) {
        if (equals(item, k))
            return MOS_GOOD;
        return bad(j, at,
                   mos_printf(j->arena, "is %s, and must be %s", item_text(j, item), k->text),
                   NULL);
    }
    if (strcmp(k->key, "enum") == 0) {
        for (size_t i = 0; i < k->count; i++)
            if (equals(item, k->items[i]))
                return MOS_GOOD;
        return bad(j, at,
                   mos_printf(j->arena, "is %s, and may be %s", item_text(j, item), choices(j, k)),
                   NULL);
    }
    if (strcmp(k->key, "pattern") == 0) {
        bool known;
        if (item->kind != MOS_ITEM_TEXT)
            return MOS_OPEN;
        bool fits = mos_schema_pattern(j->arena, k->text, item->text, &known);
        return !known ? MOS_OPEN
               : fits ? MOS_GOOD
                      : bad(j, at,
                            mos_printf(j->arena, "is \"%s\", and must fit the pattern %s",
                                       item->text, k->text),
                            NULL);
    }
    return judge_limit(j, s, k, item);
}

static bool is_single_word(const char *key) {
    static const char *const words[] = {
        "const",   "enum",       "pattern",          "minimum",
        "maximum", "multipleOf", "exclusiveMinimum", "exclusiveMaximum"};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (strcmp(key, words[i]) == 0)
            return true;
    return false;
}

/* ---- lists ---- */

static enum mos_verdict judge_list(struct mos_judge *j, struct mos_schema s,
                                   const struct mos_item *item) {
    size_t least, most;
    const struct mos_node *items = mos_node_get(s.node, "items"),
                          *more = mos_node_get(s.node, "additionalItems");
    const struct mos_item *list = item;
    enum mos_verdict v = MOS_GOOD;
    if (item->kind != MOS_ITEM_LIST)
        return v; /* these words are about lists */
    sizes_of(s.node, &least, &most);
    if (more && !mos_schema_is(more, "false") && !mos_node_get(s.node, "maxItems"))
        most = SIZE_MAX;
    if (list->count < least)
        return bad(j, s,
                   mos_printf(j->arena, "has %zu %s, and %s%zu wanted", list->count,
                              list->count == 1 ? "entry" : "entries",
                              most == least ? "" : "at least ", least),
                   NULL);
    if (list->count > most)
        return bad(j, s,
                   mos_printf(j->arena, "has %zu %s, and %s%zu wanted", list->count,
                              list->count == 1 ? "entry" : "entries",
                              most == least ? "" : "at most ", most),
                   NULL);
    for (size_t i = 0; items && i < list->count && v != MOS_BAD; i++) {
        const struct mos_node *of = items->kind != MOS_NODE_LIST ? items
                                    : i < items->count           ? items->items[i]
                                                                 : more;
        if (of)
            v = mos_verdict_and(v, judge_item(j, (struct mos_schema){s.file, of}, &list->items[i]));
    }
    return v;
}

static enum mos_verdict judge_contains(struct mos_judge *j, struct mos_schema s,
                                       const struct mos_node *k, const struct mos_item *item) {
    enum mos_verdict v = MOS_BAD;
    size_t count = item->kind == MOS_ITEM_LIST ? item->count : 1;
    const struct mos_item *items = item->kind == MOS_ITEM_LIST ? item->items : item;
    for (size_t i = 0; i < count && v != MOS_GOOD; i++) {
        enum mos_verdict one = judge_item(j, (struct mos_schema){s.file, k}, &items[i]);
        v = one == MOS_GOOD || v == MOS_BAD ? one : v;
    }
    return v == MOS_BAD
               ? bad(j, (struct mos_schema){s.file, k}, "lacks an entry that must be in it", NULL)
               : v;
}

/* anyOf, oneOf: how many of several schemas fit. */
static enum mos_verdict judge_choice(struct mos_judge *j, struct mos_schema s,
                                     const struct mos_node *k, const struct mos_item *item) {
    size_t good = 0, open = 0;
    const char *why = NULL;
    for (size_t i = 0; i < k->count; i++) {
        enum mos_verdict v = judge_item(j, (struct mos_schema){s.file, k->items[i]}, item);
        good += v == MOS_GOOD;
        open += v == MOS_OPEN;
        why = v == MOS_BAD && k->count == 1 ? j->why : why;
    }
    bool one = strcmp(k->key, "oneOf") == 0;
    if (good && (!one || (good == 1 && !open)))
        return MOS_GOOD;
    if (open || (good > 1 && one)) /* several that fit: lists of names that overlap */
        return good ? MOS_GOOD : MOS_OPEN;
    const struct mos_item *first = item;
    while (first->kind == MOS_ITEM_LIST && first->count)
        first = first->items;
    return bad(j, (struct mos_schema){s.file, k},
               why ? why
                   : mos_printf(j->arena, "begins with %s, and is none of the %zu that are known",
                                item_text(j, first), k->count),
               NULL);
}

/* Is an item of the kind that a type of /schemas/types.yaml, or of JSON, has? */
static enum mos_verdict judge_type(struct mos_judge *j, struct mos_schema at, const char *type,
                                   const struct mos_item *item) {
    bool flag = strcmp(type, "flag") == 0 || strcmp(type, "boolean") == 0;
    bool text = strstr(type, "string") != NULL;
    bool number = strstr(type, "int") != NULL || strncmp(type, "phandle", 7) == 0;
    while (item->kind == MOS_ITEM_LIST && item->count)
        item = item->items;
    bool good = flag     ? false /* a flag has no items */
                : text   ? item->kind == MOS_ITEM_TEXT
                : number ? item->kind == MOS_ITEM_NUMBER
                         : true;
    return good ? MOS_GOOD
                : bad(j, at,
                      mos_printf(j->arena, "is %s, and must be of type %s", item_text(j, item),
                                 type),
                      NULL);
}

static enum mos_verdict judge_word(struct mos_judge *j, struct mos_schema s,
                                   const struct mos_node *k, const struct mos_item *item) {
    enum mos_verdict v = MOS_GOOD;
    struct mos_schema at = {s.file, k};
    const char *type;
    if (strcmp(k->key, "type") == 0 && k->kind == MOS_NODE_SCALAR)
        return judge_type(j, at, k->text, item);
    if (mos_schema_is_talk(k->key) || strcmp(k->key, "additionalItems") == 0 ||
        strcmp(k->key, "minItems") == 0 || strcmp(k->key, "maxItems") == 0)
        return MOS_GOOD; /* or with the list's */
    if (is_single_word(k->key))
        return judge_single(j, s, k, item);
    if (strcmp(k->key, "contains") == 0)
        return judge_contains(j, s, k, item);
    if (strcmp(k->key, "anyOf") == 0 || strcmp(k->key, "oneOf") == 0)
        return judge_choice(j, s, k, item);
    if (strcmp(k->key, "allOf") == 0) {
        for (size_t i = 0; i < k->count && v != MOS_BAD; i++)
            v = mos_verdict_and(v, judge_item(j, (struct mos_schema){s.file, k->items[i]}, item));
        return v;
    }
    if (strcmp(k->key, "not") == 0) {
        v = judge_item(j, at, item);
        return v == MOS_OPEN ? v
               : v == MOS_BAD
                   ? MOS_GOOD
                   : bad(j, at, mos_printf(j->arena, "may not be %s", item_text(j, item)), NULL);
    }
    if (strcmp(k->key, "if") == 0) {
        v = judge_item(j, at, item);
        const struct mos_node *next =
            v == MOS_OPEN ? NULL : mos_node_get(s.node, v == MOS_GOOD ? "then" : "else");
        return v == MOS_OPEN ? v
               : next        ? judge_item(j, (struct mos_schema){s.file, next}, item)
                             : MOS_GOOD;
    }
    if (strcmp(k->key, "$ref") == 0 && k->kind == MOS_NODE_SCALAR) {
        struct mos_schema to = mos_bindings_refer(j->b, s.file, k->text, &type);
        return type ? judge_type(j, at, type, item) : to.node ? judge_item(j, to, item) : MOS_OPEN;
    }
    if (strcmp(k->key, "uniqueItems") == 0) {
        for (size_t a = 0; item->kind == MOS_ITEM_LIST && a < item->count; a++)
            for (size_t b = a + 1; b < item->count; b++) {
                const struct mos_item *x = &item->items[a], *y = &item->items[b];
                if (x->kind == MOS_ITEM_TEXT && y->kind == MOS_ITEM_TEXT &&
                    strcmp(x->text, y->text) == 0)
                    return bad(j, at, mos_printf(j->arena, "has \"%s\" twice", x->text), NULL);
            }
        return MOS_GOOD;
    }
    return strcmp(k->key, "items") == 0 ? MOS_GOOD : MOS_OPEN;
}

static enum mos_verdict judge_item(struct mos_judge *j, struct mos_schema s,
                                   const struct mos_item *item) {
    enum mos_verdict v = MOS_GOOD;
    if (!s.node || ++j->steps > MOS_JUDGE_STEPS || j->depth > MOS_JUDGE_DEPTH)
        return MOS_OPEN;
    if (s.node->kind == MOS_NODE_SCALAR)
        return mos_schema_is(s.node, "false") ? bad(j, s, "is not allowed here", "Remove it.")
                                              : MOS_GOOD;
    if (s.node->kind != MOS_NODE_MAP)
        return MOS_OPEN;
    j->depth++;
    if (mos_node_get(s.node, "items") || mos_node_get(s.node, "minItems") ||
        mos_node_get(s.node, "maxItems"))
        v = judge_list(j, s, item);
    for (size_t i = 0; i < s.node->count && v != MOS_BAD; i++)
        v = mos_verdict_and(v, judge_word(j, s, s.node->items[i], item));
    j->depth--;
    return v;
}

enum mos_verdict mos_judge_text(struct mos_judge *j, struct mos_schema s, const char *text) {
    const struct mos_item item = {.kind = MOS_ITEM_TEXT, .text = text};
    return judge_item(j, s, &item);
}

enum mos_verdict mos_judge_value(struct mos_judge *j, struct mos_schema s,
                                 const struct mos_dt_node *node, const struct mos_dt_property *p) {
    if (!s.node)
        return MOS_OPEN;
    if (s.node->kind == MOS_NODE_SCALAR)
        return judge_item(j, s, &(const struct mos_item){.kind = MOS_ITEM_LIST});
    struct mos_value_form form = {0};
    j->each = strcmp(p->name, "compatible") != 0;
    types_of(j, s, 0, &form);
    form.row = row_of(j, s, 0, &form.of_rows);
    struct mos_bound_value v = mos_bound_value(j->arena, node, p, &form, j->all);
    switch (v.kind) {
    case MOS_VALUE_FLAG:
        return MOS_GOOD;
    case MOS_VALUE_LIST:
        return judge_item(j, s, &v.list);
    case MOS_VALUE_WRONG:
        return bad(j, s, v.why, NULL);
    default:
        return MOS_OPEN;
    }
}
