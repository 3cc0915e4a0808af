/* The image that is written: a file, or the newest build of a board. */
#include "api/write.h"

#include "base/bytes.h"
#include "base/text.h"
#include "build/build.h"
#include "build/image.h"

#include <stdio.h>
#include <string.h>

static const char *file_of(const char *path) {
    const char *slash = strrchr(path, '/');
    return slash ? slash + 1 : path;
}

/* ---- a selector ---- */

static bool look(struct run_task *t) {
    struct mos_plan *plan = run_plan(t);
    t->result->built = plan && run_fill(plan, false, NULL) ? run_stamp(t) : NULL;
    t->result->built = t->result->built ? mos_strdup(t->results, t->result->built) : NULL;
    t->ctx.findings.items.count = 0; /* check tells them */
    t->ctx.not_proved.count = 0;
    return true;
}

/* The image of the board that is meant; NULL with an error. */
static const char *image_of_board(struct write_job *w, const char *selector) {
    mosaicum *m = w->m;
    struct mos_error *error = &m->error;
    const struct mos_selection *s = run_select_one(m, selector, "mosaicum write");
    if (!s)
        return NULL;
    struct mos_vec all = mos_vec_make(m->arena, sizeof(struct mos_selection));
    *(struct mos_selection *)mos_vec_push(&all) = *s;
    const struct run_result *result = run_tasks(m, &all, look);
    if (m->error.kind)
        return NULL;
    const char *out =
        w->request->out ? w->request->out : mos_path_join(m->arena, m->options.workspace, "out");
    const char *folder = mos_path_join(m->arena, out, s->text);
    const char *path = mos_path_join(m->arena, folder, "ledger.json");
    struct mos_ledger_last last;
    run_allow(m, folder, MOS_REACH_READ);
    if (!mos_ledger_last(&m->ctx, folder, &last)) {
        mos_fail(error, MOS_ERROR_USAGE, 0, "%s is not built: mosaicum build %s", s->text, s->text);
        return NULL;
    }
    if (!result->built || !last.stamp || strcmp(result->built, last.stamp) != 0) {
        mos_fail(error, MOS_ERROR_SAFETY, 0,
                 "What was built of %s is not what its definition says now: mosaicum build %s",
                 s->text, s->text);
        return NULL;
    }
    struct mos_vec names = mos_ledger_image_names(&m->ctx, path);
    if (names.count == 1)
        return mos_path_join(m->arena, folder, mos_vec_pointer(&names, 0));
    struct mos_buf list = {.arena = m->arena};
    for (size_t i = 0; i < names.count; i++)
        mos_buf_printf(&list, "%s%s", i ? ", " : "",
                       mos_path_join(m->arena, folder, mos_vec_pointer(&names, i)));
    mos_fail(error, MOS_ERROR_USAGE, 0, "%s has %zu images; name the file of one: %s", s->text,
             names.count, mos_buf_string(&list));
    return NULL;
}

/* ---- a file ---- */

/* Which of its ledger's images is it, whatever it is called now: the only one, else the one of its
 * size, else of its hash.  NULL: the ledger has none, with an error. */
static const char *name_by_content(struct write_job *w) {
    struct write_image *x = &w->image;
    struct mos_ctx *ctx = &w->m->ctx;
    struct mos_vec names = mos_ledger_image_names(ctx, x->ledger_path);
    const char *found = names.count ? mos_vec_pointer(&names, 0) : NULL;
    bool hashed = false;
    for (size_t i = 0, of_size = 0; i < names.count && names.count > 1; i++) {
        struct mos_ledger_image_last last;
        uint8_t hash[MOS_SHA256_SIZE];
        const char *name = mos_vec_pointer(&names, i);
        if (!mos_ledger_image_last(ctx, x->ledger_path, name, &last) || last.size != x->io->size)
            continue;
        found = of_size++ ? found : name;
        if (of_size < 2)
            continue;
        if (!hashed && !mos_image_hash_io(ctx, x->io, hash))
            return NULL;
        if (!hashed)
            mos_sha256_hex(hash, x->hash);
        hashed = true;
        found = strcmp(last.hash, x->hash) == 0 ? name : found;
    }
    if (!found)
        mos_fail(&w->m->error, MOS_ERROR_USAGE, 0, "%s lists no image that could be written",
                 x->ledger_path);
    return found;
}

static bool find_ledger(struct write_job *w) {
    struct write_image *x = &w->image;
    mosaicum *m = w->m;
    const char *stated = w->request->ledger;
    x->name = file_of(x->path);
    if (x->file.compression && strrchr(x->name, '.'))
        x->name = mos_strndup(m->arena, x->name, (size_t)(strrchr(x->name, '.') - x->name));
    x->ledger_path =
        stated ? stated
               : mos_path_join(m->arena, mos_path_folder(m->arena, x->path), "ledger.json");
    run_allow(m, x->ledger_path, MOS_REACH_READ);
    if (stated && !mos_exists(&m->ctx, stated))
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "There is no ledger %s", stated);
    else if (stated)
        x->name = name_by_content(w);
    x->has_ledger = !m->error.kind && x->name &&
                    mos_ledger_image_last(&m->ctx, x->ledger_path, x->name, &x->ledger);
    return !m->error.kind;
}

static void find_table(struct write_job *w) {
    struct write_image *x = &w->image;
    struct mos_volume_info volume;
    struct mos_vec problems = mos_vec_make(w->m->arena, sizeof(char *));
    x->driver = mos_table_read(x->io, w->m->arena, &x->table, &problems);
    if (x->driver) {
        x->sector = x->table.sector;
        x->table_span_count =
            x->driver->spans(x->table.sector, x->io->size, x->table.entries, x->table.entries_at,
                             x->table_spans, sizeof x->table_spans / sizeof *x->table_spans);
    }
    x->volume = !x->driver && !x->has_ledger && mos_fs_probe(x->io, w->m->arena, &volume);
    x->least = x->io->size;
}

/* A pipe that broke ends like one that has given all: only a ledger tells them apart. */
static bool take_input(struct write_job *w) {
    struct write_image *x = &w->image;
    x->piped = true;
    x->path = "standard input";
    if (!w->request->ledger)
        return mos_fail(&w->m->error, MOS_ERROR_USAGE, 0,
                        "An image on standard input may be cut off, and nothing would tell: name "
                        "its ledger with --ledger FILE");
    return mos_unpack_input(&w->m->ctx, x->path, &x->file);
}

static bool open_path(struct write_job *w) {
    struct write_image *x = &w->image;
    mosaicum *m = w->m;
    const char *what = w->request->what;
    x->path = what;
    run_allow(m, what, MOS_REACH_READ);
    if (!mos_exists(&m->ctx, what) && !strchr(what, '/')) {
        if (!m->options.workspace)
            return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                            "There is no file %s here, and no workspace whose board it could be",
                            what);
        x->path = image_of_board(w, what);
    }
    return x->path && mos_unpack_open(&m->ctx, x->path, &x->file);
}

bool write_open(struct write_job *w) {
    struct write_image *x = &w->image;
    mosaicum *m = w->m;
    if (!(strcmp(w->request->what, "-") == 0 ? take_input(w) : open_path(w)))
        return false;
    x->io = &x->file.io;
    const struct mos_host *h = m->ctx.host;
    int e = x->file.is_device ? MOS_NO_FILE : h->file_info(h, x->file.file, &x->before);
    if (e)
        mos_fail(&m->error, MOS_ERROR_USAGE, e, "Cannot write from %s", x->path);
    if (!x->io->size)
        mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s is empty", x->path);
    if (m->error.kind || !find_ledger(w)) {
        write_close(w);
        return false;
    }
    if (x->piped)
        x->path = mos_printf(m->arena, "%s from standard input", x->name);
    find_table(w);
    if (x->has_ledger && !x->sector)
        x->sector = x->ledger.sector;
    return true;
}

void write_close(struct write_job *w) {
    mos_unpack_close(&w->image.file);
}

/* ---- is it what was built? ---- */

static void damaged(struct write_job *w, const char *message, const char *why) {
    struct mos_findings *to = &w->m->ctx.findings;
    struct write_image *x = &w->image;
    struct mos_finding *f = mos_find(to, MOS_RULE_WRITE_IMAGE_DAMAGED, "%s", message);
    mos_finding_at(to, f, (struct mos_place){.thing = x->path});
    mos_finding_at(to, f, (struct mos_place){.thing = x->ledger_path});
    mos_finding_why(to, f, "%s", why);
    mos_finding_try(to, f, "Build it again, or fetch it again, with its ledger.");
}

/* An output that nobody has touched since it was built, with the ledger that was built with it. */
static bool is_as_built(struct write_job *w) {
    const struct write_image *x = &w->image;
    if (x->file.compression || x->piped || w->request->ledger)
        return false;
    const char *folder = mos_path_folder(w->m->arena, x->path);
    run_allow(w->m, folder, MOS_REACH_READ);
    return mos_build_is_as_left(&w->m->ctx, folder);
}

bool write_proves_image(struct write_job *w) {
    struct write_image *x = &w->image;
    mosaicum *m = w->m;
    uint8_t hash[MOS_SHA256_SIZE];
    if (!x->has_ledger)
        return true;
    if (x->ledger.size != x->io->size) {
        damaged(w,
                mos_printf(m->arena, "%s has %s, and its ledger says %s.", x->path,
                           mos_size_text(m->arena, x->io->size),
                           mos_size_text(m->arena, x->ledger.size)),
                "It is cut off, or the ledger is of another build.");
        return false;
    }
    if (is_as_built(w)) {
        snprintf(x->hash, sizeof x->hash, "%s", x->ledger.hash); /* untouched since it was hashed */
        return true;
    }
    if (m->ctx.progress)
        m->ctx.progress(m->ctx.progress_self, "hash the image", 0, x->io->size);
    if (!(x->file.compression || x->piped ? mos_image_hash_io(&m->ctx, x->io, hash)
                                          : mos_image_hash_of(&m->ctx, x->path, hash)))
        return false;
    mos_sha256_hex(hash, x->hash);
    if (strcmp(x->hash, x->ledger.hash) == 0)
        return true;
    damaged(
        w,
        mos_printf(m->arena, "%s is not what its ledger says: its hash is another one.", x->path),
        "Bytes of it have changed since it was built, or the ledger is of another build.");
    return false;
}
