/* The files of a workspace: what is read, once, before any board is resolved. */
#include "model/workspace_internal.h"

#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

struct lister {
    struct mos_ctx *ctx;
    struct mos_vec *names;
};

static bool add_board(void *self, const char *name) {
    struct lister *l = self;
    size_t n = strlen(name);
    if (n > 5 && strcmp(name + n - 5, ".yaml") == 0 && name[0] != '.')
        mos_vec_push_pointer(l->names, mos_strndup(l->ctx->arena, name, n - 5));
    return true;
}

static int by_name(const void *a, const void *b) {
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

void mos_board_names(struct mos_ctx *ctx, const char *root, struct mos_vec *names) {
    struct lister l = {ctx, names};
    ctx->host->list(ctx->host, mos_path_join(ctx->arena, root, "boards"), add_board, &l);
    if (names->count)
        qsort(names->items, names->count, sizeof(char *), by_name);
}

/* A file that need not be there: NULL without an error when it is not. */
static struct mos_node *load_if_there(struct mos_ctx *ctx, const struct mos_workspace *w,
                                      const char *shown) {
    const char *path = mos_path_join(ctx->arena, w->root, shown);
    struct mos_file_info info;
    if (ctx->host->info(ctx->host, path, false, &info) == ENOENT)
        return NULL;
    const struct mos_source *s = mos_source_load(ctx, path, shown, MOS_YAML_LIMIT);
    return s ? mos_yaml_parse(ctx, s) : NULL;
}

static void load_pins(struct mos_ctx *ctx, struct mos_workspace *w) {
    struct mos_node *node = load_if_there(ctx, w, "mosaicum.pins");
    if (!node)
        return;
    struct mos_pins *pins = mos_alloc(ctx->arena, sizeof *pins);
    mos_schema_read(ctx, &mos_pins_keys, node, MOS_READ_WHOLE, pins);
    w->pins = pins;
}

static void note_outside(struct mos_ctx *ctx, const struct mos_workspace *w) {
    const char **paths = mos_alloc_array(ctx->arena, w->outside.count + 1, sizeof *paths);
    size_t count = 0;
    for (size_t i = 0; i < w->outside.count; i++)
        if (mos_has(w->outside.items[i]))
            paths[count++] = w->outside.items[i]->text;
    ctx->outside = paths;
}

/* Folders elsewhere that the workspace declares may be read from here on. */
static void open_roots(struct mos_ctx *ctx, const struct mos_workspace *w) {
    struct mos_root *roots = mos_alloc_array(ctx->arena, w->roots.count, sizeof *roots);
    size_t count = 0;
    for (size_t i = 0; i < w->roots.count; i++) {
        const struct mos_root_def *d = w->roots.items[i];
        if (!mos_has(d->folder))
            continue;
        struct mos_root *r = &roots[count++];
        r->name = d->r.name;
        r->stated = d->folder->text;
        r->path = *r->stated == '/' ? r->stated : mos_path_join(ctx->arena, w->root, r->stated);
        mos_guard_allow(ctx->guard, r->path, MOS_REACH_READ);
    }
    ctx->roots = roots;
    ctx->root_count = count;
}

struct mos_workspace *mos_workspace_load(struct mos_ctx *ctx, const char *root) {
    const struct mos_source *source = mos_source_load(
        ctx, mos_path_join(ctx->arena, root, "mosaicum.yaml"), "mosaicum.yaml", MOS_YAML_LIMIT);
    if (!source) {
        ctx->error->kind = MOS_ERROR_USAGE;
        return NULL;
    }
    struct mos_node *node = mos_yaml_parse(ctx, source);
    if (!node)
        return NULL;
    struct mos_workspace *w = mos_alloc(ctx->arena, sizeof *w);
    mos_schema_read(ctx, &mos_workspace_keys, node, MOS_READ_WHOLE, w);
    w->root = root;
    w->board_names = mos_vec_make(ctx->arena, sizeof(char *));
    w->trait_names = mos_vec_make(ctx->arena, sizeof(char *));
    w->feature_names = mos_vec_make(ctx->arena, sizeof(char *));
    w->boards = mos_map_make(ctx->arena);
    w->traits = mos_map_make(ctx->arena);
    w->features = mos_map_make(ctx->arena);
    note_outside(ctx, w);
    open_roots(ctx, w);
    mos_board_names(ctx, w->root, &w->board_names);
    load_pins(ctx, w);
    return w;
}

/* ---- parts ---- */

/* "This file is traits/soc/tern64.yaml, but its trait is …" */
static void name_agrees(struct mos_ctx *ctx, const struct mos_part *part, const char *shown) {
    const struct mos_node *name = mos_node_get(part->node, part->kind);
    if (!name || name->kind != MOS_NODE_SCALAR || strcmp(name->text, part->name) == 0)
        return;
    struct mos_finding *f =
        mos_find(&ctx->findings, MOS_RULE_BOARD_SCHEMA, "This file is %s, but its %s is %s.", shown,
                 part->kind, name->text);
    mos_finding_at(&ctx->findings, f, name->place);
    mos_finding_try(&ctx->findings, f, "Write %s: %s, or rename the file.", part->kind, part->name);
}

/* Traits and features say for themselves what they are; boards need more, once they are merged. */
static void require_head(struct mos_ctx *ctx, const struct mos_part *part) {
    static const char *const format = "mosaicum";
    const char *const keys[] = {format, part->kind};
    for (size_t i = 0; i < 2; i++) {
        if (part->node->kind != MOS_NODE_MAP || mos_node_get(part->node, keys[i]))
            continue;
        struct mos_finding *f = mos_find(&ctx->findings, MOS_RULE_BOARD_SCHEMA,
                                         "This %s lacks the key %s.", part->kind, keys[i]);
        mos_finding_at(&ctx->findings, f, part->node->place);
        mos_finding_try(&ctx->findings, f, "Add %s: %s.", keys[i], i ? part->name : "1");
    }
}

static bool says_outside(const struct mos_node *node) {
    const struct mos_node *o = mos_node_get(node, "outside");
    return o && o->kind == MOS_NODE_SCALAR &&
           (strcmp(o->text, "yes") == 0 || strcmp(o->text, "true") == 0);
}

static const struct mos_keys *keys_of(const char *kind) {
    return strcmp(kind, "board") == 0   ? &mos_board_keys
           : strcmp(kind, "trait") == 0 ? &mos_trait_keys
                                        : &mos_feature_keys;
}

/* Reads a file and types it, so that what is wrong in it is said once. */
static struct mos_part *load_part(struct mos_ctx *ctx, const struct mos_workspace *w,
                                  const char *kind, const char *name, const char *shown) {
    struct mos_part *part = mos_alloc(ctx->arena, sizeof *part);
    part->name = mos_strdup(ctx->arena, name);
    part->kind = kind;
    part->place = mos_place_thing(shown);
    struct mos_source *source =
        mos_source_load(ctx, mos_path_join(ctx->arena, w->root, shown), shown, MOS_YAML_LIMIT);
    part->node = source ? mos_yaml_parse(ctx, source) : NULL;
    if (!source && ctx->error->kind == MOS_ERROR_SYSTEM)
        ctx->error->kind = MOS_ERROR_USAGE;
    if (!part->node)
        return part;
    if (says_outside(part->node))
        source->outside = true;
    part->outside = source->outside;
    const struct mos_keys *keys = keys_of(kind);
    void *record = mos_alloc(ctx->arena, keys->size);
    mos_schema_read(ctx, keys, part->node, MOS_READ_PART, record);
    if (keys == &mos_feature_keys)
        part->feature = record;
    require_head(ctx, part);
    name_agrees(ctx, part, shown);
    const struct mos_node *stated = mos_node_get(part->node, kind);
    part->place = stated ? stated->place : part->node->place;
    return part;
}

/* Every definition below a folder, as its name: "soc/tern64". */
struct walk {
    struct mos_ctx *ctx;
    const char *folder, *prefix;
    struct mos_vec *names;
    unsigned depth;
};

static bool add_name(void *self, const char *name) {
    struct walk *w = self;
    size_t n = strlen(name);
    struct mos_file_info info;
    const char *path = mos_path_join(w->ctx->arena, w->folder, name);
    if (name[0] == '.' || w->ctx->host->info(w->ctx->host, path, true, &info))
        return true;
    if (info.kind == MOS_FILE_FOLDER && w->depth < 8) {
        struct walk below = {w->ctx, path, mos_printf(w->ctx->arena, "%s%s/", w->prefix, name),
                             w->names, w->depth + 1};
        w->ctx->host->list(w->ctx->host, path, add_name, &below);
    } else if (n > 5 && strcmp(name + n - 5, ".yaml") == 0) {
        mos_vec_push_pointer(w->names,
                             mos_printf(w->ctx->arena, "%s%.*s", w->prefix, (int)n - 5, name));
    }
    return true;
}

static void list_names(struct mos_ctx *ctx, const struct mos_workspace *w, const char *folder,
                       struct mos_vec *names) {
    static const char none[] = "";
    if (names->count)
        return;
    struct walk walk = {ctx, mos_path_join(ctx->arena, w->root, folder), "", names, 0};
    ctx->host->list(ctx->host, walk.folder, add_name, &walk);
    if (!names->count) /* listed, and nothing there: not again */
        mos_vec_push_pointer(names, none);
    if (names->count)
        qsort(names->items, names->count, sizeof(char *), by_name);
}

static struct mos_part *load_shared(struct mos_ctx *ctx, const struct mos_workspace *w,
                                    struct mos_map *map, const char *kind, const char *folder,
                                    const char *name) {
    struct mos_part *part = mos_map_get(map, name);
    if (part)
        return part;
    const char *shown = mos_printf(ctx->arena, "%s/%s.yaml", folder, name);
    if (!mos_exists(ctx, mos_path_join(ctx->arena, w->root, shown)))
        return NULL;
    part = load_part(ctx, w, kind, name, shown);
    mos_map_set(map, part->name, part);
    return part;
}

static void load_traits_of(struct mos_ctx *ctx, struct mos_workspace *w,
                           const struct mos_node *node);

static void load_trait(struct mos_ctx *ctx, struct mos_workspace *w, const char *name) {
    if (mos_map_get(&w->traits, name) || strstr(name, ".."))
        return;
    struct mos_part *part = load_shared(ctx, w, &w->traits, "trait", "traits", name);
    if (!part)
        list_names(ctx, w, "traits", &w->trait_names);
    if (part && part->node)
        load_traits_of(ctx, w, part->node);
}

static void load_features_of(struct mos_ctx *ctx, struct mos_workspace *w,
                             const struct mos_node *features) {
    for (size_t i = 0; features && i < features->count; i++) {
        const struct mos_node *f = features->items[i];
        const char *name = features->kind == MOS_NODE_MAP ? f->key : f->text;
        if (features->kind != MOS_NODE_SCALAR && *name && *name != '~' && !strchr(name, '/') &&
            !load_shared(ctx, w, &w->features, "feature", "features", name))
            list_names(ctx, w, "features", &w->feature_names);
    }
}

/* Traits and features that a part or one of its variants names. */
static void load_traits_of(struct mos_ctx *ctx, struct mos_workspace *w,
                           const struct mos_node *node) {
    const struct mos_node *traits = mos_node_get(node, "traits");
    const struct mos_node *variants = mos_node_get(node, "variants");
    if (traits && traits->kind == MOS_NODE_SCALAR && *traits->text)
        load_trait(ctx, w, traits->text);
    for (size_t i = 0; traits && traits->kind == MOS_NODE_LIST && i < traits->count; i++)
        if (traits->items[i]->kind == MOS_NODE_SCALAR && *traits->items[i]->text)
            load_trait(ctx, w, traits->items[i]->text);
    load_features_of(ctx, w, mos_node_get(node, "features"));
    for (size_t i = 0; variants && variants->kind == MOS_NODE_MAP && i < variants->count; i++)
        load_traits_of(ctx, w, variants->items[i]);
}

static bool has_board(const struct mos_workspace *w, const char *name) {
    for (size_t i = 0; i < w->board_names.count; i++)
        if (strcmp(name, mos_vec_pointer(&w->board_names, i)) == 0)
            return true;
    return false;
}

static void load_waivers(struct mos_ctx *ctx, const struct mos_workspace *w,
                         struct mos_part *part) {
    struct mos_node *node =
        load_if_there(ctx, w, mos_printf(ctx->arena, "waivers/%s.yaml", part->name));
    if (!node)
        return;
    struct mos_waiver_file *file = mos_alloc(ctx->arena, sizeof *file);
    mos_schema_read(ctx, &mos_waiver_file_keys, node, MOS_READ_WHOLE, file);
    part->waivers = node;
}

const struct mos_part *mos_workspace_board(struct mos_ctx *ctx, struct mos_workspace *w,
                                           const char *name) {
    struct mos_part *part = mos_map_get(&w->boards, name);
    if (part)
        return part;
    if (!has_board(w, name)) {
        mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "There is no board %s", name);
        return NULL;
    }
    const char *selector = ctx->findings.selector;
    ctx->findings.selector = mos_strdup(ctx->arena, name);
    part = load_part(ctx, w, "board", name, mos_printf(ctx->arena, "boards/%s.yaml", name));
    if (part->node) {
        load_traits_of(ctx, w, part->node);
        load_waivers(ctx, w, part);
        part->variants = mos_collect_variants(ctx, w, part);
    }
    ctx->findings.selector = selector;
    mos_map_set(&w->boards, part->name, part);
    return ctx->error->kind ? NULL : part;
}
