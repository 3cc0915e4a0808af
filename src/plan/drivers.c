#include "plan/drivers.h"

#include "base/bytes.h"
#include "base/text.h"
#include "kconfig/variables.h"
#include "linux/image.h"
#include "linux/module.h"
#include "linux/program.h"
#include "plan/bytes.h"
#include "plan/shared.h"
#include "plan/steps.h"
#include "store/store.h"
#include "tree/claims.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_RAMDISK = 512 << 20 };

/* ---- the kernel itself ---- */

/* "b" and its release, or no such line; then its tables.  false: its bytes cannot be had. */
static bool look_into(struct mos_plan *plan, const struct mos_piece_plan *kernel,
                      struct mos_buf *out) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_error ignored = {0};
    struct mos_ctx aside = mos_ctx_quiet(ctx, &ignored);
    const uint8_t *bytes = mos_plan_piece_bytes(plan, kernel);
    size_t length = (size_t)kernel->size;
    bool wide;
    if (!bytes)
        return false;
    aside.arena = mos_arena_child(ctx->arena);
    if (mos_kernel_expand(&aside, &bytes, &length, &wide)) {
        struct mos_match m;
        const char *release = mos_kernel_banner(aside.arena, bytes, length);
        mos_match_find(aside.arena, bytes, length, wide, &m);
        if (release && !strchr(release, '\n'))
            mos_buf_printf(out, "b%s\n", release);
        if (m.tables.count) /* one without any is no kernel that reads trees */
            mos_match_write(&m, out);
    }
    mos_arena_free(aside.arena);
    return true;
}

static bool read_inside(struct mos_arena *arena, const char *text, struct mos_kernel_inside *out) {
    *out = (struct mos_kernel_inside){0};
    if (*text == 'b') {
        size_t n = strcspn(text, "\n");
        out->release = mos_strndup(arena, text + 1, n - 1);
        text += n + (text[n] != 0);
    }
    return mos_match_read(arena, text, &out->match);
}

/* Kept by the kernel's hash, and for all boards of a worker that have it. */
const struct mos_kernel_inside *mos_plan_kernel_inside(struct mos_plan *plan) {
    struct mos_ctx *ctx = plan->ctx;
    const struct mos_entry_plan *e =
        plan->entries.count ? mos_vec_pointer(&plan->entries, 0) : NULL;
    struct mos_piece_plan *kernel = e ? e->kernel : NULL;
    char hex[65], *data;
    size_t length;
    if (!e || !mos_plan_is_there(kernel) || !e->kernel_known || !mos_plan_hash(plan, kernel) ||
        !kernel->hashed)
        return NULL;
    mos_sha256_hex(kernel->sha256, hex);
    struct mos_kernel_inside *in = ctx->shared ? mos_map_get(&ctx->shared->kernels, hex) : NULL;
    if (in)
        return in;
    struct mos_arena *arena = ctx->shared ? ctx->shared->arena : ctx->arena;
    const char *key = mos_printf(ctx->arena, "kernel-inside-1-%s", hex);
    in = mos_alloc(arena, sizeof *in);
    if (!mos_store_get(ctx, key, &data, &length) || !read_inside(arena, data, in)) {
        struct mos_buf text = {.arena = ctx->arena};
        if (!look_into(plan, kernel, &text))
            return NULL;
        mos_store_put(ctx, key, text.data, text.length);
        if (!read_inside(arena, mos_buf_string(&text), in))
            return NULL;
    }
    if (ctx->shared)
        mos_map_set(&ctx->shared->kernels, mos_strdup(arena, hex), in);
    return in;
}

/* ---- modules ---- */

/* "of:N*T*Cmaker,partC*" → "maker,part"; those of the other two as they are; NULL: another. */
static const char *key_of(struct mos_arena *arena, const char *alias) {
    static const char start[] = "of:N*T*C";
    if (strncmp(alias, "i2c:", 4) == 0 || strncmp(alias, "spi:", 4) == 0)
        return alias;
    if (strncmp(alias, start, sizeof start - 1) != 0)
        return NULL;
    alias += sizeof start - 1;
    return mos_strndup(arena, alias,
                       strcspn(alias, "C*[?") ? strlen(alias) - 2 * mos_text_ends(alias, "C*") : 0);
}

static void take_modules(struct mos_drivers *d, const char *text, struct mos_map *out,
                         struct mos_map *parts) {
    struct mos_arena *arena = d->plan->ctx->arena;
    struct mos_vec modules = mos_vec_make(arena, sizeof(void *));
    mos_plan_read_module_names(arena, text, &modules);
    *out = *parts = mos_map_make(arena);
    for (size_t i = 0; i < modules.count; i++) {
        const struct mos_indexed_module *m = mos_vec_pointer(&modules, i);
        mos_map_set_const(out, mos_printf(arena, "/%s", m->name), m->path);
        for (size_t k = 0; k < m->aliases.count; k++) {
            const char *alias = mos_vec_pointer(&m->aliases, k), *key = key_of(arena, alias);
            if (strncmp(alias, "amba:", 5) == 0)
                mos_map_set_const(parts, alias, m->path);
            if (key && *key && !mos_map_get(out, key))
                mos_map_set_const(out, key, m->path);
        }
        for (size_t k = 0; k < m->tables.count; k++)
            if (!mos_map_get(out, mos_vec_pointer(&m->tables, k)))
                mos_map_set_const(out, mos_vec_pointer(&m->tables, k), m->path);
    }
}

static uint32_t child(const struct mos_inventory *inv, uint32_t folder, const char *name) {
    for (uint32_t i = mos_inv_node(inv, folder)->first_child; i; i = mos_inv_node(inv, i)->next)
        if (mos_inv_node(inv, i)->type == MOS_ENTRY_FOLDER &&
            (!name || strcmp(mos_inv_node(inv, i)->name, name) == 0))
            return i;
    return 0;
}

/* The folder of the release that is stated, else of what the kernel says of itself, else the only
 * one.  false: which one it is nobody knows; *own 0: there is none. */
static bool find_own(const struct mos_drivers *d, const struct mos_inventory *inv, uint32_t all,
                     uint32_t *own) {
    const struct mos_kernel *k = d->plan->board->kernel;
    const char *release = k && mos_has(k->release) ? k->release->text
                          : d->inside              ? d->inside->release
                                                   : NULL;
    *own = child(inv, all, release);
    return release || !*own || !mos_inv_node(inv, *own)->next;
}

static bool read_root(struct mos_drivers *d) {
    const struct mos_region_plan *root = mos_plan_root(d->plan);
    uint32_t all, own;
    if (!root || !root->volume || !root->counted || root->fs->no_owners)
        return false;
    const struct mos_inventory *inv = root->volume->inventory;
    d->root = d->root_parts = mos_map_make(d->plan->ctx->arena);
    if (!mos_inv_follow(inv, d->plan->ctx->arena, "lib/modules", &all) || !all)
        return true; /* no folder, no module */
    if (!find_own(d, inv, all, &own))
        return false;
    const char *text = own ? mos_plan_module_names(d->plan, root, own) : NULL;
    if (text)
        take_modules(d, text, &d->root, &d->root_parts);
    return text || !own;
}

struct ramdisk_stream {
    struct mos_ctx *ctx;
    struct mos_io io;
};

static bool wants_module(void *self, const struct mos_entry *e) {
    const struct ramdisk_stream *s = self;
    return mos_module_name(s->ctx->arena, e->path) != NULL;
}

static bool stream_ramdisk(void *self, const struct mos_sink *sink) {
    struct ramdisk_stream *s = self;
    struct mos_vec problems = mos_vec_make(s->ctx->arena, sizeof(char *));
    struct mos_read_request request = {
        .sink = sink, .wants = wants_module, .self = s, .problems = &problems};
    return mos_fs_cpio.stream(s->ctx, &s->io, &request) && !problems.count;
}

static bool read_ramdisk(struct mos_drivers *d) {
    struct mos_plan *plan = d->plan;
    struct mos_error ignored = {0};
    struct mos_ctx aside = mos_ctx_quiet(plan->ctx, &ignored);
    const struct mos_piece_plan *piece = d->entry->ramdisk;
    struct mos_buf text = {.arena = plan->ctx->arena};
    d->ramdisk = d->ramdisk_parts = mos_map_make(plan->ctx->arena);
    if (!piece)
        return true; /* there is none, so it has none */
    const uint8_t *bytes = mos_plan_is_there(piece) ? mos_plan_piece_bytes(plan, piece) : NULL;
    size_t length = (size_t)piece->size;
    aside.arena = mos_arena_child(plan->ctx->arena);
    bool good = bytes && mos_unpack_bytes(&aside, &bytes, &length, MOST_RAMDISK);
    if (good) {
        struct ramdisk_stream s = {&aside,
                                   mos_io_memory(aside.arena, (uint8_t *)(uintptr_t)bytes, length)};
        good = mos_read_module_names(&aside, "", stream_ramdisk, &s, &text);
    }
    if (good)
        take_modules(d, mos_buf_string(&text), &d->ramdisk, &d->ramdisk_parts);
    mos_arena_free(aside.arena);
    return good;
}

/* ---- all of it ---- */

static struct mos_kc_build *open_sources(struct mos_ctx *ctx, const char *folder,
                                         const char *arch) {
    char hex[65], *kept;
    size_t length;
    struct mos_kc_build *b = mos_kc_build_open(ctx, folder, arch, true);
    if (!b)
        return NULL;
    mos_sha256_hex(b->sha256, hex);
    const char *key = mos_printf(ctx->arena, "kernel-build-3-%s", hex);
    if (!b->lost && mos_store_get(ctx, key, &kept, &length) && mos_kc_build_take(b, kept))
        return b;
    mos_kc_build_load(ctx, b);
    struct mos_buf text = {.arena = ctx->arena};
    mos_kc_build_write(b, &text);
    if (!b->lost)
        mos_store_put(ctx, key, text.data, text.length);
    return b;
}

/* Looked at once for all boards of a worker. */
static const struct mos_kc_build *read_sources(struct mos_plan *plan) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_shared *shared = ctx->shared;
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(ctx, &ignored);
    const char *cpu = mos_plan_kernel_arch(plan), *arch = cpu ? mos_kc_arch_folder(cpu) : NULL;
    if (!plan->kernel_settled.source ||
        !mos_exists(ctx,
                    mos_path_join(ctx->arena, plan->kernel_settled.source, "drivers/Makefile")))
        return NULL;
    quiet.stamp = NULL; /* the hash of all goes in */
    const char *key =
        mos_printf(ctx->arena, "%s %s", arch ? arch : "", plan->kernel_settled.source);
    struct mos_kc_build *b = shared ? mos_map_get(&shared->builds, key) : NULL;
    if (!b && shared) {
        quiet.arena = shared->arena;
        b = open_sources(&quiet, mos_strdup(shared->arena, plan->kernel_settled.source), arch);
        if (b)
            mos_map_set(&shared->builds, mos_strdup(shared->arena, key), b);
    } else if (!b) {
        b = open_sources(&quiet, plan->kernel_settled.source, arch);
    }
    if (b)
        mos_stamp_add_hash(ctx->stamp, "the kernel's drivers", b->said);
    return b && b->drivers.count ? b : NULL;
}

const struct mos_drivers *mos_plan_drivers(struct mos_plan *plan) {
    if (plan->drivers || !plan->entries.count)
        return plan->drivers;
    struct mos_drivers *d = mos_alloc(plan->ctx->arena, sizeof *d);
    *d = (struct mos_drivers){.plan = plan, .entry = mos_vec_pointer(&plan->entries, 0)};
    d->inside = mos_plan_kernel_inside(plan);
    d->has_match = d->inside && d->inside->match.tables.count;
    d->build = read_sources(plan);
    if (d->has_match || d->build) { /* else they alone tell nothing */
        d->has_ramdisk = read_ramdisk(d);
        d->has_root = read_root(d);
    }
    return plan->drivers = d;
}

/* ---- one node ---- */

bool mos_plan_wants_driver(const struct mos_dt_node *node) {
    if (!node->parent || !mos_dt_property(node, "compatible") || mos_dt_off(node) ||
        mos_dt_is_compatible(node, "cache"))
        return false;
    for (const struct mos_dt_node *n = node; n->parent; n = n->parent)
        if (!n->parent->parent &&
            (strcmp(n->name, "cpus") == 0 || strcmp(n->name, "chosen") == 0 ||
             strncmp(n->name, "memory@", 7) == 0 || strcmp(n->name, "reserved-memory") == 0))
            return false;
    return true;
}

/* The number that Arm's own peripherals carry, which follows from their names; 0: not known. */
static uint32_t part_of(const struct mos_dt_node *node, const char *compatible) {
    uint32_t stated;
    if (!mos_dt_is_compatible(node, "arm,primecell"))
        return 0;
    if (mos_dt_cell(node, "arm,primecell-periphid", &stated))
        return stated;
    if (strncmp(compatible, "arm,pl", 6) != 0 && strncmp(compatible, "arm,sp", 6) != 0)
        return 0;
    return (compatible[4] == 'p' ? 0x00041000u : 0x00141000u) |
           (uint32_t)strtoul(compatible + 6, NULL, 16);
}

/* What a driver of that bus is called by: "maker,part" → "i2c:part"; NULL: no such bus. */
static const char *bus_alias(struct mos_arena *arena, const struct mos_dt_node *node,
                             const char *compatible) {
    const char *bus = node->parent->name, *comma = strchr(compatible, ',');
    bool i2c = strstr(bus, "i2c") != NULL, spi = strstr(bus, "spi") != NULL;
    return i2c || spi
               ? mos_printf(arena, "%s:%s", i2c ? "i2c" : "spi", comma ? comma + 1 : compatible)
               : NULL;
}

/* What a node may be known by besides its compatible text. */
struct names {
    const char *compatible, *alias; /* alias NULL: no such bus */
    uint32_t part;                  /* 0: it has no number, or an unknown one */
};

static const char *in_modules(struct mos_arena *arena, const struct mos_map *modules,
                              const struct mos_map *parts, const struct names *n) {
    const char *module = mos_map_get(modules, n->compatible),
               *number = mos_printf(arena, "amba:d%08X", n->part);
    if (!module && n->alias)
        module = mos_map_get(modules, n->alias);
    for (size_t i = 0; i < parts->count && !module && n->part; i++)
        if (mos_glob(parts->items[i].key, number, strlen(number), 0))
            module = parts->items[i].value;
    return module;
}

/* Values of symbols, and whether all that were asked for are known. */
struct values_view {
    const struct mos_drivers *d;
    bool all;
};

static enum mos_tri value_of(const struct mos_drivers *d, const char *symbol, bool *known) {
    const struct mos_plan *plan = d->plan;
    if (plan->kernel_settled.config) {
        const struct mos_kc_symbol *s = mos_kc_find(plan->kernel_settled.config->tree, symbol);
        *known = true;
        return s ? mos_kc_tri(plan->kernel_settled.config, s) : MOS_TRI_N;
    }
    const struct mos_setting *s =
        mos_map_get(&plan->config, mos_printf(plan->ctx->arena, "CONFIG_%s", symbol));
    *known = s != NULL;
    return !s || *s->value == 'n' ? MOS_TRI_N : *s->value == 'm' ? MOS_TRI_M : MOS_TRI_Y;
}

static enum mos_tri value_in(void *self, const char *symbol) {
    struct values_view *v = self;
    bool known;
    enum mos_tri value = value_of(v->d, symbol, &known);
    v->all &= known;
    return value;
}

/* What the sources say of one file that has it. */
static struct mos_driver from_source(const struct mos_drivers *d,
                                     const struct mos_kc_source_driver *s) {
    struct mos_arena *arena = d->plan->ctx->arena;
    struct mos_driver out = {
        .served = MOS_SERVED_UNKNOWN, .compatible = s->compatible, .file = s->file};
    struct mos_vec symbols = mos_vec_make(arena, sizeof(char *));
    const char *object = mos_printf(arena, "%.*so", (int)strlen(s->file) - 1, s->file), *module;
    struct values_view view = {d, true};
    size_t own;
    if (!mos_kc_build_symbols(d->build, arena, object, value_in, &view, &symbols, &own, &module))
        return out;
    enum mos_tri least = MOS_TRI_Y;
    enum mos_kc_certainty certainty;
    for (size_t i = 0; i < symbols.count; i++) {
        const char *symbol = mos_vec_pointer(&symbols, i);
        bool known;
        enum mos_tri value = value_of(d, symbol, &known);
        if (!i || (known && value < least && (i < own || value == MOS_TRI_N))) {
            out.symbol = symbol;
            out.value = known ? (const char *[]){"n", "m", "y"}[value] : NULL;
            least = value;
        }
    }
    view.all = true;
    enum mos_tri built = mos_kc_build_value(d->build, arena, object, value_in, &view, &certainty);
    bool known =
        view.all && certainty != MOS_KC_UNNAMED && (certainty != MOS_KC_OPEN || built == MOS_TRI_N);
    out.served = !known               ? MOS_SERVED_UNKNOWN
                 : built == MOS_TRI_Y ? MOS_SERVED_BUILT_IN
                 : built == MOS_TRI_M ? MOS_SERVED_MODULE
                                      : MOS_SERVED_OFF;
    if (out.served == MOS_SERVED_MODULE)
        out.module = mos_printf(arena, "%.*sko", (int)strlen(module) - 1, module);
    return out;
}

static bool is_same_module(struct mos_arena *arena, const char *a, const char *b) {
    const char *x = a ? mos_module_name(arena, a) : NULL, *y = b ? mos_module_name(arena, b) : NULL;
    return x && y && strcmp(x, y) == 0;
}

/* Of several that answer to one text, a file may only explain what it makes. */
static bool explains(struct mos_arena *arena, const struct mos_driver *best,
                     const struct mos_driver *one) {
    if (!one->compatible || !best->compatible || best->symbol ||
        strcmp(one->compatible, best->compatible) != 0)
        return false;
    return best->module                          ? is_same_module(arena, best->module, one->module)
           : best->served == MOS_SERVED_BUILT_IN ? one->served == MOS_SERVED_BUILT_IN
                                                 : true;
}

static void take_nearer(struct mos_arena *arena, struct mos_driver *best, struct mos_driver one) {
    if (one.served < best->served) {
        *best = one;
    } else if (explains(arena, best, &one)) {
        best->file = one.file;
        best->symbol = one.symbol;
        best->value = one.value;
    }
}

/* A module of the sources, where it lies. */
static void find_module(const struct mos_drivers *d, struct mos_driver *x) {
    const char *name = mos_module_name(d->plan->ctx->arena, x->module);
    const char *key = name ? mos_printf(d->plan->ctx->arena, "/%s", name) : "";
    if (d->has_ramdisk && mos_map_get(&d->ramdisk, key))
        x->served = MOS_SERVED_RAMDISK;
    else if (d->has_root && mos_map_get(&d->root, key))
        x->served = MOS_SERVED_ROOT;
}

/* What the sources have under a name; how many files. */
static size_t add_sources(const struct mos_drivers *d, const char *name, const char *compatible,
                          struct mos_driver *best) {
    const struct mos_kc_source_driver *s;
    size_t count = d->build ? mos_kc_build_drivers(d->build, name, &s) : 0;
    for (size_t i = 0; i < count; i++) {
        struct mos_driver one = from_source(d, &s[i]);
        one.compatible = compatible;
        if (one.served == MOS_SERVED_MODULE)
            find_module(d, &one);
        if (d->has_match && one.served == MOS_SERVED_BUILT_IN && best->served != one.served)
            one.served = MOS_SERVED_UNKNOWN; /* the kernel that is there does not have it */
        take_nearer(d->plan->ctx->arena, best, one);
    }
    return count;
}

/* Would a driver of it be seen?  What a kernel has built in for I2C and SPI may answer to names
 * that stand in other tables, which only sources tell. */
static bool tells_all(const struct mos_drivers *d, const struct names *n) {
    if (d->build)
        return !d->build->lost;
    return d->has_match && d->has_root && !n->alias;
}

static struct mos_driver by_compatible(const struct mos_drivers *d, const struct mos_dt_node *node,
                                       const char *compatible) {
    struct mos_arena *arena = d->plan->ctx->arena;
    struct mos_driver best = {.served = MOS_SERVED_UNKNOWN, .compatible = compatible};
    const struct names n = {compatible, bus_alias(arena, node, compatible),
                            part_of(node, compatible)};
    const char *module;
    if (strcmp(compatible, "arm,primecell") == 0) /* that says how to find out, not what it is */
        return best;
    if (d->has_match && (mos_match_has(&d->inside->match, compatible, false) ||
                         (n.part && mos_match_has_part(&d->inside->match, n.part))))
        best.served = MOS_SERVED_BUILT_IN;
    else if (d->has_ramdisk && (module = in_modules(arena, &d->ramdisk, &d->ramdisk_parts, &n)))
        best = (struct mos_driver){MOS_SERVED_RAMDISK, compatible, module};
    else if (d->has_root && (module = in_modules(arena, &d->root, &d->root_parts, &n)))
        best = (struct mos_driver){MOS_SERVED_ROOT, compatible, module};
    else if (d->has_match && mos_match_has(&d->inside->match, compatible, true))
        best.served = MOS_SERVED_NAMED;
    size_t count = add_sources(d, compatible, compatible, &best);
    if (n.alias)
        count += add_sources(d, n.alias, compatible, &best);
    if (best.served == MOS_SERVED_UNKNOWN && !count && tells_all(d, &n))
        best.served = MOS_SERVED_BY_NONE;
    return best;
}

bool mos_plan_is_plain_bus(const struct mos_dt_node *node) {
    static const char *const names[] = {"simple-bus", "simple-mfd", "isa", "arm,amba-bus"};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (mos_dt_is_compatible(node, names[i]))
            return true;
    return false;
}

/* Elsewhere what stands below a device may be its own driver's business, whatever it is called. */
static bool is_on_bus(const struct mos_dt_node *node) {
    const struct mos_dt_node *bus = node->parent;
    return !bus->parent || mos_plan_is_plain_bus(bus) ||
           (mos_dt_property(node, "reg") && (strstr(bus->name, "i2c") || strstr(bus->name, "spi")));
}

struct mos_driver mos_plan_driver_of(const struct mos_drivers *d, const struct mos_dt_node *node) {
    const struct mos_dt_property *p = mos_dt_property(node, "compatible");
    struct mos_driver best = {.served = MOS_SERVED_UNKNOWN};
    bool first = true, unknown = false;
    size_t at = 0;
    for (const char *c; (c = mos_dt_next_string(p, &at)); first = false) {
        struct mos_driver one = by_compatible(d, node, c);
        unknown |= one.served == MOS_SERVED_UNKNOWN;
        if (first || one.served < best.served)
            best = one;
    }
    unknown |= !is_on_bus(node);
    if (unknown && best.served >= MOS_SERVED_BY_NONE)
        best.served = MOS_SERVED_UNKNOWN;
    return best;
}
