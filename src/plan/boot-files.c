/* What Mosaicum puts into a boot volume itself: kernels, trees, ramdisks, and the texts about them.
 */
#include "plan/steps.h"

#include <assert.h>
#include <string.h>

static void add(struct mos_vec *out, const char *path, const struct mos_piece_plan *piece,
                const struct mos_buf *bytes) {
    *(struct mos_boot_file *)mos_vec_push(out) =
        (struct mos_boot_file){path, piece, bytes ? bytes->data : NULL, bytes ? bytes->length : 0};
}

/* The same for what several entries may share. */
static void add_once(struct mos_vec *out, const char *path, const struct mos_piece_plan *piece,
                     const struct mos_buf *bytes) {
    for (size_t i = 0; i < out->count; i++)
        if (strcmp(((const struct mos_boot_file *)mos_vec_at(out, i))->path, path) == 0)
            return;
    add(out, path, piece, bytes);
}

/* Texts and the parcel: what is made besides the entries' own files. */
static void add_made(const struct mos_plan *plan, struct mos_vec *out) {
    struct mos_arena *arena = plan->ctx->arena;
    for (size_t i = 0; i < plan->tree_choices.count && !plan->parcel_file; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->tree_choices, i);
        add_once(
            out,
            mos_path_join(arena, plan->boot_prefix, mos_printf(arena, "%s.dtb", b->def->r.name)),
            NULL, &b->blob);
    }
    for (size_t i = 0; i < plan->boot_overlays.count && !plan->parcel_file; i++) {
        const struct mos_overlay_plan *o = mos_vec_pointer(&plan->boot_overlays, i);
        add(out,
            mos_path_join(arena, plan->boot_prefix, mos_printf(arena, "%s.dtbo", o->def->r.name)),
            NULL, &o->blob);
    }
    const struct {
        const char *path;
        const struct mos_buf *bytes;
    } files[] = {{plan->parcel_file, &plan->parcel},
                 {plan->dialect ? plan->dialect->menu_file : NULL, &plan->menu_text},
                 {plan->dialect ? plan->dialect->script_file : NULL, &plan->script_file}};
    for (size_t i = 0; i < sizeof files / sizeof *files; i++)
        if (files[i].path && files[i].bytes->length)
            add(out, mos_path_join(arena, plan->boot_prefix, files[i].path), NULL, files[i].bytes);
}

struct mos_vec mos_plan_boot_files(const struct mos_plan *plan) {
    struct mos_vec out = mos_vec_make(plan->ctx->arena, sizeof(struct mos_boot_file));
    for (size_t i = 0; i < plan->entries.count && !plan->parcel_file; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        const struct mos_boot_step *s = &e->step;
        if (mos_plan_is_there(e->kernel))
            add_once(&out, s->kernel_file, e->kernel, NULL);
        if (e->tree && e->tree->tree)
            add_once(&out, s->tree_file, NULL, &e->tree->blob);
        if (mos_plan_is_there(e->ramdisk))
            add_once(&out, s->ramdisk_file, e->ramdisk, NULL);
    }
    add_made(plan, &out);
    return out;
}

bool mos_plan_stream_boot_file(struct mos_plan *plan, const struct mos_boot_file *file,
                               bool counting, const struct mos_sink *sink) {
    assert(file->path);
    struct mos_entry as = {.path = file->path, .mode = 0644, .mtime = plan->board->date};
    if (!file->piece)
        return mos_bytes_stream(&as, file->bytes, file->length, sink);
    as.size = file->piece->size;
    return counting ? mos_plan_count_piece(plan, file->piece, &as, sink)
                    : mos_plan_stream_piece(plan, file->piece, &as, sink);
}

bool mos_plan_stream_boot_files(struct mos_plan *plan, bool counting, const struct mos_sink *sink) {
    struct mos_vec files = mos_plan_boot_files(plan);
    for (size_t i = 0; i < files.count; i++)
        if (!mos_plan_stream_boot_file(plan, mos_vec_at(&files, i), counting, sink))
            return false;
    return true;
}
