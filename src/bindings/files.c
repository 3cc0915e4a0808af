#include "bindings/bindings.h"

#include "base/text.h"

#include <errno.h>
#include <string.h>

enum { FILE_LIMIT = 1 << 20, DEEPEST = 16, MOST_FILES = 20000, LONGEST_WORD = 128 };

/* ---- which files there are ---- */

struct walk {
    struct mos_bindings *b;
    const char *folder; /* from the folder of all; "" is that itself */
    unsigned depth;
    struct mos_vec below; /* of const char * */
};

static bool walk_entry(void *self, const char *name) {
    struct walk *w = self;
    struct mos_arena *arena = w->b->quiet.arena;
    const char *path = *w->folder ? mos_path_join(arena, w->folder, name) : mos_strdup(arena, name);
    if (mos_text_ends(name, ".yaml")) {
        struct mos_binding *file = mos_alloc(arena, sizeof *file);
        file->name = path;
        if (w->b->files.count < MOST_FILES)
            mos_map_set(&w->b->files, path, file);
        else
            w->b->lost++;
    } else if (*name != '.' && !strchr(name, '.')) { /* a folder, or a text that lists nothing */
        mos_vec_push_pointer(&w->below, path);
    }
    return true;
}

static int walk_folder(struct mos_bindings *b, const char *folder, unsigned depth) {
    struct walk w = {b, folder, depth, mos_vec_make(b->quiet.arena, sizeof(char *))};
    const struct mos_host *h = b->quiet.host;
    int e = h->list(h, *folder ? mos_path_join(b->quiet.arena, b->folder, folder) : b->folder,
                    walk_entry, &w);
    for (size_t i = 0; !e && i < w.below.count; i++) {
        int below =
            depth < DEEPEST ? walk_folder(b, mos_vec_pointer(&w.below, i), depth + 1) : ELOOP;
        b->lost += below && below != ENOTDIR; /* some files have no ending */
    }
    return e;
}

struct mos_bindings *mos_bindings_open(struct mos_ctx *ctx, const char *folder, const char *shown) {
    struct mos_bindings *b = mos_alloc(ctx->arena, sizeof *b);
    b->quiet = mos_ctx_quiet(ctx, &b->ignored);
    b->quiet.stamp = NULL; /* who uses them adds the hash of all */
    b->folder = folder;
    b->shown = shown;
    b->files = mos_map_make(ctx->arena);
    b->wanted = mos_map_make(ctx->arena);
    b->fresh = mos_map_make(ctx->arena);
    int e = walk_folder(b, "", 0);
    if (e) {
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", shown);
        return NULL;
    }
    return b;
}

/* ---- reading one ---- */

bool mos_bindings_read(struct mos_bindings *b, struct mos_binding *file) {
    if (file->looked)
        return file->root != NULL;
    file->looked = true;
    b->ignored = (struct mos_error){0};
    b->quiet.findings = mos_findings_make(b->quiet.arena);
    struct mos_source *source =
        mos_source_load(&b->quiet, mos_path_join(b->quiet.arena, b->folder, file->name),
                        mos_path_join(b->quiet.arena, b->shown, file->name), FILE_LIMIT);
    const struct mos_node *root = source ? mos_yaml_parse(&b->quiet, source) : NULL;
    if (source)
        source->outside = true;
    if (root && root->kind == MOS_NODE_MAP && !b->quiet.findings.items.count)
        file->root = root;
    return file->root != NULL;
}

/* ---- which file is for what ---- */

static bool want_node(void *self, struct mos_dt_node *node) {
    struct mos_bindings *b = self;
    const struct mos_dt_property *p = mos_dt_property(node, "compatible");
    size_t at = 0;
    for (const char *text; (text = mos_dt_next_string(p, &at));) {
        size_t n = strlen(text);
        if (n && n <= LONGEST_WORD && !mos_map_get(&b->wanted, text)) {
            struct mos_arena *arena = b->quiet.arena;
            struct mos_vec *files = mos_alloc(arena, sizeof *files);
            *files = mos_vec_make(arena, sizeof(struct mos_binding *));
            const char *kept = mos_strndup(arena, text, n);
            mos_map_set(&b->wanted, kept, files);
            mos_map_set(&b->fresh, kept, files);
        }
    }
    return true;
}

static bool in_word(unsigned char c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') ||
           (c && strchr(",._+-/", c));
}

/* Notes a file for the wanted words that stand in it as values, before its examples. */
static void scan(const struct mos_map *fresh, const bool *lengths, const struct mos_binding *file,
                 const char *text) {
    char word[LONGEST_WORD + 1], before = 0;
    const char *end = strstr(text, "\nexamples:");
    for (const char *p = text; *p && p != end; before = strchr(" \t\n", *p) ? before : *p, p++) {
        size_t n = 0;
        while (in_word((unsigned char)p[n]))
            n++;
        if (n && n <= LONGEST_WORD && lengths[n] && before && strchr("-:[,'\"", before)) {
            memcpy(word, p, n);
            word[n] = 0;
            struct mos_vec *files = mos_map_get(fresh, word);
            if (files && (!files->count || mos_vec_pointer(files, files->count - 1) != file))
                mos_vec_push_pointer(files, file);
        }
        p += n ? n - 1 : 0;
    }
}

void mos_bindings_want(struct mos_bindings *b, const struct mos_dt *dt) {
    mos_dt_walk(dt->root, want_node, b);
}

static void count_anew(struct mos_bindings *b) {
    b->tree++;
    b->unread = b->lost;
    for (size_t i = 0; i < b->files.count; i++)
        b->unread += ((const struct mos_binding *)b->files.items[i].value)->unread;
}

static void look(struct mos_bindings *b) {
    struct mos_arena *arena = b->quiet.arena;
    bool lengths[LONGEST_WORD + 1] = {false};
    for (size_t i = 0; i < b->fresh.count; i++)
        lengths[strlen(b->fresh.items[i].key)] = true;
    if (!b->fresh.count)
        return;
    struct mos_sha256 *hash = b->hashed ? NULL : mos_sha256_new();
    for (size_t i = 0; i < b->files.count; i++) {
        struct mos_binding *file = b->files.items[i].value;
        char *text;
        size_t length;
        b->ignored = (struct mos_error){0};
        b->quiet.arena = mos_arena_child(arena);
        bool read = mos_read_aside(&b->quiet, mos_path_join(b->quiet.arena, b->folder, file->name),
                                   FILE_LIMIT, &text, &length);
        if (read)
            scan(&b->fresh, lengths, file, text);
        file->unread = !read;
        if (hash) {
            mos_sha256_update(hash, file->name, strlen(file->name) + 1);
            mos_sha256_update(hash, read ? text : "", read ? length : 0);
        }
        mos_arena_free(b->quiet.arena);
        b->quiet.arena = arena;
    }
    b->fresh = mos_map_make(arena);
    if (hash) {
        mos_sha256_final(hash, b->sha256);
        mos_sha256_free(hash);
        b->hashed = true;
    }
}

void mos_bindings_look(struct mos_bindings *b) {
    look(b);
    count_anew(b);
}

/* ---- references ---- */

/* "/properties/foo" in a file. */
static const struct mos_node *pointed(const struct mos_node *at, const char *path) {
    char key[LONGEST_WORD + 1];
    while (at && *path == '/') {
        size_t n = strcspn(++path, "/");
        if (n > LONGEST_WORD)
            return NULL;
        memcpy(key, path, n);
        key[n] = 0;
        at = at->kind == MOS_NODE_MAP ? mos_node_get(at, key) : NULL;
        path += n;
    }
    return *path ? NULL : at;
}

static struct mos_binding *named_file(struct mos_bindings *b, const struct mos_binding *from,
                                      const char *name) {
    static const char host[] = "http://devicetree.org", all[] = "/schemas/";
    struct mos_arena *arena = b->quiet.arena;
    if (strncmp(name, host, sizeof host - 1) == 0)
        name += sizeof host - 1;
    if (strncmp(name, all, sizeof all - 1) == 0)
        return mos_map_get(&b->files, name + sizeof all - 1);
    const char *folder = mos_path_folder(arena, from->name);
    while (strncmp(name, "../", 3) == 0) {
        folder = mos_path_folder(arena, folder);
        name += 3;
    }
    name += strncmp(name, "./", 2) == 0 ? 2 : 0;
    return mos_map_get(&b->files, mos_path_join(arena, folder, name));
}

struct mos_schema mos_bindings_refer(struct mos_bindings *b, const struct mos_binding *from,
                                     const char *ref, const char **type) {
    static const char types[] = "types.yaml#/definitions/";
    const char *of_types = strstr(ref, types), *sign = strchr(ref, '#');
    *type = of_types ? of_types + sizeof types - 1 : NULL;
    if (*type)
        return (struct mos_schema){from, NULL};
    size_t n = sign ? (size_t)(sign - ref) : strlen(ref);
    struct mos_binding *file = n ? named_file(b, from, mos_strndup(b->quiet.arena, ref, n))
                                 : mos_map_get(&b->files, from->name);
    if (!file || !mos_bindings_read(b, file))
        return (struct mos_schema){from, NULL};
    return (struct mos_schema){file, sign ? pointed(file->root, sign + 1) : file->root};
}
