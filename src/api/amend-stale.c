/* amend: what hung on a file that is another one now. */
#include "api/amend_internal.h"
#include "api/module-files.h"

#include "base/bytes.h"
#include "base/text.h"
#include "linux/image.h"
#include "linux/module.h"
#include "linux/program.h"
#include "plan/bytes.h"

#include <string.h>

enum { MOST_TEXT = 64 << 10 };

#define MODULES "lib/modules/"

/* ---- the index of modules ---- */

/* "lib/modules/6.1.0", or the same below usr/; NULL: it is no module. */
static const char *folder_of(struct mos_arena *arena, const char *path) {
    const char *modules = strstr(path, MODULES);
    if (!modules || (modules != path && strncmp(path, "usr/", 4) != 0))
        return NULL;
    const char *slash = strchr(modules + strlen(MODULES), '/');
    const char *name = slash ? strrchr(path, '/') + 1 : NULL;
    return name && mos_module_name(arena, name) ? mos_strndup(arena, path, (size_t)(slash - path))
                                                : NULL;
}

/* A stream of the volume as it is by now. */
struct now {
    struct amend *a;
    const struct survey_span *span;
    struct mos_io window;
    const char *within;
};

static bool stream_now(void *self, const struct mos_sink *sink) {
    struct now *n = self;
    struct mos_vec problems = mos_vec_make(n->a->m->arena, sizeof(char *));
    struct mos_read_request request = {.sink = sink, .problems = &problems, .within = n->within};
    return n->span->volume.driver->stream(&n->a->m->ctx, &n->window, &request);
}

static bool renew(struct amend *a, struct now *now, const char *folder, struct mos_editor *editor) {
    struct mos_arena *arena = a->m->arena;
    struct module_index x;
    now->within = folder;
    if (!module_index_of(a->m, folder, stream_now, now, &x))
        return false;
    for (size_t i = 0; i < x.files.count; i++) {
        struct mos_index_file *f = mos_vec_at(&x.files, i);
        struct mos_io content = mos_io_memory(arena, (uint8_t *)f->bytes.data, f->bytes.length);
        uint64_t before;
        if (!editor->put(editor, mos_printf(arena, "%s/%s", folder, f->name), &content, 0644,
                         &before))
            return false;
    }
    if (!x.modules)
        return true;
    cell_text(&a->report, survey_name(&a->s, now->span));
    cell_text(&a->report, mos_printf(arena, "/%s/modules.*", folder));
    cell_text(&a->report, "stale");
    cell_text(&a->report, mos_printf(arena, "made again for %zu module%s", x.modules,
                                     x.modules == 1 ? "" : "s"));
    if (x.lack.count)
        *(struct amend_stale *)mos_vec_push(&a->stale) = (struct amend_stale){
            mos_printf(arena, "/%s", folder), module_lack_text(arena, &x.lack)};
    return true;
}

bool amend_renew_index(struct amend *a, const struct survey_span *x) {
    struct mos_editor *editor = NULL;
    const char *why = NULL;
    struct now now = {.a = a, .span = x};
    struct mos_vec done = mos_vec_make(a->m->arena, sizeof(char *));
    now.window = mos_io_window(a->m->arena, &a->io, x->start, x->length);
    for (size_t i = 0; i < a->touched.count; i++) {
        const struct amend_touched *t = mos_vec_at(&a->touched, i);
        const char *folder = t->span == x ? folder_of(a->m->arena, t->path) : NULL;
        bool again = false;
        for (size_t k = 0; folder && k < done.count; k++)
            again |= strcmp(mos_vec_pointer(&done, k), folder) == 0;
        if (!folder || again)
            continue;
        mos_vec_push_pointer(&done, folder);
        if (!editor)
            editor = x->volume.driver->edit(&a->m->ctx, &now.window, mos_date(&a->m->ctx), &why);
        if (!editor)
            return mos_fail(&a->m->error, MOS_ERROR_USAGE, 0, "Region %s cannot be changed: %s",
                            survey_name(&a->s, x), why ? why : "it is damaged.");
        if (!renew(a, &now, folder, editor))
            return false;
    }
    return !editor || editor->finish(editor);
}

/* ---- sums, signatures, the release ---- */

struct look {
    struct amend *a;
    const struct survey_span *span;
    const char *path; /* of the text that goes by; NULL: none */
    struct mos_buf text;
    struct mos_vec *releases; /* of const char *: folders of lib/modules, in all volumes */
};

static const char *base(const char *path) {
    const char *slash = strrchr(path, '/');
    return slash ? slash + 1 : path;
}

static bool is_sums(const char *name) {
    return strstr(name, "sha256") || strstr(name, "SHA256") || strstr(name, "md5") ||
           strstr(name, "MD5") || strstr(name, "manifest") || mos_text_ends(name, ".list");
}

static bool was_touched(const struct amend *a, const struct survey_span *x, const char *path) {
    for (size_t i = 0; i < a->touched.count; i++) {
        const struct amend_touched *t = mos_vec_at(&a->touched, i);
        if (t->span->start == x->start && strcmp(t->path, path) == 0)
            return true;
    }
    return false;
}

static void tell(struct look *l, const char *path, const char *why) {
    *(struct amend_stale *)mos_vec_push(&l->a->stale) = (struct amend_stale){
        mos_printf(l->a->m->arena, "%s:/%s", survey_name(&l->a->made, l->span), path), why};
}

static bool look_entry(void *self, const struct mos_entry *e) {
    struct look *l = self;
    struct mos_arena *arena = l->a->m->arena;
    const char *modules = strstr(e->path, MODULES);
    l->path = NULL;
    if (e->type == MOS_ENTRY_FOLDER && modules && !strchr(modules + strlen(MODULES), '/'))
        mos_vec_push_pointer(l->releases, mos_strdup(arena, modules + strlen(MODULES)));
    if (e->type != MOS_ENTRY_FILE || was_touched(l->a, l->span, e->path))
        return true;
    if (is_sums(base(e->path)) && e->size <= MOST_TEXT) {
        l->path = mos_strdup(arena, e->path);
        l->text.length = 0;
    }
    for (size_t i = 0; i < l->a->touched.count; i++) {
        const struct amend_touched *t = mos_vec_at(&l->a->touched, i);
        size_t n = strlen(t->path);
        if (t->span->start == l->span->start && strncmp(e->path, t->path, n) == 0 &&
            (strcmp(e->path + n, ".sig") == 0 || strcmp(e->path + n, ".asc") == 0 ||
             strcmp(e->path + n, ".p7s") == 0))
            tell(l, mos_strdup(arena, e->path), mos_printf(arena, "signs /%s as it was", t->path));
    }
    return true;
}

static bool look_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct look *l = self;
    if (!l->path || !bytes || offset < l->text.length)
        return true;
    mos_buf_zeros(&l->text, (size_t)offset - l->text.length);
    mos_buf_add(&l->text, bytes, length);
    return true;
}

static bool look_end(void *self, uint64_t sum) {
    struct look *l = self;
    (void)sum;
    for (size_t i = 0; l->path && i < l->a->touched.count; i++) {
        const struct amend_touched *t = mos_vec_at(&l->a->touched, i);
        if (t->span->start == l->span->start && strstr(mos_buf_string(&l->text), base(t->path))) {
            tell(l, l->path, mos_printf(l->a->m->arena, "has the sum of /%s as it was", t->path));
            break;
        }
    }
    return true;
}

static bool wants_texts(void *self, const struct mos_entry *e) {
    (void)self;
    return is_sums(base(e->path)) && e->size <= MOST_TEXT;
}

/* A kernel that was put there, and modules of other releases only. */
static void look_at_kernel(struct look *l, const struct change *c) {
    struct mos_arena *arena = l->a->m->arena;
    struct mos_kernel_header h;
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&l->a->m->ctx, &ignored);
    char *data;
    size_t length;
    if (!c->from || !mos_read_file(&quiet, c->from, 256 << 20, &data, &length) ||
        !mos_kernel_read((uint8_t *)data, (size_t)mos_min(length, MOS_KERNEL_HEAD), length, &h))
        return;
    const uint8_t *bytes = (const uint8_t *)data;
    const char *release = mos_unpack_bytes(&quiet, &bytes, &length, 256 << 20)
                              ? mos_kernel_banner(arena, bytes, length)
                              : NULL;
    if (!release)
        return;
    for (size_t i = 0; i < l->releases->count; i++)
        if (strcmp(mos_vec_pointer(l->releases, i), release) == 0)
            return;
    if (l->releases->count)
        tell(l, c->path,
             mos_printf(arena, "is a kernel %s; the image has modules of %s", release,
                        (const char *)mos_vec_pointer(l->releases, 0)));
}

bool amend_find_stale(struct amend *a) {
    mosaicum *m = a->m;
    struct mos_vec releases = mos_vec_make(m->arena, sizeof(char *));
    struct look l = {.a = a, .text = {.arena = m->arena}, .releases = &releases};
    struct mos_sink sink = {&l, look_entry, look_data, look_end};
    struct mos_read_request request = {.sink = &sink, .wants = wants_texts, .self = &l};
    for (size_t i = 0; a->touched.count && i < a->made.spans.count; i++) {
        l.span = mos_vec_at(&a->made.spans, i);
        if (survey_has_files(l.span) && l.span->volume.driver &&
            !survey_stream(&a->made, l.span, &request) && m->error.kind)
            return false;
    }
    for (size_t i = 0; i < a->changes.count; i++) {
        const struct change *c = mos_vec_at(&a->changes, i);
        l.span = c->span;
        if (c->path && !c->removes && c->span->has_volume)
            look_at_kernel(&l, c);
    }
    const char *ledger = mos_path_join(m->arena, mos_path_folder(m->arena, a->to), "ledger.json");
    if (mos_exists(&m->ctx, ledger))
        *(struct amend_stale *)mos_vec_push(&a->stale) =
            (struct amend_stale){ledger, "speaks of the image as it was built"};
    return true;
}

void amend_report_stale(struct amend *a) {
    static const struct mosaicum_column columns[] = {{"thing", "", false}, {"why", "", false}};
    struct report_table t =
        report_start(&a->m->report, "stale", "What no longer fits, and nobody renewed", columns, 2);
    for (size_t i = 0; i < a->stale.count; i++) {
        const struct amend_stale *x = mos_vec_at(&a->stale, i);
        cell_text(&t, x->thing);
        cell_text(&t, x->why);
    }
    if (a->stale.count)
        report_end(&a->m->report, &t);
}
