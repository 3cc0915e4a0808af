/* `config cost`: what each setting of a fragment brings, in symbols and in bytes of a kernel that
 * was built. */
#include "api/config.h"

#include "base/text.h"
#include "kconfig/build.h"
#include "kconfig/variables.h"
#include "linux/link-map.h"
#include "linux/module.h"

#include <errno.h>
#include <string.h>

enum { MOST_NAMED = 4, LARGEST_MAP = 256 << 20, DEEPEST_FOLDER = 24 };

/* An object of the map, or a module. */
struct weight {
    const char *object;
    const struct mos_link_size *size; /* NULL: a module … */
    uint64_t file;                    /* … whose file is as large as this … */
    bool there;                       /* … if it is there */
    enum mos_tri now;
    enum mos_kc_certainty certainty;
};

struct costing {
    struct config_job *j;
    struct mos_kc_build *build; /* NULL: nothing is weighed */
    bool has_map, has_modules;
    struct mos_map map, modules; /* object -> struct mos_link_size *; module name -> uint64_t * */
    struct mos_vec weights;      /* of struct weight */
    struct mos_vec lacking;      /* of const char *: built in, and not in the map */
};

static enum mos_tri value_in(void *config, const char *symbol) {
    struct mos_kc_config *c = config;
    const struct mos_kc_symbol *s = mos_kc_find(c->tree, symbol);
    return s ? mos_kc_tri(c, s) : MOS_TRI_N;
}

static enum mos_tri object_in(const struct costing *x, struct mos_kc_config *c, const char *object,
                              enum mos_kc_certainty *certainty) {
    return mos_kc_build_value(x->build, c->arena, object, value_in, c, certainty);
}

/* ---- what was built ---- */

static bool read_map(struct costing *x) {
    mosaicum *m = x->j->m;
    const char *path = x->j->request->link_map;
    char *text;
    size_t length;
    run_allow(m, path, MOS_REACH_READ);
    if (!mos_read_file(&m->ctx, path, LARGEST_MAP, &text, &length))
        return false;
    x->map = mos_link_map_read(m->arena, text);
    x->has_map = true;
    return x->map.count || mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                                    "%s is no map of a linker: it has no line with an address, a "
                                    "size and an object (CONFIG_VMLINUX_MAP=y makes it)",
                                    path);
}

struct folder_walk {
    struct costing *x;
    const char *folder;
    unsigned depth;
    int error;
};

static int walk_modules(struct costing *x, const char *folder, unsigned depth);

static bool take_file(void *self, const char *name, const struct mos_file_info *info) {
    struct folder_walk *w = self;
    struct mos_arena *arena = w->x->j->m->arena;
    const char *module = info->kind == MOS_FILE_REGULAR ? mos_module_name(arena, name) : NULL;
    if (module) {
        uint64_t *size = mos_alloc(arena, sizeof *size);
        *size = info->size;
        mos_map_set(&w->x->modules, module, size);
    }
    if (info->kind == MOS_FILE_FOLDER)
        w->error = walk_modules(w->x, mos_path_join(arena, w->folder, name), w->depth + 1);
    return !w->error;
}

static int walk_modules(struct costing *x, const char *folder, unsigned depth) {
    const struct mos_host *h = x->j->m->ctx.host;
    struct folder_walk w = {x, folder, depth, 0};
    if (depth > DEEPEST_FOLDER)
        return ELOOP;
    int e = h->survey(h, folder, take_file, &w);
    return w.error ? w.error : e;
}

static bool read_modules(struct costing *x) {
    mosaicum *m = x->j->m;
    const char *folder = x->j->request->modules;
    run_allow(m, folder, MOS_REACH_READ);
    x->modules = mos_map_make(m->arena);
    x->has_modules = true;
    int e = walk_modules(x, folder, 0);
    return !e || mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", folder);
}

/* ---- what it is made of ---- */

static void weigh_map(struct costing *x) {
    for (size_t i = 0; i < x->map.count; i++) {
        struct weight *w = mos_vec_push(&x->weights);
        *w = (struct weight){.object = x->map.items[i].key, .size = x->map.items[i].value};
        w->now = object_in(x, x->j->config, w->object, &w->certainty);
    }
}

/* What is linked of several is not there itself. */
static bool is_composed(const struct mos_map *composed, const char *object) {
    return mos_map_get(composed, object) != NULL;
}

/* Modules, and what the configuration has built in and the map does not know. */
static void weigh_rules(struct costing *x) {
    struct mos_arena *arena = x->j->m->arena;
    struct mos_map composed = mos_map_make(arena);
    const char *before = "";
    for (size_t i = 0; i < x->build->rules.count; i++) {
        const struct mos_kc_rule *r = mos_vec_at(&x->build->rules, i);
        if (r->of)
            mos_map_set_const(&composed, r->of, r);
    }
    for (size_t i = 0; i < x->build->rules.count; i++) {
        const struct mos_kc_rule *r = mos_vec_at(&x->build->rules, i);
        if (mos_text_ends(r->object, "/") || strcmp(r->object, before) == 0)
            continue;
        before = r->object;
        enum mos_kc_certainty certainty;
        enum mos_tri now = object_in(x, x->j->config, r->object, &certainty);
        if (now == MOS_TRI_Y && certainty == MOS_KC_SURE && x->has_map &&
            !is_composed(&composed, r->object) && !mos_map_get(&x->map, r->object))
            mos_vec_push_pointer(&x->lacking, r->object);
        if (now != MOS_TRI_M || r->of || !x->has_modules)
            continue;
        const char *name = mos_module_name(
            arena, mos_printf(arena, "%.*sko", (int)strlen(r->object) - 1, r->object));
        const uint64_t *size = name ? mos_map_get(&x->modules, name) : NULL;
        struct weight *w = mos_vec_push(&x->weights);
        *w = (struct weight){.object = r->object,
                             .file = size ? *size : 0,
                             .there = size,
                             .now = now,
                             .certainty = certainty};
    }
}

static bool weigh(struct costing *x) {
    mosaicum *m = x->j->m;
    const struct mosaicum_config *r = x->j->request;
    x->weights = mos_vec_make(m->arena, sizeof(struct weight));
    x->lacking = mos_vec_make(m->arena, sizeof(char *));
    if ((r->link_map && !read_map(x)) || (r->modules && !read_modules(x)))
        return false;
    if (!x->has_map && !x->has_modules)
        return true;
    x->build = mos_kc_build_open(&m->ctx, x->j->folder,
                                 x->j->arch ? mos_kc_arch_folder(x->j->arch) : NULL, false);
    if (!x->build)
        return false;
    mos_kc_build_load(&m->ctx, x->build);
    weigh_map(x);
    weigh_rules(x);
    return true;
}

/* ---- each setting ---- */

/* All requests but one. */
static struct mos_kc_config *without(struct config_job *j, struct mos_arena *arena, size_t which) {
    const struct mos_setting **rest = mos_alloc_array(arena, j->all.count, sizeof *rest);
    size_t count = 0;
    for (size_t i = 0; i < j->all.count; i++)
        if (i != which)
            rest[count++] = j->all.settings[i];
    const struct mos_kc_requests all = {rest, count};
    return mos_kc_with(arena, j->tree, &all, NULL, 0);
}

struct sum {
    uint64_t stored, cleared, files;
    size_t objects, modules;     /* how many of each it brings … */
    size_t no_object, no_module; /* … whose size nobody knows */
};

/* What is there and would not be without the setting. */
static struct sum add_up(const struct costing *x, struct mos_kc_config *c) {
    struct sum s = {0};
    enum mos_kc_certainty any;
    for (size_t i = 0; i < x->weights.count; i++) {
        const struct weight *w = mos_vec_at(&x->weights, i);
        enum mos_tri wanted = w->size ? MOS_TRI_Y : MOS_TRI_M;
        if (w->now != wanted || object_in(x, c, w->object, &any) == wanted)
            continue;
        if (w->size) {
            s.stored += w->size->stored;
            s.cleared += w->size->cleared;
            s.objects++;
        } else {
            s.files += w->file;
            s.modules++;
            s.no_module += !w->there;
        }
    }
    for (size_t i = 0; i < x->lacking.count; i++)
        s.no_object += object_in(x, c, mos_vec_pointer(&x->lacking, i), &any) != MOS_TRI_Y;
    return s;
}

/* Bytes; what nobody knows is no zero. */
static void sum_cell(struct report_table *t, uint64_t bytes, size_t count, size_t unknown) {
    struct mos_arena *arena = t->cells.arena;
    if (!unknown)
        cell_about(t, bytes);
    else if (bytes && unknown < count)
        cell_text(t, mos_printf(arena, "over %s", mos_size_about(arena, bytes)));
    else
        cell_text(t, "not known");
}

static const char *brought(const struct costing *x, struct mos_kc_config *c, const char *symbol) {
    struct config_job *j = x->j;
    struct mos_buf names = {.arena = j->m->arena};
    size_t named = 0, room = x->build ? 1 : MOST_NAMED; /* beside sizes there is less of it */
    for (size_t k = 0; k < j->tree->all.count; k++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&j->tree->all, k);
        if (!mos_kc_differs(c, j->config, s) || strcmp(s->name, symbol + 7) == 0)
            continue;
        if (named++ < room)
            mos_buf_printf(&names, "%s%s=%s", named > 1 ? " " : "", s->name,
                           mos_kc_text(j->config, s));
    }
    if (named > room)
        mos_buf_printf(&names, " and %zu more", named - room);
    return mos_buf_string(&names);
}

static void add_setting(const struct costing *x, struct report_table *t, size_t which) {
    struct config_job *j = x->j;
    mosaicum *m = j->m;
    const struct mos_setting *s = j->all.settings[which];
    struct mos_arena *aside = mos_arena_child(m->arena);
    struct mos_kc_config *c = without(j, aside, which);
    const struct mos_kc_changes changes = mos_kc_changes(c, j->config);
    cell_text(t, mos_printf(m->arena, "%s=%s", s->symbol, s->value));
    cell_number(t, changes.count);
    cell_number(t, changes.built_in);
    cell_number(t, changes.modules);
    if (x->build) {
        const struct sum sum = add_up(x, c);
        if (x->has_map) {
            sum_cell(t, sum.stored, sum.objects + sum.no_object, sum.no_object);
            sum_cell(t, sum.stored + sum.cleared, sum.objects + sum.no_object, sum.no_object);
        }
        if (x->has_modules)
            sum_cell(t, sum.files, sum.modules, sum.no_module);
    }
    cell_text(t, brought(x, c, s->symbol));
    cell_text(t, place_text(m->arena, s->place));
    mos_arena_free(aside);
}

/* ---- how far it can be believed ---- */

static void add_names(struct mos_buf *b, size_t at, const char *name) {
    if (at < MOST_NAMED)
        mos_buf_printf(b, "%s%s", at ? ", " : "", name);
    else if (at == MOST_NAMED)
        mos_buf_text(b, " …");
}

static void tell_doubt(const struct costing *x) {
    mosaicum *m = x->j->m;
    struct mos_arena *arena = m->arena;
    struct mos_buf text = {.arena = arena}, others = {.arena = arena}, lost = {.arena = arena},
                   away = {.arena = arena};
    uint64_t stored = 0, unnamed = 0;
    size_t objects = 0, unknown = 0, strange = 0, missing = 0;
    for (size_t i = 0; i < x->weights.count; i++) {
        const struct weight *w = mos_vec_at(&x->weights, i);
        if (!w->size) {
            if (!w->there)
                add_names(&away, missing++, w->object);
            continue;
        }
        objects++;
        stored += w->size->stored;
        if (w->now != MOS_TRI_Y && w->certainty != MOS_KC_SURE) {
            unknown++;
            unnamed += w->size->stored;
        } else if (w->now != MOS_TRI_Y) {
            add_names(&others, strange++, w->object);
        }
    }
    for (size_t i = 0; i < x->lacking.count; i++)
        add_names(&lost, i, mos_vec_pointer(&x->lacking, i));
    if (x->has_map)
        mos_buf_printf(&text,
                       "The map has %s in %zu object%s; %zu of them (%s) %s in no build file and "
                       "count%s for no setting.\n"
                       "Objects are weighed whole: what a setting changes inside of others is not "
                       "in it.\n",
                       mos_size_about(arena, stored), objects, objects == 1 ? "" : "s", unknown,
                       mos_size_about(arena, unnamed), unknown == 1 ? "stands" : "stand",
                       unknown == 1 ? "s" : "");
    if (strange)
        mos_buf_printf(&text,
                       "%zu object%s of the map %s not built by this configuration (%s): is it "
                       "this kernel's map?\n",
                       strange, strange == 1 ? "" : "s", strange == 1 ? "is" : "are",
                       mos_buf_string(&others));
    if (x->lacking.count)
        mos_buf_printf(&text, "%zu object%s built in and not in the map (%s).\n", x->lacking.count,
                       x->lacking.count == 1 ? " is" : "s are", mos_buf_string(&lost));
    if (missing)
        mos_buf_printf(&text, "%zu module%s not in that folder (%s).\n", missing,
                       missing == 1 ? " is" : "s are", mos_buf_string(&away));
    if (x->build->lost)
        mos_buf_printf(&text, "%zu build file%s could not be read.\n", x->build->lost,
                       x->build->lost == 1 ? "" : "s");
    if (text.length)
        report_text(&m->report, "basis", NULL, mos_buf_string(&text));
}

/* Each setting is left out once, and everything is worked out again. */
void config_cost(void *self) {
    struct config_job *j = self;
    mosaicum *m = j->m;
    static const struct mosaicum_column all[] = {
        {"setting", "setting", false},   {"symbols", "symbols", true},
        {"built-in", "built in", true},  {"modules", "modules", true},
        {"image", "in the image", true}, {"ram", "in RAM", true},
        {"files", "module files", true}, {"brings", "brings", false},
        {"where", "where", false}};
    struct costing x = {.j = j};
    if (!config_settle(j) || !weigh(&x))
        return;
    struct mosaicum_column *columns = mos_alloc_array(m->arena, 9, sizeof *columns);
    size_t count = 0;
    for (size_t i = 0; i < 9; i++) {
        bool of_map = i == 4 || i == 5, of_modules = i == 6;
        if ((!of_map || x.has_map) && (!of_modules || x.has_modules))
            columns[count++] = all[i];
    }
    struct report_table t =
        report_start(&m->report, "cost", "What each setting brings", columns, count);
    for (size_t i = 0; i < j->all.count; i++)
        if (j->all.settings[i]->part && !j->all.settings[i]->part->start)
            add_setting(&x, &t, i);
    report_end(&m->report, &t);
    if (x.build)
        tell_doubt(&x);
}
