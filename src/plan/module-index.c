/* `made: module-index`: the files by which a kernel's modules are found, made from the modules that
 * the fills before have brought. */
#include "plan/steps.h"

#include "store/store.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static uint32_t child(const struct mos_inventory *inv, uint32_t folder, const char *name) {
    for (uint32_t i = mos_inv_node(inv, folder)->first_child; i; i = mos_inv_node(inv, i)->next)
        if (strcmp(mos_inv_node(inv, i)->name, name) == 0)
            return i;
    return 0;
}

/* A text that the kernel's build has left there.  false: it is there and cannot be had. */
static bool extra(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t folder,
                  const char *name, const char **text, size_t *length) {
    uint32_t at = child(region->volume->inventory, folder, name);
    const uint8_t *bytes;
    *text = NULL;
    *length = 0;
    if (!at)
        return true;
    if (!mos_plan_file_bytes(plan, region, at, &bytes, length))
        return false;
    char *copy = mos_alloc(plan->ctx->arena, *length + 1); /* with an end */
    memcpy(copy, bytes, *length);
    *text = copy;
    return true;
}

static int by_path(const void *a, const void *b) {
    const struct mos_indexed_module *const *x = a, *const *y = b;
    return strcmp((*x)->path, (*y)->path);
}

/* What the index of a folder is made of. */
struct source {
    const char *names, *facts;
    size_t facts_length;
    struct mos_index_extras extras;
};

static bool gather(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t folder,
                   struct source *s) {
    size_t length;
    *s = (struct source){.names = mos_plan_module_names(plan, region, folder)};
    if (!s->names || !extra(plan, region, folder, "modules.order", &s->extras.order, &length) ||
        !extra(plan, region, folder, "modules.builtin", &s->extras.builtin, &length) ||
        !extra(plan, region, folder, "modules.builtin.modinfo", &s->facts, &s->facts_length))
        return false;
    s->extras.facts = (const uint8_t *)s->facts;
    s->extras.facts_length = s->facts_length;
    return true;
}

/* ---- kept between runs ---- */

static const char *key_of(struct mos_arena *arena, const struct source *s) {
    const char *const texts[] = {s->names, s->extras.order, s->extras.builtin};
    struct mos_sha256 *h = mos_sha256_new();
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    for (size_t i = 0; h && i < sizeof texts / sizeof *texts; i++)
        mos_sha256_update(h, texts[i] ? texts[i] : "", texts[i] ? strlen(texts[i]) + 1 : 1);
    if (h && s->facts)
        mos_sha256_update(h, s->facts, s->facts_length);
    if (!h)
        return NULL;
    mos_sha256_final(h, hash);
    mos_sha256_free(h);
    mos_sha256_hex(hash, hex);
    return mos_printf(arena, "module-index-1-%s", hex);
}

/* "modules, lacking, module, need" on a line; then of each file its name and length, and its bytes.
 */
static void keep(struct mos_ctx *ctx, const char *key, const struct mos_module_folder *x) {
    struct mos_buf b = {.arena = ctx->arena};
    mos_buf_printf(&b, "%zu %zu %s %s\n", x->modules, x->lacking.count,
                   x->lacking.count ? x->lacking.module : "-",
                   x->lacking.count ? x->lacking.need : "-");
    for (size_t i = 0; i < x->files.count; i++) {
        struct mos_index_file *f = mos_vec_at(&x->files, i);
        mos_buf_printf(&b, "%s %zu\n", f->name, f->bytes.length);
        mos_buf_add(&b, f->bytes.data, f->bytes.length);
    }
    mos_store_put(ctx, key, b.data, b.length);
}

static bool look_up(struct mos_ctx *ctx, const char *key, struct mos_module_folder *x) {
    char *data, module[256], need[256], name[64];
    size_t length, at = 0, n;
    int used = 0;
    if (!mos_store_get(ctx, key, &data, &length))
        return false;
    if (sscanf(data, "%zu %zu %255s %255s%n", &x->modules, &x->lacking.count, module, need, &used) <
        4)
        return false;
    x->lacking.module = mos_strdup(ctx->arena, module);
    x->lacking.need = mos_strdup(ctx->arena, need);
    for (at = (size_t)used + 1; at < length; at += n) {
        if (sscanf(data + at, "%63s %zu%n", name, &n, &used) < 2)
            return false;
        at += (size_t)used + 1;
        if (at > length || length - at < n)
            return false;
        *(struct mos_index_file *)mos_vec_push(&x->files) = (struct mos_index_file){
            mos_strdup(ctx->arena, name), {.arena = ctx->arena, .data = data + at, .length = n}};
    }
    return true;
}

/* ---- making ---- */

static bool make_files(struct mos_ctx *ctx, const struct source *s, struct mos_module_folder *x) {
    struct mos_vec modules = mos_vec_make(ctx->arena, sizeof(void *));
    mos_plan_read_module_names(ctx->arena, s->names, &modules);
    x->modules = modules.count;
    x->files.count = 0;
    x->lacking = (struct mos_index_lack){0};
    if (!modules.count)
        return true;
    qsort(modules.items, modules.count, sizeof(void *), by_path);
    return mos_module_index(ctx->arena, &modules, &s->extras, &x->files, &x->lacking);
}

/* The files for one folder of modules; NULL with ctx->error. */
static struct mos_module_folder *make(struct mos_plan *plan, const struct mos_region_plan *region,
                                      const struct mos_fill *fill, uint32_t folder,
                                      const char *path) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_module_folder *out = mos_alloc(ctx->arena, sizeof *out);
    struct source s;
    *out = (struct mos_module_folder){.region = region,
                                      .fill = fill,
                                      .path = path,
                                      .files =
                                          mos_vec_make(ctx->arena, sizeof(struct mos_index_file))};
    bool known = gather(plan, region, folder, &s), fits = true;
    const char *key = known ? key_of(ctx->arena, &s) : NULL;
    if (known && !(key && look_up(ctx, key, out))) {
        fits = make_files(ctx, &s, out);
        if (key && fits && out->modules)
            keep(ctx, key, out);
    }
    if (!known || !fits) {
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "Fill %s of region %s: %s %s%s", fill->r.name,
                 region->name, known ? "there are too many modules in" : "the modules in", path,
                 known ? " for an index" : " cannot be read");
        return NULL;
    }
    mos_vec_push_pointer(&plan->indexes, out);
    return out;
}

static struct mos_module_folder *known(const struct mos_plan *plan,
                                       const struct mos_region_plan *region, const char *path) {
    for (size_t i = 0; i < plan->indexes.count; i++) {
        struct mos_module_folder *x = mos_vec_pointer(&plan->indexes, i);
        if (x->region == region && strcmp(x->path, path) == 0)
            return x;
    }
    return NULL;
}

bool mos_plan_stream_module_index(struct mos_plan *plan, const struct mos_region_plan *region,
                                  const struct mos_fill *fill, const struct mos_sink *sink) {
    const struct mos_inventory *inv = region->volume->inventory;
    struct mos_arena *arena = plan->ctx->arena;
    uint32_t all;
    if (!mos_inv_follow(inv, arena, "lib/modules", &all))
        return true; /* a rule says so */
    struct mos_vec folders = mos_vec_make(arena, sizeof(uint32_t));
    for (uint32_t i = mos_inv_node(inv, all)->first_child; i; i = mos_inv_node(inv, i)->next)
        if (mos_inv_node(inv, i)->type == MOS_ENTRY_FOLDER)
            *(uint32_t *)mos_vec_push(&folders) = i;
    for (size_t i = 0; i < folders.count; i++) {
        uint32_t folder = *(uint32_t *)mos_vec_at(&folders, i);
        const char *path = mos_inv_path(arena, inv, folder) + 1;
        struct mos_module_folder *x = known(plan, region, path);
        x = x ? x : make(plan, region, fill, folder, path);
        for (size_t k = 0; x && k < x->files.count; k++) {
            const struct mos_index_file *f = mos_vec_at(&x->files, k);
            const struct mos_boot_file file = {mos_printf(arena, "%s/%s", path, f->name), NULL,
                                               f->bytes.data, f->bytes.length};
            if (!mos_plan_stream_boot_file(plan, &file, false, sink))
                return false;
        }
        if (!x)
            return false;
    }
    return true;
}
