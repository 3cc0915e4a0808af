/* What a source would pull in through the C preprocessor, looked at before that is started: it is
 * an outside program, and reads whatever it is told to.  Every #include of every file that can be
 * reached is looked up where the preprocessor would look, whatever its conditions say; one that
 * leads out of the workspace and its roots is a finding, and nothing is run. */
#include "tree/source_internal.h"

#include <ctype.h>
#include <string.h>

struct scan {
    struct mos_dts *d;
    struct mos_map seen; /* shown path -> anything */
    unsigned count;
};

static bool scan_source(struct scan *s, const struct mos_source *source);

static bool refuse(struct scan *s, const struct mos_source *source, size_t at, size_t length,
                   enum mos_rule_id rule, const char *message, const char *remedy) {
    struct mos_findings *list = &s->d->ctx->findings;
    struct mos_finding *f = mos_find(list, rule, "%s", message);
    mos_finding_at(list, f, mos_place_at(source, at, length));
    mos_finding_try(list, f, "%s", remedy);
    s->d->failed = true;
    return false;
}

static bool leads_out(struct scan *s, const struct mos_source *source, size_t at, size_t length,
                      const char *name) {
    return refuse(s, source, at, length, MOS_RULE_PIECE_PATH,
                  mos_printf(s->d->ctx->arena,
                             "%s includes %s, which lies outside of the workspace.",
                             source->shown_path, name),
                  "Copy the file into the workspace, or name its folder in mosaicum.yaml "
                  "(roots: {NAME: FOLDER}) and under tree: includes: [<NAME>/…].");
}

/* One candidate: 1 found and sound, 0 not there, -1 after a finding. */
static int try_one(struct scan *s, const struct mos_source *source, size_t at, size_t length,
                   const char *folder, const char *name) {
    struct mos_ctx *ctx = s->d->ctx;
    struct mos_file_info info;
    const char *shown = *name == '/' ? name : mos_dts_inside(ctx->arena, folder, name);
    const char *path = shown && *shown != '/' ? mos_workspace_path(ctx, s->d->root, shown) : NULL;
    int e = path ? ctx->host->info(ctx->host, path, true, &info) : MOS_OUT_OF_REACH;
    if (e == MOS_OUT_OF_REACH)
        return leads_out(s, source, at, length, name) ? 1 : -1;
    if (e || info.kind != MOS_FILE_REGULAR)
        return 0;
    if (mos_map_get(&s->seen, shown))
        return 1;
    mos_map_set(&s->seen, shown, s);
    struct mos_error ignored = {0}, *saved = ctx->error;
    ctx->error = &ignored;
    const struct mos_source *next = mos_source_load(ctx, path, shown, MOS_DTS_LIMIT);
    ctx->error = saved;
    return !next || scan_source(s, next) ? 1 : -1;
}

/* Where the preprocessor looks for "name" and <name>. */
static bool look_up(struct scan *s, const struct mos_source *source, size_t at, size_t length,
                    const char *name) {
    int found =
        try_one(s, source, at, length, mos_path_folder(s->d->ctx->arena, source->shown_path), name);
    for (size_t i = 0; i < s->d->folder_count && !found && *name != '/'; i++)
        found = try_one(s, source, at, length, s->d->folders[i], name);
    return found >= 0; /* what is nowhere is the preprocessor's to complain about */
}

/* ---- directives ---- */

/* A text as directives are found in it: lines joined behind a backslash and comments taken out,
 * with the offset of every character. */
struct flat {
    struct mos_buf text;
    size_t *from;
};

static struct flat flatten(struct mos_arena *arena, const struct mos_source *source) {
    struct flat f = {.text = {.arena = arena},
                     .from = mos_alloc_array(arena, source->length + 1, sizeof(size_t))};
    const char *p = source->text, *end = p + source->length;
    char quote = 0;
    while (p < end) {
        size_t n = end - p > 1 && p[0] == '\\' && p[1] == '\n'                   ? 2
                   : end - p > 2 && p[0] == '\\' && p[1] == '\r' && p[2] == '\n' ? 3
                                                                                 : 0;
        if (n) {
            p += n;
            continue;
        }
        char c = *p;
        if (!quote && c == '/' && end - p > 1 && (p[1] == '*' || p[1] == '/')) {
            bool block = p[1] == '*';
            for (p += 2; p < end && !(block ? p[0] == '*' && end - p > 1 && p[1] == '/'
                                            : p[0] == '\n' && p[-1] != '\\');)
                p++;
            p += block && p < end ? 2 : 0;
            c = ' ';
            p--; /* the blank that a comment is takes the place of its last character */
        } else if (c == '\n' || (quote && c == quote)) {
            quote = 0;
        } else if (!quote && (c == '"' || c == '\'')) {
            quote = c;
        } else if (quote && c == '\\' && end - p > 1) {
            f.from[f.text.length] = (size_t)(p - source->text);
            mos_buf_char(&f.text, c);
            c = *++p;
        }
        if (p >= end)
            break;
        f.from[f.text.length] = (size_t)(p - source->text);
        mos_buf_char(&f.text, c);
        p++;
    }
    mos_buf_char(&f.text, '\n');
    f.text.length--;
    return f;
}

static const char *blanks(const char *p) {
    while (*p == ' ' || *p == '\t' || *p == '\v' || *p == '\f' || *p == '\r')
        p++;
    return p;
}

static bool is_word(const char *p, const char *word) {
    size_t n = strlen(word);
    return strncmp(p, word, n) == 0 && !isalnum((unsigned char)p[n]) && p[n] != '_';
}

/* One line that begins with # (or its digraph); `line` ends at a line end. */
static bool directive(struct scan *s, const struct mos_source *source, const struct flat *f,
                      const char *line) {
    static const char *const words[] = {"include", "include_next", "import", "embed"};
    const char *p = blanks(line), *text = f->text.data;
    bool reads = false;
    for (size_t i = 0; i < sizeof words / sizeof *words && !reads; i++)
        reads = is_word(p, words[i]);
    bool dependency = is_word(p, "pragma") && is_word(blanks(p + 6), "GCC");
    if (!reads && !dependency)
        return true;
    while (isalnum((unsigned char)*p) || *p == '_')
        p++;
    for (; dependency && *p != '\n' && *p != '"' && *p != '<';)
        p++;
    p = blanks(p);
    size_t at = f->from[p - text];
    char close = *p == '"' ? '"' : '>';
    size_t n = *p == '"' || *p == '<' ? strcspn(p + 1, close == '"' ? "\"\n" : ">\n") : 0;
    if (dependency && !n)
        return true;
    if (!n || p[1 + n] != close)
        return refuse(
            s, source, at, strcspn(p, "\n"), MOS_RULE_TREE_SYNTAX,
            mos_printf(s->d->ctx->arena, "The name of the included file does not stand here in %s.",
                       source->shown_path),
            "Write #include \"file\" or #include <file>: a macro in its place is not followed.");
    return look_up(s, source, at, n + 2, mos_strndup(s->d->ctx->arena, p + 1, n));
}

static bool scan_source(struct scan *s, const struct mos_source *source) {
    if (++s->count > 4096)
        return refuse(s, source, 0, 1, MOS_RULE_TREE_SYNTAX, "More than 4096 files are included.",
                      "Include fewer files.");
    struct flat f = flatten(s->d->ctx->arena, source);
    const char *text = f.text.data;
    for (const char *line = text; line < text + f.text.length;) {
        const char *p = blanks(line), *end = strchr(line, '\n');
        size_t sign = *p == '#' ? 1 : p[0] == '%' && p[1] == ':' ? 2 : 0;
        if (sign && !directive(s, source, &f, p + sign))
            return false;
        if (!end)
            break;
        line = end + 1;
    }
    return true;
}

bool mos_dts_may_include(struct mos_dts *d, const struct mos_source *source) {
    struct scan s = {.d = d, .seen = mos_map_make(d->ctx->arena)};
    mos_map_set(&s.seen, source->shown_path, &s);
    return scan_source(&s, source);
}

/* Takes the ".." out of a relative path; NULL when it leaves the root. */
const char *mos_dts_clean(struct mos_arena *arena, const char *path) {
    struct mos_buf out = {.arena = arena};
    while (*path) {
        size_t n = strcspn(path, "/");
        if (n == 2 && path[0] == '.' && path[1] == '.') {
            if (!out.length)
                return NULL;
            while (out.length && out.data[--out.length] != '/')
                ;
        } else if (n && !(n == 1 && *path == '.')) {
            if (out.length)
                mos_buf_char(&out, '/');
            mos_buf_add(&out, path, n);
        }
        path += n;
        path += *path == '/';
    }
    return mos_buf_string(&out);
}

const char *mos_dts_inside(struct mos_arena *arena, const char *folder, const char *name) {
    const char *path = mos_path_join(arena, folder, name);
    size_t root = *path == '<' && path[strcspn(path, ">")] ? strcspn(path, ">") + 1 : 0;
    const char *rest = mos_dts_clean(arena, path + root);
    return rest && root ? mos_printf(arena, "%.*s/%s", (int)root, path, rest) : rest;
}
