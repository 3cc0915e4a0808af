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

/* Takes the ".." out of a relative path; NULL when it leaves the root. */
static const char *inside(struct mos_arena *arena, const char *path) {
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

static const char *existing(struct mos_dts *d, const char *folder, const char *name) {
    const char *path = inside(d->ctx->arena, mos_path_join(d->ctx->arena, folder, name));
    return path && mos_exists(d->ctx, mos_path_join(d->ctx->arena, d->root, path)) ? path : NULL;
}

const char *mos_dts_find_file(struct mos_dts *d, const char *name) {
    if (!d->root || *name == '/')
        return NULL;
    const char *path =
        existing(d, mos_path_folder(d->ctx->arena, d->text->source->shown_path), name);
    for (size_t i = 0; i < d->folder_count && !path; i++)
        path = existing(d, d->folders[i], name);
    return path;
}

/* # 12 "path" flags */
static void read_marker(struct mos_dts *d, struct mos_dts_text *t, struct mos_map *sources,
                        unsigned line, const char *text, size_t length) {
    char *copy = mos_strndup(d->ctx->arena, text + 2, length - 2), *end;
    unsigned long number = strtoul(copy, &end, 10);
    char *open = strchr(end, '"'), *close = open ? strrchr(open + 1, '"') : NULL;
    if (!close || close == open)
        return;
    *close = 0;
    const char *path = open + 1;
    if (path[0] == '.' && path[1] == '/')
        path += 2;
    struct mos_dts_marker *m = mos_vec_push(&t->markers);
    m->text_line = line + 1;
    m->line = (unsigned)number;
    if (*path == '<' || *path == '/')
        return;
    const struct mos_source *s = mos_map_get(sources, path);
    if (!s) {
        struct mos_error ignored = {0}, *saved = d->ctx->error;
        d->ctx->error = &ignored;
        s = mos_source_load(d->ctx, mos_path_join(d->ctx->arena, d->root, path), path,
                            MOS_DTS_LIMIT);
        d->ctx->error = saved;
        mos_map_set(sources, path, (void *)(uintptr_t)s);
    }
    m->source = s;
}

static void read_markers(struct mos_dts *d, struct mos_dts_text *t,
                         const struct mos_source *first) {
    struct mos_map sources = mos_map_make(d->ctx->arena);
    mos_map_set(&sources, first->shown_path, (void *)(uintptr_t)first);
    const struct mos_source *s = t->source;
    for (size_t i = 0; i < s->line_count; i++) {
        size_t length;
        const char *line = mos_source_line(s, s->lines[i], &length);
        if (length > 2 && line[0] == '#' && line[1] == ' ' && isdigit((unsigned char)line[2]))
            read_marker(d, t, &sources, (unsigned)i + 1, line, length);
    }
}

/* The first line that the preprocessor complains about: "path:line:column: error: text". */
static void report_preprocessor(struct mos_dts *d, const struct mos_source *source,
                                const char *errors) {
    struct mos_arena *arena = d->ctx->arena;
    const char *word = strstr(errors, "error: ");
    size_t n = word ? strcspn(word + 7, "\n") : 0;
    struct mos_finding *f =
        mos_find(&d->ctx->findings, MOS_RULE_TREE_SYNTAX, "The C preprocessor refuses %s: %.*s.",
                 source->shown_path, (int)n, word ? word + 7 : "");
    const char *start = word ? word : errors;
    while (start > errors && start[-1] != '\n')
        start--;
    size_t path = strcspn(start, ":\n");
    unsigned line = start[path] == ':' ? (unsigned)strtoul(start + path + 1, NULL, 10) : 1;
    const char *name = inside(arena, mos_strndup(arena, start, path));
    if (*start != '/' && name && strcmp(name, source->shown_path) != 0 &&
        mos_exists(d->ctx, mos_path_join(arena, d->root, name))) {
        const struct mos_source *other =
            mos_source_load(d->ctx, mos_path_join(arena, d->root, name), name, MOS_DTS_LIMIT);
        source = other ? other : source;
    }
    size_t at = mos_source_line_start(source, line), length;
    mos_source_line(source, at, &length);
    mos_finding_at(&d->ctx->findings, f, mos_place_at(source, at, length));
    d->failed = true;
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
        mos_vec_push_pointer(&arguments, d->folders[i]);
    }
    mos_vec_push_pointer(&arguments, source->shown_path);
    mos_vec_push_pointer(&arguments, NULL);
    struct mos_program program = {.arguments = (const char *const *)arguments.items,
                                  .folder = d->root,
                                  .output_limit = MOS_DTS_LIMIT,
                                  .seconds = 20};
    int e = d->ctx->host->run(d->ctx->host, &program, result);
    if (e)
        return mos_fail(d->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot run the C preprocessor (cpp)");
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
    if (!run_preprocessor(d, source, &result))
        return NULL;
    struct mos_dts_text *t = NULL;
    if (result.status == 0) {
        t = mos_alloc(d->ctx->arena, sizeof *t);
        t->markers = mos_vec_make(d->ctx->arena, sizeof(struct mos_dts_marker));
        t->source = mos_source_make(d->ctx->arena, source->shown_path,
                                    mos_strndup(d->ctx->arena, result.output, result.output_length),
                                    result.output_length, d->ctx->source_count++);
        read_markers(d, t, source);
    } else {
        report_preprocessor(d, source, result.errors);
    }
    free(result.output);
    free(result.errors);
    return t;
}

struct mos_dts_text *mos_dts_open(struct mos_dts *d, const char *shown_path) {
    const struct mos_source *s = mos_source_load(
        d->ctx, mos_path_join(d->ctx->arena, d->root, shown_path), shown_path, MOS_DTS_LIMIT);
    if (!s)
        return NULL;
    if (needs_preprocessor(s))
        return preprocess(d, s);
    struct mos_dts_text *t = mos_alloc(d->ctx->arena, sizeof *t);
    t->source = s;
    t->markers = mos_vec_make(d->ctx->arena, sizeof(struct mos_dts_marker));
    return t;
}
