/* The file that a node is judged by. */
#include "bindings/bindings.h"

#include "bindings/judge_internal.h"

#include <string.h>

/* Does a schema of `compatible` name a text, however it is put together? */
static bool names(const struct mos_node *schema, const char *text) {
    if (schema->kind == MOS_NODE_SCALAR)
        return schema->key ? strcmp(schema->key, "const") == 0 && strcmp(schema->text, text) == 0
                           : strcmp(schema->text, text) == 0;
    for (size_t i = 0; i < schema->count; i++) {
        const struct mos_node *part = schema->items[i];
        if (part->key && (strcmp(part->key, "not") == 0 || strcmp(part->key, "description") == 0))
            continue;
        if (names(part, text))
            return true;
    }
    return false;
}

/* Is a file for a node that is so compatible, by its own words? */
static bool is_for(struct mos_bindings *b, struct mos_binding *file, const struct mos_dt_node *node,
                   const char *text) {
    if (!mos_bindings_read(b, file)) {
        b->unread += !file->unread && file->counted != b->tree;
        file->counted = b->tree;
        return false;
    }
    const struct mos_node *select = mos_node_get(file->root, "select");
    if (select)
        return mos_judge_fits(b, (struct mos_schema){file, select}, node);
    const struct mos_node *properties = mos_node_get(file->root, "properties");
    const struct mos_node *compatible = properties ? mos_node_get(properties, "compatible") : NULL;
    return compatible && names(compatible, text);
}

/* Names that say what a device can be taken for, beside what it is. */
static bool is_generic(const char *text) {
    return strcmp(text, "syscon") == 0 || strcmp(text, "simple-mfd") == 0 ||
           strcmp(text, "simple-bus") == 0;
}

const struct mos_binding *mos_bindings_of(struct mos_bindings *b, const struct mos_dt_node *node,
                                          bool *first) {
    const struct mos_dt_property *p = mos_dt_property(node, "compatible");
    size_t at = 0;
    *first = true;
    for (const char *text; (text = mos_dt_next_string(p, &at)); *first = false) {
        const struct mos_vec *files = mos_map_get(&b->wanted, text);
        for (size_t i = 0; files && i < files->count && !is_generic(text); i++)
            if (is_for(b, mos_vec_pointer(files, i), node, text))
                return mos_vec_pointer(files, i);
    }
    return NULL;
}
