/* What a ramdisk takes out of archives: files, and modules with what they need. */
#include "plan/ramdisk_internal.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

enum { MOST_FILE = 256 << 20, MOST_ROUNDS = 32 };

/* ---- out of archives ---- */

struct gather {
    struct ramdisk *m;
    const struct mos_piece_plan *archive;
    struct ramdisk_item *item;
    struct ramdisk_module *module;
    bool builtin;
    uint8_t *bytes;
    uint64_t size;
};

static bool is_modules_folder(const char *path) {
    return strncmp(path, "lib/modules/", 12) == 0 || strncmp(path, "usr/lib/modules/", 16) == 0;
}

static struct ramdisk_module *find_module(const struct ramdisk *m, const char *name) {
    for (size_t i = 0; i < m->modules.count; i++) {
        struct ramdisk_module *x = mos_vec_pointer(&m->modules, i);
        if (mos_module_same(x->name, name))
            return x;
    }
    return NULL;
}

/* Notes a module the first time it goes by; its bytes are wanted once somebody asks for it. */
static struct ramdisk_module *note_module(struct gather *g, const struct mos_entry *e) {
    struct mos_arena *arena = g->m->plan->ctx->arena;
    const struct mos_ramdisk_modules *def = g->m->def->modules;
    if (!def || !mos_has(def->in) || g->archive->def != def->in->target ||
        !is_modules_folder(e->path))
        return NULL;
    const char *name = mos_module_name(arena, e->path);
    if (!name)
        return NULL;
    struct ramdisk_module *x = find_module(g->m, name);
    if (!x) {
        x = mos_alloc(arena, sizeof *x);
        *x = (struct ramdisk_module){.name = name, .path = mos_strdup(arena, e->path)};
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
        struct ramdisk_item *x = mos_vec_at(&g->m->items, i);
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
    struct ramdisk_module *x = g->module;
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
    ramdisk_complain(g->m, MOS_RULE_PIECE_FORMAT, g->m->def->modules->in->place,
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

bool ramdisk_gather(struct ramdisk *m, struct mos_piece_plan *archive) {
    struct gather g = {.m = m, .archive = archive};
    struct mos_sink sink = {&g, gather_entry, gather_data, gather_end};
    return archive->bytes || archive->member ||
           mos_plan_read_archive(m->plan, archive, &sink) || archive->damaged;
}

/* ---- modules and what they need ---- */

static bool is_builtin(struct ramdisk *m, const char *name) {
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
static bool ask_for(struct ramdisk *m, const struct mos_vec *names) {
    bool more = false;
    for (size_t i = 0; i < names->count; i++) {
        struct ramdisk_module *x = find_module(m, mos_vec_pointer(names, i));
        if (x && !x->wanted)
            more = x->wanted = true;
    }
    return more;
}

static void put_in_order(struct ramdisk *m, struct ramdisk_module *x) {
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

static void no_module(struct ramdisk *m, const struct mos_value *v, const char *name,
                      const char *needed_by) {
    struct mos_arena *arena = m->plan->ctx->arena;
    const char **names = mos_alloc_array(arena, m->modules.count + 1, sizeof *names);
    for (size_t i = 0; i < m->modules.count; i++)
        names[i] = ((struct ramdisk_module *)mos_vec_pointer(&m->modules, i))->name;
    const char *near = mos_near(name, names, m->modules.count);
    struct mos_finding *f = ramdisk_complain(
        m, MOS_RULE_PIECE_MISSING, v->place,
        needed_by
            ? mos_printf(arena, "module %s needs %s, which %s does not have.", needed_by, name,
                         m->def->modules->in->text)
            : mos_printf(arena, "there is no module %s in %s.", name, m->def->modules->in->text));
    if (near && !needed_by)
        mos_finding_try(&m->plan->ctx->findings, f, "%s", near);
}

bool ramdisk_take_modules(struct ramdisk *m, struct mos_piece_plan *archive) {
    const struct mos_ramdisk_modules *def = m->def->modules;
    bool more = true;
    for (unsigned round = 0; more && round < MOST_ROUNDS; round++) {
        if (round && !ramdisk_gather(m, archive))
            return false;
        more = false;
        for (size_t i = 0; i < m->modules.count; i++) {
            struct ramdisk_module *x = mos_vec_pointer(&m->modules, i);
            if (x->bytes)
                more |= ask_for(m, &x->info.needs) + ask_for(m, &x->info.wants) > 0;
        }
    }
    for (size_t i = 0; i < def->names.count; i++) {
        const struct mos_value *v = def->names.items[i];
        struct ramdisk_module *x = mos_has(v) ? find_module(m, v->text) : NULL;
        if (mos_has(v) && !x && !is_builtin(m, v->text))
            no_module(m, v, v->text, NULL);
        put_in_order(m, x);
    }
    for (size_t i = 0; i < m->order.count; i++) {
        const struct ramdisk_module *x = mos_vec_pointer(&m->order, i);
        for (size_t k = 0; k < x->info.needs.count; k++) {
            const char *need = mos_vec_pointer(&x->info.needs, k);
            if (!find_module(m, need) && !is_builtin(m, need))
                no_module(m, def->in, need, x->name);
        }
    }
    return true;
}

const char *ramdisk_order_file(const struct mos_ramdisk *def) {
    return mos_text_or(def->modules->order, "/load-order");
}

/* The modules, expanded, and the list of them in the order of loading. */
void ramdisk_add_modules(struct ramdisk *m) {
    struct mos_arena *arena = m->plan->ctx->arena;
    struct mos_buf list = {.arena = arena};
    for (size_t i = 0; i < m->order.count; i++) {
        const struct ramdisk_module *x = mos_vec_pointer(&m->order, i);
        const char *from = strncmp(x->path, "usr/", 4) == 0 ? x->path + 4 : x->path;
        const char *end = strstr(strrchr(from, '/'), ".ko");
        const char *to = mos_strndup(arena, from, (size_t)(end - from) + 3);
        struct ramdisk_item *it = ramdisk_add(m, to, MOS_ENTRY_FILE, 0644);
        it->bytes = x->bytes;
        it->length = x->length;
        mos_buf_printf(&list, "/%s\n", to);
    }
    struct ramdisk_item *it = ramdisk_add(m, ramdisk_order_file(m->def), MOS_ENTRY_FILE, 0644);
    it->bytes = (const uint8_t *)mos_buf_string(&list);
    it->length = list.length;
}
