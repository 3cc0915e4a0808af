/* The resolved definition as YAML that can be read back: a reader of the schema table. */
#include "api/run.h"

#include "model/schema.h"

#include <string.h>

struct printer {
    struct mos_buf out;
};

static void print_record(struct printer *p, const struct mos_keys *keys, const void *record,
                         int depth);

static void indent(struct printer *p, int depth) {
    mos_buf_printf(&p->out, "%*s", 2 * depth, "");
}

static void print_scalar(struct printer *p, const char *text) {
    mos_yaml_scalar(&p->out, text);
}

static void print_list(struct printer *p, const struct mos_list *list) {
    mos_buf_char(&p->out, '[');
    for (size_t i = 0; i < list->count; i++) {
        mos_buf_text(&p->out, i ? ", " : "");
        print_scalar(p, list->items[i]->text);
    }
    mos_buf_text(&p->out, "]\n");
}

static void print_named(struct printer *p, const struct mos_key *key, const struct mos_named *named,
                        int depth) {
    mos_buf_text(&p->out, named->count ? "\n" : " {}\n");
    for (size_t i = 0; i < named->count; i++) {
        const struct mos_record *r = named->items[i];
        indent(p, depth + 1);
        print_scalar(p, r->name);
        mos_buf_text(&p->out, ":\n");
        print_record(p, key->record, r, depth + 2);
    }
}

static void print_key(struct printer *p, const struct mos_key *key, int depth) {
    indent(p, depth);
    mos_buf_printf(&p->out, "%s:", key->name);
}

static void print_member(struct printer *p, const struct mos_key *key, const void *at, int depth) {
    if (key->listed) /* features: all that they bring is written out */
        return;
    if (key->type == MOS_TYPE_NAMED) {
        const struct mos_named *named = at;
        if (!named->node)
            return;
        print_key(p, key, depth);
        print_named(p, key, named, depth);
    } else if (key->type == MOS_TYPE_LIST) {
        const struct mos_list *list = at;
        if (!list->node)
            return;
        print_key(p, key, depth);
        mos_buf_char(&p->out, ' ');
        print_list(p, list);
    } else if (key->type == MOS_TYPE_RECORD) {
        const void *inner;
        memcpy(&inner, at, sizeof inner);
        if (!inner)
            return;
        print_key(p, key, depth);
        mos_buf_char(&p->out, '\n');
        print_record(p, key->record, inner, depth + 1);
    } else {
        const struct mos_value *v;
        memcpy(&v, at, sizeof v);
        if (!v)
            return;
        print_key(p, key, depth);
        mos_buf_char(&p->out, ' ');
        print_scalar(p, v->text);
        mos_buf_char(&p->out, '\n');
    }
}

static void print_record(struct printer *p, const struct mos_keys *keys, const void *record,
                         int depth) {
    size_t before = p->out.length;
    for (size_t i = 0; i < keys->count; i++)
        print_member(p, &keys->keys[i], (const char *)record + keys->keys[i].offset, depth);
    if (before && p->out.length == before) { /* nothing stated: an empty map on the line above */
        p->out.length--;
        mos_buf_text(&p->out, " {}\n");
    }
}

const char *show_resolved(struct mos_arena *arena, const struct mos_board *board) {
    struct printer p = {{.arena = arena}};
    print_record(&p, &mos_board_keys, board, 0);
    return mos_buf_string(&p.out);
}
