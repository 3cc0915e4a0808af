#include "api/rig.h"

#include "base/bytes.h"
#include "base/text.h"
#include "ledger/ledger.h"

#include <string.h>

enum { MOST_LOADER = 64 << 20, MOST_TREE = 4 << 20, LOADER_TOP = 40 << 20 };

/* ---- images ---- */

static struct mos_rig_medium *add_image(mosaicum *m, struct run_rig *r, const char *path,
                                        const char *name, const char *loader, const char *kernel) {
    struct machine_image *image = mos_alloc(m->arena, sizeof *image);
    image->path = path;
    if (!mos_unpack_open(&m->ctx, path, &image->file))
        return NULL;
    mos_vec_push_pointer(&r->images, image);
    struct mos_rig_medium *x = mos_vec_push(&r->media);
    *x = (struct mos_rig_medium){name, loader, kernel, &image->file.io};
    return x;
}

/* Which medium that is gets known once all are there: until then it is its number. */
static const struct mos_rig_medium *numbered(size_t medium) {
    return (const void *)(uintptr_t)medium;
}

struct search {
    const struct mos_dialect *dialect; /* whose file was found; NULL: none was */
    uint64_t size;
};

static bool look_for_file(void *self, const struct mos_entry *e) {
    struct search *s = self;
    const struct mos_dialect *d;
    for (size_t i = 0; !s->dialect && (d = mos_dialect_at(i)); i++)
        if (d->stored && strcmp(e->path, d->stored->file) == 0 && e->type == MOS_ENTRY_FILE) {
            s->dialect = d;
            s->size = e->size;
        }
    return true;
}

/* What was found tells whose loader it is, where nobody has said it. */
static void take_dialect(struct run_rig *r, const struct mos_dialect *dialect) {
    if (!r->rig.dialect)
        r->rig.dialect = dialect;
}

/* A loader's file with its variables, in the first volume that firmware reads. */
static bool take_file(struct survey *s, struct run_rig *r, size_t medium,
                      const struct survey_span *x) {
    struct search search = {0};
    struct mos_sink sink = {&search, look_for_file, mos_ignore_data, mos_ignore_end};
    struct mos_read_request request = {.sink = &sink, .wants = mos_wants_no_data};
    if (!x->has_volume || !x->volume.driver || !x->volume.driver->firmware_reads ||
        !survey_stream(s, x, &request) || !search.dialect)
        return false;
    take_dialect(r, search.dialect);
    mos_rig_add_file(s->m->arena, &r->environments, search.dialect->stored->file, numbered(medium),
                     x->partition ? x->partition->number : 0, search.size);
    return true;
}

/* The variables that are compiled into a loader that lies in the image. */
static void take_loader(mosaicum *m, struct survey *s, struct run_rig *r,
                        const struct survey_span *x) {
    uint64_t length = mos_min(x->length, MOST_LOADER);
    if (r->rig.compiled || x->has_volume || x->environment_size || length < 64 << 10)
        return;
    struct mos_io window = survey_window(s, x);
    uint8_t *bytes = mos_alloc(m->arena, (size_t)length);
    const struct mos_dialect *d =
        mos_io_read(&window, bytes, (size_t)length, 0)
            ? NULL
            : mos_loaders_find_compiled(m->arena, bytes, (size_t)length, &r->compiled);
    if (d)
        r->rig.compiled = &r->compiled;
    take_dialect(r, d);
}

/* What only looking can tell: blocks of variables, a loader with its own. */
static bool look_at(mosaicum *m, struct run_rig *r, size_t medium, const char *path) {
    struct survey s;
    bool file = false;
    if (!survey_open(m, path, &s))
        return false;
    for (size_t i = 0; i < s.spans.count; i++) {
        const struct survey_span *x = mos_vec_at(&s.spans, i);
        if (x->environment_size) {
            take_dialect(r, x->dialect);
            mos_rig_add_block(m->arena, &r->environments, numbered(medium), x->start,
                              x->environment_size, x->flag_byte);
        }
        file = file || take_file(&s, r, medium, x);
        take_loader(m, &s, r, x);
    }
    survey_close(&s);
    return true;
}

/* ---- a board ---- */

static bool take_media(mosaicum *m, const struct mos_plan *plan, const char *folder,
                       struct run_rig *r) {
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *x = mos_vec_pointer(&plan->media, i);
        if (x->area)
            continue;
        const char *path = mos_printf(m->arena, "%s/%s.img", folder, x->name);
        if (!mos_exists(&m->ctx, path))
            return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                            "%s is not there: a rehearsal needs what was built; run mosaicum "
                            "build %s",
                            path, plan->board->selector);
        size_t number = r->media.count;
        if (!add_image(m, r, path, x->name,
                       mos_has(x->medium->loader)
                           ? x->medium->loader->text
                           : mos_dialect_medium(plan->dialect ? plan->dialect : mos_dialect_at(0),
                                                m->arena, mos_text_or(x->medium->kind, "")),
                       mos_text_or(x->medium->kernel, NULL)) ||
            !look_at(m, r, number, path))
            return false;
    }
    return true;
}

/* Was it built from something else than what the workspace holds now? */
static bool is_stale(struct run_task *t, const char *folder) {
    struct mos_ledger_last last;
    const char *stamp = run_fill(t->plan, false, NULL) ? run_stamp(t) : NULL;
    return stamp && mos_ledger_last(&t->ctx, folder, &last) && last.stamp &&
           strcmp(stamp, last.stamp) != 0;
}

/* The media as a build would write them. */
static bool take_planned(mosaicum *m, struct mos_plan *plan, struct run_rig *r) {
    const char *why;
    if (!mos_trial_rig(plan, &r->rig, &why))
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "It is not known %s: mosaicum check %s says what is missing", why,
                        plan->board->selector);
    r->planned = true;
    return true;
}

static bool open_board(mosaicum *m, const struct mosaicum_rehearsal *q, struct run_rig *r) {
    const struct mos_selection *s = run_select_one(m, q->what, "rehearse");
    struct run_task *t = s ? run_one(m, s) : NULL;
    struct mos_plan *plan = t ? run_plan(t) : NULL;
    if (!plan) {
        if (t) {
            run_finish(t);
            run_collect(m, t->result, 1, false);
        }
        return false;
    }
    const char *out = q->out ? q->out : mos_path_join(m->arena, m->options.workspace, "out");
    r->title = s->text;
    r->plan = plan;
    mos_trial_facts(plan, &r->rig);
    r->fallback = plan->entries.count > 1;
    if (r->fallback)
        r->claim =
            ((const struct mos_entry_plan *)mos_vec_pointer(&plan->entries, 1))->def->r.key_place;
    t->ctx.findings.items.count = 0; /* check tells them */
    if (q->planned) {
        bool good = run_fill(plan, false, NULL) && take_planned(m, plan, r);
        run_finish(t);
        return good;
    }
    const char *folder = mos_path_join(m->arena, out, s->text);
    if (is_stale(t, folder))
        mos_vec_push_pointer(&r->notes,
                             mos_printf(m->arena,
                                        "that this is what the definition says today: it was built "
                                        "before; mosaicum build %s",
                                        s->text));
    bool ok = take_media(m, plan, folder, r);
    run_finish(t);
    return ok;
}

/* ---- an image ---- */

static bool open_image(mosaicum *m, const struct mosaicum_rehearsal *q, struct run_rig *r) {
    uint64_t start, size;
    const char *loader =
        q->medium ? q->medium : mos_dialect_medium(mos_dialect_at(0), m->arena, "sd");
    r->title = q->what;
    r->rig.cpu = q->cpu;
    if ((q->ram_start || q->ram) &&
        (!q->ram_start || !q->ram || mos_address_parse(q->ram_start, &start) != MOS_NUMBER_OK ||
         mos_size_parse(q->ram, 0, &size) != MOS_NUMBER_OK || size <= LOADER_TOP))
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "RAM is given as in --ram-start 0x40000000 --ram \"512 MiB\"");
    if (q->ram) {
        r->rig.ram = (struct mos_ram_span){start, size};
        r->rig.loader_from = start + size - LOADER_TOP;
    }
    const struct mos_dialect *d = mos_dialect_at(0); /* the words of --as are those of its media */
    const char *kernel = mos_dialect_kernel_name(d, m->arena, loader),
               *flash = mos_dialect_medium(d, m->arena, "nor");
    /* what is in the flash comes first: that is why it is given */
    return add_image(m, r, q->what, "image", loader, kernel) &&
           (!q->flash || (add_image(m, r, q->flash, "flash", flash,
                                    mos_dialect_kernel_name(d, m->arena, flash)) &&
                          look_at(m, r, 1, q->flash))) &&
           look_at(m, r, 0, q->what);
}

static bool read_all(mosaicum *m, const char *path, size_t limit, const uint8_t **bytes,
                     size_t *length) {
    char *data;
    if (!mos_read_file(&m->ctx, path, limit, &data, length))
        return false;
    *bytes = (const uint8_t *)data;
    return true;
}

static bool take_files(mosaicum *m, const struct mosaicum_rehearsal *q, struct run_rig *r) {
    const uint8_t *binary;
    size_t length;
    if (q->loader) {
        if (!read_all(m, q->loader, MOST_LOADER, &binary, &length))
            return false;
        const struct mos_dialect *d =
            mos_loaders_find_compiled(m->arena, binary, length, &r->compiled);
        take_dialect(r, d);
        if (!d)
            return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                            "%s has no variables compiled into it that could be found", q->loader);
        r->rig.compiled = &r->compiled;
    }
    if (q->set) {
        const char *equals = strchr(q->set, '=');
        if (!equals || equals == q->set)
            return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                            "A variable is set as NAME=VALUE, not %s", q->set);
        const char **set = mos_alloc_array(m->arena, 3, sizeof *set);
        set[0] = mos_strndup(m->arena, q->set, (size_t)(equals - q->set));
        set[1] = equals + 1;
        r->rig.set = set;
    }
    if (q->tree && !read_all(m, q->tree, MOST_TREE, &r->rig.tree, &r->rig.tree_length))
        return false;
    return !q->keys || read_all(m, q->keys, MOST_TREE, &r->rig.keys, &r->rig.keys_length);
}

bool rig_open(mosaicum *m, const struct mosaicum_rehearsal *q, struct run_rig *r) {
    struct mos_file_info info;
    *r =
        (struct run_rig){.images = mos_vec_make(m->arena, sizeof(struct machine_image *)),
                         .media = mos_vec_make(m->arena, sizeof(struct mos_rig_medium)),
                         .environments = mos_vec_make(m->arena, sizeof(struct mos_rig_environment)),
                         .notes = mos_vec_make(m->arena, sizeof(char *))};
    bool image =
        m->ctx.host->info(m->ctx.host, q->what, true, &info) == 0 && info.kind != MOS_FILE_FOLDER;
    if (!image && q->flash)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "--flash is for an image: a board states its flash itself");
    if (q->planned && q->faults)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "--faults breaks what was built: mosaicum build %s, and without --planned",
                        q->what);
    if (image && q->planned)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "--planned is about a board: an image is there already");
    if (!(image ? open_image(m, q, r) : open_board(m, q, r)) || !take_files(m, q, r))
        return false;
    if (!r->rig.dialect) /* nothing tells: it is taken for the first one that there is */
        take_dialect(r, mos_dialect_at(0));
    if (!r->rig.dialect->simulated)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "A loader of dialect %s cannot be rehearsed",
                        r->rig.dialect->name);
    if (r->planned)
        return true;
    r->rig.media = r->media.items;
    r->rig.media_count = r->media.count;
    r->rig.environments = r->environments.items;
    r->rig.environment_count = r->environments.count;
    for (size_t i = 0; i < r->environments.count; i++) { /* numbers become pointers */
        struct mos_rig_environment *e = mos_vec_at(&r->environments, i);
        e->medium = &r->rig.media[(uintptr_t)e->medium];
    }
    return true;
}

void rig_close(struct run_rig *r) {
    for (size_t i = 0; i < r->images.count; i++)
        mos_unpack_close(&((struct machine_image *)mos_vec_pointer(&r->images, i))->file);
}
