#include "tree/source_internal.h"

#include <ctype.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>

/* Does a line begin with a directive of the C preprocessor?  (#address-cells is none.) */
static bool needs_preprocessor(const struct mos_source *s) {
    static const char *const words[] = {"include", "define", "undef", "if",    "ifdef", "ifndef",
                                        "elif",    "else",   "endif", "error", "pragma"};
    for (size_t i = 0; i < s->line_count; i++) {
        size_t length;
        const char *line = mos_source_line(s, s->lines[i], &length);
        const char *end = line + length;
        while (line < end && isblank((unsigned char)*line))
            line++;
        if (line == end || *line++ != '#')
            continue;
        while (line < end && isblank((unsigned char)*line))
            line++;
        for (size_t w = 0; w < sizeof words / sizeof *words; w++) {
            size_t n = strlen(words[w]);
            if ((size_t)(end - line) >= n && memcmp(line, words[w], n) == 0 &&
                (line + n == end || isblank((unsigned char)line[n]) || strchr("\"<(", line[n])))
                return true;
        }
    }
    return false;
}

/* 0, an errno value, or MOS_OUT_OF_REACH: it lies outside. */
static int look_for(struct mos_dts *d, const char *folder, const char *name, const char **shown) {
    struct mos_file_info info;
    *shown = *name == '/' ? NULL : mos_dts_inside(d->ctx->arena, folder, name);
    const char *path = *shown ? mos_workspace_path(d->ctx, d->root, *shown) : NULL;
    int e = path ? d->ctx->host->info(d->ctx->host, path, true, &info) : MOS_OUT_OF_REACH;
    return e ? e : info.kind == MOS_FILE_REGULAR ? 0 : ENOENT;
}

const char *mos_dts_find_file(struct mos_dts *d, const char *name, size_t at, size_t length) {
    const char *path, *folder = mos_path_folder(d->ctx->arena, d->text->source->shown_path);
    int e = d->root ? look_for(d, folder, name, &path) : ENOENT;
    for (size_t i = 0; d->root && i < d->folder_count && e == ENOENT; i++)
        e = look_for(d, d->folders[i], name, &path);
    if (!e)
        return path;
    mos_dts_fail(
        d, at, length,
        e == MOS_OUT_OF_REACH
            ? "Copy it into the workspace, or name its folder in mosaicum.yaml under roots."
            : "Name the folder in tree: {includes: [ … ]}.",
        e == MOS_OUT_OF_REACH ? "%s lies outside of the workspace." : "There is no file %s.", name);
    return NULL;
}

/* A path as the preprocessor shows it, in our form: "<NAME>/…" below a root.  NULL: it is below
 * neither the workspace nor a root. */
static const char *shown_form(struct mos_dts *d, const char *path) {
    struct mos_arena *arena = d->ctx->arena;
    for (size_t i = 0; i < d->ctx->root_count; i++) {
        const struct mos_root *r = &d->ctx->roots[i];
        size_t n = strlen(r->stated);
        if (strncmp(path, r->stated, n) == 0 && (path[n] == '/' || (n && r->stated[n - 1] == '/')))
            return mos_dts_inside(arena, mos_printf(arena, "<%s>", r->name),
                                  path + n + (path[n] == '/'));
    }
    return *path == '/' ? NULL : mos_dts_clean(arena, path);
}

/* # 12 "path" flags: false when that file may not be read. */
static bool read_marker(struct mos_dts *d, struct mos_dts_text *t, struct mos_map *sources,
                        unsigned line, const char *text, size_t length) {
    char *copy = mos_strndup(d->ctx->arena, text + 2, length - 2), *end;
    unsigned long number = strtoul(copy, &end, 10);
    char *open = strchr(end, '"'), *close = open ? strrchr(open + 1, '"') : NULL;
    if (!close || close == open)
        return true;
    *close = 0;
    struct mos_dts_marker *m = mos_vec_push(&t->markers);
    m->text_line = line + 1;
    m->line = (unsigned)number;
    if (open[1] == '<') /* <built-in> */
        return true;
    const char *path = shown_form(d, open + 1);
    const struct mos_source *s = path ? mos_map_get(sources, path) : NULL;
    if (path && !s) {
        struct mos_error ignored = {0}, *saved = d->ctx->error;
        d->ctx->error = &ignored;
        s = mos_source_load(d->ctx, mos_workspace_path(d->ctx, d->root, path), path, MOS_DTS_LIMIT);
        d->ctx->error = saved;
        mos_map_set_const(sources, path, s);
    }
    m->source = s;
    return s != NULL;
}

/* Does the text come from files that may be read, all of it? */
static bool read_markers(struct mos_dts *d, struct mos_dts_text *t,
                         const struct mos_source *first) {
    struct mos_map sources = mos_map_make(d->ctx->arena);
    mos_map_set_const(&sources, first->shown_path, first);
    const struct mos_source *s = t->source;
    for (size_t i = 0; i < s->line_count; i++) {
        size_t length;
        const char *line = mos_source_line(s, s->lines[i], &length);
        if (length > 2 && line[0] == '#' && line[1] == ' ' && isdigit((unsigned char)line[2]) &&
            !read_marker(d, t, &sources, (unsigned)i + 1, line, length)) {
            struct mos_finding *f =
                mos_find(&d->ctx->findings, MOS_RULE_PIECE_PATH,
                         "%s pulls in a file from outside of the workspace.", first->shown_path);
            mos_finding_at(&d->ctx->findings, f, mos_place_at(first, 0, 1));
            mos_finding_try(&d->ctx->findings, f,
                            "Name each file with a plain #include, and its folder under roots in "
                            "mosaicum.yaml.");
            d->failed = true;
            return false;
        }
    }
    return true;
}

/* The first line that the preprocessor complains about: "path:line:column: error: text".  Its text
 * may quote the file, so it is shown only where that file may be read. */
static void report_preprocessor(struct mos_dts *d, const struct mos_source *source,
                                const char *errors) {
    struct mos_arena *arena = d->ctx->arena;
    const char *word = strstr(errors, "error: ");
    const char *start = word ? word : errors;
    while (start > errors && start[-1] != '\n')
        start--;
    size_t path = strcspn(start, ":\n"), n = word ? strcspn(word + 7, "\n") : 0;
    unsigned line = start[path] == ':' ? (unsigned)strtoul(start + path + 1, NULL, 10) : 1;
    const char *name = shown_form(d, mos_strndup(arena, start, path));
    const struct mos_source *other = source;
    if (!name || strcmp(name, source->shown_path) != 0) {
        struct mos_error ignored = {0}, *saved = d->ctx->error;
        d->ctx->error = &ignored;
        other = name ? mos_source_load(d->ctx, mos_workspace_path(d->ctx, d->root, name), name,
                                       MOS_DTS_LIMIT)
                     : NULL;
        d->ctx->error = saved;
    }
    struct mos_finding *f =
        mos_find(&d->ctx->findings, MOS_RULE_TREE_SYNTAX, "The C preprocessor refuses %s: %.*s.",
                 source->shown_path, other ? (int)n : 0, word && other ? word + 7 : "");
    size_t at = mos_source_line_start(other ? other : source, other ? line : 1), length;
    mos_source_line(other ? other : source, at, &length);
    mos_finding_at(&d->ctx->findings, f, mos_place_at(other ? other : source, at, length));
    mos_finding_try(&d->ctx->findings, f,
                    "Correct the line, or add the folder of the file under tree: includes:.");
    d->failed = true;
}

/* A path as the preprocessor is to open it: it works in the workspace. */
static const char *cpp_form(struct mos_dts *d, const char *shown) {
    size_t n = *shown == '<' ? strcspn(shown, ">") : 0;
    for (size_t i = 0; n && i < d->ctx->root_count; i++) {
        const struct mos_root *r = &d->ctx->roots[i];
        if (strlen(r->name) == n - 1 && memcmp(r->name, shown + 1, n - 1) == 0)
            return mos_path_join(d->ctx->arena, r->stated,
                                 shown + n + 1 + (shown[n] && shown[n + 1] == '/'));
    }
    /* never an option */
    return *shown == '-' ? mos_printf(d->ctx->arena, "./%s", shown) : shown;
}

static bool run_preprocessor(struct mos_dts *d, const struct mos_source *source,
                             struct mos_program_result *result) {
    struct mos_vec arguments = mos_vec_make(d->ctx->arena, sizeof(char *));
    static const char *const fixed[] = {"cpp", "-nostdinc",          "-undef",
                                        "-x",  "assembler-with-cpp", "-D__DTS__"};
    for (size_t i = 0; i < sizeof fixed / sizeof *fixed; i++)
        mos_vec_push_pointer(&arguments, fixed[i]);
    for (size_t i = 0; i < d->folder_count; i++) {
        mos_vec_push_pointer(&arguments, "-I");
        mos_vec_push_pointer(&arguments, cpp_form(d, d->folders[i]));
    }
    mos_vec_push_pointer(&arguments, cpp_form(d, source->shown_path));
    mos_vec_push_pointer(&arguments, NULL);
    struct mos_program program = {.arguments = (const char *const *)arguments.items,
                                  .folder = d->root,
                                  .output_limit = MOS_DTS_LIMIT,
                                  .seconds = 20};
    int e = d->ctx->host->run(d->ctx->host, &program, result);
    if (e)
        return mos_fail(d->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot run the C preprocessor (cpp)");
    if (result->overflow)
        return mos_fail(d->ctx->error, MOS_ERROR_USAGE, 0,
                        "The C preprocessor makes more than %d MiB of %s", MOS_DTS_LIMIT >> 20,
                        source->shown_path);
    if (result->timeout || result->status == 127)
        return mos_fail(d->ctx->error, MOS_ERROR_SYSTEM, 0,
                        result->timeout
                            ? "The C preprocessor did not finish %s in 20 seconds"
                            : "%s needs the C preprocessor (cpp), which is not installed",
                        source->shown_path);
    return true;
}

static struct mos_dts_text *preprocess(struct mos_dts *d, const struct mos_source *source) {
    if (d->ctx->no_run) {
        mos_fail(d->ctx->error, MOS_ERROR_USAGE, 0,
                 "%s needs the C preprocessor, which --no-run forbids", source->shown_path);
        return NULL;
    }
    struct mos_program_result result;
    if (!mos_dts_may_include(d, source))
        return NULL;
    if (!run_preprocessor(d, source, &result))
        return NULL;
    struct mos_dts_text *t = NULL;
    if (result.status == 0) {
        t = mos_alloc(d->ctx->arena, sizeof *t);
        t->markers = mos_vec_make(d->ctx->arena, sizeof(struct mos_dts_marker));
        t->source = mos_source_make(d->ctx->arena, source->shown_path,
                                    mos_strndup(d->ctx->arena, result.output, result.output_length),
                                    result.output_length, d->ctx->source_count++);
        if (!read_markers(d, t, source))
            t = NULL;
    } else {
        report_preprocessor(d, source, result.errors);
    }
    free(result.output);
    free(result.errors);
    return t;
}

struct mos_dts_text *mos_dts_open(struct mos_dts *d, const char *shown_path) {
    const struct mos_source *s = mos_source_load(
        d->ctx, mos_workspace_path(d->ctx, d->root, shown_path), shown_path, MOS_DTS_LIMIT);
    if (!s)
        return NULL;
    if (needs_preprocessor(s))
        return preprocess(d, s);
    struct mos_dts_text *t = mos_alloc(d->ctx->arena, sizeof *t);
    t->source = s;
    t->markers = mos_vec_make(d->ctx->arena, sizeof(struct mos_dts_marker));
    return t;
}
