/* What a workspace keeps of its writes: a line each in written.jsonl, and below written/ what was
 * on a device before. */
#include "api/write.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "base/out.h"
#include "base/text.h"
#include "ledger/written.h"

#include <errno.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { EDGE = 1 << 20, MOST_RECORD = 64 << 20, MOST_KEPT = 256 << 20 };

static const char *place_of(struct write_job *w, const char *name) {
    return mos_path_join(w->m->arena, w->m->options.workspace, name);
}

/* Nothing below the workspace becomes root's. */
static void own(struct write_job *w, const char *path) {
    const struct mos_host *h = w->m->ctx.host;
    h->own_like(h, path, w->m->options.workspace);
}

static bool keep(struct write_job *w, const struct write_device *x, const char *folder,
                 const char *name, const void *bytes, size_t length) {
    const char *path = mos_path_join(w->m->arena, folder, name);
    if (!mos_write_file(&w->m->ctx, path, bytes, length))
        return false;
    own(w, path);
    own(w, folder);
    own(w, x->folder);
    own(w, place_of(w, "written"));
    return true;
}

/* ---- an interrupted write ---- */

static void make_key(struct write_job *w, struct write_device *x) {
    const struct mos_block *b = x->d.block;
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    const char *all = mos_printf(w->m->arena, "%s\n%s\n%s\n%s\n%s\n%llu %llu", b->port, b->lun,
                                 b->model, b->serial, b->name, (unsigned long long)b->size,
                                 (unsigned long long)b->sequence);
    if (mos_sha256(all, strlen(all), hash)) {
        mos_sha256_hex(hash, hex);
        x->key = mos_strndup(w->m->arena, hex, 12);
    }
}

static json_t *load(struct write_job *w, const char *path) {
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&w->m->ctx, &ignored);
    char *data;
    size_t length;
    if (!mos_exists(&quiet, path) || !mos_read_aside(&quiet, path, MOST_RECORD, &data, &length))
        return NULL;
    return json_loadb(data, length, 0, NULL);
}

void write_find_record(struct write_job *w, struct write_device *x) {
    const char *workspace = w->m->options.workspace;
    make_key(w, x);
    if (!workspace || !x->key)
        return;
    x->folder = mos_path_join(w->m->arena, place_of(w, "written"), x->key);
    x->saved = mos_path_join(w->m->arena, x->folder, x->d.token); /* one for each content */
    json_t *going = load(w, mos_path_join(w->m->arena, x->folder, "going.json"));
    const char *hash = json_string_value(json_object_get(going, "hash"));
    const char *token = json_string_value(json_object_get(going, "token"));
    if (hash && token && *w->image.hash && strcmp(hash, w->image.hash) == 0 &&
        strlen(token) == MOS_TOKEN_LETTERS) {
        x->goes_on = true;
        x->done_before = (uint64_t)json_integer_value(json_object_get(going, "done"));
        x->token_before = mos_strdup(w->m->arena, token);
    }
    x->had_going = going != NULL;
    json_decref(going);
}

void write_mark_record(struct write_job *w, struct write_device *x, uint64_t done) {
    struct mos_error ignored = {0}, *saved = w->m->ctx.error;
    if (!x->folder)
        return;
    w->m->ctx.error = &ignored; /* what is not noted is written once more */
    json_t *going = json_pack("{s:i, s:s, s:s, s:I}", "mosaicum", 1, "hash", w->image.hash, "token",
                              x->d.token, "done", (json_int_t)done);
    char *text = json_dumps(going, JSON_COMPACT);
    if (text)
        keep(w, x, x->folder, "going.json", text, strlen(text));
    free(text);
    json_decref(going);
    w->m->ctx.error = saved;
}

/* ---- what was there before ---- */

static bool save_span(struct write_job *w, struct write_device *x, const char *name,
                      uint64_t offset, uint64_t length) {
    mosaicum *m = w->m;
    const struct mos_computer *c = m->ctx.host->computer;
    if (length > MOST_KEPT)
        return mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                        "Region %s of %s belongs to the factory, and is too large to be saved (%s)",
                        name, x->d.path, mos_size_text(m->arena, length));
    uint8_t *bytes = mos_alloc(m->arena, (size_t)length + 1);
    int e = c->read(c, x->device, bytes, (size_t)length, offset);
    if (e) {
        x->why = mos_printf(m->arena, "what is on it could not be saved: %s", mos_errno_text(e));
        return false;
    }
    bool ok = keep(w, x, x->saved, mos_file_name(m->arena, name), bytes, (size_t)length);
    mos_drop(m->arena, bytes, (size_t)length + 1);
    return ok;
}

static bool save_factory(struct write_job *w, struct write_device *x) {
    const struct mos_vec *regions = &w->image.ledger.regions;
    bool ok = true;
    for (size_t i = 0; x->carries && i < regions->count && ok; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(regions, i);
        if (r->owner && strcmp(r->owner, "factory") == 0)
            ok = save_span(w, x, mos_printf(w->m->arena, "%s.bin", r->name), r->offset, r->length);
    }
    return ok;
}

bool write_begin_record(struct write_job *w, struct write_device *x) {
    uint64_t size = mos_round_down(x->d.block->size, w->grain), edge = mos_min(EDGE, size);
    if (!x->folder)
        return true;
    /* an interrupted write has saved what was there: now there is nothing of it any more */
    if (!x->had_going && !(save_span(w, x, "start.bin", 0, edge) &&
                           save_span(w, x, "end.bin", size - edge, edge) && save_factory(w, x)))
        return false;
    if (*w->image.hash)
        write_mark_record(w, x, 0);
    return true;
}

/* ---- written.jsonl ---- */

bool write_end_record(struct write_job *w, struct write_device *x, const char *result, bool whole,
                      uint64_t tenths, uint64_t bytes) {
    const struct write_image *image = &w->image;
    const struct mos_block *b = x->d.block;
    const struct mos_host *h = w->m->ctx.host;
    if (!x->folder)
        return true;
    const struct mos_written line = {.date = mos_written_today(&w->m->ctx),
                                     .board = image->ledger.board,
                                     .medium = image->ledger.medium,
                                     .image = image->name,
                                     .stamp = image->ledger.stamp,
                                     .hash = image->hash,
                                     .unit = w->request->unit,
                                     .path = b->path,
                                     .model = b->model,
                                     .serial = b->serial,
                                     .port = b->port,
                                     .result = result,
                                     .size = b->size,
                                     .bytes = bytes,
                                     .tenths = tenths,
                                     .proved = whole};
    const char *path = place_of(w, "written.jsonl");
    bool ok = mos_written_append(&w->m->ctx, path, &line);
    own(w, path);
    if (ok && whole)
        h->remove_tree(h, mos_path_join(w->m->arena, x->folder, "going.json"));
    return ok;
}

/* ---- what earlier writes tell ---- */

static bool same_text(const char *a, const char *b) {
    return strcmp(a ? a : "", b ? b : "") == 0;
}

/* Bytes a second that the same device took the last time. */
static void find_rate(struct write_device *x, const struct mos_vec *lines) {
    const struct mos_block *b = x->d.block;
    for (size_t i = lines->count; i-- > 0;) {
        const struct mos_written *l = mos_vec_at(lines, i);
        if (!l->proved || l->tenths < 10 || l->size != b->size || !same_text(l->model, b->model) ||
            !same_text(l->serial, b->serial) || !same_text(l->port, b->port))
            continue;
        x->rate = l->bytes / l->tenths * 10;
        return;
    }
}

/* Has the unit another medium already, which was not the one of any device that is written now? */
static void judge_new(struct write_job *w, const struct mos_vec *lines, const char *path) {
    const char *unit = w->request->unit;
    const struct mos_written *last = NULL;
    for (size_t i = lines->count; unit && i-- > 0 && !last;) {
        const struct mos_written *l = mos_vec_at(lines, i);
        if (l->unit && strcmp(l->unit, unit) == 0 && l->proved)
            last = l;
    }
    for (size_t i = 0; i < w->count && last; i++) {
        const struct mos_block *b = w->devices[i].d.block;
        if (b && last->size == b->size && same_text(last->model, b->model) &&
            same_text(last->serial, b->serial))
            return;
    }
    if (!last)
        return;
    struct mos_findings *to = &w->m->ctx.findings;
    struct mos_finding *f =
        mos_find(to, MOS_RULE_WRITE_NOT_NEW, "Unit %s has another medium already: %s%s%s%s%s.",
                 unit, last->model && *last->model ? last->model : "one of no name",
                 last->serial && *last->serial ? ", serial " : "", last->serial ? last->serial : "",
                 last->date ? ", written on " : "", last->date ? last->date : "");
    mos_finding_at(to, f, (struct mos_place){.thing = path});
    mos_finding_try(to, f,
                    "Give this board another name, or put the other medium out of use first.");
}

void write_judge_record(struct write_job *w) {
    const struct write_image *image = &w->image;
    mosaicum *m = w->m;
    size_t bad;
    if (!m->options.workspace)
        return;
    const char *path = place_of(w, "written.jsonl");
    struct mos_vec lines = mos_written_read(&m->ctx, path, &bad);
    const struct mos_written *last = NULL;
    bool before = false; /* this build was written, and then another one */
    if (bad)
        mos_vec_push_pointer(&m->not_proved, mos_printf(m->arena, "what %zu line%s of %s say", bad,
                                                        bad == 1 ? "" : "s", path));
    for (size_t i = 0; i < w->count; i++)
        if (w->devices[i].d.block)
            find_rate(&w->devices[i], &lines);
    judge_new(w, &lines, path);
    if (!image->has_ledger || !image->ledger.stamp)
        return;
    for (size_t i = 0; i < lines.count; i++) {
        const struct mos_written *l = mos_vec_at(&lines, i);
        if (!l->board || !l->stamp || strcmp(l->board, image->ledger.board) != 0)
            continue;
        before |= strcmp(l->stamp, image->ledger.stamp) == 0;
        last = l;
    }
    if (!before || strcmp(last->stamp, image->ledger.stamp) == 0)
        return;
    struct mos_finding *f =
        mos_find(&m->ctx.findings, MOS_RULE_WRITE_STALE,
                 "This build of %s was written before, and then another one%s%s.",
                 image->ledger.board, last->date ? " on " : "", last->date ? last->date : "");
    mos_finding_at(&m->ctx.findings, f, (struct mos_place){.thing = image->ledger_path});
    mos_finding_at(&m->ctx.findings, f, (struct mos_place){.thing = path});
    mos_finding_try(&m->ctx.findings, f, "Write the newest build: mosaicum write SELECTOR DEVICE.");
}
