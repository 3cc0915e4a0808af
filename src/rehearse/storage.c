/* Media, partitions and files, as the loader sees them. */
#include "rehearse/sim.h"

#include "base/bytes.h"

#include <assert.h>
#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_LINKS = 8, PIECE = 1 << 20 };

/* ---- disks ---- */

static struct sim_disk *open_disk(struct sim *s, const struct mos_rig_medium *medium) {
    struct sim_disk *d = mos_alloc(s->arena, sizeof *d);
    struct mos_vec problems = mos_vec_make(s->arena, sizeof(char *));
    d->medium = medium;
    d->io = medium->io;
    d->written = false;
    d->volumes = mos_vec_make(s->arena, sizeof(struct sim_volume *));
    d->driver = mos_table_read(medium->io, s->arena, &d->table, &problems);
    if (d->driver && d->table.unseen)
        d->driver = NULL;
    for (size_t i = 0; i < problems.count; i++)
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, medium->name, "%s",
                  (const char *)mos_vec_pointer(&problems, i));
    mos_vec_push_pointer(&s->disks, d);
    return d;
}

struct sim_disk *sim_disk_of(struct sim *s, const struct mos_rig_medium *medium) {
    for (size_t i = 0; i < s->disks.count; i++) {
        struct sim_disk *d = mos_vec_pointer(&s->disks, i);
        if (d->medium == medium)
            return d;
    }
    return open_disk(s, medium);
}

struct mos_io *sim_disk_to_write(struct sim *s, struct sim_disk *d) {
    if (!d->written && !d->medium->keeps) {
        struct mos_io *layer = mos_alloc(s->arena, sizeof *layer);
        *layer = mos_io_overlay(s->arena, d->io);
        d->io = layer;
    }
    d->written = true;
    return d->io;
}

struct sim_disk *sim_disk(struct sim *s, const char *kind, const char *number) {
    char wanted[64];
    uint64_t n = *number ? sim_number(number, NULL, 16) : 0;
    if (strlen(kind) > 40)
        return NULL;
    for (size_t i = 0; i < s->rig->media_count; i++) {
        const struct mos_rig_medium *m = &s->rig->media[i];
        size_t length = strcspn(m->loader, " ");
        memcpy(wanted, kind, strlen(kind) + 1);
        if (length == strlen(kind) && strncmp(m->loader, kind, length) == 0 &&
            sim_number(m->loader + length + (m->loader[length] == ' '), NULL, 16) == n)
            return sim_disk_of(s, m);
    }
    return NULL;
}

/* ---- volumes ---- */

struct listing {
    struct sim *s;
    struct sim_volume *v;
};

static bool take_entry(void *self, const struct mos_entry *e) {
    struct listing *l = self;
    struct mos_arena *arena = l->s->arena;
    struct sim_file *f = mos_alloc(arena, sizeof *f);
    *f = (struct sim_file){mos_strdup(arena, e->path), e->type, e->mode, e->size,
                           e->target ? mos_strdup(arena, e->target) : NULL};
    if (e->type == MOS_ENTRY_HARD_LINK) {
        const struct sim_file *first = mos_map_get(&l->v->files, e->target);
        if (first) {
            const char *path = f->path;
            *f = *first;
            f->path = path;
            f->target = first->path; /* where its bytes are */
        }
    }
    mos_map_set(&l->v->files, f->path, f);
    return true;
}

void sim_volume_list(struct sim *s, struct sim_volume *v) {
    struct listing l = {s, v};
    struct mos_sink all = {&l, take_entry, mos_ignore_data, mos_ignore_end};
    if (v->planned)
        v->planned->list(v->planned->self, &all);
}

bool sim_volume_is_empty(struct sim *s, struct sim_volume *v) {
    if (v->planned && v->info.files <= 1)
        sim_volume_list(s, v);
    return v->planned && v->info.files > 1 ? false : v->files.count <= 1;
}

static void list_files(struct sim *s, struct sim_volume *v) {
    struct listing l = {s, v};
    struct mos_vec problems = mos_vec_make(s->arena, sizeof(char *));
    struct mos_sink sink = {&l, take_entry, mos_ignore_data, mos_ignore_end};
    struct mos_read_request request = {
        .sink = &sink, .wants = mos_wants_no_data, .problems = &problems};
    struct mos_error before = *s->ctx->error;
    if (!v->info.driver->stream(s->ctx, &v->io, &request))
        *s->ctx->error = before; /* what was read so far counts */
    for (size_t i = 0; i < problems.count; i++)
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, sim_volume_name(s, v), "%s",
                  (const char *)mos_vec_pointer(&problems, i));
}

static struct sim_volume *open_volume(struct sim *s, struct sim_disk *d, unsigned partition) {
    struct sim_volume *v = mos_alloc(s->arena, sizeof *v);
    *v = (struct sim_volume){
        .medium = d->medium, .partition = partition, .files = mos_map_make(s->arena)};
    uint64_t start = 0, length = d->io->size;
    for (size_t i = 0; d->driver && partition && i < d->table.partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&d->table.partitions, i);
        if (p->number != partition)
            continue;
        v->entry = p;
        start = p->first_lba * d->table.sector;
        length = (p->last_lba - p->first_lba + 1) * d->table.sector;
    }
    v->is_there = !partition || v->entry || (!d->driver && partition == 1);
    mos_vec_push_pointer(&d->volumes, v);
    if (!v->is_there || start >= d->io->size)
        return v;
    for (size_t i = 0; i < s->rig->volume_count; i++) {
        const struct mos_rig_volume *x = &s->rig->volumes[i];
        if (x->medium == d->medium && x->at == start) {
            v->planned = x;
            v->info = x->info;
            v->readable = x->info.driver && x->info.driver->stream;
            return v;
        }
    }
    v->io = mos_io_window(s->arena, d->io, start, mos_min(length, d->io->size - start));
    if (mos_fs_probe(&v->io, s->arena, &v->info) && v->info.driver && v->info.driver->stream) {
        v->readable = !v->info.damaged;
        if (v->readable)
            list_files(s, v);
    }
    return v;
}

struct sim_volume *sim_volume_in_ram(struct sim *s, struct mos_io io,
                                     const struct mos_fs_driver *driver) {
    static const struct mos_rig_medium ram = {.name = "ramdisk"};
    struct sim_volume *v = mos_alloc(s->arena, sizeof *v);
    *v = (struct sim_volume){.medium = &ram,
                             .files = mos_map_make(s->arena),
                             .io = io,
                             .is_there = true,
                             .readable = true,
                             .info = {.driver = driver, .kind = driver->name}};
    list_files(s, v);
    return v;
}

static struct sim_volume *known_or_open(struct sim *s, struct sim_disk *d, unsigned partition) {
    for (size_t i = 0; i < d->volumes.count; i++) {
        struct sim_volume *v = mos_vec_pointer(&d->volumes, i);
        if (v->partition == partition)
            return v;
    }
    return open_volume(s, d, partition);
}

/* Partition 0 means the first one of a table, as the loader takes it. */
struct sim_volume *sim_volume(struct sim *s, struct sim_disk *d, unsigned partition) {
    return known_or_open(s, d, !partition && d->driver ? 1 : partition);
}

struct sim_volume *sim_whole(struct sim *s, struct sim_disk *d) {
    return known_or_open(s, d, 0);
}

const char *sim_volume_name(struct sim *s, const struct sim_volume *v) {
    const char *name = v->entry && *v->entry->name ? v->entry->name : NULL;
    if (!v->partition)
        return v->medium->name;
    return mos_printf(s->arena, "%s:%u%s%s%s", v->medium->name, v->partition, name ? " (" : "",
                      name ? name : "", name ? ")" : "");
}

const struct mos_fs_loader *sim_loader_reads(struct sim *s, const struct sim_volume *v) {
    const struct mos_fs_loader *l =
        v->readable ? mos_dialect_reads(s->dialect, v->info.driver) : NULL;
    if (!l || sim_lacks(s, l->word))
        return NULL;
    if (l->optional && !sim_has(s, l->word))
        sim_unknown(s, "whether this loader can read %s", v->info.driver->name);
    return l;
}

/* ---- files ---- */

static const struct sim_file *look_up(struct sim *s, struct sim_volume *v, const char *path) {
    const struct sim_file *f = mos_map_get(&v->files, path);
    struct mos_entry entry;
    if (!f && v->planned) {
        struct listing l = {s, v};
        if (!v->planned->find(v->planned->self, path, &entry)) {
            if (v->planned->empty)
                sim_undecided(s, "what %s will hold: nothing that is stated puts anything there",
                              sim_volume_name(s, v));
            return NULL;
        }
        take_entry(&l, &entry);
        return mos_map_get(&v->files, entry.path);
    }
    if (f || !v->info.driver->folds_case)
        return f;
    for (size_t i = 0; i < v->files.count; i++) { /* it does not tell A from a */
        const char *a = v->files.items[i].key, *b = path;
        while (*a && tolower((unsigned char)*a) == tolower((unsigned char)*b))
            a++, b++;
        if (!*a && !*b)
            return v->files.items[i].value;
    }
    return NULL;
}

/* The path with . and .. taken out, from a folder on. */
static const char *clean(struct sim *s, const char *folder, const char *path) {
    struct mos_buf b = {.arena = s->arena};
    mos_buf_text(&b, *path == '/' ? "" : folder);
    while (*path) {
        size_t n = strcspn(path, "/");
        if (n == 2 && path[0] == '.' && path[1] == '.') {
            const char *slash = b.length ? strrchr(b.data, '/') : NULL;
            b.length = slash ? (size_t)(slash - b.data) : 0;
            if (b.data)
                b.data[b.length] = 0;
        } else if (n && !(n == 1 && *path == '.')) {
            if (b.length)
                mos_buf_char(&b, '/');
            mos_buf_add(&b, path, n);
        }
        path += n + (path[n] == '/');
    }
    return mos_buf_string(&b);
}

/* The same file with links on the way resolved. */
static const struct sim_file *follow(struct sim *s, struct sim_volume *v, const char *path,
                                     unsigned links) {
    if (links > MOST_LINKS)
        return NULL;
    for (size_t n = 0;; n++) { /* each folder on the way, then the thing itself */
        n += strcspn(path + n, "/");
        const char *prefix = mos_strndup(s->arena, path, n);
        const struct sim_file *f = look_up(s, v, prefix);
        if (f && f->type == MOS_ENTRY_LINK) {
            const char *slash = strrchr(prefix, '/');
            const char *folder =
                mos_strndup(s->arena, prefix, slash ? (size_t)(slash - prefix) : 0);
            const char *to = mos_printf(s->arena, "%s%s", clean(s, folder, f->target), path + n);
            return follow(s, v, to, links + 1);
        }
        if (!path[n])
            return f;
    }
}

const struct sim_file *sim_file(struct sim *s, struct sim_volume *v, const char *path) {
    return follow(s, v, clean(s, "", path), 0);
}

struct reading {
    struct sim *s;
    const char *path;
    uint64_t from, length, to; /* of the file, and where in RAM (or into `bytes`) */
    uint8_t *bytes;
    bool wanted;
    uint64_t taken;
};

static bool reads_it(void *self, const struct mos_entry *e) {
    struct reading *r = self;
    return strcmp(e->path, r->path) == 0;
}

static bool reading_entry(void *self, const struct mos_entry *e) {
    struct reading *r = self;
    r->wanted = e->type == MOS_ENTRY_FILE && strcmp(e->path, r->path) == 0;
    return true;
}

static bool reading_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct reading *r = self;
    if (!r->wanted || offset + length <= r->from || offset >= r->from + r->length)
        return true;
    uint64_t skip = offset < r->from ? r->from - offset : 0;
    uint64_t at = offset + skip - r->from;
    size_t n = (size_t)mos_min(length - skip, r->length - at);
    assert(skip < length && at < r->length);
    if (r->bytes)
        memcpy(r->bytes + at, (const uint8_t *)bytes + skip, n);
    else
        sim_ram_write(r->s, r->to + at, (const uint8_t *)bytes + skip, n);
    r->taken += n;
    return true;
}

static void note_read(struct sim *s, struct sim_volume *v, const struct sim_file *f,
                      const char *path) {
    assert(f->type == MOS_ENTRY_FILE);
    if (!v->medium->io)
        return; /* it lies in RAM: what brought it there was noted */
    struct mos_touched *t = mos_alloc(s->arena, sizeof *t);
    *t = (struct mos_touched){v->medium, v->partition, path, 0, f->size, s->out->starts};
    mos_vec_push_pointer(&s->out->files, t);
}

static bool read_planned(struct sim *s, struct sim_volume *v, const struct sim_file *f,
                         struct reading *r) {
    const uint8_t *bytes;
    size_t length;
    if (!v->planned->bytes(v->planned->self, f->path, &bytes, &length)) {
        sim_undecided(s, "what %s of %s will hold", f->path, sim_volume_name(s, v));
        return false;
    }
    r->wanted = true;
    if (r->bytes || r->from)
        reading_data(r, 0, bytes, length);
    else
        sim_ram_lend(s, r->to, bytes, (size_t)mos_min(length, r->length));
    note_read(s, v, f, f->path);
    return true;
}

static bool read_file(struct sim *s, struct sim_volume *v, const struct sim_file *f,
                      struct reading *r) {
    if (v->planned)
        return read_planned(s, v, f, r);
    struct mos_vec problems = mos_vec_make(s->arena, sizeof(char *));
    struct mos_sink sink = {r, reading_entry, reading_data, mos_ignore_end};
    struct mos_read_request request = {
        .sink = &sink, .wants = reads_it, .self = r, .problems = &problems};
    struct mos_error before = *s->ctx->error;
    r->path = f->target && f->type == MOS_ENTRY_FILE ? f->target : f->path;
    if (!v->info.driver->stream(s->ctx, &v->io, &request)) {
        *s->ctx->error = before;
        return false;
    }
    for (size_t i = 0; i < problems.count; i++)
        if (strstr(mos_vec_pointer(&problems, i), r->path))
            return false;
    note_read(s, v, f, r->path);
    return true;
}

/* Holes are zeros. */
static void clear(struct sim *s, uint64_t at, uint64_t length) {
    static const uint8_t zeros[65536];
    for (uint64_t done = 0; done < length; done += sizeof zeros)
        sim_ram_write(s, at + done, zeros, (size_t)mos_min(sizeof zeros, length - done));
}

bool sim_file_load(struct sim *s, struct sim_volume *v, const struct sim_file *f, uint64_t from,
                   uint64_t length, uint64_t to) {
    sim_charge(s, length);
    struct reading r = {.s = s, .from = from, .length = length, .to = to};
    if (!v->planned)
        clear(s, to, length);
    return read_file(s, v, f, &r);
}

enum sim_loaded sim_load(struct sim *s, struct sim_volume *v, const struct sim_file *f,
                         uint64_t from, uint64_t length, uint64_t room, uint64_t at) {
    assert(length <= room || !room);
    const char *where = sim_volume_name(s, v);
    if (s->rig->ram.length && !sim_ram_free(s, at, room)) {
        sim_event(s, MOS_EVENT_OVER, at, length, NULL, "%s would lie %s", f->path,
                  sim_ram_why(s, at, length));
        return SIM_NO_ROOM;
    }
    sim_event(s, MOS_EVENT_READ, at, length, where, "%s", f->path);
    struct sim_thing *t =
        sim_ram_claim(s, at, length, mos_printf(s->arena, "%s of %s", f->path, where));
    size_t before = s->out->files.count;
    if (!sim_file_load(s, v, f, from, length, at))
        return SIM_UNREADABLE;
    if (t && length == f->size && s->out->files.count > before)
        t->file = mos_vec_pointer(&s->out->files, before);
    return SIM_LOADED;
}

uint8_t *sim_file_bytes(struct sim *s, struct sim_volume *v, const struct sim_file *f,
                        uint64_t limit, size_t *length) {
    assert(f->path);
    if (f->type != MOS_ENTRY_FILE || f->size > limit)
        return NULL;
    struct reading r = {.s = s, .length = f->size};
    r.bytes = mos_alloc(s->arena, (size_t)f->size + 1);
    *length = (size_t)f->size;
    return read_file(s, v, f, &r) ? r.bytes : NULL;
}
