/* The index by which a root finds its kernel modules: there, complete, of these very modules? */
#include "rules/rules.h"

#include "base/text.h"
#include "linux/module-index.h"
#include "linux/module.h"
#include "plan/bytes.h"

#include <string.h>

struct module_index_view {
    struct mos_plan *plan;
    const struct mos_region_plan *region;
    const struct mos_inventory *inv;
    uint32_t folder;    /* of one release's modules */
    const char *path;   /* of that, in the volume */
    struct mos_map has; /* path below it -> itself: the modules that are there */
    struct mos_findings *list;
    struct mos_arena *arena;
};

static const char usual_remedy[] = "Add fills: {index: {made: module-index}} behind the fills that "
                                   "bring them.";

static struct mos_finding *tell(const struct module_index_view *v, uint32_t node,
                                const char *text) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_KERNEL_MODULES_INDEX, "%s", text);
    mos_finding_at(v->list, f,
                   mos_plan_fill_at(v->region, mos_inv_node(v->inv, node)->fill)->r.key_place);
    mos_finding_at(v->list, f, v->region->def->r.key_place);
    mos_finding_try(v->list, f, "%s", usual_remedy);
    return f;
}

static void tell_why(const struct module_index_view *v, uint32_t node, const char *why,
                     const char *text) {
    mos_finding_why(v->list, tell(v, node, text), "%s", why);
}

/* ---- what is there ---- */

static uint32_t child(const struct module_index_view *v, const char *name) {
    for (uint32_t i = mos_inv_node(v->inv, v->folder)->first_child; i;
         i = mos_inv_node(v->inv, i)->next)
        if (strcmp(mos_inv_node(v->inv, i)->name, name) == 0)
            return i;
    return 0;
}

/* Every module below a folder; `path` is what the index calls that. */
static void note_modules(struct module_index_view *v, uint32_t folder, const char *path) {
    for (uint32_t i = mos_inv_node(v->inv, folder)->first_child; i;
         i = mos_inv_node(v->inv, i)->next) {
        const struct mos_inv_node *n = mos_inv_node(v->inv, i);
        char *at = mos_printf(v->arena, "%s%s%s", path, *path ? "/" : "", n->name);
        if (n->type == MOS_ENTRY_FOLDER)
            note_modules(v, i, at);
        else if (n->type == MOS_ENTRY_FILE && mos_module_name(v->arena, n->name))
            mos_map_set(&v->has, at, at);
    }
}

static bool bytes_of(const struct module_index_view *v, uint32_t node, const uint8_t **bytes,
                     size_t *length) {
    return node && mos_plan_file_bytes(v->plan, v->region, node, bytes, length);
}

/* ---- what the two forms of the index name ---- */

/* Notes the path before the colon of a line. */
static void note_line(const struct module_index_view *v, struct mos_map *named, const char *line,
                      size_t n) {
    const char *colon = memchr(line, ':', n);
    char *name = colon ? mos_strndup(v->arena, line, (size_t)(colon - line)) : NULL;
    if (name && *name)
        mos_map_set(named, name, name);
}

/* The lines "path: needs …" of modules.dep. */
static void read_text(const struct module_index_view *v, const char *text, struct mos_map *named) {
    for (const char *line = text; line && *line; line = mos_next_line(line))
        note_line(v, named, line, strcspn(line, "\n"));
}

/* The same lines as values of modules.dep.bin; false: it is damaged. */
static bool read_trie(const struct module_index_view *v, const uint8_t *bytes, size_t length,
                      struct mos_map *named) {
    struct mos_vec values = mos_vec_make(v->arena, sizeof(struct mos_trie_value));
    if (!mos_trie_read(v->arena, bytes, length, &values))
        return false;
    for (size_t i = 0; i < values.count; i++) {
        const char *line = ((struct mos_trie_value *)mos_vec_at(&values, i))->value;
        note_line(v, named, line, strlen(line));
    }
    return true;
}

/* The first of one set that the other does not have; NULL: there is none. */
static const char *lacks(const struct mos_map *these, const struct mos_map *has, size_t *count) {
    const char *first = NULL;
    *count = 0;
    for (size_t i = 0; i < these->count; i++)
        if (!mos_map_get(has, these->items[i].key) && !(*count)++)
            first = these->items[i].key;
    return first;
}

static void compare(const struct module_index_view *v, uint32_t node, const struct mos_map *named) {
    const char *file = mos_inv_node(v->inv, node)->name, *release = strrchr(v->path, '/') + 1;
    const char *why = "What an index does not name is not found; what it names in vain stops "
                      "whatever needs it.";
    size_t count;
    const char *gone = lacks(named, &v->has, &count);
    if (gone) {
        tell_why(
            v, node, why,
            mos_printf(v->arena, "%s of %s names %s, which is not there.", file, release, gone));
        return;
    }
    const char *unknown = lacks(&v->has, named, &count);
    if (unknown)
        tell_why(v, node, why,
                 mos_printf(v->arena, "%s of %s does not know %s%s.", file, release, unknown,
                            count > 1 ? mos_printf(v->arena, " and %zu more", count - 1) : ""));
}

/* ---- who reads it ---- */

/* The module loader of this root reads the binary form and nothing else. */
static bool wants_trie(const struct module_index_view *v) {
    uint32_t index;
    return mos_inv_follow(v->inv, v->arena, "bin/kmod", &index) ||
           mos_inv_follow(v->inv, v->arena, "usr/bin/kmod", &index);
}

static void check_folder(struct module_index_view *v) {
    const char *release = strrchr(v->path, '/') + 1;
    uint32_t text = child(v, "modules.dep"), trie = child(v, "modules.dep.bin");
    struct mos_map named = mos_map_make(v->arena), in_trie = mos_map_make(v->arena);
    const uint8_t *bytes;
    size_t length;
    v->has = mos_map_make(v->arena);
    note_modules(v, v->folder, "");
    if (!v->has.count)
        return;
    if (!text || (!trie && wants_trie(v))) {
        tell_why(v, v->folder,
                 text ? "This root's module loader is kmod, which reads the binary form only."
                      : "Modules are found by their index and by nothing else.",
                 mos_printf(v->arena, "The modules of %s have no index: %s is not there.", release,
                            text ? "modules.dep.bin" : "modules.dep"));
        return;
    }
    size_t before = v->list->items.count;
    if (bytes_of(v, text, &bytes, &length)) {
        read_text(v, mos_strndup(v->arena, (const char *)bytes, length), &named);
        compare(v, text, &named);
    }
    if (v->list->items.count > before || !bytes_of(v, trie, &bytes, &length))
        return; /* both were made together: one finding */
    if (read_trie(v, bytes, length, &in_trie))
        compare(v, trie, &in_trie);
    else
        tell_why(v, trie, "The module loader finds nothing in it.",
                 mos_printf(v->arena, "modules.dep.bin of %s is damaged.", release));
}

/* ---- an index that we make ---- */

static void check_made(const struct module_index_view *v, const struct mos_fill *fill) {
    size_t modules = 0;
    for (size_t i = 0; i < v->plan->indexes.count; i++) {
        const struct mos_module_folder *x = mos_vec_pointer(&v->plan->indexes, i);
        if (x->region != v->region || x->fill != fill)
            continue;
        modules += x->modules;
        if (!x->lacking.count)
            continue;
        struct mos_finding *f = mos_find(
            v->list, MOS_RULE_KERNEL_MODULES_INDEX, "Module %s needs %s, which is not in /%s%s.",
            x->lacking.module, x->lacking.need, x->path,
            x->lacking.count > 1 ? mos_printf(v->arena, " (and %zu more)", x->lacking.count - 1)
                                 : "");
        mos_finding_at(v->list, f, fill->r.key_place);
        mos_finding_at(v->list, f, v->region->def->r.key_place);
        mos_finding_why(v->list, f, "The kernel refuses a module when a name in it is unknown.");
        mos_finding_try(v->list, f,
                        "Bring all modules that were made together, in a fill before this.");
    }
    if (modules)
        return;
    struct mos_finding *f = mos_find(
        v->list, MOS_RULE_KERNEL_MODULES_INDEX,
        "Fill %s makes an index of modules, and no fill before it brings any.", fill->r.name);
    mos_finding_at(v->list, f, fill->r.key_place);
    mos_finding_at(v->list, f, v->region->def->r.key_place);
    mos_finding_why(v->list, f, "They are looked for in lib/modules/RELEASE of the same volume.");
    mos_finding_try(v->list, f, "Add a fill with lib/modules above this one.");
}

void mos_rule_module_index(const struct mos_plan *plan) {
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            uint32_t all;
            if (!r->volume || !r->counted || r->fs->no_owners)
                continue;
            struct module_index_view v = {.plan = plan->self,
                                          .region = r,
                                          .inv = r->volume->inventory,
                                          .list = &plan->ctx->findings,
                                          .arena = plan->ctx->arena};
            for (size_t k = 0; k < r->def->volume->fills.count; k++)
                if (mos_fill_makes(r->def->volume->fills.items[k], MOS_MADE_MODULE_INDEX))
                    check_made(&v, r->def->volume->fills.items[k]);
            if (!mos_inv_follow(v.inv, v.arena, "lib/modules", &all))
                continue;
            for (v.folder = mos_inv_node(v.inv, all)->first_child; v.folder;
                 v.folder = mos_inv_node(v.inv, v.folder)->next) {
                v.path = mos_inv_path(v.arena, v.inv, v.folder);
                if (mos_inv_node(v.inv, v.folder)->type == MOS_ENTRY_FOLDER)
                    check_folder(&v);
            }
        }
    }
}
