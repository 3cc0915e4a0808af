/* Changes a volume in place: only the clusters, entries and table words of what changes are
 * written, all copies of the table alike. */
#include "fs/fat/fat_internal.h"

#include "base/bytes.h"
#include "base/map.h"

#include <ctype.h>
#include <errno.h>
#include <string.h>

struct fat_editor {
    struct mos_editor base;
    struct fat_reader r;
    struct mos_ctx *ctx;
    struct mos_io *io;
    int64_t date;
    uint32_t search; /* where the next free cluster is looked for */
    int64_t free_change;
    int errnum;
};

static bool broken(struct fat_editor *x, const char *path) {
    return mos_fail(x->ctx->error, MOS_ERROR_SYSTEM, x->errnum ? x->errnum : EIO,
                    "Cannot change /%s: the volume is damaged there", path);
}

static void put(struct fat_editor *x, const void *bytes, size_t length, uint64_t offset) {
    if (!x->errnum)
        x->errnum = mos_io_write(x->io, bytes, length, offset);
}

/* ---- the table ---- */

static void set_entry(struct fat_editor *x, uint32_t cluster, uint32_t value) {
    struct fat_reader *r = &x->r;
    uint8_t word[4];
    uint64_t at = (uint64_t)cluster * r->bits / 8;
    size_t length = r->bits == 32 ? 4 : 2;
    for (uint32_t copy = 0; copy < r->copies; copy++) {
        uint64_t offset =
            ((uint64_t)r->reserved + (uint64_t)copy * r->fat_sectors) * r->sector + at;
        if (mos_io_read(x->io, word, length, offset)) {
            x->errnum = EIO;
            return;
        }
        if (r->bits == 32)
            mos_put_le32(word, (mos_le32(word) & 0xf0000000) | (value & FAT_END));
        else if (r->bits == 16)
            mos_put_le16(word, (uint16_t)value);
        else
            mos_put_le16(word, cluster % 2
                                   ? (uint16_t)((mos_le16(word) & 0x000f) | value << 4)
                                   : (uint16_t)((mos_le16(word) & 0xf000) | (value & 0xfff)));
        put(x, word, length, offset);
    }
    r->window_read = false;
}

/* The entry of a cluster; a read that fails is remembered. */
static uint32_t next_of(struct fat_editor *x, uint32_t cluster) {
    uint32_t next = fat_next(&x->r, cluster);
    if (!x->r.window_read && !x->errnum)
        x->errnum = EIO;
    return next;
}

/* A free cluster, marked as an end; 0: there is none. */
static uint32_t take_cluster(struct fat_editor *x) {
    for (uint32_t n = 0; n < x->r.clusters && !x->errnum; n++) {
        uint32_t c = 2 + (x->search + n) % x->r.clusters;
        if (next_of(x, c) != 0 || x->errnum)
            continue;
        x->search = c - 2 + 1;
        set_entry(x, c, FAT_END);
        x->free_change--;
        return c;
    }
    return 0;
}

static void free_chain(struct fat_editor *x, uint32_t cluster) {
    uint8_t *zeros = mos_alloc(x->ctx->arena, x->r.cluster);
    for (uint32_t steps = 0; cluster >= 2 && cluster < x->r.clusters + 2 && steps <= x->r.clusters;
         steps++) {
        uint32_t next = next_of(x, cluster);
        set_entry(x, cluster, 0);
        put(x, zeros, x->r.cluster, x->r.data + (uint64_t)(cluster - 2) * x->r.cluster);
        x->free_change++;
        cluster = next;
    }
}

static uint64_t free_bytes(struct fat_editor *x) {
    uint64_t n = 0;
    for (uint32_t c = 2; c < x->r.clusters + 2 && !x->errnum; c++)
        n += next_of(x, c) == 0;
    return n * x->r.cluster;
}

/* ---- names ---- */

struct lookup {
    const char *name;
    size_t length;
    struct fat_file found;
    bool is_found;
    struct mos_map *shorts; /* of the folder; or NULL */
};

static bool look(void *self, const struct fat_file *f) {
    struct lookup *l = self;
    if (l->shorts) {
        const char *key = mos_strndup(l->shorts->arena, (const char *)f->raw, 11);
        mos_map_set_const(l->shorts, key, key);
    }
    bool same = strlen(f->name) == l->length;
    for (size_t i = 0; same && i < l->length; i++)
        same = tolower((unsigned char)f->name[i]) == tolower((unsigned char)l->name[i]);
    if (same) {
        l->found = *f;
        l->is_found = true;
    }
    return true;
}

/* Where a directory entry can go: the offsets of `count` free ones in a row. */
struct slots {
    uint64_t at[24];
    size_t have, want;
};

/* Goes through the raw entries of a folder; true when enough free ones in a row were found.
 * *last: its last cluster. */
static bool find_slots(struct fat_editor *x, uint32_t cluster, struct slots *s, uint32_t *last) {
    struct fat_reader *r = &x->r;
    bool fixed = !cluster && r->bits != 32;
    uint64_t at = r->root, size = (uint64_t)r->root_entries * FAT_ENTRY;
    s->have = 0;
    *last = 0;
    if (!cluster && !fixed)
        cluster = r->root_cluster;
    for (uint32_t steps = 0;
         fixed || (cluster >= 2 && cluster < r->clusters + 2 && steps <= r->clusters); steps++) {
        if (!fixed) {
            at = r->data + (uint64_t)(cluster - 2) * r->cluster;
            size = r->cluster;
            *last = cluster;
        }
        for (uint64_t i = 0; i < size; i += FAT_ENTRY) {
            uint8_t first;
            if (mos_io_read(x->io, &first, 1, at + i)) {
                x->errnum = EIO;
                return false;
            }
            if (first && first != DELETED) {
                s->have = 0;
                continue;
            }
            s->at[s->have++] = at + i;
            if (s->have == s->want)
                return true;
        }
        if (fixed)
            return false;
        cluster = next_of(x, cluster);
    }
    return false;
}

/* Finds room for `want` entries in a row, growing the folder by a cluster if there is none. */
static bool make_slots(struct fat_editor *x, uint32_t cluster, struct slots *s) {
    uint32_t last;
    for (unsigned tries = 0; tries < 3; tries++) {
        if (find_slots(x, cluster, s, &last))
            return true;
        uint32_t more = last && !x->errnum ? take_cluster(x) : 0;
        if (!more)
            return false;
        uint8_t *zeros = mos_alloc(x->ctx->arena, x->r.cluster);
        put(x, zeros, x->r.cluster, x->r.data + (uint64_t)(more - 2) * x->r.cluster);
        set_entry(x, last, more);
    }
    return false;
}

/* Adds a name to a folder; *at: where its short entry lies. */
static bool add_name(struct fat_editor *x, uint32_t folder, const char *path, const char *name,
                     uint8_t attributes, uint32_t cluster, uint32_t size, uint64_t *at) {
    struct mos_map shorts = mos_map_make(x->ctx->arena);
    struct lookup l = {.name = "", .shorts = &shorts};
    struct mos_buf b = {.arena = x->ctx->arena};
    if (!fat_list(&x->r, x->ctx->arena, folder, look, &l))
        return broken(x, path);
    const char *bad = fat_bad_name(name);
    if (bad)
        return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0, "/%s %s", path, bad);
    fat_put_name(&b, name, &shorts, attributes, x->date, cluster, size);
    struct slots s = {.want = b.length / FAT_ENTRY};
    if (s.want > sizeof s.at / sizeof *s.at || !make_slots(x, folder, &s))
        return x->errnum ? broken(x, path)
                         : mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0,
                                    "/%s does not fit: its folder is full", path);
    for (size_t i = 0; i < s.want; i++)
        put(x, b.data + i * FAT_ENTRY, FAT_ENTRY, s.at[i]);
    *at = s.at[s.want - 1];
    return true;
}

static void drop_name(struct fat_editor *x, const struct fat_file *f) {
    static const uint8_t gone = DELETED;
    for (size_t i = 0; i < f->entries; i++)
        put(x, &gone, 1, f->at[i]);
}

/* ---- what is asked ---- */

/* Writes content into a new chain; 0 clusters for an empty file. */
static bool write_content(struct fat_editor *x, const char *path, struct mos_io *content,
                          uint32_t *first) {
    uint8_t *piece = mos_alloc(x->ctx->arena, x->r.cluster);
    uint64_t room = free_bytes(x), need = mos_round_up(content->size, x->r.cluster);
    uint32_t before = 0;
    *first = 0;
    if (need > room)
        return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0,
                        "/%s does not fit: it needs %llu KiB, %llu KiB are free", path,
                        (unsigned long long)need / 1024, (unsigned long long)room / 1024);
    for (uint64_t at = 0; at < content->size; at += x->r.cluster) {
        size_t n = (size_t)mos_min(x->r.cluster, content->size - at);
        uint32_t c = take_cluster(x);
        memset(piece + n, 0, x->r.cluster - n);
        int e = mos_io_read(content, piece, n, at);
        if (e || !c)
            return mos_fail(x->ctx->error, MOS_ERROR_SYSTEM, e ? e : ENOSPC, "Cannot write /%s",
                            path);
        put(x, piece, x->r.cluster, x->r.data + (uint64_t)(c - 2) * x->r.cluster);
        if (before)
            set_entry(x, before, c);
        else
            *first = c;
        before = c;
    }
    return true;
}

/* Walks to the folder of a path, making what is missing if asked; *name is what is left. */
static bool to_folder(struct fat_editor *x, const char *path, bool make, uint32_t *folder,
                      const char **name) {
    *folder = 0;
    *name = path;
    for (const char *slash; (slash = strchr(*name, '/')); *name = slash + 1) {
        struct lookup l = {.name = *name, .length = (size_t)(slash - *name)};
        if (!fat_list(&x->r, x->ctx->arena, *folder, look, &l))
            return broken(x, path);
        if (l.is_found && !l.found.folder)
            return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0, "/%.*s is no folder",
                            (int)(slash - path), path);
        if (l.is_found) {
            *folder = l.found.cluster;
            continue;
        }
        if (!make)
            return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0, "There is no folder /%.*s",
                            (int)(slash - path), path);
        uint8_t *block = mos_alloc(x->ctx->arena, x->r.cluster);
        struct mos_buf b = {.arena = x->ctx->arena};
        uint32_t c = take_cluster(x);
        uint64_t at;
        fat_put_dots(&b, c, *folder, x->date);
        memcpy(block, b.data, b.length);
        put(x, block, x->r.cluster, x->r.data + (uint64_t)(c - 2) * x->r.cluster);
        const char *one = mos_strndup(x->ctx->arena, *name, (size_t)(slash - *name));
        if (!c || !add_name(x, *folder, path, one, IS_FOLDER, c, 0, &at))
            return mos_fail(x->ctx->error, MOS_ERROR_SYSTEM, ENOSPC, "No room for folder %s", one);
        *folder = c;
    }
    return true;
}

static bool edit_put(struct mos_editor *base, const char *path, struct mos_io *content,
                     uint16_t mode, uint64_t *before) {
    (void)mode; /* a FAT volume keeps none */
    struct fat_editor *x = (struct fat_editor *)base;
    struct lookup l = {0};
    uint32_t folder, first;
    uint64_t at;
    *before = UINT64_MAX;
    if (content->size > UINT32_MAX)
        return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0, "/%s is larger than 4 GiB", path);
    if (!to_folder(x, path, true, &folder, &l.name))
        return false;
    l.length = strlen(l.name);
    if (!fat_list(&x->r, x->ctx->arena, folder, look, &l))
        return broken(x, path);
    if (l.is_found && l.found.folder)
        return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0, "/%s is a folder", path);
    if (l.is_found) {
        *before = l.found.size;
        free_chain(x, l.found.cluster);
    }
    if (!write_content(x, path, content, &first))
        return false;
    if (!l.is_found) {
        if (!add_name(x, folder, path, l.name, IS_FILE, first, (uint32_t)content->size, &at))
            return false;
    } else {
        uint8_t *e = l.found.raw;
        at = l.found.at[l.found.entries - 1];
        mos_put_le16(e + ENTRY_CLUSTER_HIGH, (uint16_t)(first >> 16));
        mos_put_le16(e + ENTRY_CLUSTER, (uint16_t)first);
        mos_put_le32(e + ENTRY_SIZE, (uint32_t)content->size);
        put(x, e, FAT_ENTRY, at);
    }
    return x->errnum ? broken(x, path) : true;
}

static bool edit_remove(struct mos_editor *base, const char *path, uint64_t *before) {
    struct fat_editor *x = (struct fat_editor *)base;
    struct lookup l = {0};
    uint32_t folder;
    if (!to_folder(x, path, false, &folder, &l.name))
        return false;
    l.length = strlen(l.name);
    if (!fat_list(&x->r, x->ctx->arena, folder, look, &l))
        return broken(x, path);
    if (!l.is_found || l.found.folder)
        return mos_fail(x->ctx->error, MOS_ERROR_USAGE, 0, "There is no file /%s", path);
    *before = l.found.size;
    free_chain(x, l.found.cluster);
    drop_name(x, &l.found);
    return x->errnum ? broken(x, path) : true;
}

/* The free-space sector of FAT32, where it was right before. */
static bool edit_finish(struct mos_editor *base) {
    struct fat_editor *x = (struct fat_editor *)base;
    uint8_t s[512];
    if (x->r.bits == 32 && mos_io_read(x->io, s, sizeof s, x->r.sector) && !x->errnum)
        x->errnum = EIO;
    if (x->r.bits == 32 && x->free_change && !x->errnum && memcmp(s, "RRaA", 4) == 0 &&
        memcmp(s + INFO_MORE, "rrAa", 4) == 0 && mos_le32(s + INFO_FREE) != UINT32_MAX) {
        mos_put_le32(s + INFO_FREE, (uint32_t)((int64_t)mos_le32(s + INFO_FREE) + x->free_change));
        put(x, s, sizeof s, x->r.sector);
    }
    return x->errnum
               ? mos_fail(x->ctx->error, MOS_ERROR_SYSTEM, x->errnum, "Cannot write the image")
               : true;
}

struct mos_editor *fat_edit(struct mos_ctx *ctx, struct mos_io *io, int64_t date,
                            const char **why) {
    static const struct mos_editor functions = {edit_put, edit_remove, edit_finish};
    struct fat_editor *x = mos_alloc(ctx->arena, sizeof *x);
    *x = (struct fat_editor){.base = functions, .ctx = ctx, .io = io, .date = date};
    if (fat_open(&x->r, io, why))
        return &x->base;
    *why = *why ? *why : "Its boot sector cannot be read.";
    return NULL;
}
