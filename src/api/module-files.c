#include "api/module-files.h"

#include "plan/bytes.h"

#include <stdlib.h>
#include <string.h>

struct extras {
    const char *folder;
    struct mos_buf order, builtin, facts;
    struct mos_buf *current; /* of the file that goes by; NULL: none of them */
};

static bool extra_entry(void *self, const struct mos_entry *e) {
    struct extras *x = self;
    size_t n = strlen(x->folder);
    const char *name =
        strncmp(e->path, x->folder, n) == 0 && e->path[n] == '/' ? e->path + n + 1 : "";
    x->current = strcmp(name, "modules.order") == 0             ? &x->order
                 : strcmp(name, "modules.builtin") == 0         ? &x->builtin
                 : strcmp(name, "modules.builtin.modinfo") == 0 ? &x->facts
                                                                : NULL;
    return true;
}

static bool extra_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct extras *x = self;
    if (!x->current || !bytes || offset < x->current->length)
        return true;
    mos_buf_zeros(x->current, (size_t)offset - x->current->length);
    mos_buf_add(x->current, bytes, length);
    return true;
}

static int by_path(const void *a, const void *b) {
    const struct mos_indexed_module *const *x = a, *const *y = b;
    return strcmp((*x)->path, (*y)->path);
}

bool module_index_of(mosaicum *m, const char *folder,
                     bool (*stream)(void *self, const struct mos_sink *sink), void *self,
                     struct module_index *out) {
    struct mos_arena *arena = m->arena;
    struct mos_buf names = {.arena = arena};
    struct extras x = {folder, {.arena = arena}, {.arena = arena}, {.arena = arena}, NULL};
    struct mos_sink sink = {&x, extra_entry, extra_data, mos_ignore_end};
    struct mos_vec modules = mos_vec_make(arena, sizeof(void *));
    *out = (struct module_index){.files = mos_vec_make(arena, sizeof(struct mos_index_file))};
    if (!mos_read_module_names(&m->ctx, folder, stream, self, &names) || !stream(self, &sink))
        return m->error.kind ? false
                             : mos_fail(&m->error, MOS_ERROR_SYSTEM, 0,
                                        "The modules in /%s cannot be read", folder);
    mos_plan_read_module_names(arena, mos_buf_string(&names), &modules);
    qsort(modules.items, modules.count, sizeof(void *), by_path);
    struct mos_index_extras extras = {
        x.order.length ? mos_buf_string(&x.order) : NULL,
        x.builtin.length ? mos_buf_string(&x.builtin) : NULL,
        x.facts.length ? (const uint8_t *)mos_buf_string(&x.facts) : NULL, x.facts.length};
    out->modules = modules.count;
    return !modules.count || mos_module_index(arena, &modules, &extras, &out->files, &out->lack) ||
           mos_fail(&m->error, MOS_ERROR_SYSTEM, 0,
                    "There are too many modules in /%s for an index", folder);
}

const char *module_lack_text(struct mos_arena *arena, const struct mos_index_lack *lack) {
    return mos_printf(arena,
                      lack->count > 1 ? "module %s needs %s, which is not there (and %zu more)"
                                      : "module %s needs %s, which is not there",
                      lack->module, lack->need, lack->count - 1);
}
