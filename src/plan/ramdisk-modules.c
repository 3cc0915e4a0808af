/* What a ramdisk takes out of archives: files, and modules with what they need. */
#include "plan/ramdisk_internal.h"

#include "base/bytes.h"
#include "base/text.h"
#include "plan/steps.h"

#include <errno.h>
#include <stdlib.h>
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
    uint8_t *passing; /* the same, where nobody keeps them */
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
        *x = (struct ramdisk_module){.name = name,
                                     .path = mos_strdup(arena, e->path),
                                     .answers = mos_vec_make(arena, sizeof(char *))};
        mos_vec_push_pointer(&g->m->modules, x);
        for (size_t i = 0; i < def->names.count; i++)
            x->wanted |=
                mos_has(def->names.items[i]) && mos_module_same(def->names.items[i]->text, name);
    }
    return (x->wanted && !x->bytes) || (g->m->searches && !x->searched) ? x : NULL;
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
    g->size = e->size;
    bool stays = g->item || g->builtin || (g->module && g->module->wanted);
    if (stays)
        g->bytes = mos_alloc(arena, (size_t)e->size + 1);
    else if (g->module)
        g->bytes = g->passing = calloc(1, (size_t)e->size + 1);
    return stays || !g->module || g->bytes ||
           mos_fail(g->m->plan->ctx->error, MOS_ERROR_SYSTEM, ENOMEM, "Cannot read %s", e->path);
}

static bool gather_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct gather *g = self;
    if (g->bytes && offset < g->size)
        memcpy(g->bytes + offset, bytes, (size_t)mos_min(length, g->size - offset));
    return true;
}

/* Which of the names that are sought a module answers to.  All of an archive's modules go by here,
 * so nothing of them stays. */
static void search_module(struct gather *g) {
    struct mos_ctx aside = *g->m->plan->ctx;
    struct ramdisk_module *x = g->module;
    const uint8_t *bytes = g->bytes;
    size_t length = (size_t)g->size;
    struct mos_module_info info;
    aside.arena = mos_arena_child(g->m->plan->ctx->arena);
    x->searched = true;
    if (mos_unpack_bytes(&aside, &bytes, &length, MOST_FILE) &&
        mos_module_read(aside.arena, bytes, length, &info))
        for (size_t i = 0; i < g->m->sought.count; i++) {
            const char *name = mos_vec_pointer(&g->m->sought, i);
            for (size_t k = 0; k < info.aliases.count; k++)
                if (mos_glob(mos_vec_pointer(&info.aliases, k), name, strlen(name), 0)) {
                    mos_vec_push_pointer(&x->answers, name);
                    break;
                }
        }
    mos_arena_free(aside.arena);
}

static void take_module(struct gather *g) {
    struct mos_ctx *ctx = g->m->plan->ctx;
    struct ramdisk_module *x = g->module;
    x->bytes = g->bytes;
    x->length = (size_t)g->size;
    if (mos_unpack_bytes(ctx, &x->bytes, &x->length, MOST_FILE) &&
        mos_module_read(ctx->arena, x->bytes, x->length, &x->info))
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
    if (g->module && g->module->wanted && !g->module->bytes)
        take_module(g);
    if (g->module && g->m->searches)
        search_module(g);
    free(g->passing);
    g->passing = NULL;
    return true;
}

bool ramdisk_gather(struct ramdisk *m, struct mos_piece_plan *archive) {
    struct gather g = {.m = m, .archive = archive};
    struct mos_sink sink = {&g, gather_entry, gather_data, gather_end};
    bool ok = (archive->bytes && !archive->member) ||
              mos_plan_read_archive(m->plan, archive, &sink) || archive->damaged;
    free(g.passing);
    return ok;
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

static bool answers(const struct ramdisk_module *x, const char *name) {
    for (size_t i = 0; i < x->answers.count; i++)
        if (strcmp(mos_vec_pointer(&x->answers, i), name) == 0)
            return true;
    return false;
}

/* Asks for what a module needs: the module of that name, else all that answer to it (a name that is
 * new is sought first).  true when there is something new to read. */
static bool ask_for(struct ramdisk *m, const struct mos_vec *names, bool soft) {
    bool more = false;
    for (size_t i = 0; i < names->count; i++) {
        const char *name = mos_vec_pointer(names, i);
        struct ramdisk_module *x = find_module(m, name);
        if (x && !x->wanted)
            more = x->wanted = true;
        if (x || !soft) /* one that is built in may have the name, and others answer to it all the
                           same */
            continue;
        bool known = false;
        for (size_t k = 0; k < m->sought.count && !known; k++)
            known = strcmp(mos_vec_pointer(&m->sought, k), name) == 0;
        if (!known) {
            mos_vec_push_pointer(&m->sought, name);
            m->searches = more = true;
        }
        for (size_t k = 0; known && k < m->modules.count; k++) {
            x = mos_vec_pointer(&m->modules, k);
            if (answers(x, name) && !x->wanted)
                more = x->wanted = true;
        }
    }
    return more;
}

/* One more reading of the archive; with `searches` all modules are asked for their aliases. */
static bool read_again(struct ramdisk *m, struct mos_piece_plan *archive) {
    for (size_t i = 0; i < m->modules.count && m->searches; i++) {
        struct ramdisk_module *x = mos_vec_pointer(&m->modules, i);
        x->searched = false;
        x->answers.count = 0;
    }
    bool ok = ramdisk_gather(m, archive);
    m->searches = false;
    return ok;
}

static void put_all_in_order(struct ramdisk *m, const struct mos_vec *names);

static void put_in_order(struct ramdisk *m, struct ramdisk_module *x) {
    if (!x || x->ordered || x->on_way || !x->bytes)
        return;
    x->on_way = true;
    put_all_in_order(m, &x->info.needs);
    put_all_in_order(m, &x->info.wants);
    x->ordered = true;
    mos_vec_push_pointer(&m->order, x);
    put_all_in_order(m, &x->info.wants_after);
}

static void put_all_in_order(struct ramdisk *m, const struct mos_vec *names) {
    for (size_t i = 0; i < names->count; i++) {
        const char *name = mos_vec_pointer(names, i);
        struct ramdisk_module *x = find_module(m, name);
        put_in_order(m, x);
        for (size_t k = 0; !x && k < m->modules.count; k++)
            if (answers(mos_vec_pointer(&m->modules, k), name))
                put_in_order(m, mos_vec_pointer(&m->modules, k));
    }
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
        mos_finding_try(&m->plan->ctx->findings, f, "Write %s.", near);
}

bool ramdisk_take_modules(struct ramdisk *m, struct mos_piece_plan *archive) {
    const struct mos_ramdisk_modules *def = m->def->modules;
    bool more = true;
    for (unsigned round = 0; more && round < MOST_ROUNDS; round++) {
        if (round && !read_again(m, archive))
            return false;
        more = false;
        for (size_t i = 0; i < m->modules.count; i++) {
            struct ramdisk_module *x = mos_vec_pointer(&m->modules, i);
            if (x->bytes)
                more |= ask_for(m, &x->info.needs, false) + ask_for(m, &x->info.wants, true) +
                            ask_for(m, &x->info.wants_after, true) >
                        0;
        }
    }
    if (more)
        ramdisk_complain(m, MOS_RULE_PIECE_FORMAT, def->in->place,
                         mos_printf(m->plan->ctx->arena,
                                    "modules of %s need one another over more than %d steps.",
                                    def->in->text, MOST_ROUNDS));
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
