/* A step that writes an image, and how it does so through the board's loader. */
#include "api/program.h"

#include "base/bytes.h"
#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { SECTOR = 512, OF_FLASH = 256 << 10 };

/* ---- the image ---- */

bool program_looks_at_image(struct program_job *j, struct program_step *s, const char **size) {
    struct write_job *w = mos_alloc(j->m->arena, sizeof *w);
    if (!program_opens_image(j, s, w))
        return false;
    bool ok = write_make_spans(w);
    if (ok) {
        const struct mos_media_job like = {.spans = w->spans.items, .span_count = w->spans.count};
        s->hash = mos_strdup(j->m->arena, w->image.hash);
        *size = mos_printf(j->m->arena, "%s of %s",
                           mos_size_about(j->m->arena, mos_media_total(&like, NULL)),
                           mos_size_text(j->m->arena, w->image.io->size));
        if (write_unit_text(w))
            *size = mos_printf(j->m->arena, "%s, with %s", *size, write_unit_text(w));
        if (!j->unit_judged)
            write_judge_unit(w);
        j->unit_judged = true;
    }
    write_close(w);
    return ok;
}

/* ---- is it the medium that is meant ---- */

/* "29.7 GiB, about" */
static const char *size_told(struct program_job *j, const struct mos_order_told *told) {
    if (!told->size)
        return "a size that it does not tell";
    return mos_printf(j->m->arena, "%s%s", told->blur ? "about " : "",
                      told->blur ? mos_size_about(j->m->arena, told->size)
                                 : mos_size_text(j->m->arena, told->size));
}

static bool is_named(const struct mos_list *names, const char *name) {
    for (size_t i = 0; i < names->count; i++)
        if (mos_has(names->items[i]) && strcmp(names->items[i]->text, name) == 0)
            return true;
    return false;
}

static bool refuse(struct program_job *j, struct program_step *s, struct mos_place place,
                   const char *message, const char *why, const char *remedy) {
    struct mos_findings *to = &j->m->ctx.findings;
    struct mos_finding *f = mos_find(to, MOS_RULE_BOARD_PROGRAMMING, "%s", message);
    mos_finding_at(to, f, place);
    mos_finding_at(to, f, (struct mos_place){.thing = j->request->serial});
    mos_finding_why(to, f, "%s", why);
    mos_finding_try(to, f, "%s", remedy);
    j->m->refused = true;
    return program_fails(s, "refused");
}

/* The loader's number of a device is nobody's word: name and size are. */
static bool is_meant(struct program_job *j, struct program_step *s, const struct mos_programmer *p,
                     uint64_t least) {
    const struct mos_program_step *d = s->def;
    const struct mos_order_told *told = &p->told;
    const struct mos_medium *medium = d->write->target;
    const struct mos_medium_size *size = medium->size;
    struct mos_arena *arena = j->m->arena;
    const char *what = mos_printf(arena, "%s of the board is %s%s%s, of %s", p->medium,
                                  *told->name ? "\"" : "nameless",
                                  *told->name ? mos_strdup(arena, told->name) : "",
                                  *told->name ? "\"" : "", size_told(j, told));
    struct mos_place place = d->names.count ? d->names.items[0]->place : d->r.key_place;
    if (!is_named(&d->names, told->name))
        return refuse(j, s, place,
                      mos_printf(arena, "%s: not what step %s is for.", what, d->r.name),
                      "Numbers of devices change with what is plugged in; the name does not.",
                      *told->name ? mos_printf(arena,
                                               "Look at the board; where it is the right part, add "
                                               "its name: names: [\"%s\"].",
                                               told->name)
                                  : "Use another way, for this loader does not tell who it is.");
    if (p->area && !told->size)
        return true;
    if (!told->size)
        return refuse(j, s, place, mos_printf(arena, "%s: too little to go by.", what),
                      "A medium whose size is not known may be another one.",
                      "Use another way, for this loader does not tell the size.");
    uint64_t from = told->size - mos_min(told->blur, told->size), to = told->size + told->blur;
    if (p->area)
        size = NULL;
    if (to < least || (size && mos_has(size->at_least) && to < (uint64_t)size->at_least->number))
        return refuse(j, s, size ? size->at_least->place : place,
                      mos_printf(arena, "%s: too small for the image, %s.", what,
                                 mos_size_text(arena, least)),
                      "It is another medium than the definition's, or another part is fitted.",
                      "Look at the board, and at size: at-least.");
    if (size && mos_has(size->at_most) && from > (uint64_t)size->at_most->number)
        return refuse(j, s, size->at_most->place,
                      mos_printf(arena, "%s: more than the %s that is fitted.", what,
                                 mos_size_text(arena, (uint64_t)size->at_most->number)),
                      "It is another medium than the definition's, or another part is fitted.",
                      "Look at the board, and at size: at-most.");
    return true;
}

/* ---- through the loader ---- */

static bool open_server(struct program_job *j, struct program_step *s, struct mos_programmer *p) {
    struct mos_arena *arena = j->m->arena;
    if (!j->serves) {
        j->server = mos_alloc(arena, sizeof *j->server);
        j->server->wires = j->m->ctx.host->wires;
        j->server->own = (struct mos_peer){j->own_address, MOS_TFTP_PORT};
        int e = mos_server_open(j->server);
        if (e)
            return program_fails(
                s, mos_printf(arena, "no files can be given at %s, port 69: %s%s",
                              j->request->address, mos_errno_text(e),
                              e == EACCES          ? " (with sudo in front of the command they can)"
                              : e == EADDRINUSE    ? " (another server has it)"
                              : e == EADDRNOTAVAIL ? " (this computer has no such address)"
                                                   : ""));
        j->serves = true;
    }
    j->server->self = p;
    j->server->find = mos_programmer_find;
    j->server->read = mos_programmer_read;
    j->talk.server = j->server;
    return true;
}

/* How a medium's parts are written at once, bytes. */
static uint32_t grain_of(const struct mos_medium *medium) {
    enum mos_medium_kind kind = mos_medium_kind_of(medium->kind);
    bool flash = kind == MOS_MEDIUM_NOR || kind == MOS_MEDIUM_NAND;
    return flash && mos_has(medium->erase) ? (uint32_t)medium->erase->number : SECTOR;
}

static const char *where(struct program_job *j, const struct mos_programmer *p) {
    struct mos_arena *arena = j->m->arena;
    if (!p->length)
        return "";
    return mos_printf(arena, " (%s%s%s)", p->region ? p->region : "", p->region ? ", " : "",
                      mos_span_text(arena, p->at, p->at + p->length));
}

static const char *result_of(struct program_job *j, const struct mos_programmer *p) {
    struct mos_arena *arena = j->m->arena;
    if (p->proved && !p->written)
        return mos_printf(arena, "nothing differed, all %s was read back",
                          mos_size_about(arena, p->kept));
    if (p->proved)
        return mos_printf(arena, "written %s%s%s, and read back", mos_size_about(arena, p->written),
                          p->kept ? ", there before " : "",
                          p->kept ? mos_size_about(arena, p->kept) : "");
    return mos_printf(arena, "%s%s%s%s%s%s", p->why ? p->why : "not finished", where(j, p),
                      p->said ? ": the board says \"" : "", p->said ? p->said : "",
                      p->said ? "\"" : "",
                      p->stuck     ? "; what is on it is not known"
                      : p->invalid ? "; it does not start now, do it again"
                                   : "");
}

/* The layout's own table, or none, at the size that was found; and does the board have it? */
static bool look_at_table(struct write_job *w, struct mos_programmer *p) {
    struct write_device *x = &w->devices[0];
    const struct mosaicum_write *request = w->request;
    struct mosaicum_write all = *request;
    all.regions = NULL;
    w->request = &all;
    bool ok = write_make_patches(w, x);
    w->request = request;
    x->carries = ok && x->patches.count;
    for (size_t i = 0; ok && x->carries && i < x->patches.count; i++)
        ok = mos_programmer_holds(p, mos_vec_at(&x->patches, i), &x->carries);
    return ok;
}

/* Where something stays, the table stays valid: without it nobody knows what it is. */
static void keep_table(struct write_job *w, struct write_device *x) {
    struct mos_vec kept = mos_vec_make(w->m->arena, sizeof(struct mos_media_patch));
    for (size_t i = 0; i < x->voids.count; i++) {
        const struct mos_media_patch *v = mos_vec_at(&x->voids, i);
        for (size_t k = 0; k < w->spans.count; k++) {
            const struct mos_media_span *s = mos_vec_at(&w->spans, k);
            if (s->phase == MOS_MEDIA_START && s->offset == v->offset) {
                *(struct mos_media_patch *)mos_vec_push(&kept) = *v;
                break;
            }
        }
    }
    x->voids = kept;
}

static bool through_loader(struct program_job *j, struct program_step *s, struct write_job *w,
                           struct mos_programmer *p) {
    mosaicum *m = j->m;
    struct write_device *x = &w->devices[0];
    const struct write_image *image = &w->image;
    if (!mos_programmer_identify(p) || !is_meant(j, s, p, image->least))
        return false;
    uint64_t size = p->told.blur || !p->told.size ? image->io->size : p->told.size;
    struct mos_block *block = mos_alloc(m->arena, sizeof *block);
    *block =
        (struct mos_block){.path = j->request->serial,
                           .name = p->medium,
                           .size = size,
                           .sector = (uint32_t)p->grain,
                           .model = mos_strdup(m->arena, p->told.name),
                           .serial = "",
                           .port = mos_printf(m->arena, "%s by way %s", p->medium, j->way->r.name)};
    x->d = (struct media_device){.path = j->request->serial, .block = block};
    bool chosen = w->request->regions && *w->request->regions;
    if (!write_make_spans(w) || !look_at_table(w, p))
        return false;
    if (chosen && !x->carries && image->driver)
        return refuse(j, s, s->def->regions.items[0]->place,
                      mos_printf(m->arena, "%s of the board has another layout than %s.", p->medium,
                                 image->path),
                      "A region alone would lie where its table knows nothing of it.",
                      "Write all of the image first, with a step without regions.");
    bool stays = chosen;
    for (size_t i = 0; x->carries && image->has_ledger && i < image->ledger.regions.count; i++)
        stays = stays || write_may_stay(w, mos_vec_at(&image->ledger.regions, i));
    if (stays && x->carries)
        keep_table(w, x);
    p->content = &w->content;
    p->spans = w->spans.items;
    p->span_count = w->spans.count;
    p->patches = x->patches.items;
    p->patch_count = x->patches.count;
    p->voids = x->voids.items;
    p->void_count = x->voids.count;
    p->keeps = x->carries;
    return mos_programmer_write(p);
}

static unsigned area_of(const struct program_step *s) {
    return !mos_has(s->def->area) ? 0 : strcmp(s->def->area->text, "boot1") == 0 ? 2 : 1;
}

static bool by_loader(struct program_job *j, struct program_step *s) {
    mosaicum *m = j->m;
    const struct mos_medium *medium = s->def->write->target;
    struct mos_programmer *p = mos_alloc(m->arena, sizeof *p);
    struct write_job *w = mos_alloc(m->arena, sizeof *w);
    if (!program_opens_line(j, s))
        return false;
    *p = (struct mos_programmer){.ctx = &m->ctx,
                                 .talk = &j->talk,
                                 .orders = j->plan->dialect->orders,
                                 .medium = mos_text_or(medium->loader, ""),
                                 .area = area_of(s),
                                 .by_line = mos_program_way_of(s->def->by) == MOS_PROGRAM_BY_SERIAL,
                                 .own_address = j->board_address,
                                 .netmask = j->netmask,
                                 .server = j->request->address,
                                 .grain = grain_of(medium)};
    if (p->grain > SECTOR) /* a flash is slow, and what is done of it should not be done again */
        p->largest = mos_max(OF_FLASH, p->grain);
    if (j->way->window) {
        p->window_from = (uint64_t)j->way->window->start->number;
        p->window_to = p->window_from + (uint64_t)j->way->window->size->number;
    }
    if (!p->by_line && !open_server(j, s, p))
        return false;
    if (!program_opens_image(j, s, w))
        return false;
    w->count = 1;
    w->devices = mos_alloc(m->arena, sizeof *w->devices);
    w->devices[0] =
        (struct write_device){.device = -1, .keep = mos_vec_make(m->arena, sizeof(void *))};
    int64_t from = m->ctx.host->now_ns(m->ctx.host);
    bool ok = through_loader(j, s, w, p);
    if (p->proved &&
        !mos_file_unchanged(&m->ctx, w->image.file.file, &w->image.before, w->image.path))
        ok = p->proved = false;
    uint64_t ns = (uint64_t)(m->ctx.host->now_ns(m->ctx.host) - from);
    if (!s->failed) {
        s->result = result_of(j, p);
        s->failed = !ok;
    }
    if (p->fault == MOS_PROGRAMMER_DIFFERS)
        m->damaged = true;
    if (w->devices[0].d.block && p->pieces.count) {
        w->devices[0].folder = mos_path_join(m->arena, m->options.workspace, "written");
        write_end_record(w, &w->devices[0], s->result, p->proved, ns / 100000000, p->written);
    }
    write_close(w);
    return ok;
}

bool program_write(struct program_job *j, struct program_step *s) {
    switch (mos_program_way_of(s->def->by)) {
    case MOS_PROGRAM_BY_USB_DISK:
        return program_to_disk(j, s);
    case MOS_PROGRAM_BY_DFU:
        return program_by_dfu(j, s);
    default:
        return by_loader(j, s);
    }
}
