/* amend with folders: what lies below them. */
#include "api/amend_internal.h"

#include "base/text.h"

#include <string.h>

struct lister {
    struct amend *a;
    const struct change *c;
    const char *folder; /* in the volume; "": all of it */
    struct mos_vec *out;
    const char *strange; /* the first thing that is neither file nor folder; NULL: none */
};

static bool list_host(void *self, const struct mos_entry *e) {
    struct lister *l = self;
    struct mos_arena *arena = l->a->m->arena;
    if (e->type == MOS_ENTRY_FILE)
        *(struct amend_file *)mos_vec_push(l->out) = (struct amend_file){
            mos_strdup(arena, e->path), mos_path_join(arena, l->c->from, e->path)};
    else if (e->type != MOS_ENTRY_FOLDER && !l->strange)
        l->strange = mos_strdup(arena, e->path);
    return true;
}

bool amend_list_folder(struct amend *a, const struct change *c, struct mos_vec *out) {
    struct lister l = {.a = a, .c = c, .out = out};
    struct mos_sink sink = {&l, list_host, mos_ignore_data, mos_ignore_end};
    if (!mos_folder_stream(&a->m->ctx, c->from, mos_date(&a->m->ctx), &sink))
        return a->m->error.kind
                   ? false
                   : mos_fail(&a->m->error, MOS_ERROR_USAGE, 0, "Cannot read %s", c->from);
    return !l.strange ||
           mos_fail(
               &a->m->error, MOS_ERROR_USAGE, 0,
               "%s: %s is no file; amend puts files and folders into a volume: leave it out, or "
               "build the image from a definition",
               c->text, mos_path_join(a->m->arena, c->from, l.strange));
}

static bool list_volume(void *self, const struct mos_entry *e) {
    struct lister *l = self;
    size_t n = strlen(l->folder);
    if (e->type == MOS_ENTRY_FOLDER || strncmp(e->path, l->folder, n) != 0 || e->path[n] != '/')
        return true;
    *(struct amend_file *)mos_vec_push(l->out) =
        (struct amend_file){mos_strdup(l->a->m->arena, e->path + n + 1), NULL};
    return true;
}

bool amend_list_volume(struct amend *a, const struct survey_span *x, const char *path,
                       struct mos_vec *out) {
    struct lister l = {.a = a, .folder = path, .out = out};
    struct mos_sink sink = {&l, list_volume, mos_ignore_data, mos_ignore_end};
    struct mos_read_request request = {.sink = &sink, .wants = mos_wants_no_data};
    return !*path || survey_stream(&a->s, x, &request);
}
