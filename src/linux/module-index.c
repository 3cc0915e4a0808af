#include "linux/module-index.h"

#include "base/text.h"
#include "linux/module.h"

#include <stdlib.h>
#include <string.h>

struct maker {
    struct mos_arena *arena;
    const struct mos_vec *modules;
    struct mos_map by_name; /* -> struct node * */
    struct mos_map builtin; /* names */
    struct mos_vec *files;
    bool fits;
};

struct node {
    const struct mos_indexed_module *m;
    uint32_t rank; /* which of two that answer to one name goes first */
    unsigned mark; /* of the walk that has met it */
};

/* With _ instead of -, but for what stands in brackets. */
static const char *plain_alias(struct mos_arena *arena, const char *alias) {
    char *out = mos_strdup(arena, alias);
    bool inside = false;
    for (char *c = out; *c; c++) {
        inside = (inside || *c == '[') && *c != ']';
        if (*c == '-' && !inside)
            *c = '_';
    }
    return out;
}

/* ---- files ---- */

static struct mos_buf *file(struct maker *k, const char *name) {
    struct mos_index_file *f = mos_vec_push(k->files);
    *f = (struct mos_index_file){name, {.arena = k->arena}};
    return &f->bytes;
}

static struct mos_buf *text_file(struct maker *k, const char *name) {
    struct mos_buf *b = file(k, name);
    mos_buf_text(b, "# Made by Mosaicum from the modules below.\n");
    return b;
}

static void add_value(struct mos_vec *v, const char *key, const char *value, uint32_t priority) {
    *(struct mos_trie_value *)mos_vec_push(v) = (struct mos_trie_value){key, value, priority};
}

static struct mos_vec values(struct maker *k) {
    return mos_vec_make(k->arena, sizeof(struct mos_trie_value));
}

static void binary_file(struct maker *k, const char *name, struct mos_vec *v) {
    k->fits &= mos_trie_write(file(k, name), v);
}

/* ---- what a module needs ---- */

static struct node *find(const struct maker *k, const char *name) {
    return mos_map_get(&k->by_name, plain_alias(k->arena, name));
}

/* Appends what lies below, each once, what is needed before what needs it. */
static void walk(struct maker *k, struct node *n, unsigned mark, struct mos_vec *out) {
    for (size_t i = 0; i < n->m->needs.count; i++) {
        struct node *x = find(k, mos_vec_pointer(&n->m->needs, i));
        if (!x || x->mark == mark)
            continue;
        x->mark = mark;
        walk(k, x, mark, out);
        mos_vec_push_pointer(out, x);
    }
}

static void find_lacking(struct maker *k, struct mos_index_lack *lacking) {
    *lacking = (struct mos_index_lack){0};
    for (size_t i = 0; i < k->modules->count; i++) {
        const struct mos_indexed_module *m = mos_vec_pointer(k->modules, i);
        for (size_t n = 0; n < m->needs.count; n++) {
            const char *need = mos_vec_pointer(&m->needs, n);
            if (find(k, need) || mos_map_get(&k->builtin, plain_alias(k->arena, need)) ||
                lacking->count++)
                continue;
            lacking->module = m->name;
            lacking->need = need;
        }
    }
}

/* "path: what is needed last … what is needed first" */
static void add_needs(struct maker *k) {
    struct mos_buf *text = file(k, "modules.dep");
    struct mos_vec v = values(k);
    for (size_t i = 0; i < k->by_name.count; i++) {
        struct node *n = k->by_name.items[i].value;
        struct mos_vec order = mos_vec_make(k->arena, sizeof(void *));
        struct mos_buf line = {.arena = k->arena};
        n->mark = (unsigned)i + 1;
        walk(k, n, n->mark, &order);
        mos_buf_printf(&line, "%s:", n->m->path);
        for (size_t d = order.count; d--;)
            mos_buf_printf(&line, " %s", ((struct node *)mos_vec_pointer(&order, d))->m->path);
        mos_buf_printf(text, "%s\n", mos_buf_string(&line));
        add_value(&v, n->m->name, mos_buf_string(&line), n->rank);
    }
    binary_file(k, "modules.dep.bin", &v);
}

/* ---- names that modules answer to ---- */

static void add_aliases(struct maker *k) {
    struct mos_buf *text = text_file(k, "modules.alias");
    struct mos_vec v = values(k);
    for (size_t i = 0; i < k->by_name.count; i++) {
        const struct node *n = k->by_name.items[i].value;
        for (size_t a = 0; a < n->m->aliases.count; a++) {
            const char *alias = mos_vec_pointer(&n->m->aliases, a);
            mos_buf_printf(text, "alias %s %s\n", alias, n->m->name);
            add_value(&v, plain_alias(k->arena, alias), n->m->name, n->rank);
        }
    }
    binary_file(k, "modules.alias.bin", &v);
}

static void add_symbols(struct maker *k) {
    struct mos_buf *text = text_file(k, "modules.symbols");
    struct mos_vec v = values(k);
    for (size_t i = 0; i < k->by_name.count; i++) {
        const struct node *n = k->by_name.items[i].value;
        for (size_t a = 0; a < n->m->symbols.count; a++) {
            const char *key =
                mos_printf(k->arena, "symbol:%s", (const char *)mos_vec_pointer(&n->m->symbols, a));
            mos_buf_printf(text, "alias %s %s\n", key, n->m->name);
            add_value(&v, key, n->m->name, n->rank);
        }
    }
    binary_file(k, "modules.symbols.bin", &v);
}

static void add_soft(struct maker *k) {
    struct mos_buf *soft = text_file(k, "modules.softdep"), *weak = NULL;
    for (size_t i = 0; i < k->by_name.count; i++) {
        const struct mos_indexed_module *m = ((struct node *)k->by_name.items[i].value)->m;
        for (size_t a = 0; a < m->soft.count; a++)
            mos_buf_printf(soft, "softdep %s %s\n", m->name,
                           (const char *)mos_vec_pointer(&m->soft, a));
    }
    for (size_t i = 0; i < k->by_name.count; i++) {
        const struct mos_indexed_module *m = ((struct node *)k->by_name.items[i].value)->m;
        for (size_t a = 0; a < m->weak.count; a++) {
            weak = weak ? weak : text_file(k, "modules.weakdep");
            mos_buf_printf(weak, "weakdep %s %s\n", m->name,
                           (const char *)mos_vec_pointer(&m->weak, a));
        }
    }
}

/* "char-major-10-200" and "block-major-7-*": the kind and the numbers; false: it is no such. */
static bool device_of(const char *alias, char *kind, unsigned *major, unsigned *minor) {
    static const char *const forms[] = {"char-major-", "block-major-"};
    for (size_t i = 0; i < 2; i++) {
        size_t n = strlen(forms[i]);
        char *end;
        if (strncmp(alias, forms[i], n) != 0 || alias[n] < '0' || alias[n] > '9')
            continue;
        *kind = forms[i][0];
        *major = (unsigned)strtoul(alias + n, &end, 10);
        if (*end != '-' || end[1] < '0' || end[1] > '9')
            return false;
        *minor = (unsigned)strtoul(end + 1, &end, 10);
        return !*end;
    }
    return false;
}

/* Device nodes that load a module when they are opened. */
static void add_devices(struct maker *k) {
    struct mos_buf *text = text_file(k, "modules.devname");
    for (size_t i = 0; i < k->by_name.count; i++) {
        const struct mos_indexed_module *m = ((struct node *)k->by_name.items[i].value)->m;
        const char *name = NULL;
        char kind = 0;
        unsigned major = 0, minor = 0;
        for (size_t a = 0; a < m->aliases.count; a++) {
            const char *alias = mos_vec_pointer(&m->aliases, a);
            if (strncmp(alias, "devname:", 8) == 0)
                name = alias + 8;
            else if (!kind && !device_of(alias, &kind, &major, &minor))
                kind = 0;
        }
        if (name && kind)
            mos_buf_printf(text, "%s %s %c%u:%u\n", m->name, name, kind, major, minor);
    }
}

/* ---- what is built in ---- */

static void note_builtin(struct maker *k, const char *text) {
    for (const char *line = text; line && *line; line = mos_next_line(line)) {
        const char *name =
            mos_module_name(k->arena, mos_strndup(k->arena, line, strcspn(line, "\n")));
        if (name)
            mos_map_set_const(&k->builtin, name, name);
    }
}

static void add_builtin(struct maker *k, const struct mos_index_extras *extras) {
    struct mos_vec names = values(k), aliases = values(k);
    for (size_t i = 0; i < k->builtin.count; i++)
        add_value(&names, k->builtin.items[i].key, "", 0);
    for (size_t at = 0, n; extras->facts && at < extras->facts_length; at += n + 1) {
        const char *fact = (const char *)extras->facts + at, *dot;
        n = strnlen(fact, extras->facts_length - at);
        fact = mos_strndup(k->arena, fact, n);
        dot = strchr(fact, '.');
        if (!dot || strncmp(dot, ".alias=", 7) != 0)
            continue;
        const char *name = plain_alias(k->arena, mos_strndup(k->arena, fact, (size_t)(dot - fact)));
        add_value(&aliases, plain_alias(k->arena, dot + 7), name, 0);
    }
    binary_file(k, "modules.builtin.bin", &names);
    if (extras->facts)
        binary_file(k, "modules.builtin.alias.bin", &aliases);
}

/* ---- all of it ---- */

/* Of two files of one name: the one in updates/ counts, then the one in kernel/. */
static unsigned weight(const char *path) {
    return strncmp(path, "updates/", 8) == 0 ? 2 : strncmp(path, "kernel/", 7) == 0 ? 1 : 0;
}

/* The kernel's build says which goes first; what it does not know comes behind, by path. */
static void rank_modules(struct maker *k, const char *order) {
    struct mos_map ranks = mos_map_make(k->arena);
    for (const char *line = order; line && *line; line = mos_next_line(line)) {
        const char *name =
            mos_module_name(k->arena, mos_strndup(k->arena, line, strcspn(line, "\n")));
        if (name && !mos_map_get(&ranks, name))
            mos_map_set(&ranks, name, (void *)(uintptr_t)(ranks.count + 1));
    }
    for (size_t i = 0; i < k->modules->count; i++) {
        const struct mos_indexed_module *m = mos_vec_pointer(k->modules, i);
        struct node *n = mos_alloc(k->arena, sizeof *n), *old = mos_map_get(&k->by_name, m->name);
        uintptr_t rank = (uintptr_t)mos_map_get(&ranks, m->name);
        *n = (struct node){.m = m, .rank = (uint32_t)(rank ? rank : ranks.count + 1 + i)};
        if (!old || weight(m->path) >= weight(old->m->path))
            mos_map_set(&k->by_name, m->name, n);
    }
}

bool mos_module_index(struct mos_arena *arena, const struct mos_vec *modules,
                      const struct mos_index_extras *extras, struct mos_vec *out,
                      struct mos_index_lack *lacking) {
    struct maker k = {.arena = arena,
                      .modules = modules,
                      .by_name = mos_map_make(arena),
                      .builtin = mos_map_make(arena),
                      .files = out,
                      .fits = true};
    note_builtin(&k, extras->builtin);
    rank_modules(&k, extras->order);
    find_lacking(&k, lacking);
    add_needs(&k);
    add_aliases(&k);
    add_symbols(&k);
    add_soft(&k);
    add_devices(&k);
    add_builtin(&k, extras);
    return k.fits;
}
