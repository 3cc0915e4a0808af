/* The resolved definition value by value, each with the places that it comes from. */
#include "api/run.h"

#include "model/schema.h"

#include <string.h>

struct walker {
    struct mos_arena *arena;
    struct mos_vec out; /* of struct resolved_value */
};

static void walk_record(struct walker *w, const char *path, const struct mos_keys *keys,
                        const void *record);

static const char *below(struct walker *w, const char *path, const char *name) {
    return *path ? mos_printf(w->arena, "%s.%s", path, name) : name;
}

static void add(struct walker *w, const char *path, const char *text, const struct mos_node *stated,
                bool removed) {
    struct resolved_value *v = mos_vec_push(&w->out);
    *v = (struct resolved_value){path, text, stated, removed};
}

static void add_removals(struct walker *w, const char *path, const struct mos_node *map) {
    for (size_t i = 0; map && i < map->removed.count; i++) {
        const struct mos_removal *r = mos_vec_at(&map->removed, i);
        if (!mos_node_get(map, r->what->key))
            add(w, below(w, path, r->what->key), "", r->where, true);
    }
}

/* Hashes of passwords are nobody's business on a screen. */
static const char *shown_text(const struct mos_key *key, const struct mos_value *v) {
    return strcmp(key->name, "password-hash") == 0 ? "(hidden)" : v->text;
}

static void walk_member(struct walker *w, const char *path, const struct mos_key *key,
                        const void *at, bool brief) {
    path = brief ? path : below(w, path, key->name);
    if (key->type == MOS_TYPE_NAMED) {
        const struct mos_named *named = at;
        for (size_t i = 0; i < named->count; i++) {
            const struct mos_record *r = named->items[i];
            walk_record(w, below(w, path, r->name), key->record, r);
        }
        add_removals(w, path, named->node);
    } else if (key->type == MOS_TYPE_LIST) {
        const struct mos_list *list = at;
        if (list->node)
            add(w, path, mos_node_text(w->arena, list->node), list->node, false);
    } else {
        const void *inner;
        memcpy(&inner, at, sizeof inner);
        if (inner && key->type == MOS_TYPE_RECORD)
            walk_record(w, path, key->record, inner);
        else if (inner)
            add(w, path, shown_text(key, inner), ((const struct mos_value *)inner)->stated, false);
    }
}

static void walk_record(struct walker *w, const char *path, const struct mos_keys *keys,
                        const void *record) {
    const struct mos_record *r = record;
    size_t before = w->out.count;
    /* what its short form would say needs no name of its own */
    const struct mos_node *only =
        r->node && r->node->kind == MOS_NODE_MAP && r->node->count == 1 ? r->node->items[0] : NULL;
    for (size_t i = 0; i < keys->count; i++)
        walk_member(w, path, &keys->keys[i], (const char *)record + keys->keys[i].offset,
                    keys->brief && only && strcmp(keys->brief, keys->keys[i].name) == 0 &&
                        strcmp(only->key, keys->brief) == 0);
    if (w->out.count == before && *path) /* it is there, and says nothing more */
        add(w, path, "{}", r->node, false);
    add_removals(w, path, r->node);
}

struct mos_vec resolved_values(struct mos_arena *arena, const struct mos_board *board) {
    struct walker w = {arena, mos_vec_make(arena, sizeof(struct resolved_value))};
    walk_record(&w, "", &mos_board_keys, board);
    return w.out;
}

const char *place_text(struct mos_arena *arena, struct mos_place place) {
    if (!place.source)
        return place.thing;
    struct mos_position p = mos_source_position(place.source, place.offset);
    return mos_printf(arena, "%s:%u", place.source->shown_path, p.line);
}

static const char *replaced_text(struct mos_arena *arena, const struct mos_node *n) {
    struct mos_buf b = {.arena = arena};
    for (n = n->replaced; n; n = n->replaced)
        mos_buf_printf(&b, "%s%s (%s)", b.length ? ", " : "", mos_node_text(arena, n),
                       place_text(arena, n->place));
    return b.length ? mos_buf_string(&b) : NULL;
}

/* Which part of a definition each part of `show` is about. */
static bool is_about(const char *part, const char *path) {
    static const struct {
        const char *part, *prefix;
    } rows[] = {{"layout", "layout"},    {"layout", "hardware.media"}, {"layout", "rom"},
                {"ram", "hardware.ram"}, {"ram", "hardware.held"},     {"ram", "boot"},
                {"boot", "boot"},        {"kernel", "kernel"},         {"tree", "tree"},
                {"env", "loader"},       {"budgets", "budgets"}};
    bool about = !*part;
    for (size_t i = 0; i < sizeof rows / sizeof *rows && !about; i++) {
        size_t n = strlen(rows[i].prefix);
        about = strcmp(rows[i].part, part) == 0 && strncmp(path, rows[i].prefix, n) == 0 &&
                (path[n] == '.' || path[n] == 0);
    }
    return about;
}

void show_trail(mosaicum *m, const struct mos_board *board, const char *part) {
    static const struct mosaicum_column columns[] = {{"value", "value", false},
                                                     {"is", "is", false},
                                                     {"from", "from", false},
                                                     {"replaced", "instead of", false}};
    const char *title =
        mos_printf(m->arena, "%s: every value and where it comes from", board->selector);
    struct report_table t = report_start(&m->report, "trail", title, columns, 4);
    struct mos_vec values = resolved_values(m->arena, board);
    for (size_t i = 0; i < values.count; i++) {
        const struct resolved_value *v = mos_vec_at(&values, i);
        if (!is_about(part, v->path))
            continue;
        cell_text(&t, v->path);
        cell_text(&t, v->removed ? "(removed)" : v->text);
        cell_text(&t, v->stated
                          ? place_text(m->arena, v->removed || v->stated->kind != MOS_NODE_SCALAR
                                                     ? v->stated->key_place.source
                                                           ? v->stated->key_place
                                                           : v->stated->place
                                                     : v->stated->place)
                          : NULL);
        cell_text(&t, v->stated ? replaced_text(m->arena, v->stated) : NULL);
    }
    report_end(&m->report, &t);
}
