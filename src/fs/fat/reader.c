/* FAT volumes that are there, whoever made them.  Nothing that is read is trusted. */
#include "fs/fat/fat_internal.h"

#include "base/bytes.h"
#include "base/text.h"
#include "content/content.h"
#include "fs/walk.h"

#include <ctype.h>
#include <string.h>

enum { MOST_UNITS = 260 };

bool fat_open(struct fat_reader *r, struct mos_io *io, const char **why) {
    uint8_t s[512];
    *why = NULL;
    *r = (struct fat_reader){.io = io};
    if (io->size < 4096 || mos_io_read(io, s, sizeof s, 0) || mos_le16(s + BOOT_MAGIC) != 0xaa55 ||
        (memcmp(s + BOOT_LONG_KIND, "FAT32   ", 8) != 0 &&
         memcmp(s + BOOT_SHORT_KIND, "FAT", 3) != 0))
        return false;
    r->sector = mos_le16(s + BOOT_SECTOR);
    r->reserved = mos_le16(s + BOOT_RESERVED);
    r->copies = s[BOOT_COPIES];
    r->root_entries = mos_le16(s + BOOT_ROOT_ENTRIES);
    r->sectors =
        mos_le16(s + BOOT_SECTORS) ? mos_le16(s + BOOT_SECTORS) : mos_le32(s + BOOT_SECTORS_LONG);
    r->fat_sectors = mos_le16(s + BOOT_FAT_SECTORS) ? mos_le16(s + BOOT_FAT_SECTORS)
                                                    : mos_le32(s + BOOT_FAT_SECTORS_LONG);
    *why = "The boot sector states impossible sizes.";
    if (!mos_is_power_of_two(r->sector) || r->sector < 512 || r->sector > 4096 ||
        !mos_is_power_of_two(s[BOOT_CLUSTER]) || !r->copies || !r->reserved || !r->fat_sectors)
        return false;
    r->cluster = s[BOOT_CLUSTER] * r->sector;
    uint64_t root = mos_div_up((uint64_t)r->root_entries * FAT_ENTRY, r->sector);
    uint64_t front = r->reserved + (uint64_t)r->copies * r->fat_sectors;
    if (front + root >= r->sectors || (uint64_t)r->sectors * r->sector > io->size)
        return false;
    r->root = front * r->sector;
    r->data = (front + root) * r->sector;
    uint64_t clusters = (r->sectors - front - root) / s[13];
    r->bits = clusters < FAT12_CLUSTERS ? 12 : clusters < FAT16_CLUSTERS ? 16 : 32;
    if (!mos_le16(s + BOOT_FAT_SECTORS)) { /* the long form of the boot sector */
        r->bits = 32;
        r->root_cluster = mos_le32(s + BOOT_ROOT_CLUSTER);
    }
    uint64_t room = (uint64_t)r->fat_sectors * r->sector * 8 / r->bits;
    if (room < 3 || !clusters)
        return false;
    r->clusters = (uint32_t)mos_min(clusters, room - 2);
    *why = NULL;
    return true;
}

uint32_t fat_next(struct fat_reader *r, uint32_t cluster) {
    uint64_t at = (uint64_t)cluster * r->bits / 8, page = mos_round_down(at, 4096);
    uint64_t table = (uint64_t)r->reserved * r->sector, size = (uint64_t)r->fat_sectors * r->sector;
    if (cluster >= r->clusters + 2)
        return 0;
    if (!r->window_read || r->window_at != page) {
        size_t n = (size_t)mos_min(sizeof r->window, size - page);
        memset(r->window, 0, sizeof r->window);
        r->window_read = mos_io_read(r->io, r->window, n, table + page) == 0;
        r->window_at = page;
        if (!r->window_read)
            return 0;
    }
    const uint8_t *p = r->window + (at - page);
    if (r->bits == 32) {
        uint32_t v = mos_le32(p) & FAT_END;
        return v >= 0x0ffffff8 ? FAT_END : v;
    }
    uint32_t v = mos_le16(p);
    if (r->bits == 16)
        return v >= 0xfff8 ? FAT_END : v;
    v = cluster % 2 ? v >> 4 : v & 0xfff;
    return v >= 0xff8 ? FAT_END : v;
}

/* Seconds since 1970 (as UTC) of an entry's last change. */
int64_t fat_date(const uint8_t *e) {
    uint16_t date = mos_le16(e + ENTRY_DATE), time = mos_le16(e + ENTRY_TIME);
    int64_t year = 1980 + (date >> 9), month = date >> 5 & 15, day = date & 31;
    if (month < 1 || month > 12 || day < 1)
        return 315532800;
    int64_t days = mos_days_of_date(year, month, day);
    return days * 86400 + (time >> 11) * 3600 + (time >> 5 & 63) * 60 + (time & 31) * 2;
}

/* ---- folders ---- */

struct listing {
    struct fat_reader *r;
    struct mos_arena *arena;
    bool (*each)(void *self, const struct fat_file *file);
    void *self;
    uint16_t units[MOST_UNITS];
    size_t count;
    uint8_t sum;
    unsigned expected; /* number of the next long entry; 0: none is awaited */
    uint64_t at[21];
    size_t entries;
    bool ended;
};

static const char *short_name(struct mos_arena *arena, const uint8_t *e) {
    char name[13] = "";
    size_t at = 0, base = 8, extension = 3;
    while (base && e[base - 1] == ' ')
        base--;
    while (extension && e[8 + extension - 1] == ' ')
        extension--;
    for (size_t i = 0; i < base + extension; i++) {
        int c = i < base ? e[i] : e[8 + i - base];
        bool lower = e[ENTRY_FLAGS] & (i < base ? LOWER_BASE : LOWER_EXTENSION);
        if (i == 0 && c == 0x05)
            c = DELETED;
        if (i == base)
            name[at++] = '.';
        name[at++] = (char)(c < 0x21 || c > 0x7e || c == '/' ? '_' : lower ? tolower(c) : c);
    }
    return mos_strdup(arena, name);
}

static void take_long(struct listing *l, const uint8_t *e, uint64_t at) {
    unsigned number = e[LONG_ORDER] & 0x1fu;
    if (e[LONG_ORDER] & LAST_LONG && number && number <= MOST_UNITS / 13) {
        l->count = number * 13u;
        l->sum = e[13];
        l->entries = 0;
        l->expected = number;
    }
    if (!number || number != l->expected || e[LONG_SUM] != l->sum) {
        l->count = 0;
        return;
    }
    l->expected--;
    l->at[l->entries++] = at;
    for (size_t i = 0; i < 13; i++)
        l->units[(number - 1) * 13 + i] = mos_le16(e + fat_long_places[i]);
}

static bool take_entry(struct listing *l, const uint8_t *e, uint64_t at) {
    if (!e[ENTRY_NAME]) {
        l->ended = true;
        return true;
    }
    if (e[ENTRY_NAME] != DELETED && (e[ENTRY_ATTRIBUTES] & 0x3f) == LONG_ENTRY) {
        take_long(l, e, at);
        return true;
    }
    bool has_long = l->count && !l->expected && l->sum == fat_short_sum(e);
    size_t count = l->count;
    l->count = 0;
    if (e[ENTRY_NAME] == DELETED || (e[ENTRY_ATTRIBUTES] & IS_LABEL) || e[ENTRY_NAME] == '.')
        return true;
    struct fat_file f = {
        .entries = has_long ? l->entries + 1 : 1,
        .cluster =
            mos_le16(e + ENTRY_CLUSTER) |
            (l->r->bits == 32 ? (uint32_t)(mos_le16(e + ENTRY_CLUSTER_HIGH) & 0x0fff) << 16 : 0),
        .size = mos_le32(e + ENTRY_SIZE),
        .folder = e[ENTRY_ATTRIBUTES] & IS_FOLDER,
    };
    memcpy(f.raw, e, FAT_ENTRY);
    memcpy(f.at, l->at, (f.entries - 1) * sizeof *f.at);
    f.at[f.entries - 1] = at;
    f.name = has_long ? mos_utf8_from_utf16(l->arena, l->units, count) : short_name(l->arena, e);
    if (!*f.name || strchr(f.name, '/') || strcmp(f.name, "..") == 0)
        f.name = short_name(l->arena, e);
    return l->each(l->self, &f);
}

static bool take_span(struct listing *l, uint64_t at, uint64_t length) {
    uint8_t piece[4096];
    while (length && !l->ended) {
        size_t n = (size_t)mos_min(length, sizeof piece);
        if (mos_io_read(l->r->io, piece, n, at))
            return false;
        for (size_t i = 0; i + FAT_ENTRY <= n && !l->ended; i += FAT_ENTRY)
            if (!take_entry(l, piece + i, at + i))
                return false;
        at += n;
        length -= n;
    }
    return true;
}

bool fat_list(struct fat_reader *r, struct mos_arena *arena, uint32_t cluster,
              bool (*each)(void *self, const struct fat_file *file), void *self) {
    struct listing l = {.r = r, .arena = arena, .each = each, .self = self};
    if (!cluster && r->bits != 32)
        return take_span(&l, r->root, (uint64_t)r->root_entries * FAT_ENTRY);
    if (!cluster)
        cluster = r->root_cluster;
    for (uint32_t steps = 0; cluster != FAT_END && !l.ended; steps++) {
        if (cluster < 2 || cluster >= r->clusters + 2 || steps > r->clusters ||
            !take_span(&l, r->data + (uint64_t)(cluster - 2) * r->cluster, r->cluster))
            return false;
        if (!l.ended)
            cluster = fat_next(r, cluster);
    }
    return true;
}

/* ---- what it is ---- */

struct names {
    struct mos_vec *out;
};

static bool add_name(void *self, const struct fat_file *f) {
    mos_vec_push_pointer(((struct names *)self)->out, f->name);
    return true;
}

bool fat_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out) {
    uint8_t s[512], info[512];
    struct fat_reader r;
    const char *why;
    bool good = fat_open(&r, io, &why);
    if (!good && !why)
        return false;
    *out = (struct mos_volume_info){.kind = "fat",
                                    .label = "",
                                    .id = "",
                                    .names = mos_vec_make(arena, sizeof(char *)),
                                    .damaged = !good,
                                    .problem = why};
    if (!good || mos_io_read(io, s, sizeof s, 0))
        return true;
    const uint8_t *more = s + (r.bits == 32 ? BOOT_LONG_REST : BOOT_SHORT_REST);
    char label[12] = "";
    memcpy(label, more + REST_LABEL, 11);
    for (size_t i = 11; i && label[i - 1] == ' '; i--)
        label[i - 1] = 0;
    out->kind = r.bits == 32 ? "fat32" : r.bits == 16 ? "fat16" : "fat12";
    out->label = strcmp(label, "NO NAME") == 0 ? "" : mos_strdup(arena, label);
    out->id =
        mos_printf(arena, "%04X-%04X", mos_le16(more + REST_ID + 2), mos_le16(more + REST_ID));
    out->size = (uint64_t)r.sectors * r.sector;
    out->block_size = r.cluster;
    out->has_free = r.bits != 32;
    if (r.bits != 32) { /* their table is small: count */
        for (uint32_t c = 2; c < r.clusters + 2; c++)
            out->free += fat_next(&r, c) == 0 ? r.cluster : 0;
    } else if (!mos_io_read(io, info, sizeof info, r.sector) &&
               memcmp(info + INFO_MORE, "rrAa", 4) == 0 &&
               mos_le32(info + INFO_FREE) <= r.clusters) {
        out->free = (uint64_t)mos_le32(info + INFO_FREE) * out->block_size;
    }
    struct names names = {&out->names};
    fat_list(&r, arena, 0, add_name, &names);
    return true;
}

/* ---- streaming ---- */

struct walk {
    struct mos_walk at;
    struct fat_reader r;
    uint64_t budget;
    uint8_t *piece;
};

static bool gather(void *self, const struct fat_file *f) {
    *(struct fat_file *)mos_vec_push(self) = *f;
    return true;
}

static bool stream_content(struct walk *w, const struct fat_file *f) {
    const struct mos_sink *sink = w->at.request->sink;
    struct mos_runs runs = {.sink = sink};
    struct fat_reader *r = &w->r;
    uint64_t left = f->size, sum;
    uint32_t cluster = f->cluster;
    while (left) {
        size_t n = (size_t)mos_min(left, r->cluster);
        if (cluster < 2 || cluster >= r->clusters + 2 || w->budget < n ||
            mos_io_read(r->io, w->piece, n, r->data + (uint64_t)(cluster - 2) * r->cluster)) {
            mos_volume_lost(w->at.request, mos_walk_path(&w->at),
                            "/%s ends early: %llu bytes of it are lost.", mos_walk_path(&w->at),
                            (unsigned long long)left);
            break;
        }
        w->budget -= n;
        if (!mos_runs_add(&runs, w->piece, n))
            return false;
        left -= n;
        if (left)
            cluster = fat_next(r, cluster);
    }
    return mos_runs_seek(&runs, f->size) && mos_runs_end(&runs, &sum) && sink->end(sink->self, sum);
}

static bool enter(struct walk *w, uint32_t cluster);

static bool stream_file(struct walk *w, const struct fat_file *f) {
    const struct mos_sink *sink = w->at.request->sink;
    struct mos_entry e = {.path = mos_walk_path(&w->at),
                          .type = f->folder ? MOS_ENTRY_FOLDER : MOS_ENTRY_FILE,
                          .mode = f->folder ? 0755 : 0644,
                          .mtime = fat_date(f->raw),
                          .size = f->folder ? 0 : f->size};
    if (!sink->entry(sink->self, &e))
        return false;
    if (!f->folder && (!w->at.request->wants || w->at.request->wants(w->at.request->self, &e)))
        return stream_content(w, f);
    return sink->end(sink->self, 0) && (!f->folder || enter(w, f->cluster));
}

static bool enter(struct walk *w, uint32_t cluster) {
    struct mos_walk *at = &w->at;
    if (at->depth && (cluster < 2 || cluster >= w->r.clusters + 2)) {
        mos_volume_lost(w->at.request, mos_walk_path(at), "Folder /%s is damaged.",
                        mos_walk_path(at));
        return true;
    }
    if (!mos_walk_enter(at, cluster))
        return true;
    struct mos_arena *arena = mos_arena_child(at->ctx->arena);
    struct mos_vec files = mos_vec_make(arena, sizeof(struct fat_file));
    if (!fat_list(&w->r, arena, cluster, gather, &files))
        mos_volume_lost(w->at.request, mos_walk_path(at),
                        "Folder /%s is damaged: some of its names are lost.", mos_walk_path(at));
    size_t length = at->path.length;
    bool good = true;
    for (size_t i = 0; i < files.count && good; i++) {
        const struct fat_file *f = mos_vec_at(&files, i);
        mos_walk_name(at, length, f->name);
        good = stream_file(w, f);
    }
    at->path.length = length;
    mos_arena_free(arena);
    mos_walk_leave(at);
    return good;
}

bool fat_stream(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request) {
    struct walk *w = mos_alloc(ctx->arena, sizeof *w);
    const char *why;
    if (!fat_open(&w->r, io, &why)) {
        mos_volume_lost(request, NULL, "%s", why ? why : "There is no boot sector.");
        return true;
    }
    w->at = mos_walk_make(ctx, request, 0);
    w->piece = mos_alloc(ctx->arena, w->r.cluster);
    w->budget = io->size; /* never more than the volume has */
    struct mos_entry root = {.path = "", .type = MOS_ENTRY_FOLDER, .mode = 0755};
    const struct mos_sink *sink = request->sink;
    return sink->entry(sink->self, &root) && sink->end(sink->self, 0) &&
           enter(w, w->r.bits == 32 ? w->r.root_cluster : 0);
}
