#include "fs/fat/fat_internal.h"

#include "base/bytes.h"
#include "base/text.h"

#include <ctype.h>
#include <string.h>

/* Offsets in the boot sector (section 3.1 and 3.3). */
static void put_boot_sector(const struct fat *v, uint8_t *s) {
    const struct mos_volume_wish *w = &v->base.wish;
    static const uint8_t halt[] = {0xf4, 0xeb, 0xfd}; /* nobody starts from here */
    memcpy(s, "\xeb\x58\x90", 3);
    memcpy(s + 3, "MOSAICUM", 8);
    mos_put_le16(s + 11, (uint16_t)v->sector);
    s[13] = (uint8_t)(v->cluster / v->sector);
    mos_put_le16(s + 14, FAT_RESERVED);
    s[16] = FAT_COPIES;
    s[21] = 0xf8;
    mos_put_le16(s + 24, 63);  /* sectors a track */
    mos_put_le16(s + 26, 255); /* heads */
    mos_put_le32(s + 28, (uint32_t)(w->region_offset / v->sector));
    mos_put_le32(s + 32, v->sectors);
    mos_put_le32(s + 36, v->fat_sectors);
    mos_put_le32(s + 44, mos_inv_node(v->base.inventory, 0)->extent.physical);
    mos_put_le16(s + 48, 1); /* the free-space sector */
    mos_put_le16(s + 50, 6); /* the copy of this sector */
    s[64] = 0x80;
    s[66] = 0x29;
    memcpy(s + 67, w->uuid, 4);
    memcpy(s + 71, *w->label ? "           " : "NO NAME    ", 11);
    for (size_t i = 0; i < 11 && w->label[i]; i++)
        s[71 + i] = (uint8_t)toupper((unsigned char)w->label[i]);
    memcpy(s + 82, "FAT32   ", 8);
    memcpy(s + 90, halt, sizeof halt);
    mos_put_le16(s + 510, 0xaa55);
}

static void put_free_space(const struct fat *v, uint8_t *s) {
    memcpy(s, "RRaA", 4);
    memcpy(s + 484, "rrAa", 4);
    mos_put_le32(s + 488, v->clusters - (uint32_t)(v->next - 2 - v->given_back));
    mos_put_le32(s + 492, (uint32_t)v->next);
    mos_put_le16(s + 510, 0xaa55);
}

/* Links the clusters of every node; what belongs to nobody stays 0. */
static uint8_t *make_table(const struct fat *v, size_t *length) {
    *length = (size_t)mos_round_up(v->next * 4, v->sector);
    uint8_t *t = mos_alloc(v->base.ctx->arena, *length);
    mos_put_le32(t, 0x0ffffff8);
    mos_put_le32(t + 4, FAT_END);
    for (uint32_t i = 0; i < v->base.inventory->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(v->base.inventory, i);
        const struct mos_extent *e = mos_inv_extents(n);
        for (uint32_t k = 0; k < n->extent_count; k++)
            for (uint32_t c = 0; c < e[k].length; c++) {
                uint32_t here = e[k].physical + c, next = here + 1;
                if (c + 1 == e[k].length)
                    next = k + 1 < n->extent_count ? e[k + 1].physical : FAT_END;
                mos_put_le32(t + (size_t)here * 4, next);
            }
    }
    return t;
}

void fat_write_tables(struct fat *v) {
    size_t length;
    const uint8_t *table = make_table(v, &length);
    uint8_t *s = mos_alloc(v->base.ctx->arena, v->sector);
    for (uint32_t i = 0; i < FAT_COPIES; i++)
        mos_volume_write(&v->base, table, length,
                         (FAT_RESERVED + (uint64_t)i * v->fat_sectors) * v->sector);
    put_boot_sector(v, s);
    mos_volume_write(&v->base, s, v->sector, 0);
    mos_volume_write(&v->base, s, v->sector, 6 * (uint64_t)v->sector);
    memset(s, 0, v->sector);
    put_free_space(v, s);
    mos_volume_write(&v->base, s, v->sector, v->sector);
    mos_volume_write(&v->base, s, v->sector, 7 * (uint64_t)v->sector);
}

/* ---- reading ---- */

struct geometry {
    uint32_t sector, cluster, reserved, copies, fat_sectors, sectors, root, clusters;
};

static bool read_geometry(const uint8_t *s, struct geometry *g) {
    *g = (struct geometry){.sector = mos_le16(s + 11),
                           .cluster = s[13],
                           .reserved = mos_le16(s + 14),
                           .copies = s[16],
                           .fat_sectors = mos_le32(s + 36),
                           .sectors = mos_le32(s + 32),
                           .root = mos_le32(s + 44)};
    if (!mos_is_power_of_two(g->sector) || g->sector < 512 || g->sector > 4096 ||
        !mos_is_power_of_two(g->cluster) || !g->copies || !g->reserved || !g->fat_sectors)
        return false;
    uint64_t front = g->reserved + (uint64_t)g->copies * g->fat_sectors;
    if (front >= g->sectors)
        return false;
    g->clusters = (uint32_t)((g->sectors - front) / g->cluster);
    return true;
}

/* The long name that precedes a short entry is collected from its end. */
struct names {
    struct mos_arena *arena;
    struct mos_vec *out;
    uint16_t units[260];
    size_t count;
};

static void add_short(struct names *n, const uint8_t *e) {
    char name[13] = "";
    size_t at = 0;
    for (size_t i = 0; i < 11; i++) {
        if (e[i] == ' ')
            continue;
        if (i >= 8 && !strchr(name, '.'))
            name[at++] = '.';
        name[at++] = (char)(isprint(e[i]) ? e[i] : '?');
    }
    mos_vec_push_pointer(n->out, mos_strdup(n->arena, name));
}

static void read_entry(struct names *n, const uint8_t *e) {
    static const uint8_t places[13] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
    if (e[11] == 0x0f) {
        size_t at = ((e[0] & 0x1fu) - 1u) * 13u;
        for (size_t i = 0; i < 13 && at + i < 260; i++)
            n->units[at + i] = mos_le16(e + places[i]);
        if (e[0] & 0x40)
            n->count = at + 13 < 260 ? at + 13 : 260;
        return;
    }
    if (e[0] != 0xe5 && !(e[11] & 0x08)) {
        if (n->count)
            mos_vec_push_pointer(n->out, mos_utf8_from_utf16(n->arena, n->units, n->count));
        else
            add_short(n, e);
    }
    n->count = 0;
    memset(n->units, 0, sizeof n->units);
}

/* Lists the root folder; stops at the first thing that is wrong. */
static void list_root(struct mos_io *io, struct mos_arena *arena, const struct geometry *g,
                      struct mos_volume_info *out) {
    size_t bytes = (size_t)g->cluster * g->sector;
    uint8_t *data = mos_alloc(arena, bytes), link[4];
    struct names n = {.arena = arena, .out = &out->names};
    uint64_t start = (g->reserved + (uint64_t)g->copies * g->fat_sectors) * g->sector;
    uint32_t cluster = g->root;
    for (unsigned steps = 0; steps < 256 && cluster >= 2 && cluster < g->clusters + 2; steps++) {
        if (mos_io_read(io, data, bytes, start + (uint64_t)(cluster - 2) * bytes))
            break;
        for (size_t i = 0; i < bytes; i += FAT_ENTRY) {
            if (!data[i])
                return;
            read_entry(&n, data + i);
        }
        if (mos_io_read(io, link, 4, (uint64_t)g->reserved * g->sector + (uint64_t)cluster * 4))
            break;
        cluster = mos_le32(link) & FAT_END;
    }
}

bool fat_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out) {
    uint8_t s[512], info[512];
    struct geometry g;
    if (io->size < 4096 || mos_io_read(io, s, sizeof s, 0) || mos_le16(s + 510) != 0xaa55 ||
        memcmp(s + 82, "FAT32   ", 8) != 0)
        return false;
    *out = (struct mos_volume_info){
        .kind = "fat32", .label = "", .id = "", .names = mos_vec_make(arena, sizeof(char *))};
    if (!read_geometry(s, &g) || (uint64_t)g.sectors * g.sector > io->size) {
        out->damaged = true;
        out->problem = "The boot sector states impossible sizes.";
        return true;
    }
    char label[12] = "";
    memcpy(label, s + 71, 11);
    for (size_t i = 11; i && label[i - 1] == ' '; i--)
        label[i - 1] = 0;
    out->label = strcmp(label, "NO NAME") == 0 ? "" : mos_strdup(arena, label);
    out->id = mos_printf(arena, "%04x-%04x", mos_le16(s + 69), mos_le16(s + 67));
    out->size = (uint64_t)g.sectors * g.sector;
    out->block_size = g.cluster * g.sector;
    if (!mos_io_read(io, info, sizeof info, g.sector) && memcmp(info + 484, "rrAa", 4) == 0 &&
        mos_le32(info + 488) <= g.clusters)
        out->free = (uint64_t)mos_le32(info + 488) * out->block_size;
    list_root(io, arena, &g, out);
    return true;
}
