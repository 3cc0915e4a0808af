/* What fills bring by themselves: archives, folders, pieces, boot files, an environment. */
#include "plan/fills.h"

#include "base/bytes.h"
#include "plan/steps.h"

#include <string.h>

const struct mos_fill *mos_plan_fill_at(const struct mos_region_plan *region, unsigned index) {
    return region->def->volume->fills.items[index];
}

const struct mos_text_file *mos_plan_text(const struct mos_region_plan *region, const char *path) {
    const struct mos_text_file *t = region->texts.arena ? mos_map_get(&region->texts, path) : NULL;
    uint32_t index;
    if (!t || !region->volume || !mos_inv_find(region->volume->inventory, path, &index))
        return NULL;
    return mos_inv_node(region->volume->inventory, index)->fill == t->fill ? t : NULL;
}

struct mos_texts fills_texts(const struct mos_plan *plan, const struct mos_list *list) {
    const char **items = mos_alloc_array(plan->ctx->arena, list->count, sizeof *items);
    size_t count = 0;
    for (size_t i = 0; i < list->count; i++)
        if (mos_has(list->items[i]))
            items[count++] = list->items[i]->text;
    return (struct mos_texts){items, count};
}

/* What of a stream a fill takes, and where it puts that. */
static struct mos_sink filter_of(const struct mos_plan *plan, const struct mos_fill *f,
                                 const struct mos_sink *to, struct mos_filter *filter) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_buf path = {.arena = ctx->arena};
    const char *prefix = mos_has(f->to) ? mos_entry_path(&path, f->to->text) : NULL;
    *filter = (struct mos_filter){.to = to,
                                  .prefix = prefix ? prefix : "",
                                  .only = fills_texts(plan, &f->only),
                                  .except = fills_texts(plan, &f->except),
                                  .path = {.arena = ctx->arena},
                                  .target = {.arena = ctx->arena}};
    return mos_filter_sink(filter);
}

enum { MOST_TEXT = 1 << 20 };

struct again {
    const struct mos_text_file *file;
    struct mos_buf text;
    bool passing, found;
};

static bool again_entry(void *self, const struct mos_entry *entry) {
    struct again *a = self;
    a->passing = entry->type == MOS_ENTRY_FILE && strcmp(entry->path, a->file->path) == 0;
    a->text.length = a->passing ? 0 : a->text.length;
    a->found |= a->passing;
    return true;
}

static bool again_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct again *a = self;
    if (!a->passing || offset < a->text.length || offset + length > MOST_TEXT)
        return true;
    mos_buf_zeros(&a->text, (size_t)offset - a->text.length);
    mos_buf_add(&a->text, bytes, length);
    return true;
}

/* What one archive of a fill has at the file's path; NULL: nothing, or it cannot be read. */
static const char *text_of_fill(const struct mos_plan *plan, const struct mos_fill *f,
                                const struct mos_text_file *file) {
    struct mos_ctx *ctx = plan->ctx;
    const struct mos_piece_plan *p =
        mos_has(f->archive) ? mos_plan_piece(plan, f->archive->target) : NULL;
    struct again a = {.file = file, .text = {.arena = ctx->arena}};
    struct mos_sink sink = {&a, again_entry, again_data, mos_ignore_end}, through;
    struct mos_filter filter;
    if (!mos_plan_is_there(p))
        return NULL;
    through = filter_of(plan, f, &sink, &filter);
    struct mos_error ignored = {0}, *saved = ctx->error;
    ctx->error = &ignored;
    bool ok = mos_plan_stream_archive(plan, p, (struct mos_place){0}, &through, NULL);
    ctx->error = saved;
    return ok && a.found ? mos_buf_string(&a.text) : NULL;
}

const char *mos_plan_text_again(const struct mos_plan *plan, const struct mos_region_plan *region,
                                const struct mos_text_file *file) {
    const char *text = NULL; /* what Mosaicum wrote itself has its old lines from an archive, too */
    for (size_t i = region->def->volume->fills.count; i-- && !text;)
        text = text_of_fill(plan, mos_plan_fill_at(region, (unsigned)i), file);
    return text;
}

/* ---- archives ---- */

/* Reads an archive; the first time its index is made on the way. */
static bool stream_archive(struct mos_plan *plan, struct mos_piece_plan *p,
                           const struct mos_sink *sink) {
    if (p->index)
        return mos_plan_read_archive(plan, p, sink);
    struct mos_index *index = mos_index_new(plan->ctx);
    struct mos_sink recorder = mos_index_recorder(index, sink);
    bool ok = mos_plan_read_archive(plan, p, &recorder);
    if (ok) {
        p->index = index;
        mos_plan_keep_index(plan, p);
    }
    return ok;
}

/* ---- fills ---- */

/* The loader's variables as a file, by the loader's own name where `path` is empty; what does not
 * fit, or has no form, has its finding. */
static bool stream_environment(struct mos_plan *plan, const struct mos_fill *f, const char *path,
                               const struct mos_sink *sink) {
    for (size_t i = 0; i < plan->environments.count; i++) {
        const struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        struct mos_buf block = {.arena = plan->ctx->arena};
        if (e->def != f->environment->target || e->needed > e->size)
            continue;
        plan->dialect->stored->write(&block, &e->variables, e->size, e->flag_byte);
        path = *path ? path : plan->dialect->stored->file;
        return mos_plan_stream_boot_file(
            plan, &(struct mos_boot_file){path, NULL, block.data, block.length}, false, sink);
    }
    return true;
}

/* Texts below etc/ are kept in an index by their place in the archive: what comes to lie there only
 * by `to` has to be read again. */
bool fills_index_tells(const char *prefix) {
    return strcmp(prefix, "etc") != 0 && strncmp(prefix, "etc/", 4) != 0;
}

bool mos_plan_stream_brought(struct mos_plan *plan, const struct mos_fill *f, bool counting,
                             const struct mos_sink *sink) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_buf to = {.arena = ctx->arena};
    const char *prefix = mos_has(f->to) ? mos_entry_path(&to, f->to->text) : "";
    if (!prefix)
        prefix = "";
    if (mos_fill_makes(f, MOS_MADE_BOOT))
        return mos_plan_stream_boot_files(plan, counting, sink);
    if (mos_has(f->environment))
        return stream_environment(plan, f, prefix, sink);
    if (mos_has(f->text)) {
        const struct mos_settings_plan *s = mos_plan_settings_of(plan, f);
        return !s || mos_plan_stream_boot_file(
                         plan, &(struct mos_boot_file){s->path, NULL, s->text.data, s->text.length},
                         counting, sink);
    }
    if (mos_has(f->piece)) {
        const struct mos_piece_plan *p = mos_plan_piece(plan, f->piece->target);
        return !mos_plan_is_there(p) ||
               mos_plan_stream_boot_file(
                   plan, &(struct mos_boot_file){*prefix ? prefix : p->def->r.name, p, NULL, 0},
                   counting, sink);
    }
    struct mos_filter filter;
    struct mos_sink filtered = filter_of(plan, f, sink, &filter);
    if (mos_has(f->folder)) {
        const char *path;
        struct mos_file_info info;
        return !mos_plan_reach(plan, f->folder->text, MOS_FILE_FOLDER,
                               mos_printf(ctx->arena, "Fill %s", f->r.name), f->folder->place,
                               &path, &info) ||
               mos_folder_stream(ctx, path, plan->board->date, &filtered);
    }
    struct mos_piece_plan *p =
        mos_has(f->archive) ? mos_plan_piece(plan, f->archive->target) : NULL;
    if (!mos_plan_is_there(p))
        return true;
    if (counting && p->index && fills_index_tells(prefix))
        return mos_index_replay(ctx, p->index, &filtered);
    if (p->index)
        return stream_archive(plan, p, &filtered);
    struct mos_sink collecting;
    struct mos_collector *c = mos_plan_collect(plan, sink, &collecting);
    filtered = filter_of(plan, f, &collecting, &filter);
    if (!stream_archive(plan, p, &filtered))
        return false;
    mos_plan_collected(plan, c, p, f);
    return true;
}
