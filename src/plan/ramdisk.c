/* Ramdisks that are made from a list: files, modules with what they need, a small first program. */
#include "plan/plan.h"

#include "base/bytes.h"
#include "base/text.h"
#include "linux/module.h"
#include "store/store.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_FILE = 256 << 20, MOST_MODULES = 1024, MOST_ROUNDS = 32, ROOM = 1 << 30 };

/* One thing that goes in. */
struct item {
    const char *to; /* path in the ramdisk, in normal form */
    uint16_t mode;
    enum mos_entry_type type;
    const char *target;    /* links */
    uint32_t major, minor; /* devices */
    const uint8_t *bytes;  /* files */
    size_t length;
    const struct mos_ramdisk_file *def; /* NULL: it is made here */
    const struct mos_piece_plan *in;    /* the archive that has its bytes */
    const char *path;                   /* there */
};

struct module {
    const char *name, *path; /* in the archive */
    struct mos_module_info info;
    const uint8_t *bytes; /* expanded; NULL: not read yet */
    size_t length;
    bool wanted, ordered, on_way;
};

struct maker {
    struct mos_plan *plan;
    struct mos_piece_plan *piece;
    const struct mos_ramdisk *def;
    struct mos_vec items;   /* of struct item */
    struct mos_vec modules; /* of struct module *: all of the archive */
    struct mos_vec order;   /* of struct module *: as they are to be loaded */
    const char *builtin;    /* the archive's list of what the kernel has inside; NULL: none */
    bool wrong;             /* there are findings */
};

static struct mos_finding *complain(struct maker *m, enum mos_rule_id rule, struct mos_place place,
                                    const char *text) {
    struct mos_findings *list = &m->plan->ctx->findings;
    struct mos_finding *f = mos_find(list, rule, "Ramdisk %s: %s", m->piece->def->r.name, text);
    mos_finding_at(list, f, place);
    m->wrong = true;
    return f;
}

/* ---- the list ---- */

static struct item *add_item(struct maker *m, const char *to, enum mos_entry_type type,
                             unsigned mode) {
    struct mos_buf path = {.arena = m->plan->ctx->arena};
    const char *normal = mos_entry_path(&path, to);
    struct item *x = mos_vec_push(&m->items);
    *x = (struct item){.to = normal ? normal : to, .mode = (uint16_t)mode, .type = type};
    return x;
}

/* "c 5 1" */
static bool read_device(const char *text, struct item *x) {
    char kind;
    unsigned major, minor;
    int end = 0;
    if (sscanf(text, "%c %u %u%n", &kind, &major, &minor, &end) != 3 || text[end] ||
        (kind != 'c' && kind != 'b') || major > 4095 || minor > 0xfffff)
        return false;
    x->type = kind == 'c' ? MOS_ENTRY_CHAR : MOS_ENTRY_BLOCK;
    x->major = major;
    x->minor = minor;
    return true;
}

static bool read_mode(const struct mos_value *v, uint16_t *mode) {
    char *end;
    unsigned long value = strtoul(v->text, &end, 8);
    *mode = (uint16_t)value;
    return *v->text && !*end && value <= 07777;
}

/* A path of the ramdisk, below its root. */
static bool stays_inside(struct maker *m, const struct mos_value *path) {
    struct mos_buf buffer = {.arena = m->plan->ctx->arena};
    const char *normal = mos_entry_path(&buffer, path->text);
    if (normal && *normal)
        return true;
    complain(m, MOS_RULE_PIECE_PATH, path->place,
             mos_printf(m->plan->ctx->arena, "%s is no path below its root.", path->text));
    return false;
}

static void wrong_form(struct maker *m, const struct mos_ramdisk_file *f) {
    struct mos_finding *x =
        complain(m, MOS_RULE_BOARD_SCHEMA, f->r.key_place,
                 mos_printf(m->plan->ctx->arena, "%s needs one source, and just one.", f->r.name));
    mos_finding_try(&m->plan->ctx->findings, x,
                    "file: …, or in: PIECE with path: …, or text: …, link: …, device: \"c 5 1\"");
}

/* A file's own row; its bytes, where they lie in an archive, come later. */
static bool add_file(struct maker *m, const struct mos_ramdisk_file *f) {
    struct mos_ctx *ctx = m->plan->ctx;
    int sources = (f->file != NULL) + (f->in != NULL) + (f->text != NULL) + (f->link != NULL) +
                  (f->device != NULL);
    if (f->r.broken || !mos_has(f->to)) {
        m->wrong = true;
        return true;
    }
    if (sources != 1 || (f->in != NULL) != (f->path != NULL)) {
        wrong_form(m, f);
        return true;
    }
    if (!stays_inside(m, f->to))
        return true;
    struct item *x = add_item(m, f->to->text, f->link ? MOS_ENTRY_LINK : MOS_ENTRY_FILE,
                              f->link     ? 0777
                              : f->device ? 0600
                                          : 0644);
    x->def = f;
    if (f->mode && !read_mode(f->mode, &x->mode))
        complain(m, MOS_RULE_BOARD_SCHEMA, f->mode->place, "a mode is octal, as in \"0755\".");
    if (f->device && !read_device(f->device->text, x))
        complain(m, MOS_RULE_BOARD_SCHEMA, f->device->place,
                 "a device is given as in \"c 5 1\": kind, major and minor number.");
    x->target = f->link ? f->link->text : NULL;
    if (f->text) {
        x->bytes = (const uint8_t *)f->text->text;
        x->length = strlen(f->text->text);
    }
    if (mos_has(f->in)) {
        struct mos_buf path = {.arena = ctx->arena};
        x->in = mos_plan_piece(m->plan, f->in->target);
        x->path = mos_entry_path(&path, f->path->text);
    }
    if (!mos_has(f->file))
        return true;
    char *data;
    const char *full = mos_path_join(ctx->arena, m->plan->board->root, f->file->text);
    if (!mos_exists(ctx, full)) {
        complain(m, MOS_RULE_PIECE_MISSING, f->file->place,
                 mos_printf(ctx->arena, "%s is not there.", f->file->text));
        return true;
    }
    if (!mos_read_file(ctx, full, MOST_FILE, &data, &x->length))
        return false;
    x->bytes = (const uint8_t *)data;
    return true;
}

/* ---- out of archives ---- */

struct gather {
    struct maker *m;
    const struct mos_piece_plan *archive;
    struct item *item;
    struct module *module;
    bool builtin;
    uint8_t *bytes;
    uint64_t size;
};

static bool is_modules_folder(const char *path) {
    return strncmp(path, "lib/modules/", 12) == 0 || strncmp(path, "usr/lib/modules/", 16) == 0;
}

static struct module *find_module(const struct maker *m, const char *name) {
    for (size_t i = 0; i < m->modules.count; i++) {
        struct module *x = mos_vec_pointer(&m->modules, i);
        if (mos_module_same(x->name, name))
            return x;
    }
    return NULL;
}

/* Notes a module the first time it goes by; its bytes are wanted once somebody asks for it. */
static struct module *note_module(struct gather *g, const struct mos_entry *e) {
    struct mos_arena *arena = g->m->plan->ctx->arena;
    const struct mos_ramdisk_modules *def = g->m->def->modules;
    if (!def || !mos_has(def->in) || g->archive->def != def->in->target ||
        !is_modules_folder(e->path))
        return NULL;
    const char *name = mos_module_name(arena, e->path);
    if (!name)
        return NULL;
    struct module *x = find_module(g->m, name);
    if (!x) {
        x = mos_alloc(arena, sizeof *x);
        *x = (struct module){.name = name, .path = mos_strdup(arena, e->path)};
        mos_vec_push_pointer(&g->m->modules, x);
        for (size_t i = 0; i < def->names.count; i++)
            x->wanted |=
                mos_has(def->names.items[i]) && mos_module_same(def->names.items[i]->text, name);
    }
    return x->wanted && !x->bytes ? x : NULL;
}

static bool gather_entry(void *self, const struct mos_entry *e) {
    struct gather *g = self;
    struct mos_arena *arena = g->m->plan->ctx->arena;
    g->item = NULL;
    g->module = NULL;
    g->bytes = NULL;
    g->builtin = false;
    if (e->type != MOS_ENTRY_FILE || e->size > MOST_FILE)
        return true;
    for (size_t i = 0; i < g->m->items.count && !g->item; i++) {
        struct item *x = mos_vec_at(&g->m->items, i);
        if (x->in == g->archive && !x->bytes && x->path && strcmp(x->path, e->path) == 0)
            g->item = x;
    }
    const char *slash = strrchr(e->path, '/');
    g->builtin = !g->m->builtin && slash && is_modules_folder(e->path) &&
                 strcmp(slash, "/modules.builtin") == 0;
    g->module = note_module(g, e);
    if (g->item && !g->item->def->mode)
        g->item->mode = e->mode;
    if (g->item || g->module || g->builtin)
        g->bytes = mos_alloc(arena, (size_t)e->size + 1);
    g->size = e->size;
    return true;
}

static bool gather_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct gather *g = self;
    if (g->bytes && offset < g->size)
        memcpy(g->bytes + offset, bytes, (size_t)mos_min(length, g->size - offset));
    return true;
}

static void take_module(struct gather *g) {
    struct mos_ctx *ctx = g->m->plan->ctx;
    struct module *x = g->module;
    struct mos_unpacked u;
    x->bytes = g->bytes;
    x->length = (size_t)g->size;
    if (mos_compression_of(g->bytes, x->length) &&
        mos_unpack_memory(ctx, g->bytes, x->length, MOST_FILE, &u)) {
        uint8_t *plain = mos_alloc(ctx->arena, (size_t)u.io.size + 1);
        mos_io_read(&u.io, plain, (size_t)u.io.size, 0);
        x->bytes = plain;
        x->length = (size_t)u.io.size;
    }
    if (mos_module_read(ctx->arena, x->bytes, x->length, &x->info))
        return;
    complain(g->m, MOS_RULE_PIECE_FORMAT, g->m->def->modules->in->place,
             mos_printf(ctx->arena, "%s is no kernel module.", x->path));
}

static bool gather_end(void *self, uint64_t sum) {
    struct gather *g = self;
    (void)sum;
    if (g->item) {
        g->item->bytes = g->bytes;
        g->item->length = (size_t)g->size;
    }
    if (g->builtin)
        g->m->builtin = (const char *)g->bytes;
    if (g->module)
        take_module(g);
    return true;
}

static bool gather_from(struct maker *m, const struct mos_piece_plan *archive) {
    struct gather g = {.m = m, .archive = archive};
    struct mos_sink sink = {&g, gather_entry, gather_data, gather_end};
    return archive->bytes || archive->member ||
           mos_archive_stream(m->plan->ctx, archive->path, archive->def->r.key_place, &sink);
}

/* ---- modules and what they need ---- */

static bool is_builtin(struct maker *m, const char *name) {
    for (const char *line = m->builtin; line && *line;) {
        size_t n = strcspn(line, "\n");
        const char *own =
            mos_module_name(m->plan->ctx->arena, mos_strndup(m->plan->ctx->arena, line, n));
        if (own && mos_module_same(own, name))
            return true;
        line += n + (line[n] == '\n');
    }
    return false;
}

/* Asks for what a module needs; true when there is something new to read. */
static bool ask_for(struct maker *m, const struct mos_vec *names) {
    bool more = false;
    for (size_t i = 0; i < names->count; i++) {
        struct module *x = find_module(m, mos_vec_pointer(names, i));
        if (x && !x->wanted)
            more = x->wanted = true;
    }
    return more;
}

static void put_in_order(struct maker *m, struct module *x) {
    if (!x || x->ordered || x->on_way || !x->bytes)
        return;
    x->on_way = true;
    const struct mos_vec *const lists[] = {&x->info.needs, &x->info.wants};
    for (size_t k = 0; k < 2; k++)
        for (size_t i = 0; i < lists[k]->count; i++)
            put_in_order(m, find_module(m, mos_vec_pointer(lists[k], i)));
    x->ordered = true;
    mos_vec_push_pointer(&m->order, x);
}

static void no_module(struct maker *m, const struct mos_value *v, const char *name,
                      const char *needed_by) {
    struct mos_arena *arena = m->plan->ctx->arena;
    const char **names = mos_alloc_array(arena, m->modules.count + 1, sizeof *names);
    for (size_t i = 0; i < m->modules.count; i++)
        names[i] = ((struct module *)mos_vec_pointer(&m->modules, i))->name;
    const char *near = mos_near(name, names, m->modules.count);
    struct mos_finding *f =
        complain(m, MOS_RULE_PIECE_MISSING, v->place,
                 needed_by ? mos_printf(arena, "module %s needs %s, which %s does not have.",
                                        needed_by, name, m->def->modules->in->text)
                           : mos_printf(arena, "there is no module %s in %s.", name,
                                        m->def->modules->in->text));
    if (near && !needed_by)
        mos_finding_try(&m->plan->ctx->findings, f, "%s", near);
}

static bool take_modules(struct maker *m, const struct mos_piece_plan *archive) {
    const struct mos_ramdisk_modules *def = m->def->modules;
    bool more = true;
    for (unsigned round = 0; more && round < MOST_ROUNDS; round++) {
        if (round && !gather_from(m, archive))
            return false;
        more = false;
        for (size_t i = 0; i < m->modules.count; i++) {
            struct module *x = mos_vec_pointer(&m->modules, i);
            if (x->bytes)
                more |= ask_for(m, &x->info.needs) + ask_for(m, &x->info.wants) > 0;
        }
    }
    for (size_t i = 0; i < def->names.count; i++) {
        const struct mos_value *v = def->names.items[i];
        struct module *x = mos_has(v) ? find_module(m, v->text) : NULL;
        if (mos_has(v) && !x && !is_builtin(m, v->text))
            no_module(m, v, v->text, NULL);
        put_in_order(m, x);
    }
    for (size_t i = 0; i < m->order.count; i++) {
        const struct module *x = mos_vec_pointer(&m->order, i);
        for (size_t k = 0; k < x->info.needs.count; k++) {
            const char *need = mos_vec_pointer(&x->info.needs, k);
            if (!find_module(m, need) && !is_builtin(m, need))
                no_module(m, def->in, need, x->name);
        }
    }
    return true;
}

static const char *order_file(const struct mos_ramdisk *def) {
    return mos_text_or(def->modules->order, "/load-order");
}

/* The modules, expanded, and the list of them in the order of loading. */
static void add_modules(struct maker *m) {
    struct mos_arena *arena = m->plan->ctx->arena;
    struct mos_buf list = {.arena = arena};
    for (size_t i = 0; i < m->order.count; i++) {
        const struct module *x = mos_vec_pointer(&m->order, i);
        const char *from = strncmp(x->path, "usr/", 4) == 0 ? x->path + 4 : x->path;
        const char *end = strstr(strrchr(from, '/'), ".ko");
        const char *to = mos_strndup(arena, from, (size_t)(end - from) + 3);
        struct item *it = add_item(m, to, MOS_ENTRY_FILE, 0644);
        it->bytes = x->bytes;
        it->length = x->length;
        mos_buf_printf(&list, "/%s\n", to);
    }
    struct item *it = add_item(m, order_file(m->def), MOS_ENTRY_FILE, 0644);
    it->bytes = (const uint8_t *)mos_buf_string(&list);
    it->length = list.length;
}

/* ---- the first program ---- */

/* What the kernel calls partition `number` of a medium: mmcblk0p2, sda2. */
static const char *kernel_name(struct mos_arena *arena, const char *medium, unsigned number) {
    size_t n = strlen(medium);
    return mos_printf(arena, "%s%s%u", medium,
                      n && isdigit((unsigned char)medium[n - 1]) ? "p" : "", number);
}

static void write_names(const struct mos_plan *plan, struct mos_buf *out) {
    mos_buf_text(out, "case $root in\n");
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, i);
        const char *kernel = mos_text_or(medium->medium->kernel, NULL);
        for (size_t k = 0; k < medium->regions.count && kernel; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, k);
            if (r->number && *r->id_text)
                mos_buf_printf(out, "  PARTUUID=%s) root=/dev/%s ;;\n", r->id_text,
                               kernel_name(out->arena, kernel, r->number));
        }
    }
    mos_buf_text(out, "esac\n");
}

static const char *first_program(struct maker *m) {
    struct mos_buf b = {.arena = m->plan->ctx->arena};
    mos_buf_text(&b, "#!/bin/sh\n"
                     "# Made by mosaicum: loads the modules of this ramdisk in their order and "
                     "goes on to the root.\n"
                     "mount -t proc proc /proc\n"
                     "mount -t sysfs sysfs /sys\n"
                     "mount -t devtmpfs devtmpfs /dev\n");
    if (m->def->modules)
        mos_buf_printf(&b,
                       "while read -r module; do\n"
                       "  insmod \"$module\" || echo \"ramdisk: $module cannot be loaded\"\n"
                       "done < %s\n",
                       order_file(m->def));
    mos_buf_text(&b, "root= mode=ro kind= first=/sbin/init\n"
                     "for word in $(cat /proc/cmdline); do\n"
                     "  case $word in\n"
                     "    root=*) root=${word#root=} ;;\n"
                     "    rootfstype=*) kind=\"-t ${word#rootfstype=}\" ;;\n"
                     "    init=*) first=${word#init=} ;;\n"
                     "    ro|rw) mode=$word ;;\n"
                     "  esac\n"
                     "done\n");
    write_names(m->plan, &b);
    mos_buf_text(&b, "# Nothing waits for ever: without a root this ends, the kernel panics, and "
                     "panic= starts again.\n"
                     "n=0\n"
                     "while [ ! -b \"$root\" ]; do\n"
                     "  n=$((n + 1))\n"
                     "  if [ $n -gt 30 ]; then\n"
                     "    echo \"ramdisk: the root $root did not come within 30 s\"\n"
                     "    exit 1\n"
                     "  fi\n"
                     "  sleep 1\n"
                     "done\n"
                     "if ! mount -o \"$mode\" $kind \"$root\" /root; then\n"
                     "  echo \"ramdisk: the root $root cannot be mounted\"\n"
                     "  exit 1\n"
                     "fi\n"
                     "exec switch_root /root \"$first\"\n");
    return mos_buf_string(&b);
}

static bool has_program(const struct maker *m, const char *name) {
    static const char *const folders[] = {"bin", "sbin", "usr/bin", "usr/sbin"};
    for (size_t i = 0; i < m->items.count; i++) {
        const struct item *x = mos_vec_at(&m->items, i);
        for (size_t k = 0; k < sizeof folders / sizeof *folders; k++) {
            size_t n = strlen(folders[k]);
            if (strncmp(x->to, folders[k], n) == 0 && x->to[n] == '/' &&
                strcmp(x->to + n + 1, name) == 0)
                return true;
        }
    }
    return false;
}

/* Before the files: those that are on the way to one are made once. */
static void add_folders(struct maker *m) {
    static const char *const own[] = {"proc", "sys", "dev", "root"};
    for (size_t i = 0; i < m->def->folders.count; i++)
        if (mos_has(m->def->folders.items[i]) && stays_inside(m, m->def->folders.items[i]))
            add_item(m, m->def->folders.items[i]->text, MOS_ENTRY_FOLDER, 0755);
    for (size_t i = 0; mos_has(m->def->init) && m->def->init->truth && i < 4; i++)
        add_item(m, own[i], MOS_ENTRY_FOLDER, 0755);
}

/* The script's own needs: what it calls must be on the list. */
static void check_programs(struct maker *m) {
    static const char *const names[] = {"sh", "mount", "cat", "sleep", "switch_root", "insmod"};
    struct mos_buf lacks = {.arena = m->plan->ctx->arena};
    for (size_t i = 0; i < sizeof names / sizeof *names - (m->def->modules ? 0 : 1); i++)
        if (!has_program(m, names[i]))
            mos_buf_printf(&lacks, "%s%s", lacks.length ? ", " : "", names[i]);
    if (!lacks.length)
        return;
    struct mos_finding *f = complain(m, MOS_RULE_PIECE_MISSING, m->def->init->place,
                                     mos_printf(m->plan->ctx->arena,
                                                "its /init calls %s, which the list does not have.",
                                                mos_buf_string(&lacks)));
    mos_finding_try(&m->plan->ctx->findings, f,
                    "A program that is all of them, and a link for each: {to: /bin/sh, link: …}");
}

static void add_init(struct maker *m) {
    if (!mos_has(m->def->init) || !m->def->init->truth)
        return;
    check_programs(m);
    /* before devtmpfs is there, the first program's output needs one */
    struct item *x = add_item(m, "dev/console", MOS_ENTRY_CHAR, 0600);
    x->major = 5;
    x->minor = 1;
    x = add_item(m, "init", MOS_ENTRY_FILE, 0755);
    x->bytes = (const uint8_t *)first_program(m);
    x->length = strlen((const char *)x->bytes);
}

/* ---- the archive ---- */

/* Each row is a source of its own: two of them must not become one file. */
static bool stream_items(struct maker *m, struct mos_volume_base *v, const struct mos_sink *sink) {
    for (size_t i = 0; i < m->items.count; i++) {
        v->fill = (uint16_t)i;
        const struct item *x = mos_vec_at(&m->items, i);
        struct mos_entry e = {.path = x->to,
                              .type = x->type,
                              .mode = x->mode,
                              .mtime = m->plan->board->date,
                              .size = x->length,
                              .major = x->major,
                              .minor = x->minor,
                              .target = x->target};
        if (x->type == MOS_ENTRY_FILE ? !mos_bytes_stream(&e, x->bytes, x->length, sink)
                                      : !sink->entry(sink->self, &e))
            return false;
    }
    return true;
}

/* Once to count, once to write. */
static bool write_archive(struct maker *m, struct mos_buf *out) {
    struct mos_ctx *ctx = m->plan->ctx;
    struct mos_volume_wish wish = {
        .size = ROOM, .sector = 512, .label = "", .date = m->plan->board->date};
    struct mos_volume_result result = {0};
    uint8_t *bytes = NULL;
    for (int writing = 0; writing < 2; writing++) {
        struct mos_io io = mos_io_memory(ctx->arena, bytes, wish.size);
        struct mos_volume_base *v = mos_fs_cpio.begin(ctx, writing ? &io : NULL, &wish);
        struct mos_sink sink = mos_fs_cpio.sink(v);
        if (!stream_items(m, v, &sink) || !mos_fs_cpio.finish(v, &result))
            return false;
        if (v->inventory->clashes.count) {
            const struct mos_inv_clash *c = mos_vec_at(&v->inventory->clashes, 0);
            complain(m, MOS_RULE_VOLUME_TWO_SOURCES, m->piece->def->r.key_place,
                     mos_printf(ctx->arena, "two rows of its list become /%s.", c->path));
            return true;
        }
        if (!result.fits) {
            complain(m, MOS_RULE_VOLUME_DOES_NOT_FIT, m->piece->def->r.key_place,
                     "it would be larger than 1 GiB.");
            return true;
        }
        wish.size = result.content;
        bytes = bytes ? bytes : mos_alloc(ctx->arena, (size_t)wish.size);
    }
    const char *kind = mos_text_or(m->def->compress, "gz");
    if (strcmp(kind, "none") != 0)
        return mos_pack_memory(ctx, kind, bytes, (size_t)wish.size, out);
    mos_buf_add(out, bytes, (size_t)wish.size);
    return true;
}

/* ---- what was made before ---- */

static void sum_text(struct mos_sha256 *h, const char *text) {
    text = text ? text : "";
    mos_sha256_update(h, text, strlen(text) + 1);
}

/* All that it is made from, in one hash: the store keeps it under that. */
static bool key_of(struct maker *m, struct mos_piece_plan *const *archives, size_t count,
                   const char **key) {
    struct mos_arena *arena = m->plan->ctx->arena;
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    struct mos_sha256 *h = mos_sha256_new();
    if (!h)
        return mos_fail(m->plan->ctx->error, MOS_ERROR_SYSTEM, 0, "No memory for a hash");
    sum_text(h, MOS_VERSION);
    sum_text(h, mos_text_or(m->def->compress, "gz"));
    sum_text(h, mos_printf(arena, "%lld", (long long)m->plan->board->date));
    for (size_t i = 0; i < m->items.count; i++) {
        const struct item *x = mos_vec_at(&m->items, i);
        sum_text(h, mos_printf(arena, "%s %d %o %u %u %s %s %zu", x->to, x->type, x->mode, x->major,
                               x->minor, x->target ? x->target : "", x->path ? x->path : "",
                               x->length));
        sum_text(h, x->def && x->def->mode ? x->def->mode->text : "");
        if (x->bytes)
            mos_sha256_update(h, x->bytes, x->length);
    }
    for (size_t i = 0; m->def->modules && i < m->def->modules->names.count; i++)
        sum_text(h, mos_text_or(m->def->modules->names.items[i], ""));
    sum_text(h, m->def->modules ? order_file(m->def) : "");
    for (size_t i = 0; i < count; i++)
        mos_sha256_update(h, archives[i]->sha256, MOS_SHA256_SIZE);
    mos_sha256_final(h, hash);
    mos_sha256_free(h);
    mos_sha256_hex(hash, hex);
    *key = mos_printf(arena, "ramdisk-%s", hex);
    return true;
}

static void add_archive(struct mos_piece_plan **archives, size_t *count,
                        const struct mos_piece_plan *p) {
    for (size_t i = 0; i < *count; i++)
        if (archives[i] == p)
            return;
    archives[(*count)++] = (struct mos_piece_plan *)(uintptr_t)p;
}

/* ---- one ramdisk ---- */

static void missing_members(struct maker *m) {
    for (size_t i = 0; i < m->items.count; i++) {
        const struct item *x = mos_vec_at(&m->items, i);
        if (x->in && !x->bytes)
            complain(m, MOS_RULE_PIECE_MISSING, x->def->path->place,
                     mos_printf(m->plan->ctx->arena, "there is no file %s in %s.",
                                x->def->path->text, x->in->def->r.name));
    }
}

static bool make(struct maker *m, struct mos_piece_plan **archives, size_t count,
                 const struct mos_piece_plan *modules, struct mos_buf *out) {
    for (size_t i = 0; i < count; i++)
        if (!gather_from(m, archives[i]))
            return false;
    if (modules && !take_modules(m, modules))
        return false;
    missing_members(m);
    if (m->wrong)
        return true;
    if (m->def->modules)
        add_modules(m);
    return write_archive(m, out);
}

static bool settle(struct mos_plan *plan, struct mos_piece_plan *p) {
    struct mos_ctx *ctx = plan->ctx;
    struct maker m = {.plan = plan,
                      .piece = p,
                      .def = p->def->ramdisk,
                      .items = mos_vec_make(ctx->arena, sizeof(struct item)),
                      .modules = mos_vec_make(ctx->arena, sizeof(struct module *)),
                      .order = mos_vec_make(ctx->arena, sizeof(struct module *))};
    struct mos_piece_plan **archives =
        mos_alloc_array(ctx->arena, m.def->files.count + 1, sizeof *archives);
    const struct mos_piece_plan *modules = NULL;
    size_t count = 0;
    if (m.def->r.broken)
        return true;
    add_folders(&m);
    for (size_t i = 0; i < m.def->files.count; i++)
        if (!add_file(&m, m.def->files.items[i]))
            return false;
    add_init(&m);
    if (m.def->modules && mos_has(m.def->modules->in))
        modules = mos_plan_piece(plan, m.def->modules->in->target);
    for (size_t i = 0; i < m.items.count; i++)
        if (((struct item *)mos_vec_at(&m.items, i))->in)
            add_archive(archives, &count, ((struct item *)mos_vec_at(&m.items, i))->in);
    if (modules)
        add_archive(archives, &count, modules);
    for (size_t i = 0; i < count; i++) {
        if (!archives[i]->found) /* it has its finding */
            return true;
        if (!mos_plan_hash(plan, archives[i]))
            return false;
    }
    const char *key = NULL;
    char *data;
    size_t length;
    if (m.wrong)
        return true;
    if (!key_of(&m, archives, count, &key))
        return false;
    struct mos_buf out = {.arena = ctx->arena};
    if (mos_store_get(ctx, key, &data, &length))
        mos_buf_add(&out, data, length);
    else if (!make(&m, archives, count, modules, &out))
        return mos_while(ctx->error, "making ramdisk %s", p->def->r.name);
    else if (!m.wrong)
        mos_store_put(ctx, key, out.data, out.length);
    if (!m.wrong)
        mos_plan_take_bytes(p, out.data, out.length);
    return true;
}

/* A ramdisk that something else was to be made from: too late for that. */
static void too_late(struct mos_plan *plan) {
    struct mos_findings *list = &plan->ctx->findings;
    for (size_t i = 0; i < plan->pieces.count && !list->items.count; i++) {
        const struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->found || p->unmade || p->def->r.broken)
            continue;
        struct mos_finding *f = mos_find(
            list, MOS_RULE_PIECE_MISSING,
            "Piece %s lies in, or is made from, another one that is made here.", p->def->r.name);
        mos_finding_at(list, f, p->def->r.key_place);
        mos_finding_try(list, f,
                        "Files of the workspace, archives, and packs that stand before it.");
    }
}

bool mos_plan_ramdisks(struct mos_plan *plan) {
    for (size_t i = 0; i < plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        if (p->def->ramdisk && !settle(plan, p))
            return false;
    }
    too_late(plan);
    return true;
}
