/* The files of a pass: where they are found, and where a token of theirs stands. */
#include "tree/cpp.h"
#include "tree/source_internal.h"

#include <errno.h>
#include <stdlib.h>

enum { DEEPEST_INCLUDE = 200, MOST_FILES = 4096, MOST_PLACES = 4 };

/* ---- names ---- */

/* A path without "." and "..", as far as that is possible.  stays: NULL where it leads out. */
static const char *cleaned(struct mos_arena *arena, const char *path, bool stays) {
    struct mos_buf out = {.arena = arena};
    size_t kept = 0; /* characters that no ".." takes away */
    if (*path == '/' && !stays) {
        mos_buf_char(&out, '/');
        kept = 1;
    }
    while (*path) {
        size_t n = strcspn(path, "/");
        bool up = n == 2 && path[0] == '.' && path[1] == '.';
        if (up && out.length > kept) {
            while (out.length > kept && out.data[--out.length] != '/')
                ;
        } else if (up && stays) {
            return NULL;
        } else if (n && !(n == 1 && *path == '.')) {
            if (out.length && out.data[out.length - 1] != '/')
                mos_buf_char(&out, '/');
            mos_buf_add(&out, path, n);
            kept = up ? out.length : kept;
        }
        path += n;
        path += *path == '/';
    }
    return mos_buf_string(&out);
}

/* A name as seen from a folder, as a path below the workspace or a root ("<NAME>/…"); NULL when it
 * leaves that. */
static const char *inside(struct mos_arena *arena, const char *folder, const char *name) {
    const char *path = mos_path_join(arena, folder, name);
    size_t root = *path == '<' && path[strcspn(path, ">")] ? strcspn(path, ">") + 1 : 0;
    const char *rest = cleaned(arena, path + root, true);
    return rest && root ? mos_printf(arena, "%.*s/%s", (int)root, path, rest) : rest;
}

/* The name that is shown for a file; NULL: it may not be there. */
static const char *shown_name(struct mos_cpp *c, const char *folder, const char *name) {
    bool whole = *name == '/';
    if (c->store->anywhere)
        return cleaned(c->arena, whole ? name : mos_path_join(c->arena, folder, name), false);
    return whole ? NULL : inside(c->arena, folder, name);
}

/* ---- places ---- */

static const struct mos_source *source_of(struct mos_cpp *c, const struct mos_cpp_token *name) {
    const char *shown = shown_name(c, ".", mos_cpp_unquoted(c->arena, name));
    struct mos_cpp_file *known = shown ? mos_map_get(&c->store->files, shown) : NULL;
    if (known || !shown || !c->store->root)
        return known ? known->source : NULL;
    struct mos_ctx quiet = *c->ctx;
    struct mos_error ignored = {0};
    quiet.error = &ignored;
    quiet.arena = c->store->arena;
    const char *path = mos_workspace_path(c->ctx, c->store->root, shown);
    return path ? mos_source_load(&quiet, path, shown, MOS_DTS_LIMIT) : NULL;
}

/* The place that `# 12 "file"` before an offset gives it. */
static struct mos_place marked(struct mos_cpp *c, const struct mos_cpp_file *f, size_t offset,
                               size_t length) {
    const struct mos_cpp_directive *last = NULL, *named = NULL;
    for (size_t i = 0; i < f->lines.count; i++) {
        const struct mos_cpp_directive *d = mos_vec_pointer(&f->lines, i);
        if (mos_cpp_offset(f, d->at) > offset)
            break;
        last = d;
        named = d->count > 1 && d->tokens[1].kind == MOS_CPP_STRING ? d : named;
    }
    struct mos_place own = mos_place_at(f->source, offset, length);
    if (!last || !last->count || last->tokens[0].kind != MOS_CPP_NUMBER)
        return own;
    const struct mos_source *s = named ? source_of(c, &named->tokens[1]) : f->source;
    struct mos_position here = mos_source_position(f->source, offset),
                        there = mos_source_position(f->source, mos_cpp_offset(f, last->at));
    unsigned line =
        (unsigned)strtoul(last->tokens[0].text, NULL, 10) + (here.line - there.line - 1);
    if (!s)
        return mos_place_thing(mos_printf(/* it stays, as sources do */
                                          c->store->arena, "%s:%u",
                                          mos_cpp_unquoted(c->arena, &named->tokens[1]), line));
    size_t start = mos_source_line_start(s, line), line_length;
    const char *text = mos_source_line(s, start, &line_length);
    size_t at = here.column - 1;
    if (at + length <= line_length && memcmp(text + at, f->source->text + offset, length) == 0)
        return mos_place_at(s, start + at, length);
    size_t blanks = 0; /* a macro stood here: mark the whole line */
    while (blanks < line_length && (text[blanks] == ' ' || text[blanks] == '\t'))
        blanks++;
    return mos_place_at(s, start + blanks, line_length - blanks);
}

struct mos_place mos_cpp_place(struct mos_cpp *c, const struct mos_cpp_seen *at) {
    const struct mos_cpp_file *f = at->file;
    if (!f)
        return mos_place_thing("the command line");
    size_t offset = mos_cpp_offset(f, at->own), length = at->own_length;
    if (length > f->source->length - offset)
        length = f->source->length - offset;
    return f->lines.count ? marked(c, f, offset, length) : mos_place_at(f->source, offset, length);
}

/* Where the macros are defined that a token came through, and who included its file. */
static void add_chain(struct mos_cpp *c, struct mos_finding *f, const struct mos_cpp_seen *at) {
    struct mos_findings *list = &c->ctx->findings;
    unsigned told = 0;
    for (uint32_t use = at->use; use && told < MOST_PLACES; told++) {
        const struct mos_cpp_use *u = mos_vec_at(&c->uses, use - 1);
        const struct mos_cpp_macro *m = u->macro;
        if (m->file)
            mos_finding_at(
                list, f,
                mos_place_at(m->file->source, mos_cpp_offset(m->file, m->at), m->name->length));
        use = u->outer;
    }
    const struct mos_cpp_buffer *b = c->buffer;
    while (b && b->file != at->file)
        b = b->outer;
    for (; b && b->by && b->outer && told < MOST_PLACES; b = b->outer, told++) {
        const struct mos_cpp_file *by = b->outer->file;
        const struct mos_cpp_token *name = b->by->count ? b->by->tokens : NULL;
        const char *text = name && !(name->flags & MOS_CPP_MADE) ? name->text : b->by->at;
        mos_finding_at(list, f,
                       mos_place_at(by->source, mos_cpp_offset(by, text), name ? name->length : 1));
    }
}

bool mos_cpp_fail(struct mos_cpp *c, const struct mos_cpp_seen *at, const char *remedy,
                  const char *format, ...) {
    if (c->failed)
        return false;
    c->failed = true;
    va_list arguments;
    va_start(arguments, format);
    const char *message = mos_vprintf(c->ctx->arena, format, arguments);
    va_end(arguments);
    struct mos_findings *list = &c->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_TREE_SYNTAX, "%s", message);
    mos_finding_at(list, f, mos_cpp_place(c, at));
    add_chain(c, f, at);
    if (at->use) {
        const struct mos_cpp_use *u = mos_vec_at(&c->uses, at->use - 1);
        mos_finding_why(list, f, "This is what macro %s stands for here.", u->macro->name->text);
    }
    mos_finding_try(list, f, "%s", remedy ? remedy : "Correct the source at this place.");
    return false;
}

/* ---- files ---- */

/* 0, an errno value, or MOS_OUT_OF_REACH: it lies outside. */
static int look_for(struct mos_cpp *c, const char *folder, const char *name, const char **shown) {
    struct mos_file_info info;
    *shown = shown_name(c, folder, name);
    if (*shown && mos_map_get(&c->store->files, *shown))
        return 0;
    const char *path = *shown ? mos_workspace_path(c->ctx, c->store->root, *shown) : NULL;
    int e = path ? c->ctx->host->info(c->ctx->host, path, true, &info) : MOS_OUT_OF_REACH;
    return e ? e : info.kind == MOS_FILE_REGULAR ? 0 : ENOENT;
}

static int look(struct mos_cpp *c, const char *name, bool beside, size_t *folder,
                const char **shown) {
    const struct mos_cpp_store *s = c->store;
    int e = ENOENT;
    size_t i = *folder;
    if (!s->root)
        return ENOENT;
    if (beside && c->buffer)
        e = look_for(c, c->buffer->file->folder, name, shown);
    *folder = 0;
    for (; i < s->folder_count && e && e != MOS_OUT_OF_REACH; i++) {
        e = look_for(c, s->folders[i], name, shown);
        *folder = i + 1;
    }
    return e;
}

int mos_cpp_has(struct mos_cpp *c, const char *name, bool beside) {
    const char *shown;
    size_t folder = 0;
    int e = look(c, name, beside, &folder, &shown);
    return e == MOS_OUT_OF_REACH ? -1 : !e;
}

const char *mos_cpp_look(struct mos_cpp *c, const struct mos_cpp_seen *at, const char *name,
                         bool beside, size_t *folder) {
    const char *shown;
    int e = look(c, name, beside, folder, &shown);
    if (!e)
        return shown;
    if (e != MOS_OUT_OF_REACH) {
        mos_cpp_fail(c, at,
                     c->store->anywhere ? "Name its folder: --include DIR."
                                        : "Name the folder in tree: {includes: [ … ]}.",
                     "There is no file %s.", name);
        return NULL;
    }
    struct mos_findings *list = &c->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_PIECE_PATH, "%s includes %s, which lies outside of %s.",
                 at->file ? at->file->source->shown_path : "The command line", name,
                 c->store->anywhere ? "the folders that may be read" : "the workspace");
    mos_finding_at(list, f, mos_cpp_place(c, at));
    mos_finding_try(list, f,
                    c->store->anywhere
                        ? "Name its folder, too: --include DIR."
                        : "Copy the file into the workspace, or name its folder in mosaicum.yaml "
                          "(roots: {NAME: FOLDER}) and under tree: includes: [<NAME>/…].");
    c->failed = true;
    return NULL;
}

/* A file of an earlier pass: this board is made of it, too. */
static void note_again(struct mos_cpp *c, struct mos_cpp_file *f) {
    const struct mos_source *s = f->source;
    if (!c->ctx->stamp || f->pass == c->store->pass)
        return;
    const char *path = mos_workspace_path(c->ctx, c->store->root, s->shown_path);
    if (path)
        mos_stamp_add(c->ctx->stamp, mos_stamp_name(c->ctx, path), s->text, s->length);
}

struct mos_cpp_file *mos_cpp_load(struct mos_cpp *c, const char *shown) {
    struct mos_cpp_file *f = mos_map_get(&c->store->files, shown);
    if (f) {
        note_again(c, f);
        f->pass = c->store->pass;
        return f;
    }
    struct mos_ctx own = *c->ctx; /* the text stays as long as the store */
    own.arena = c->store->texts;
    const char *path = mos_workspace_path(c->ctx, c->store->root, shown);
    struct mos_source *s = mos_source_load(&own, path, shown, MOS_DTS_LIMIT);
    c->ctx->source_count = own.source_count;
    if (!s)
        return NULL;
    f = mos_cpp_split(c->store, s);
    f->pass = c->store->pass;
    mos_map_set(&c->store->files, s->shown_path, f);
    return f;
}

bool mos_cpp_push_file(struct mos_cpp *c, struct mos_cpp_file *file, size_t folder,
                       const struct mos_cpp_directive *by) {
    struct mos_cpp_seen at = {.file = file, .own = file->source->text};
    if (by) {
        at.file = c->buffer->file;
        at.own = by->at;
        at.own_length = 1;
    }
    if (c->level >= DEEPEST_INCLUDE)
        return mos_cpp_fail(c, &at, "Look for a file that includes itself.",
                            "Files include each other more than %d deep.", DEEPEST_INCLUDE);
    if (++c->files > MOST_FILES)
        return mos_cpp_fail(c, &at, "Include fewer files.", "More than %d files are included.",
                            MOST_FILES);
    struct mos_cpp_buffer *b = mos_alloc(c->arena, sizeof *b);
    *b = (struct mos_cpp_buffer){.file = file, .folder = folder, .by = by, .outer = c->buffer};
    c->buffer = b;
    c->level++;
    at.file = file;
    at.own_length = 2;
    if (file->open_comment) {
        at.own = file->open_comment;
        return mos_cpp_fail(c, &at, "Close it with */.", "This comment never ends.");
    }
    if (file->unended) {
        at.own = file->unended->at;
        return mos_cpp_fail(c, &at, "Close it with #endif.", "This condition never ends.");
    }
    return true;
}
