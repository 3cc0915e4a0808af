#include "kconfig/build-inside.h"

#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { FILE_LIMIT = 16 << 20, DEEPEST = 24, LONGEST = 128 };

struct reading {
    struct mos_ctx *ctx;
    const char *arch;
    struct mos_kc_build *b;
    struct mos_sha256 *hash;
    bool sources;
};

/* ---- which files there are ---- */

struct walk {
    struct mos_arena *arena;
    struct mos_vec names; /* of struct named */
};
struct named {
    const char *name;
    struct mos_file_info info;
};

static bool walk_entry(void *self, const char *name, const struct mos_file_info *info) {
    struct walk *w = self;
    if (*name != '.')
        *(struct named *)mos_vec_push(&w->names) =
            (struct named){mos_strdup(w->arena, name), *info};
    return true;
}

static bool is_build_file(const char *name) {
    return strcmp(name, "Makefile") == 0 || strcmp(name, "Kbuild") == 0;
}

/* What is built for other machines, or for this one, or not at all. */
static bool is_wanted_folder(const struct reading *r, const char *folder, const char *name) {
    static const char *const no[] = {"Documentation", "LICENSES", "tools",  "scripts", "samples",
                                     "include",       "debian",   "config", "dts",     "arch"};
    for (size_t i = 0; i < sizeof no / sizeof *no; i++)
        if (strcmp(name, no[i]) == 0 && (!*folder || strcmp(name, "dts") == 0))
            return strcmp(name, "arch") == 0 && r->arch;
    return strcmp(folder, "arch") != 0 || strcmp(name, r->arch) == 0;
}

static int by_name(const void *a, const void *b) {
    return strcmp(((const struct named *)a)->name, ((const struct named *)b)->name);
}

static int walk_folder(struct reading *r, const char *folder, unsigned depth);

/* Links are not followed: what they lead to has a name of its own. */
static void walk_name(struct reading *r, const char *folder, const struct named *n,
                      unsigned depth) {
    struct mos_arena *arena = r->ctx->arena;
    const struct mos_file_info *info = &n->info;
    const char *path = mos_path_join(arena, folder, n->name);
    if (info->kind == MOS_FILE_FOLDER && is_wanted_folder(r, folder, n->name)) {
        r->b->lost += depth < DEEPEST ? walk_folder(r, path, depth + 1) != 0 : 1;
    } else if (info->kind == MOS_FILE_REGULAR &&
               (is_build_file(n->name) || (r->sources && mos_text_ends(n->name, ".c")))) {
        const char *line =
            mos_printf(arena, "%s %llu %lld %lu %lld %lu\n", path, (unsigned long long)info->size,
                       (long long)info->mtime_s, (unsigned long)info->mtime_ns,
                       (long long)info->ctime_s, (unsigned long)info->ctime_ns);
        mos_sha256_update(r->hash, line, strlen(line));
        mos_vec_push_pointer(&r->b->files, path);
    }
}

static int walk_folder(struct reading *r, const char *folder, unsigned depth) {
    struct mos_arena *arena = r->ctx->arena;
    struct walk w = {arena, mos_vec_make(arena, sizeof(struct named))};
    const struct mos_host *h = r->ctx->host;
    int e = h->survey(h, *folder ? mos_path_join(arena, r->b->folder, folder) : r->b->folder,
                      walk_entry, &w);
    if (w.names.count)
        qsort(w.names.items, w.names.count, sizeof(struct named), by_name);
    for (size_t i = 0; !e && i < w.names.count; i++)
        walk_name(r, folder, mos_vec_at(&w.names, i), depth);
    return e;
}

/* ---- match tables ---- */

/* Where the names of a file go. */
struct text_of {
    struct mos_arena *arena;
    struct mos_kc_build *b;
};

static bool is_word(char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
}

static const char *blanks(const char *p) {
    return p + strspn(p, " \t\n");
}

static void add_driver(struct text_of *r, const char *file, const char *text) {
    size_t n = strcspn(text, "\"\n\\");
    if (n && n < LONGEST && text[n] == '"')
        *(struct mos_kc_source_driver *)mos_vec_push(&r->b->drivers) =
            (struct mos_kc_source_driver){mos_strndup(r->arena, text, n), file};
}

/* .compatible = "maker,part" */
static void read_tables(struct text_of *r, const char *file, const char *text) {
    static const char word[] = "compatible";
    for (const char *p = text; (p = strstr(p, word)); p += sizeof word - 1) {
        const char *q = blanks(p + sizeof word - 1);
        if (p == text || is_word(p[-1]) || *q != '=')
            continue;
        q = blanks(q + 1);
        if (*q == '"')
            add_driver(r, file, q + 1);
    }
}

/* struct i2c_device_id NAME[] = { { "part", … }, … }: names on that bus. */
static void read_names(struct text_of *r, const char *file, const char *text) {
    static const char *const words[][2] = {{"i2c_device_id", "i2c"}, {"spi_device_id", "spi"}};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        for (const char *p = text; (p = strstr(p, words[i][0])); p++) {
            const char *q = blanks(p + strlen(words[i][0]));
            while (is_word(*q))
                q++;
            q = blanks(q);
            if (strncmp(q, "[]", 2) != 0 || *(q = blanks(q + 2)) != '=' ||
                *(q = blanks(q + 1)) != '{')
                continue;
            const char *end = strstr(q, "};");
            for (q++; end && q < end; q++) {
                size_t n = *q == '"' ? strcspn(q + 1, "\"\n\\") : 0;
                if (!n || n >= LONGEST || q[n + 1] != '"')
                    continue;
                *(struct mos_kc_source_driver *)mos_vec_push(&r->b->drivers) =
                    (struct mos_kc_source_driver){
                        mos_printf(r->arena, "%s:%.*s", words[i][1], (int)n, q + 1), file};
                q += n + 1;
            }
        }
}

/* NAME_DECLARE(name, "maker,part", function), and what lists such; early consoles are no drivers.
 */
static void read_declarations(struct text_of *r, const char *file, const char *text) {
    static const char *const words[] = {"_DECLARE", "IRQCHIP_MATCH"};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        for (const char *p = text; (p = strstr(p, words[i])); p++) {
            const char *from = p, *q = p + strlen(words[i]);
            while (from > text && is_word(from[-1]))
                from--;
            while (is_word(*q))
                q++;
            if (*q != '(' || strncmp(from, "OF_EARLYCON", 11) == 0)
                continue;
            q = blanks(q + 1);
            const char *name = q;
            while (is_word(*q))
                q++;
            if (q > name && *blanks(q) == ',')
                q = blanks(blanks(q) + 1);
            if (*q == '"')
                add_driver(r, file, q + 1);
        }
}

/* ---- kept ---- */

void mos_kc_build_add(struct mos_arena *arena, struct mos_kc_build *b, const char *file,
                      const char *text) {
    struct text_of r = {arena, b};
    if (!mos_text_ends(file, ".c")) {
        mos_kc_build_read_rules(arena, b, file, text);
    } else {
        read_tables(&r, file, text);
        read_names(&r, file, text);
        read_declarations(&r, file, text);
    }
}

void mos_kc_build_load(struct mos_ctx *ctx, struct mos_kc_build *b) {
    b->drivers.count = b->rules.count = 0;
    for (size_t i = 0; i < b->files.count; i++) {
        const char *file = mos_vec_pointer(&b->files, i);
        struct mos_error ignored = {0};
        struct mos_ctx aside = mos_ctx_quiet(ctx, &ignored);
        char *text;
        size_t length;
        aside.arena = mos_arena_child(ctx->arena);
        if (mos_read_aside(&aside, mos_path_join(aside.arena, b->folder, file), FILE_LIMIT, &text,
                           &length))
            mos_kc_build_add(ctx->arena, b, file, text);
        else
            b->lost++;
        mos_arena_free(aside.arena);
    }
    mos_kc_build_finish(b);
    struct mos_buf text = {.arena = ctx->arena};
    mos_kc_build_write(b, &text);
    mos_sha256(text.data, text.length, b->said);
}

static int by_compatible(const void *a, const void *b) {
    const struct mos_kc_source_driver *x = a, *y = b;
    int order = strcmp(x->compatible, y->compatible);
    return order ? order : strcmp(x->file, y->file);
}

static int by_object(const void *a, const void *b) {
    const struct mos_kc_rule *x = a, *y = b;
    int order = strcmp(x->object, y->object);
    return order ? order : strcmp(x->of ? x->of : "", y->of ? y->of : "");
}

void mos_kc_build_finish(struct mos_kc_build *b) {
    struct mos_kc_source_driver *d = b->drivers.items;
    size_t kept = 0;
    if (b->rules.count)
        qsort(b->rules.items, b->rules.count, sizeof(struct mos_kc_rule), by_object);
    if (b->drivers.count)
        qsort(d, b->drivers.count, sizeof *d, by_compatible);
    for (size_t i = 0; i < b->drivers.count; i++)
        if (!kept || by_compatible(&d[i], &d[kept - 1]) != 0)
            d[kept++] = d[i];
    b->drivers.count = kept;
}

/* A letter and fields between tabs a line. */
void mos_kc_build_write(const struct mos_kc_build *b, struct mos_buf *out) {
    for (size_t i = 0; i < b->drivers.count; i++) {
        const struct mos_kc_source_driver *d = mos_vec_at(&b->drivers, i);
        mos_buf_printf(out, "d%s\t%s\n", d->compatible, d->file);
    }
    for (size_t i = 0; i < b->rules.count; i++) {
        const struct mos_kc_rule *x = mos_vec_at(&b->rules, i);
        mos_buf_printf(out, "r%s\t%s\t%s\t%s\n", x->object, x->of ? x->of : "",
                       x->symbol ? x->symbol : "", x->guard ? x->guard : "");
    }
    mos_buf_text(out, "e\n");
}

bool mos_kc_build_take(struct mos_kc_build *b, char *p) {
    b->drivers.count = b->rules.count = 0;
    if (!mos_sha256(p, strlen(p), b->said))
        return false;
    while (*p != 'e') {
        char *end = strchr(p, '\n'), *tab = end ? memchr(p, '\t', (size_t)(end - p)) : NULL;
        if (!tab)
            return false; /* cut */
        *end = *tab = 0;
        if (*p == 'd') {
            *(struct mos_kc_source_driver *)mos_vec_push(&b->drivers) =
                (struct mos_kc_source_driver){p + 1, tab + 1};
        } else {
            char *second = strchr(tab + 1, '\t'), *third = second ? strchr(second + 1, '\t') : NULL;
            if (*p != 'r' || !third)
                return false;
            *second++ = *third++ = 0;
            *(struct mos_kc_rule *)mos_vec_push(&b->rules) = (struct mos_kc_rule){
                p + 1, tab[1] ? tab + 1 : NULL, *second ? second : NULL, *third ? third : NULL};
        }
        p = end + 1;
    }
    return true;
}

struct mos_kc_build *mos_kc_build_new(struct mos_arena *arena) {
    struct mos_kc_build *b = mos_alloc(arena, sizeof *b);
    *b = (struct mos_kc_build){.drivers = mos_vec_make(arena, sizeof(struct mos_kc_source_driver)),
                               .rules = mos_vec_make(arena, sizeof(struct mos_kc_rule)),
                               .files = mos_vec_make(arena, sizeof(char *))};
    return b;
}

struct mos_kc_build *mos_kc_build_open(struct mos_ctx *ctx, const char *folder, const char *arch,
                                       bool sources) {
    struct mos_kc_build *b = mos_kc_build_new(ctx->arena);
    struct reading r = {ctx, arch, b, mos_sha256_new(), sources};
    b->folder = folder;
    int e = r.hash ? walk_folder(&r, "", 0) : ENOMEM;
    if (r.hash) {
        mos_sha256_final(r.hash, b->sha256);
        mos_sha256_free(r.hash);
    }
    if (!e)
        return b;
    mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", folder);
    return NULL;
}

/* ---- asking ---- */

/* How many rows of a sorted vector begin with a text, from *first on; a row's key is its first
 * member. */
static size_t rows_of(const struct mos_vec *rows, const char *key, size_t *first) {
    size_t low = 0, high = rows->count, count = 0;
    while (low < high) {
        size_t middle = low + (high - low) / 2;
        if (strcmp(*(const char *const *)mos_vec_at(rows, middle), key) < 0)
            low = middle + 1;
        else
            high = middle;
    }
    while (low + count < rows->count &&
           strcmp(*(const char *const *)mos_vec_at(rows, low + count), key) == 0)
        count++;
    *first = low;
    return count;
}

size_t mos_kc_build_drivers(const struct mos_kc_build *b, const char *compatible,
                            const struct mos_kc_source_driver **first) {
    size_t at, count = rows_of(&b->drivers, compatible, &at);
    *first = count ? mos_vec_at(&b->drivers, at) : NULL;
    return count;
}

size_t mos_kc_build_rules(const struct mos_kc_build *b, const char *object,
                          const struct mos_kc_rule **first) {
    size_t at, count = rows_of(&b->rules, object, &at);
    *first = count ? mos_vec_at(&b->rules, at) : NULL;
    return count;
}
