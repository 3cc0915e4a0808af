/* A step that writes an image to what the board has become on USB: a disk, or a device that takes
 * files by Device Firmware Upgrade. */
#include "api/program.h"

#include "base/bytes.h"
#include "base/text.h"
#include "link/dfu.h"

#include <string.h>

/* ---- by Device Firmware Upgrade ---- */

/* Of the image, or of its one region, what matters: up to its last byte that does. */
static bool find_extent(struct program_job *j, struct write_job *w, struct mos_dfu *d) {
    const struct write_image *image = &w->image;
    const char *name = w->request->regions ? w->request->regions[0] : NULL;
    uint64_t from = 0, to = name ? 0 : image->io->size, last = 0;
    for (size_t i = 0; name && i < image->ledger.regions.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(&image->ledger.regions, i);
        if (strcmp(r->name, name) == 0) {
            from = r->offset;
            to = r->offset + r->length;
        }
    }
    for (size_t i = 0; i < image->ledger.spans.count; i++) {
        const struct mos_ledger_span_last *x = mos_vec_at(&image->ledger.spans, i);
        uint64_t end = mos_min(x->offset + x->length, to);
        if (x->kind != 'a' && x->offset < to && end > from)
            last = mos_max(last, end);
    }
    d->from = from;
    d->length = last > from ? last - from : 0;
    return d->length ||
           mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s holds nothing to send", image->path);
}

static const char *result_of_dfu(struct program_job *j, const struct mos_dfu *d) {
    struct mos_arena *arena = j->m->arena;
    if (!d->why && !d->written)
        return "not begun";
    if (j->m->error.kind)
        return "the image has changed meanwhile: what the board has is no build";
    if (d->why)
        return mos_printf(arena, "%s%s%s", mos_strdup(arena, d->why), d->begun ? ", after " : "",
                          d->begun ? mos_size_about(arena, d->at) : "");
    return mos_printf(arena, "written %s, %s", mos_size_about(arena, d->length),
                      d->proved ? "and read back" : "not proved: it does not give it back");
}

bool program_by_dfu(struct program_job *j, struct program_step *s) {
    mosaicum *m = j->m;
    struct write_job *w = mos_alloc(m->arena, sizeof *w);
    struct mos_dfu d = {.host = m->ctx.host,
                        .vendor = (uint16_t)s->def->usb->vendor->number,
                        .product = (uint16_t)s->def->usb->product->number,
                        .alternate = mos_has(s->def->place) ? s->def->place->text : NULL,
                        .patience = program_time(s),
                        .buffer = mos_alloc(m->arena, 64 << 10),
                        .progress = m->ctx.progress,
                        .progress_self = m->ctx.progress_self};
    if (!m->ctx.host->wires)
        return program_fails(s, "this computer has no USB");
    if (!program_opens_image(j, s, w))
        return false;
    bool ok = find_extent(j, w, &d);
    int64_t from = m->ctx.host->now_ns(m->ctx.host);
    d.content = w->image.io;
    ok = ok && mos_dfu_write(&d);
    ok = ok && mos_file_unchanged(&m->ctx, w->image.file.file, &w->image.before, w->image.path);
    uint64_t ns = (uint64_t)(m->ctx.host->now_ns(m->ctx.host) - from);
    m->damaged = m->damaged || d.differs;
    s->result = result_of_dfu(j, &d);
    s->failed = !ok;
    if (d.begun) {
        struct mos_block block = {.path = mos_strdup(m->arena, d.port),
                                  .name = "",
                                  .model = mos_text_or(s->def->place, ""),
                                  .serial = "",
                                  .port = mos_printf(m->arena, "dfu by way %s", j->way->r.name)};
        struct write_device x = {.device = -1,
                                 .d = {.block = &block},
                                 .folder =
                                     mos_path_join(m->arena, m->options.workspace, "written")};
        write_end_record(w, &x, s->result, ok && d.proved, ns / 100000000, d.at);
    }
    write_close(w);
    return ok;
}

/* ---- onto the disk that it has become ---- */

static bool was_there(const struct program_job *j, const struct mos_block *b) {
    for (size_t i = 0; i < j->before.blocks.count; i++) {
        const struct mos_block *x = mos_vec_pointer(&j->before.blocks, i);
        if (x->number == b->number && x->sequence == b->sequence)
            return true;
    }
    return false;
}

/* The one disk of these identifiers that was not there when the steps began. */
static bool find_disk(struct program_job *j, struct program_step *s, const char **path) {
    const struct mos_computer *c = j->m->ctx.host->computer;
    const struct mos_host *h = j->m->ctx.host;
    const struct mos_usb_ids *ids = s->def->usb;
    int64_t until = h->now_ns(h) + program_time(s);
    size_t before = 0;
    do {
        struct mos_storage now = {0};
        size_t found = 0;
        before = 0;
        if (!mos_storage_list(&j->m->ctx, &now))
            return false;
        for (size_t i = 0; i < now.blocks.count; i++) {
            const struct mos_block *b = mos_vec_pointer(&now.blocks, i);
            if (b->is_part || b->is_empty || b->usb_vendor != (uint16_t)ids->vendor->number ||
                b->usb_product != (uint16_t)ids->product->number)
                continue;
            if (was_there(j, b)) {
                before++;
                continue;
            }
            *path = b->path;
            found++;
        }
        if (found > 1)
            return program_fails(s, "several disks with these identifiers have come: plug in one");
        if (found)
            return true;
    } while (h->now_ns(h) < until && c->wait(c));
    return program_fails(
        s, before ? "a disk with these identifiers was there before the steps began: plug it out"
                  : mos_printf(j->m->arena, "no USB disk %04llx:%04llx came",
                               (unsigned long long)ids->vendor->number,
                               (unsigned long long)ids->product->number));
}

static bool consents(void *self, const char *device, const char *token) {
    (void)self, (void)device, (void)token;
    return true; /* the way's own token was given for it, and nothing else has come since */
}

bool program_to_disk(struct program_job *j, struct program_step *s) {
    const char *path;
    if (!j->knows_before)
        return program_fails(s, "this computer's devices cannot be listed, so that nobody knows "
                                "which one has come");
    if (!find_disk(j, s, &path))
        return false;
    struct write_job *w = mos_alloc(j->m->arena, sizeof *w);
    if (!program_opens_image(j, s, w))
        return false;
    write_close(w);
    const char **devices = mos_alloc_array(j->m->arena, 2, sizeof *devices);
    devices[0] = path;
    struct mosaicum_write *r = program_request(j, s);
    r->devices = devices;
    r->device_count = 1;
    r->changed = true;
    r->board = j->plan->board->r.name;
    r->ask = consents;
    size_t failed = j->m->failed_devices;
    if (write_all(j->m, r) == 1) {
        s->result = mos_printf(j->m->arena, "written to %s, and read back", path);
        return true;
    }
    j->m->failed_devices = failed; /* the board counts */
    return program_fails(s, mos_printf(j->m->arena, "%s was not written", path));
}
