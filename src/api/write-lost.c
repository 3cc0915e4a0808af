/* What is lost when a device is written: counted by a reader, and what somebody edited there. */
#include "api/write.h"

#include "base/text.h"
#include "linux/running.h"

#include <string.h>

enum { MOST_COUNTED = 20000, MOST_NAMED = 3 };

/* ---- edits ---- */

/* What lies in a volume, and what of it is younger than anything that was built. */
struct look {
    size_t files;
    int64_t youngest, built; /* of all here; of all in the image: INT64_MAX where that has none */
    bool all;                /* every entry is looked at, however many there are */
    size_t edits;
    struct mos_buf names; /* of the first of them */
    const struct media_volume *volume;
};

static bool look_at_entry(void *self, const struct mos_entry *e) {
    struct look *l = self;
    l->files += e->type == MOS_ENTRY_FILE;
    l->youngest = e->mtime > l->youngest ? e->mtime : l->youngest;
    /* a folder becomes younger by what a running system makes in it, too */
    if (e->mtime > l->built && e->type != MOS_ENTRY_FOLDER && !mos_made_by_running(e->path) &&
        l->edits++ < MOST_NAMED)
        mos_buf_printf(&l->names, "%s/%s", l->names.length ? ", " : "", e->path);
    return l->all || l->files < MOST_COUNTED;
}

/* How many problems there were. */
static size_t look_into(struct write_job *w, const struct media_volume *v, struct mos_io *io,
                        struct look *l) {
    struct mos_vec problems = mos_vec_make(w->m->arena, sizeof(char *));
    struct mos_sink sink = {l, look_at_entry, mos_ignore_data, mos_ignore_end};
    struct mos_read_request request = {
        .sink = &sink, .wants = mos_wants_no_data, .problems = &problems};
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&w->m->ctx, &ignored);
    struct mos_io part = mos_io_window(w->m->arena, io, v->start, v->length);
    v->info.driver->stream(&quiet, &part, &request);
    return problems.count;
}

/* When the youngest file of the image's volume at the same place was made; INT64_MAX: it has none
 * there that could be told apart from an edit. */
static int64_t youngest_built(struct write_job *w, const struct media_volume *v) {
    struct look l = {.youngest = INT64_MIN, .built = INT64_MAX, .all = true};
    struct media_volume like = *v;
    if (v->length > w->image.io->size || v->start > w->image.io->size - v->length)
        like.length = v->start < w->image.io->size ? w->image.io->size - v->start : 0;
    struct mos_io part = mos_io_window(w->m->arena, w->image.io, like.start, like.length);
    if (!like.length || !mos_fs_probe(&part, w->m->arena, &like.info) || !like.info.driver ||
        like.info.driver != v->info.driver || !like.info.driver->stream || like.info.damaged)
        return INT64_MAX;
    look_into(w, &like, w->image.io, &l);
    return l.youngest == INT64_MIN ? INT64_MAX : l.youngest;
}

static void tell_edits(struct write_job *w, const struct write_device *x, const struct look *l) {
    struct mos_findings *to = &w->m->ctx.findings;
    const char *name =
        l->volume->info.label && *l->volume->info.label ? l->volume->info.label : l->volume->name;
    struct mos_finding *f = mos_find(
        to, MOS_RULE_WRITE_EDITS_LOST,
        "%zu file%s in %s on %s %s younger than anything that was "
        "built: %s%s.",
        l->edits, l->edits == 1 ? "" : "s", *name ? name : l->volume->info.kind, x->d.path,
        l->edits == 1 ? "is" : "are", mos_buf_string((struct mos_buf *)(uintptr_t)&l->names),
        l->edits > MOST_NAMED ? ", …" : "");
    mos_finding_at(to, f, (struct mos_place){.thing = x->d.path});
    mos_finding_at(to, f, (struct mos_place){.thing = w->image.path});
    mos_finding_try(to, f, "See them with the change to make: mosaicum compare %s %s",
                    mos_shell_word(w->m->arena, w->image.path), x->d.path);
}

/* ---- what is lost ---- */

/* "root (ext4, 1204 files)": as a reader counts them. */
static const char *lost_text(struct write_job *w, const struct write_device *x, struct mos_io *io,
                             const struct media_volume *v) {
    mosaicum *m = w->m;
    struct look l = {.built = INT64_MAX, .names = {.arena = m->arena}, .volume = v};
    const char *name = v->info.label && *v->info.label ? v->info.label : v->name;
    if (!v->info.kind)
        return NULL;
    if (!v->info.driver || !v->info.driver->stream || v->info.damaged)
        return mos_printf(m->arena, "%s%s(%s, its files cannot be counted)", name, *name ? " " : "",
                          v->info.kind);
    if (x->carries && w->image.has_ledger)
        l.built = youngest_built(w, v);
    l.all = l.built != INT64_MAX;
    size_t problems = look_into(w, v, io, &l);
    if (l.edits)
        tell_edits(w, x, &l);
    return mos_printf(m->arena, "%s%s(%s, %s%zu file%s)", name, *name ? " " : "", v->info.kind,
                      !l.all && l.files >= MOST_COUNTED ? "more than "
                      : problems                        ? "at least "
                                                        : "",
                      l.files, l.files == 1 ? "" : "s");
}

/* Of a job for some regions: does one of them begin there? */
static bool is_written_at(const struct write_job *w, uint64_t start) {
    const char *const *names = w->request->regions;
    const struct mos_vec *regions = &w->image.ledger.regions;
    if (!names || !*names)
        return true;
    for (size_t i = 0; i < regions->count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(regions, i);
        for (size_t k = 0; r->offset == start && names[k]; k++)
            if (strcmp(names[k], r->name) == 0)
                return true;
    }
    return false;
}

static const char *what_is_lost(struct write_job *w, struct write_device *x) {
    mosaicum *m = w->m;
    const struct mos_computer *c = m->ctx.host->computer;
    struct mos_buf b = {.arena = m->arena};
    size_t unknown = 0;
    int device;
    if (x->goes_on)
        return "what an interrupted write of this image has put there";
    if (c->open_to_look(c, x->d.block->path, &device))
        return "not known: it cannot be read";
    struct mos_io io = mos_io_device(m->arena, c, device, x->d.block->size);
    for (size_t i = 0; i < x->d.volumes.count; i++) {
        const struct media_volume *v = mos_vec_at(&x->d.volumes, i);
        const char *text = NULL;
        bool stays = !is_written_at(w, v->start);
        for (size_t k = 0; k < x->keep.count && !stays; k++)
            stays = ((const struct mos_ledger_region_last *)mos_vec_pointer(&x->keep, k))->offset ==
                    v->start;
        if (!stays)
            text = lost_text(w, x, &io, v);
        unknown += !stays && !text;
        if (text)
            mos_buf_printf(&b, "%s%s", b.length ? ", " : "", text);
    }
    c->close(c, device);
    if (unknown && x->d.driver)
        mos_buf_printf(&b, "%s%zu partition%s whose content is not known", b.length ? ", " : "",
                       unknown, unknown == 1 ? "" : "s");
    if (!b.length)
        return !x->d.driver             ? "nothing that is known lies on it"
               : x->d.volumes.count > 0 ? "no volume"
                                        : "a table without partitions";
    return mos_buf_string(&b);
}

/* ---- what stays ---- */

static const struct media_volume *volume_at(const struct write_device *x, uint64_t start) {
    for (size_t i = 0; i < x->d.volumes.count; i++) {
        const struct media_volume *v = mos_vec_at(&x->d.volumes, i);
        if (v->start == start)
            return v;
    }
    return NULL;
}

void write_judge_what_stays(struct write_job *w, const struct write_device *x) {
    struct mos_findings *to = &w->m->ctx.findings;
    for (size_t i = 0; i < x->keep.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_pointer(&x->keep, i);
        const struct media_volume *v = volume_at(x, r->offset);
        bool is_volume = r->holds && mos_fs_find(r->holds);
        if (!is_volume || !v || v->unreadable || (v->info.kind && !strcmp(v->info.kind, r->holds)))
            continue;
        struct mos_finding *f = mos_find(
            to, MOS_RULE_WRITE_OLD_SIGNATURES, "Region %s stays, and holds %s instead of %s.",
            r->name, v->info.kind ? v->info.kind : "nothing that is known", r->holds);
        mos_finding_at(to, f, (struct mos_place){.thing = x->d.path});
        mos_finding_at(to, f, (struct mos_place){.thing = w->image.path});
        mos_finding_try(to, f, "Write it anew, with what is in it lost: --all-regions.");
    }
}

void write_look_what_is_lost(struct write_job *w, struct write_device *x) {
    x->lost = what_is_lost(w, x);
}
