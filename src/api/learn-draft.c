/* What a board told of itself, as files: a definition to begin with, and what it refers to. */
#include "api/draft_internal.h"
#include "api/learn.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

struct pen {
    struct learn_job *j;
    struct mosaicum_draft d;
    struct draft x;
};

bool learn_may_write(struct learn_job *j, const char *folder, const char *name) {
    static const char *const files[] = {"loader/%s.config", "loader/%s-variables.txt",
                                        "kernel/%s.config", "tree/%s.dtb", "learned/%s.txt"};
    struct pen p = {.j = j, .d = {.name = name}};
    run_allow(j->m, folder, MOS_REACH_READ | MOS_REACH_WRITE);
    if (!draft_begin(&p.x, j->m, &p.d, folder))
        return false;
    for (size_t i = 0; i < sizeof files / sizeof *files; i++) { /* else the answers would be lost */
        const char *path =
            mos_path_join(j->m->arena, folder, mos_printf(j->m->arena, files[i], name));
        if (mos_exists(&j->m->ctx, path))
            return mos_fail(&j->m->error, MOS_ERROR_SAFETY, 0,
                            "%s is there already; nothing is written over it", path);
    }
    return true;
}

/* ---- hardware ---- */

/* The size of what may be a bit more or less: the least, in whole MiB, that holds its partitions.
 */
static const char *size_text(struct pen *p, const struct mos_told_medium *t) {
    enum { BACKUP = 33 * 512 }; /* of a table, behind the last one */
    const uint64_t MIB = 1 << 20;
    uint64_t least =
        t->blur ? mos_round_down(t->size - mos_min(t->size / 2, t->blur), MIB) : t->size;
    for (size_t i = 0; t->blur && i < t->partitions.count; i++) {
        const struct mos_told_partition *x = mos_vec_at(&t->partitions, i);
        least = mos_max(least, mos_round_up(x->start + x->length + BACKUP, MIB));
    }
    return mos_size_exact(p->j->m->arena, least);
}

/* "card", "emmc-2": a name for each medium. */
static const char *medium_name(struct pen *p, size_t index) {
    const struct mos_vec *media = &p->j->l.media;
    const struct mos_told_medium *t = mos_vec_at(media, index), *other;
    const char *kind = t->kind ? t->kind : "disk";
    const char *name = strcmp(kind, "sd") == 0 ? "card" : strcmp(kind, "nor") == 0 ? "flash" : kind;
    size_t before = 0;
    for (size_t i = 0; i < index; i++) {
        other = mos_vec_at(media, i);
        before += strcmp(other->kind ? other->kind : "disk", kind) == 0;
    }
    return before ? mos_printf(p->j->m->arena, "%s-%zu", name, before + 1) : name;
}

static const char *media_text(struct pen *p) {
    struct mos_arena *a = p->j->m->arena;
    struct mos_buf b = {.arena = a};
    for (size_t i = 0; i < p->j->l.media.count; i++) {
        const struct mos_told_medium *t = mos_vec_at(&p->j->l.media, i);
        const char *kernel = t->kernel ? t->kernel
                             : p->j->l.dialect
                                 ? mos_dialect_kernel_name(p->j->l.dialect, a, t->loader)
                                 : NULL;
        if (!t->size)
            continue;
        mos_buf_printf(&b, "    %s: {kind: %s, size: %s%s%s%s%s%s}\n", medium_name(p, i),
                       t->kind ? t->kind : "disk", size_text(p, t),
                       t->kind && strcmp(t->kind, "nor") == 0 ? ", erase: 64 KiB" : "",
                       t->loader ? ", loader: " : "", t->loader ? t->loader : "",
                       kernel ? ", kernel: " : "", kernel ? kernel : "");
        if (!t->kind)
            draft_unknown(&p->x, mos_printf(a, "kind-of-%s", medium_name(p, i)), NULL,
                          mos_printf(a, "what %s is: sd, emmc, usb, nvme or disk",
                                     t->loader ? t->loader : t->kernel));
    }
    if (!b.length) {
        mos_buf_text(&b, "    card: {kind: sd, size: 1 GiB}\n");
        draft_unknown(&p->x, "media", "hardware.media", "its storage: it told of none");
    }
    return mos_buf_string(&b);
}

static void put_hardware(struct pen *p) {
    const struct mos_learned *l = &p->j->l;
    struct mos_arena *a = p->j->m->arena;
    const struct mos_told *baud = p->j->l.dialect && p->j->l.dialect->symbols.baud
                                      ? mos_map_get(&l->symbols, p->j->l.dialect->symbols.baud)
                                      : NULL;
    struct mos_buf more = {.arena = a};
    p->d.cpu = l->cpu;
    for (size_t i = 0; i < l->ram.count; i++) {
        const struct mos_told_span *r = mos_vec_at(&l->ram, i);
        const char *start = mos_address_text(a, r->start), *size = mos_size_exact(a, r->length);
        if (i)
            mos_buf_printf(&more, ", bank-%zu: {start: %s, sizes: [%s]}", i + 1, start, size);
        p->d.ram_start = i ? p->d.ram_start : start;
        p->d.ram_size = i ? p->d.ram_size : size;
    }
    p->x.more_ram = more.length ? mos_buf_string(&more) : NULL;
    if (l->held)
        p->x.held = mos_size_exact(a, mos_round_up(l->held, (uint64_t)1 << 20));
    p->d.console = l->console;
    p->d.baud = baud ? baud->value : p->j->request->speed;
    draft_put_hardware(&p->x, media_text(p));
    if (l->compatible)
        draft_line(&p->x, "  compatible: %s", draft_quoted(&p->x, l->compatible));
    if (l->cores)
        draft_line(&p->x, "  cores: %u", l->cores);
}

/* ---- the loader ---- */

/* The symbols that its answers tell of, as its configuration has them. */
static void put_symbols(struct pen *p, struct mos_buf *out) {
    const struct mos_learned *l = &p->j->l;
    mos_buf_printf(out, "# What the loader at its prompt told of how it was built.\n");
    for (size_t i = 0; i < l->symbols.count; i++) {
        const struct mos_told *t = l->symbols.items[i].value;
        if (strcmp(t->value, "n") == 0)
            mos_buf_printf(out, "# %s is not set\n", t->name);
        else
            mos_buf_printf(out, "%s=%s\n", t->name, t->value);
    }
}

/* name=value; what has several lines cannot stand so. */
static void put_variables(struct pen *p, struct mos_buf *out) {
    const struct mos_learned *l = &p->j->l;
    mos_buf_printf(out, "# The loader's variables, %s; a board's own and passing ones left out.\n",
                   l->variables_are == MOS_VARIABLES_COMPILED ? "as they are compiled in"
                   : l->variables_are == MOS_VARIABLES_STORED ? "as they are stored on the board"
                                                              : "as they were");
    for (size_t i = 0; i < l->variables.count; i++) {
        const char *name = l->variables.items[i].key, *value = l->variables.items[i].value;
        if (strchr(value, '\n')) {
            mos_buf_printf(out, "# %s has several lines: it cannot stand here\n", name);
            draft_unknown(&p->x, "variable", NULL,
                          mos_printf(p->j->m->arena,
                                     "what to do with variable %s, which has "
                                     "several lines",
                                     name));
            continue;
        }
        size_t n = strlen(value);
        if (n && value[n - 1] == '\\') /* else the next line would belong to it */
            mos_buf_printf(out, "%s=%s\\\n\n", name, value);
        else
            mos_buf_printf(out, "%s=%s\n", name, value);
    }
}

static bool put_loader(struct pen *p) {
    const struct mos_learned *l = &p->j->l;
    struct draft *x = &p->x;
    struct mos_buf config = {.arena = p->j->m->arena}, variables = {.arena = p->j->m->arena};
    const char *config_file = mos_printf(p->j->m->arena, "loader/%s.config", p->d.name);
    const char *variable_file = mos_printf(p->j->m->arena, "loader/%s-variables.txt", p->d.name);
    bool compiled = l->variables_are == MOS_VARIABLES_COMPILED && l->variables.count;
    if (!l->dialect) {
        draft_put_loader(x);
        return true;
    }
    if (l->config)
        mos_buf_text(&config, l->config);
    else
        put_symbols(p, &config);
    put_variables(p, &variables);
    draft_line(x, "\nloader:");
    draft_line(x, "  dialect: %s", p->j->l.dialect->name);
    if (l->version)
        draft_line(x, "  version: %s", draft_quoted(x, l->version));
    draft_line(x, "  facts: {%s%s%sconfig: %s}   # what it told at its prompt",
               compiled ? "defaults: " : "", compiled ? variable_file : "", compiled ? ", " : "",
               config_file);
    const char *why =
        !l->variables.count ? "it did not tell its variables"
        : l->variables_are == MOS_VARIABLES_STORED
            ? mos_printf(p->j->m->arena, "the board has stored ones (%s)", variable_file)
            : mos_printf(p->j->m->arena,
                         "whether those in %s are, learn knows when it hears the loader start",
                         variable_file);
    if (!compiled)
        draft_unknown(x, "defaults", "loader.facts.defaults",
                      mos_printf(p->j->m->arena, "the loader's compiled-in variables: %s", why));
    return draft_put_file(x, config_file, &config) &&
           (!l->variables.count || draft_put_file(x, variable_file, &variables));
}

/* ---- the layout ---- */

static const char *region_name(struct pen *p, const struct mos_told_medium *m, size_t index,
                               struct mos_map *taken) {
    const struct mos_told_partition *t = mos_vec_at(&m->partitions, index);
    const char *name = t->path && strcmp(t->path, "/") == 0 ? "root"
                       : t->path && t->path[0] == '/'       ? t->path + 1
                                                            : "";
    if (!mos_is_name(name))
        name = t->name && mos_is_name(t->name) ? t->name : "part";
    const char *own = name;
    if (mos_map_get(taken, own) || strcmp(name, "part") == 0)
        own = mos_printf(p->j->m->arena, "%s-%u", name, t->number);
    for (unsigned n = 2; mos_map_get(taken, own); n++)
        own = mos_printf(p->j->m->arena, "%s-%u-%u", name, t->number, n);
    mos_map_set_const(taken, own, own);
    return own;
}

static void put_partition(struct pen *p, const struct mos_told_medium *m, size_t index,
                          struct mos_map *taken) {
    struct mos_arena *a = p->j->m->arena;
    const struct mos_told_partition *t = mos_vec_at(&m->partitions, index);
    const char *name = region_name(p, m, index, taken);
    const struct mos_fs_driver *fs = t->fs ? mos_fs_find(t->fs) : NULL;
    bool root = t->path && strcmp(t->path, "/") == 0;
    draft_line(&p->x, "      %s: {number: %u, at: %s, size: %s%s%s%s}   # %s%s%s%s%s", name,
               t->number, mos_size_exact(a, t->start), mos_size_exact(a, t->length),
               t->bootable ? ", bootable: yes" : "",
               fs ? mos_printf(a, ", volume: {kind: %s}", fs->name) : "",
               root ? "" : ", owner: device",
               t->fs ? draft_harmless(&p->x, t->fs) : "not known what it holds",
               t->path ? " at " : "", t->path ? draft_harmless(&p->x, t->path) : "",
               t->type ? "; its type: " : "", t->type ? draft_harmless(&p->x, t->type) : "");
    draft_unknown(&p->x, mos_printf(a, "content-of-%s", name), NULL,
                  mos_printf(a, "what is put into %s, partition %u of %s: add fills, or a piece",
                             name, t->number, m->kernel ? m->kernel : m->loader));
}

static void put_layout(struct pen *p) {
    const struct mos_vec *media = &p->j->l.media;
    struct mos_map taken = mos_map_make(p->j->m->arena);
    bool any = false;
    for (size_t i = 0; i < media->count; i++) {
        const struct mos_told_medium *m = mos_vec_at(media, i);
        if (!m->table || !m->partitions.count)
            continue;
        if (!any)
            draft_line(&p->x, "\nlayout:");
        any = true;
        draft_line(&p->x, "  %s:", medium_name(p, i));
        draft_line(&p->x, "    table: {kind: %s}", m->table);
        draft_line(&p->x, "    regions:");
        for (size_t k = 0; k < m->partitions.count; k++)
            put_partition(p, m, k, &taken);
    }
    if (!any)
        draft_unknown(&p->x, "layout", "layout", "how its storage is divided (layout)");
}

/* ---- the kernel ---- */

/* What is in a running tree for one start, or one board only, is no part of its definition. */
static void strip(struct mos_dt *dt) {
    static const char *const chosen[] = {"bootargs",
                                         "linux,initrd-start",
                                         "linux,initrd-end",
                                         "kaslr-seed",
                                         "rng-seed",
                                         "linux,uefi-mmap-start",
                                         "linux,uefi-mmap-size",
                                         "linux,uefi-system-table",
                                         "linux,uefi-mmap-desc-size",
                                         "linux,uefi-mmap-desc-ver",
                                         "linux,uefi-secure-boot",
                                         NULL};
    struct mos_dt_node *node = mos_dt_find(dt, "/chosen");
    for (const char *const *name = chosen; node && *name; name++)
        mos_dt_remove_property(node, *name);
    mos_dt_remove_property(dt->root, "serial-number");
}

static bool strip_addresses(void *self, struct mos_dt_node *node) {
    (void)self;
    mos_dt_remove_property(node, "local-mac-address");
    mos_dt_remove_property(node, "mac-address");
    return true;
}

static const char *put_tree(struct pen *p) {
    struct learn_job *j = p->j;
    struct mos_buf blob = {.arena = j->m->arena};
    const char *shown = mos_printf(j->m->arena, "tree/%s.dtb", p->d.name);
    if (!j->tree)
        return NULL;
    strip(j->tree);
    mos_dt_walk(j->tree->root, strip_addresses, NULL);
    mos_dt_write_blob(&j->m->ctx, j->tree, false, &blob);
    return draft_put_file(&p->x, shown, &blob) ? shown : NULL;
}

static bool put_kernel(struct pen *p) {
    const struct mos_learned *l = &p->j->l;
    struct draft *x = &p->x;
    const char *shown = mos_printf(p->j->m->arena, "kernel/%s.config", p->d.name);
    bool config = l->kernel_config.length != 0;
    if (l->release || config)
        draft_line(x, "\nkernel:");
    if (l->release)
        draft_line(x, "  release: %s", draft_quoted(x, l->release));
    if (config)
        draft_line(x, "  config: {start: %s}", shown);
    if (l->arguments)
        draft_line(x, "\n# boot: with a kernel; it was started with these arguments:\n#   %s",
                   draft_harmless(x, l->arguments));
    return !config || draft_put_file(x, shown, &l->kernel_config);
}

bool learn_write(struct learn_job *j, const char *folder, const char *name) {
    struct pen p = {.j = j, .d = {.name = name}};
    struct draft *x = &p.x;
    if (!draft_begin(x, j->m, &p.d, folder))
        return false;
    const char *who = j->l.system ? j->l.system : j->l.model ? j->l.model : j->l.compatible;
    draft_line(x, "about: %s",
               draft_quoted(x, who ? mos_printf(j->m->arena, "as it told of itself: %s", who)
                                   : "as it told of itself"));
    mos_buf_char(&x->text, '\n');
    put_hardware(&p);
    const char *tree = put_tree(&p);
    draft_put_pieces(x, NULL, NULL, tree, NULL, NULL);
    if (!put_kernel(&p) || !put_loader(&p))
        return false;
    put_layout(&p);
    for (size_t i = 0; i < j->l.unknown.count; i++)
        draft_unknown(x, "not-told", NULL, mos_vec_pointer(&j->l.unknown, i));
    mos_buf_text(&j->answers, j->prompt); /* the last answer has an end */
    return draft_put_file(x, mos_printf(j->m->arena, "learned/%s.txt", name), &j->answers) &&
           draft_finish(x);
}
