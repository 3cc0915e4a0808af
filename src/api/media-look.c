/* What lies on a storage device: its table, and its volumes with labels and how full they are. */
#include "api/media.h"

#include "base/bytes.h"
#include "base/text.h"
#include "disk/member.h"

#include <errno.h>
#include <string.h>

static void look_at_volume(mosaicum *m, struct media_device *d, struct mos_io *io, unsigned number,
                           const char *name, uint64_t start, uint64_t length) {
    struct mos_io_trouble trouble = {0};
    struct mos_io part = mos_io_window(m->arena, io, start, length);
    struct mos_io watched = mos_io_watched(m->arena, &part, &trouble);
    struct media_volume *v = mos_vec_push(&d->volumes);
    int e = 0;
    *v = (struct media_volume){.number = number, .name = name, .start = start, .length = length};
    if (!mos_fs_probe(&watched, m->arena, &v->info))
        v->info = (struct mos_volume_info){.kind = NULL, .label = ""};
    const char *member = mos_member_of(&watched, &e);
    if (member && !d->look.member)
        d->look.member = member;
    if (member && !v->info.kind)
        v->info.kind = member;
    v->unreadable = trouble.errnum != 0;
}

static void look_at_table(mosaicum *m, struct media_device *d, struct mos_io *io) {
    struct mos_vec problems = mos_vec_make(m->arena, sizeof(char *));
    d->driver = mos_table_read(io, m->arena, &d->table, &problems);
    if (!d->driver) {
        look_at_volume(m, d, io, 0, "", 0, io->size);
        return;
    }
    for (size_t i = 0; i < d->table.partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&d->table.partitions, i);
        uint64_t start, length;
        if (p->last_lba < p->first_lba || !mos_mul(p->first_lba, d->table.sector, &start) ||
            !mos_mul(p->last_lba - p->first_lba + 1, d->table.sector, &length) || start >= io->size)
            continue;
        look_at_volume(m, d, io, p->number, p->name ? p->name : "", start,
                       mos_min(length, io->size - start));
    }
}

bool media_token_of(mosaicum *m, const struct mos_block *b, int device,
                    char out[MOS_TOKEN_LETTERS + 1], int *errnum) {
    const struct mos_computer *c = m->ctx.host->computer;
    size_t length = (size_t)mos_min(MEDIA_HEAD, b->size);
    uint8_t *head = mos_alloc(m->arena, MEDIA_HEAD);
    *errnum = c->read(c, device, head, length, 0);
    bool ok = !*errnum && mos_media_token(m->arena, b, head, length, out);
    mos_drop(m->arena, head, MEDIA_HEAD);
    return ok;
}

void media_look(mosaicum *m, struct mos_block *block, struct media_device *d) {
    const struct mos_computer *c = m->ctx.host->computer;
    int device;
    *d = (struct media_device){.block = block,
                               .path = block->path,
                               .volumes = mos_vec_make(m->arena, sizeof(struct media_volume))};
    d->look.errnum = c->open_to_look(c, block->path, &device);
    if (d->look.errnum)
        return;
    struct mos_device_info info;
    d->look.errnum = c->info(c, device, &info);
    if (!d->look.errnum && info.number != block->number)
        d->look.errnum = ENXIO; /* its name belongs to another device now */
    if (!d->look.errnum && !media_token_of(m, block, device, d->token, &d->look.errnum))
        d->token[0] = 0;
    if (!d->look.errnum && info.size) {
        struct mos_io io = mos_io_device(m->arena, c, device, info.size);
        look_at_table(m, d, &io);
    }
    c->close(c, device);
}

/* ---- for people ---- */

/* What a volume is called: its label, else its partition's name, else its number. */
static const char *volume_name(mosaicum *m, const struct media_volume *v) {
    if (v->info.label && *v->info.label)
        return v->info.label;
    if (*v->name)
        return v->name;
    return v->number ? mos_printf(m->arena, "%u", v->number) : "";
}

static const char *volume_text(mosaicum *m, const struct media_volume *v) {
    const char *name = volume_name(m, v), *kind = v->info.kind, *state = "";
    if (v->unreadable && !kind)
        return mos_printf(m->arena, "%s%s(unreadable)", name, *name ? " " : "");
    if (!kind)
        return mos_printf(m->arena, "%s%s(nothing known)", name, *name ? " " : "");
    if (strcmp(kind, "luks") == 0)
        state = ", encrypted";
    else if (v->info.damaged)
        state = ", damaged";
    else if ((v->info.free || v->info.has_free) && v->info.size)
        state =
            mos_printf(m->arena, ", %llu %% full",
                       (unsigned long long)((v->info.size - mos_min(v->info.free, v->info.size)) /
                                            (v->info.size / 100 + 1)));
    return mos_printf(m->arena, "%s%s(%s%s)", name, *name ? " " : "", kind, state);
}

const char *media_content(mosaicum *m, const struct media_device *d) {
    struct mos_buf b = {.arena = m->arena};
    if (d->block->is_empty)
        return "no medium";
    if (d->look.errnum)
        return mos_printf(m->arena, "not readable: %s", mos_errno_text(d->look.errnum));
    if (d->driver)
        mos_buf_printf(&b, "%s: ", d->driver->title);
    for (size_t i = 0; i < d->volumes.count && i < 8; i++)
        mos_buf_printf(&b, "%s%s", i ? ", " : "", volume_text(m, mos_vec_at(&d->volumes, i)));
    if (d->volumes.count > 8)
        mos_buf_printf(&b, " and %zu more", d->volumes.count - 8);
    if (d->driver && !d->volumes.count)
        mos_buf_printf(&b, "no partitions");
    return mos_buf_string(&b);
}

const char *media_title(mosaicum *m, const struct mos_block *b) {
    struct mos_buf t = {.arena = m->arena};
    mos_buf_text(&t, mos_bus_title(b->bus));
    if (*b->port)
        mos_buf_printf(&t, " %s", b->port);
    if (*b->lun && strcmp(b->lun, "0") != 0)
        mos_buf_printf(&t, " unit %s", b->lun);
    const char *what = b->backing ? b->backing : b->mapped ? b->mapped : b->model;
    if (*what)
        mos_buf_printf(&t, ", %s", what);
    return mos_buf_string(&t);
}

bool media_is_shown(const struct mos_block *b) {
    return !b->whole && b->bus != MOS_BUS_MEMORY && !(b->bus == MOS_BUS_LOOP && !b->backing);
}
