/* Device trees by themselves: compiled, written as text, with overlays, compared, looked through.
 */
#include "api/trees.h"

#include "base/text.h"
#include "plan/plan.h"
#include "rules/rules.h"

#include <string.h>

enum { LIMIT = 64 << 20 };

struct job {
    mosaicum *m;
    const struct mosaicum_tree *request;
    size_t include_count;
    struct mos_cpp_store *sources;
    struct written *written; /* compile: one for each file */
    const char *folder;      /* compile: where they go, if not into one file */
};

/* ---- what may be read ---- */

struct folder {
    mosaicum *m;
    const char *path;
};

/* A link to a folder that stands in a folder of includes is named by it. */
static bool allow_link(void *self, const char *name) {
    const struct folder *f = self;
    struct mos_file_info info;
    const char *path = mos_path_join(f->m->arena, f->path, name);
    if (f->m->ctx.host->info(f->m->ctx.host, path, false, &info) == 0 && info.kind == MOS_FILE_LINK)
        run_allow(f->m, path, MOS_REACH_READ);
    return true;
}

static void allow_source(mosaicum *m, const char *path) {
    run_allow(m, path, MOS_REACH_READ);
    run_allow(m, mos_path_folder(m->arena, path), MOS_REACH_READ);
}

/* NULL: a macro of the command line is none, with the error. */
static struct mos_cpp_store *new_store(const struct job *j, struct mos_arena *arena,
                                       struct mos_error *error) {
    struct mos_cpp_store *s = mos_dt_sources(arena, ".", j->request->includes, j->include_count);
    mos_dt_sources_anywhere(s);
    for (size_t i = 0; j->request->defines && j->request->defines[i]; i++)
        if (!mos_dt_define(s, j->request->defines[i])) {
            mos_fail(error, MOS_ERROR_USAGE, 0, "--define is NAME or NAME=TEXT, not %s",
                     j->request->defines[i]);
            return NULL;
        }
    return s;
}

static bool open_sources(struct job *j) {
    mosaicum *m = j->m;
    const char *const *includes = j->request->includes;
    run_allow(m, ".", MOS_REACH_READ);
    for (size_t i = 0; includes && includes[i]; i++) {
        struct folder f = {m, includes[i]};
        run_allow(m, includes[i], MOS_REACH_READ);
        m->ctx.host->list(m->ctx.host, includes[i], allow_link, &f);
        j->include_count++;
    }
    return (j->sources = new_store(j, m->arena, &m->error)) != NULL;
}

/* ---- reading ---- */

static struct mos_dt *read_tree(struct mos_ctx *ctx, struct mos_cpp_store *sources,
                                const char *path) {
    char *data;
    size_t length;
    size_t before = mos_findings_count(&ctx->findings, MOS_SEVERITY_ERROR);
    if (!mos_read_file(ctx, path, LIMIT, &data, &length))
        return NULL;
    if (mos_dt_is_blob(data, length))
        return mos_dt_read_blob(ctx, path, data, length);
    struct mos_dt *dt = mos_dt_read_text(ctx, sources, path, data, length);
    if (dt && !dt->overlay)
        mos_dt_resolve(ctx, dt);
    bool good = mos_findings_count(&ctx->findings, MOS_SEVERITY_ERROR) == before;
    return good ? dt : NULL;
}

static struct mos_dt *read_file(struct job *j, const char *path) {
    allow_source(j->m, path);
    return read_tree(&j->m->ctx, j->sources, path);
}

/* The first tree of a board, as it is built. */
static struct mos_dt *of_board(mosaicum *m, const char *selector) {
    const struct mos_selection *s = run_select_one(m, selector, "tree VERB");
    struct run_task *t = s ? run_one(m, s) : NULL;
    const struct mos_plan *plan = t ? run_plan(t) : NULL;
    for (size_t i = 0; plan && i < plan->blobs.count; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, i);
        if (b->tree)
            return b->tree;
    }
    if (plan && !m->error.kind)
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s has no tree, or one with mistakes: check %s",
                 selector, selector);
    return NULL;
}

static bool open_tree(struct job *j, const char *name, struct trees_one *t) {
    mosaicum *m = j->m;
    run_allow(m, name, MOS_REACH_READ);
    bool board = !mos_exists(&m->ctx, name) && m->options.workspace;
    *t = (struct trees_one){.name = name, .dt = board ? of_board(m, name) : read_file(j, name)};
    if (t->dt)
        t->phandles = mos_dt_phandles_of(m->arena, t->dt);
    return t->dt != NULL;
}

/* ---- writing ---- */

struct written {
    const char *to; /* NULL: it was not written */
    size_t size;
    bool overlay;
};

static void tell_written(mosaicum *m, const char *const *from, const struct written *written,
                         size_t count) {
    static const struct mosaicum_column columns[] = {{"tree", "tree", false},
                                                     {"file", "file", false},
                                                     {"kind", "kind", false},
                                                     {"size", "size", true}};
    struct report_table t = report_start(&m->report, "written", NULL, columns, 4);
    for (size_t i = 0; i < count; i++) {
        if (!written[i].to || strcmp(written[i].to, "-") == 0)
            continue;
        cell_text(&t, from[i]);
        cell_text(&t, written[i].to);
        cell_text(&t, written[i].overlay ? "overlay" : "tree");
        cell_size(&t, written[i].size);
    }
    if (t.cells.count)
        report_end(&m->report, &t);
}

static void write_one(struct job *j, const char *to, const void *bytes, size_t size,
                      const struct mos_dt *dt) {
    const struct written w = {to, size, dt->overlay};
    run_allow(j->m, to, MOS_REACH_READ | MOS_REACH_WRITE);
    if (run_put(&j->m->ctx, to, bytes, size))
        tell_written(j->m, j->request->files, &w, 1);
}

/* ---- verbs ---- */

/* "tree/curlew.dts" in "out" → "out/curlew.dtb" */
static const char *named_after(struct mos_arena *arena, const char *folder, const char *source,
                               bool overlay) {
    const char *slash = strrchr(source, '/'), *name = slash ? slash + 1 : source;
    const char *dot = strrchr(name, '.');
    size_t n = dot && dot != name ? (size_t)(dot - name) : strlen(name);
    return mos_path_join(arena, folder,
                         mos_printf(arena, "%.*s.%s", (int)n, name, overlay ? "dtbo" : "dtb"));
}

/* One source of many: what a hand has read and split into tokens stays for its next ones. */
static bool compile_one(struct run_task *t) {
    struct job *j = t->job;
    struct mos_ctx *ctx = &t->ctx;
    const char *from = j->request->files[t->index];
    struct mos_cpp_store *sources = *t->kept;
    if (!sources)
        *t->kept = sources = new_store(j, t->results, ctx->error);
    struct mos_dt *dt = sources ? read_tree(ctx, sources, from) : NULL;
    if (dt && dt->from_blob)
        return mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "%s is compiled already", from);
    if (!dt)
        return false;
    struct mos_buf blob = {.arena = ctx->arena};
    size_t before = mos_findings_count(&ctx->findings, MOS_SEVERITY_ERROR);
    if (dt->overlay)
        mos_dt_write_overlay(ctx, dt, j->request->keep_labels, &blob);
    else
        mos_dt_write_blob(ctx, dt, j->request->keep_labels, &blob);
    const char *to =
        j->folder ? named_after(t->results, j->folder, from, dt->overlay) : j->request->output;
    if (mos_findings_count(&ctx->findings, MOS_SEVERITY_ERROR) != before ||
        !run_put(ctx, to, blob.data, blob.length))
        return false;
    j->written[t->index] = (struct written){to, blob.length, dt->overlay};
    return true;
}

static void compile(void *self) {
    struct job *j = self;
    const struct mosaicum_tree *r = j->request;
    mosaicum *m = j->m;
    struct mos_file_info info;
    size_t n = strlen(r->output);
    bool slash = n > 1 && r->output[n - 1] == '/';
    const char *folder = mos_strndup(m->arena, r->output, n - slash);
    run_allow(m, folder, MOS_REACH_READ | MOS_REACH_WRITE);
    bool many =
        r->count > 1 || slash ||
        (m->ctx.host->info(m->ctx.host, folder, true, &info) == 0 && info.kind == MOS_FILE_FOLDER);
    int made = many ? m->ctx.host->make_folder(m->ctx.host, folder) : 0;
    if (made) {
        mos_fail(&m->error, MOS_ERROR_SYSTEM, made, "Cannot make the folder %s", folder);
        return;
    }
    run_allow(m, folder, MOS_REACH_READ | MOS_REACH_WRITE); /* now that it is there */
    j->folder = many ? folder : NULL;
    for (size_t i = 0; i < r->count; i++)
        allow_source(m, r->files[i]);
    j->written = mos_alloc_array(m->arena, r->count, sizeof *j->written);
    run_files(m, r->files, r->count, compile_one, j);
    size_t written = 0;
    for (size_t i = 0; i < r->count; i++)
        written += j->written[i].to != NULL;
    if (m->error.kind && written)
        mos_while(&m->error, "compiling %zu sources (written into %s: %zu)", r->count, folder,
                  written);
    tell_written(m, r->files, j->written, r->count);
}

static void text(void *self) {
    struct job *j = self;
    const struct mosaicum_tree *r = j->request;
    mosaicum *m = j->m;
    struct trees_one t;
    const char *why;
    if (!open_tree(j, r->files[0], &t))
        return;
    const char *source = mos_dt_source_text(m->arena, t.dt, &why);
    if (!source)
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s cannot be written as a source: %s", r->files[0],
                 why);
    else if (!r->output)
        report_text(&m->report, "source", NULL, source);
    else
        write_one(j, r->output, source, strlen(source), t.dt);
}

static void apply(void *self) {
    struct job *j = self;
    const struct mosaicum_tree *r = j->request;
    mosaicum *m = j->m;
    struct trees_one base;
    if (!open_tree(j, r->files[0], &base))
        return;
    const char **names = mos_alloc_array(m->arena, r->count, sizeof *names);
    for (size_t i = 0; i < r->count; i++)
        names[i] = r->files[i];
    if (base.dt->overlay) {
        mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                 "%s is an overlay itself; the tree that overlays go on comes first", names[0]);
        return;
    }
    if (!base.dt->from_blob && r->keep_labels)
        mos_dt_keep_labels(base.dt);
    for (size_t i = 1; i < r->count; i++) {
        struct mos_dt *overlay = read_file(j, r->files[i]);
        if (overlay && !overlay->overlay)
            mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s is no overlay", r->files[i]);
        if (!overlay || !overlay->overlay ||
            !mos_dt_apply(&m->ctx, base.dt, overlay, (unsigned)i, names))
            return; /* all of them, or nothing */
    }
    struct mos_buf blob = {.arena = m->arena};
    mos_dt_write_blob(&m->ctx, base.dt, false, &blob);
    if (!mos_findings_count(&m->ctx.findings, MOS_SEVERITY_ERROR))
        write_one(j, r->output, blob.data, blob.length, base.dt);
}

/* The same of a tree that devices are in: an overlay by itself has no buses. */
static bool open_whole(struct job *j, const char *name, struct trees_one *t) {
    if (!open_tree(j, name, t))
        return false;
    return !t->dt->overlay ||
           mos_fail(
               &j->m->error, MOS_ERROR_USAGE, 0,
               "%s is an overlay; put it on its tree first: mosaicum tree apply BASE %s -o BLOB",
               name, name);
}

static void claims(void *self) {
    struct job *j = self;
    struct trees_one t;
    if (open_whole(j, j->request->files[0], &t))
        trees_claims(j->m, &t);
}

static void find(void *self) {
    struct job *j = self;
    struct trees_one t;
    if (open_tree(j, j->request->files[0], &t))
        trees_find(j->m, &t, j->request->files[1]);
}

static void draw(void *self) {
    struct job *j = self;
    struct trees_one t;
    if (open_whole(j, j->request->files[0], &t))
        trees_draw(j->m, &t);
}

/* Every node, whoever wrote it, against the kernel's bindings. */
static void bindings(void *self) {
    struct job *j = self;
    static const struct mosaicum_column columns[] = {{"nodes", "nodes with a binding", true},
                                                     {"without", "without one", true},
                                                     {"unknown", "parts not judged", true},
                                                     {"unread", "files not read", true}};
    mosaicum *m = j->m;
    const char *folder = j->request->bindings;
    struct mos_bindings_count count = {0};
    struct trees_one t;
    if (!folder) {
        mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                 "Where are they?  mosaicum tree bindings TREE --bindings "
                 "LINUX/Documentation/devicetree/bindings");
        return;
    }
    run_allow(m, folder, MOS_REACH_READ);
    struct mos_bindings *b = mos_bindings_open(&m->ctx, folder, folder);
    struct mos_vec trees = mos_vec_make(m->arena, sizeof(struct mos_dt *));
    for (size_t i = 0; b && i < j->request->count; i++)
        if (open_tree(j, j->request->files[i], &t)) {
            mos_bindings_want(b, t.dt);
            mos_vec_push_pointer(&trees, t.dt);
        }
    for (size_t i = 0; i < trees.count; i++)
        mos_rules_bindings(&m->ctx, b, mos_vec_pointer(&trees, i), &count);
    if (!b || m->error.kind)
        return;
    struct report_table table = report_start(&m->report, "judged", NULL, columns, 4);
    cell_number(&table, count.judged);
    cell_number(&table, count.without);
    cell_number(&table, count.unknown);
    cell_number(&table, count.unread);
    report_end(&m->report, &table);
}

static void compare(void *self) {
    struct job *j = self;
    struct trees_one a, b;
    if (open_tree(j, j->request->files[0], &a) && open_tree(j, j->request->files[1], &b))
        trees_compare(j->m, &a, &b);
}

static const struct run_verb verbs[] = {
    {"compile", "SOURCE… -o BLOB", 1, SIZE_MAX, true, compile},
    {"text", "TREE [-o FILE]", 1, 1, false, text},
    {"apply", "BASE OVERLAY… -o BLOB", 2, SIZE_MAX, true, apply},
    {"compare", "A B", 2, 2, false, compare},
    {"claims", "TREE", 1, 1, false, claims},
    {"find", "TREE WORD", 2, 2, false, find},
    {"draw", "TREE [--picture FILE]", 1, 1, false, draw},
    {"bindings", "TREE… --bindings FOLDER", 1, SIZE_MAX, false, bindings},
};

enum mosaicum_status mosaicum_tree(mosaicum *m, const struct mosaicum_tree *request) {
    struct job j = {.m = m, .request = request};
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    const struct run_verb *verb =
        run_verb(m, "tree", verbs, sizeof verbs / sizeof *verbs,
                 "compile, text, apply, compare, claims, find, draw and bindings", request->verb,
                 request->count, request->output != NULL);
    if (verb && open_sources(&j))
        verb->run(&j);
    return run_status(m);
}
