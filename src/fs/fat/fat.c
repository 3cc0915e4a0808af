/* FAT12, FAT16 and FAT32 volumes, written in one pass: files in a row, then folders, then the
 * tables. */
#include "fs/fat/fat_internal.h"

#include "base/bytes.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

/* Where a volume of `bits` with clusters of `per` sectors has its data: sectors before cluster 2,
 * and of one FAT. */
static uint64_t front_sectors(const struct fat *v, uint32_t per, uint32_t *fat_sectors) {
    assert(per && v->sector);
    assert(v->bits == 12 || v->bits == 16 || v->bits == 32);
    uint64_t root = mos_div_up((uint64_t)v->root_entries * FAT_ENTRY, v->sector);
    uint64_t fixed = v->reserved + root;
    uint64_t left = v->sectors > fixed ? v->sectors - fixed : 0;
    /* each cluster takes `per` sectors and bits/8 bytes of each FAT; two entries are no clusters */
    uint64_t bytes = (uint64_t)v->bits * (left + 2 * (uint64_t)per);
    *fat_sectors = (uint32_t)mos_div_up(bytes, 8 * (uint64_t)v->sector * per + 2 * v->bits);
    if (v->bits == 12) /* an entry may lie across two sectors */
        ++*fat_sectors;
    return fixed + FAT_COPIES * (uint64_t)*fat_sectors;
}

static uint64_t clusters_with(const struct fat *v, uint32_t per) {
    uint32_t table;
    uint64_t front = front_sectors(v, per, &table);
    return v->sectors > front ? (v->sectors - front) / per : 0;
}

static uint64_t smallest_32(uint32_t sector) {
    uint64_t table = mos_div_up((FAT16_CLUSTERS + 2) * 4ull, sector);
    return (FAT_RESERVED + FAT_COPIES * table + FAT16_CLUSTERS + FAT_MARGIN) * sector;
}

static uint64_t smallest_16(uint32_t sector) {
    uint64_t table = mos_div_up((FAT12_CLUSTERS + 2) * 2ull, sector),
             root = mos_div_up(FAT_ROOT_ENTRIES * FAT_ENTRY, sector);
    return (1 + FAT_COPIES * table + root + FAT12_CLUSTERS + FAT_MARGIN) * sector;
}

static uint64_t smallest_12(uint32_t sector) {
    return (1 + FAT_COPIES + mos_div_up(FAT_ROOT_ENTRIES * FAT_ENTRY, sector) + 8) * sector;
}

static uint64_t largest_16(uint32_t sector) {
    return (uint64_t)(FAT16_CLUSTERS - FAT_MARGIN) * mos_min(128 * (uint64_t)sector, 32768);
}

static uint64_t largest_12(uint32_t sector) {
    return (uint64_t)(FAT12_CLUSTERS - FAT_MARGIN) * mos_min(128 * (uint64_t)sector, 32768);
}

/* May a volume have this many clusters, and be of its kind? */
static bool good_count(const struct fat *v, uint64_t clusters) {
    if (v->bits == 32)
        return clusters >= FAT16_CLUSTERS;
    if (v->bits == 16)
        return clusters >= FAT12_CLUSTERS && clusters < FAT16_CLUSTERS - FAT_MARGIN;
    return clusters && clusters < FAT12_CLUSTERS - FAT_MARGIN;
}

/* The usual cluster size of a volume, another where that would make it of another kind. */
static uint32_t choose_cluster(const struct fat *v) {
    uint64_t size = v->base.wish.size;
    uint32_t bytes = size <= 260ull << 20  ? 512
                     : size <= 8ull << 30  ? 4096
                     : size <= 16ull << 30 ? 8192
                     : size <= 32ull << 30 ? 16384
                                           : 32768;
    if (v->bits != 32)
        bytes = v->sector;
    if (v->base.wish.unit)
        bytes = v->base.wish.unit;
    uint32_t per = (uint32_t)mos_max(bytes / v->sector, 1);
    while (per > 1 && v->bits == 32 && !good_count(v, clusters_with(v, per)))
        per /= 2;
    while (per < 64 && v->bits != 32 && clusters_with(v, per) >= FAT12_CLUSTERS - FAT_MARGIN &&
           !good_count(v, clusters_with(v, per)))
        per *= 2;
    return per * v->sector;
}

void fat_flush(struct fat *v) {
    if (v->pending_length)
        mos_volume_write(&v->base, v->pending, v->pending_length, v->pending_offset);
    v->pending_length = 0;
}

static void put(struct fat *v, uint64_t offset, const uint8_t *bytes, size_t length) {
    assert(v->pending_length <= FAT_PENDING);
    while (length) {
        if (offset != v->pending_offset + v->pending_length || v->pending_length == FAT_PENDING)
            fat_flush(v);
        if (!v->pending_length)
            v->pending_offset = offset;
        size_t n = (size_t)mos_min(length, FAT_PENDING - v->pending_length);
        memcpy(v->pending + v->pending_length, bytes, n);
        v->pending_length += n;
        offset += n;
        bytes += n;
        length -= n;
    }
}

/* Grows a file to `size` bytes: clusters are given in a row, since one file is written at a time.
 */
static void grow(struct fat *v, struct mos_inv_node *node, uint64_t size) {
    assert(node->type == MOS_ENTRY_FILE);
    uint64_t have = mos_div_up(v->written, v->cluster), need = mos_div_up(size, v->cluster);
    if (need > have)
        fat_take(v, node, (uint32_t)(need - have));
    v->written = mos_max(v->written, size);
}

static const char *cannot_store(const struct mos_entry *e) {
    const char *slash = strrchr(e->path, '/');
    if (e->type == MOS_ENTRY_LINK)
        return "is a symbolic link";
    if (e->type == MOS_ENTRY_HARD_LINK)
        return "is a hard link";
    if (e->type != MOS_ENTRY_FILE && e->type != MOS_ENTRY_FOLDER)
        return "is a device, pipe or socket";
    if (e->type == MOS_ENTRY_FILE && e->size > UINT32_MAX)
        return "is larger than 4 GiB";
    if (e->uid || e->gid)
        return "belongs to a user other than root";
    if (e->attributes_length)
        return "has extended attributes";
    if (e->mode & 07000)
        return "has set-user, set-group or sticky bits";
    return *e->path ? fat_bad_name(slash ? slash + 1 : e->path) : NULL;
}

static bool begin_entry(void *self, const struct mos_entry *entry) {
    struct fat *v = self;
    const char *reason = cannot_store(entry);
    v->mode = MOS_INV_REFUSED;
    v->written = 0;
    if (reason) {
        mos_inv_refuse(v->base.inventory, entry->path, v->base.fill, reason);
        return true;
    }
    v->mode = mos_inv_add(v->base.inventory, entry, v->base.fill, v->base.replaces, &v->current);
    if (v->mode == MOS_INV_REPLACED) {
        const struct mos_inv_node *n = mos_inv_node(v->base.inventory, v->current);
        const struct mos_extent *e = mos_inv_extents(n);
        if (n->extent_count)
            fat_flush(v);
        for (uint32_t i = 0; i < n->extent_count; i++) {
            v->given_back += e[i].length;
            mos_volume_zero(&v->base, fat_offset(v, e[i].physical),
                            (uint64_t)e[i].length * v->cluster);
        }
        v->mode = mos_inv_replace(v->base.inventory, v->current, entry, v->base.fill);
    }
    v->entry = *entry;
    v->entry_path.length = 0;
    mos_buf_text(&v->entry_path, entry->path);
    v->entry.path = mos_buf_string(&v->entry_path);
    return true;
}

static bool add_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct fat *v = self;
    if (v->mode == MOS_INV_NEW) {
        struct mos_inv_node *node = mos_inv_node(v->base.inventory, v->current);
        grow(v, node, offset + length);
        if (v->base.io && bytes)
            put(v, fat_offset(v, mos_inv_extents(node)->physical) + offset, bytes, length);
    }
    if (v->base.errnum)
        return mos_fail(v->base.ctx->error, MOS_ERROR_SYSTEM, v->base.errnum,
                        "Cannot write the image");
    return true;
}

static bool end_entry(void *self, uint64_t sum) {
    struct fat *v = self;
    if (v->mode == MOS_INV_COMPARE)
        mos_inv_compare(v->base.inventory, v->current, &v->entry, sum, v->base.fill);
    if (v->mode != MOS_INV_NEW || v->entry.type != MOS_ENTRY_FILE)
        return true;
    struct mos_inv_node *node = mos_inv_node(v->base.inventory, v->current);
    grow(v, node, v->entry.size); /* FAT has no holes: a last one takes clusters too */
    node->sum = sum;
    return true;
}

static struct mos_sink sink(struct mos_volume_base *volume) {
    return (struct mos_sink){volume, begin_entry, add_data, end_entry};
}

static struct mos_volume_base *begin(struct mos_ctx *ctx, struct mos_io *io,
                                     const struct mos_volume_wish *wish, unsigned bits,
                                     const struct mos_fs_driver *driver) {
    struct fat *v = mos_alloc(ctx->arena, sizeof *v);
    v->base = (struct mos_volume_base){.driver = driver, .ctx = ctx, .io = io, .wish = *wish};
    v->bits = bits;
    v->reserved = bits == 32 ? FAT_RESERVED : 1;
    v->root_entries = bits == 32 ? 0 : FAT_ROOT_ENTRIES;
    v->base.inventory = mos_inventory_new(ctx->arena, wish->date, true);
    v->sector = wish->sector;
    v->sectors = (uint32_t)mos_min(wish->size / v->sector, UINT32_MAX);
    v->cluster = choose_cluster(v);
    v->data = front_sectors(v, v->cluster / v->sector, &v->fat_sectors) * v->sector;
    v->clusters = (uint32_t)clusters_with(v, v->cluster / v->sector);
    v->root = (v->reserved + FAT_COPIES * (uint64_t)v->fat_sectors) * v->sector;
    v->next = 2;
    v->entry_path.arena = ctx->arena;
    v->pending = io ? mos_alloc(ctx->arena, FAT_PENDING) : NULL;
    return &v->base;
}

static struct mos_volume_base *begin_32(struct mos_ctx *ctx, struct mos_io *io,
                                        const struct mos_volume_wish *wish) {
    return begin(ctx, io, wish, 32, &mos_fs_fat32);
}

static struct mos_volume_base *begin_16(struct mos_ctx *ctx, struct mos_io *io,
                                        const struct mos_volume_wish *wish) {
    return begin(ctx, io, wish, 16, &mos_fs_fat16);
}

static struct mos_volume_base *begin_12(struct mos_ctx *ctx, struct mos_io *io,
                                        const struct mos_volume_wish *wish) {
    return begin(ctx, io, wish, 12, &mos_fs_fat12);
}

static void add_span(struct mos_vec *spans, uint64_t start, uint64_t end, enum mos_span_kind kind) {
    if (start < end)
        *(struct mos_span *)mos_vec_push(spans) = (struct mos_span){start, end - start, kind};
}

static void describe_spans(const struct fat *v, struct mos_vec *spans) {
    uint64_t front = (uint64_t)v->reserved * v->sector,
             table = (uint64_t)v->fat_sectors * v->sector;
    uint64_t used = fat_table_bytes(v);
    add_span(spans, 0, front + used, MOS_SPAN_DATA);
    add_span(spans, front + used, front + table, MOS_SPAN_ZERO);
    add_span(spans, front + table, front + table + used, MOS_SPAN_DATA);
    add_span(spans, front + table + used, v->root, MOS_SPAN_ZERO);
    add_span(spans, v->root, v->data, MOS_SPAN_DATA);
    uint64_t end = v->data + (v->next - 2) * v->cluster;
    add_span(spans, v->data, end, MOS_SPAN_DATA);
    add_span(spans, end, v->base.wish.size, MOS_SPAN_FREE);
}

static bool finish(struct mos_volume_base *base, struct mos_volume_result *result) {
    struct fat *v = (struct fat *)base;
    fat_flush(v);
    uint64_t content = v->next - 2;
    fat_write_folders(v);
    uint64_t used = v->next - 2, spare = mos_div_up(base->wish.spare, v->cluster);
    *result = (struct mos_volume_result){
        .fits = used + spare <= v->clusters,
        .block_size = v->cluster,
        .content = content * v->cluster,
        .structure = v->data + (used - content) * v->cluster,
        .free = used < v->clusters ? (v->clusters - used) * (uint64_t)v->cluster : 0,
        .spare = base->wish.spare,
        .entries = base->inventory->count,
        .spans = mos_vec_make(base->ctx->arena, sizeof(struct mos_span)),
    };
    if (!result->fits) {
        result->missing = (used + spare - v->clusters) * v->cluster;
        return true;
    }
    if (base->io)
        fat_write_tables(v);
    describe_spans(v, &result->spans);
    if (base->errnum)
        return mos_fail(base->ctx->error, MOS_ERROR_SYSTEM, base->errnum, "Cannot write the image");
    return true;
}

/* Labels are kept in capitals; the identifier is the serial number. */
static void foresee(struct mos_arena *arena, const struct mos_volume_wish *wish,
                    struct mos_volume_info *out) {
    char label[12] = "";
    for (size_t i = 0; i < 11 && wish->label[i]; i++)
        label[i] = (char)toupper((unsigned char)wish->label[i]);
    for (size_t i = strlen(label); i && label[i - 1] == ' '; i--)
        label[i - 1] = 0;
    out->label = strcmp(label, "NO NAME") == 0 ? "" : mos_strdup(arena, label);
    out->id = mos_printf(arena, "%04X-%04X", mos_le16(wish->uuid + 2), mos_le16(wish->uuid));
}

static const char *const options[] = {
    "uid",           "gid",       "umask", "dmask",     "fmask",       "allow_utime",
    "codepage",      "iocharset", "utf8",  "uni_xlate", "shortname",   "nonumtail",
    "quiet",         "showexec",  "debug", "flush",     "tz",          "time_offset",
    "errors",        "discard",   "check", "nfs",       "dos1xfloppy", "rodir",
    "sys_immutable", "usefree",   "dots",  "nodots",    NULL};

static const struct mos_fs_loader loaders[] = {
    {.dialect = "u-boot", .word = "fat", .symbol = "CONFIG_FS_FAT", .folders_exist = true}, {NULL}};

static const struct mos_fs_need *needs(const struct mos_volume_wish *wish) {
    static const struct mos_fs_need tables[] = {
        {"CONFIG_NLS_CODEPAGE_437", "The mount fails for its characters."},
        {"CONFIG_NLS_ISO8859_1", "The mount fails for its characters."},
        {NULL, NULL}};
    (void)wish;
    return tables;
}

#define DRIVER(text, least, most, start)                                                           \
    const struct mos_fs_driver mos_fs_##text = {.name = #text,                                     \
                                                .family = "fat",                                   \
                                                .partition = #text,                                \
                                                .kernel = "vfat",                                  \
                                                .kernel_also = "msdos",                            \
                                                .symbol = "CONFIG_VFAT_FS",                        \
                                                .needs = needs,                                    \
                                                .options = options,                                \
                                                .heeds = MOS_HEEDS_LABEL | MOS_HEEDS_ID,           \
                                                .loaders = loaders,                                \
                                                .firmware_reads = true,                            \
                                                .folds_case = true,                                \
                                                .no_owners = true,                                 \
                                                .smallest = least,                                 \
                                                .largest = most,                                   \
                                                .longest_label = 11,                               \
                                                .units = {512, 32768},                             \
                                                .begin = start,                                    \
                                                .sink = sink,                                      \
                                                .finish = finish,                                  \
                                                .foresee = foresee,                                \
                                                .probe = fat_probe,                                \
                                                .stream = fat_stream,                              \
                                                .edit = fat_edit}

DRIVER(fat32, smallest_32, NULL, begin_32);
DRIVER(fat16, smallest_16, largest_16, begin_16);
DRIVER(fat12, smallest_12, largest_12, begin_12);
