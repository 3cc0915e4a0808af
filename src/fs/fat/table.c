#include "fs/fat/fat_internal.h"

#include "base/bytes.h"
#include "base/text.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

/* Offsets in the boot sector (section 3.1 and 3.3). */
static void put_boot_sector(const struct fat *v, uint8_t *s) {
    const struct mos_volume_wish *w = &v->base.wish;
    static const uint8_t halt[] = {0xf4, 0xeb, 0xfd}; /* nobody starts from here */
    bool wide = v->bits == 32;
    memcpy(s, wide ? "\xeb\x58\x90" : "\xeb\x3c\x90", 3);
    memcpy(s + BOOT_MAKER, "MOSAICUM", 8);
    mos_put_le16(s + BOOT_SECTOR, (uint16_t)v->sector);
    s[BOOT_CLUSTER] = (uint8_t)(v->cluster / v->sector);
    mos_put_le16(s + BOOT_RESERVED, (uint16_t)v->reserved);
    s[BOOT_COPIES] = FAT_COPIES;
    mos_put_le16(s + BOOT_ROOT_ENTRIES, (uint16_t)v->root_entries);
    s[BOOT_MEDIUM] = 0xf8;
    mos_put_le16(s + BOOT_TRACK, 63);  /* sectors a track */
    mos_put_le16(s + BOOT_HEADS, 255); /* heads */
    mos_put_le32(s + BOOT_BEFORE, (uint32_t)(w->region_offset / v->sector));
    if (wide || v->sectors > UINT16_MAX)
        mos_put_le32(s + BOOT_SECTORS_LONG, v->sectors);
    else
        mos_put_le16(s + BOOT_SECTORS, (uint16_t)v->sectors);
    if (wide) {
        mos_put_le32(s + BOOT_FAT_SECTORS_LONG, v->fat_sectors);
        mos_put_le32(s + BOOT_ROOT_CLUSTER, mos_inv_node(v->base.inventory, 0)->extent.physical);
        mos_put_le16(s + BOOT_INFO_SECTOR, 1); /* the free-space sector */
        mos_put_le16(s + BOOT_COPY_SECTOR, 6); /* the copy of this sector */
    } else {
        mos_put_le16(s + BOOT_FAT_SECTORS, (uint16_t)v->fat_sectors);
    }
    uint8_t *more = s + (wide ? BOOT_LONG_REST : BOOT_SHORT_REST);
    more[REST_DRIVE] = 0x80;
    more[REST_MARK] = 0x29;
    memcpy(more + REST_ID, w->uuid, 4);
    memcpy(more + REST_LABEL, *w->label ? "           " : "NO NAME    ", 11);
    for (size_t i = 0; i < 11 && w->label[i]; i++)
        more[REST_LABEL + i] = (uint8_t)toupper((unsigned char)w->label[i]);
    memcpy(more + REST_KIND, wide ? "FAT32   " : v->bits == 16 ? "FAT16   " : "FAT12   ", 8);
    memcpy(more + REST_PROGRAM, halt, sizeof halt);
    mos_put_le16(s + BOOT_MAGIC, 0xaa55);
}

static void put_free_space(const struct fat *v, uint8_t *s) {
    assert(v->next >= 2 + v->given_back);
    memcpy(s, "RRaA", 4);
    memcpy(s + INFO_MORE, "rrAa", 4);
    mos_put_le32(s + INFO_FREE, v->clusters - (uint32_t)(v->next - 2 - v->given_back));
    mos_put_le32(s + INFO_NEXT, (uint32_t)v->next);
    mos_put_le16(s + BOOT_MAGIC, 0xaa55);
}

void fat_put_entry(unsigned bits, uint8_t *table, uint64_t cluster, uint32_t value) {
    assert(bits == 12 || bits == 16 || bits == 32);
    if (bits == 32) {
        mos_put_le32(table + cluster * 4, value);
    } else if (bits == 16) {
        mos_put_le16(table + cluster * 2, (uint16_t)value);
    } else {
        uint8_t *p = table + cluster * 3 / 2;
        uint16_t old = mos_le16(p);
        uint16_t both = cluster % 2 ? (uint16_t)((old & 0x000f) | value << 4)
                                    : (uint16_t)((old & 0xf000) | (value & 0xfff));
        mos_put_le16(p, both);
    }
}

/* Links the clusters of every node; what belongs to nobody stays 0. */
static uint8_t *make_table(const struct fat *v, size_t *length) {
    *length = (size_t)fat_table_bytes(v);
    uint8_t *t = mos_alloc(v->base.ctx->arena, *length + 1);
    uint32_t end = FAT_END; /* cut to the width of an entry */
    fat_put_entry(v->bits, t, 0, 0x0ffffff8);
    fat_put_entry(v->bits, t, 1, end);
    for (uint32_t i = 0; i < v->base.inventory->count; i++) {
        const struct mos_inv_node *n = mos_inv_node(v->base.inventory, i);
        const struct mos_extent *e = mos_inv_extents(n);
        for (uint32_t k = 0; k < n->extent_count; k++)
            for (uint32_t c = 0; c < e[k].length; c++) {
                uint32_t here = e[k].physical + c, next = here + 1;
                assert(here >= 2 && here < v->next);
                if (c + 1 == e[k].length)
                    next = k + 1 < n->extent_count ? e[k + 1].physical : end;
                fat_put_entry(v->bits, t, here, next);
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
                         (v->reserved + (uint64_t)i * v->fat_sectors) * v->sector);
    put_boot_sector(v, s);
    mos_volume_write(&v->base, s, v->sector, 0);
    if (v->bits != 32)
        return;
    mos_volume_write(&v->base, s, v->sector, 6 * (uint64_t)v->sector);
    memset(s, 0, v->sector);
    put_free_space(v, s);
    mos_volume_write(&v->base, s, v->sector, v->sector);
    mos_volume_write(&v->base, s, v->sector, 7 * (uint64_t)v->sector);
}

uint32_t fat_take(struct fat *v, struct mos_inv_node *node, uint32_t count) {
    assert(count && v->next >= 2);
    uint32_t first = (uint32_t)v->next;
    uint32_t logical = 0;
    const struct mos_extent *e = mos_inv_extents(node);
    if (node->extent_count)
        logical = e[node->extent_count - 1].logical + e[node->extent_count - 1].length;
    v->next += count;
    mos_inv_extend(v->base.inventory, node, (struct mos_extent){logical, count, first}, UINT32_MAX);
    return first;
}

uint64_t fat_offset(const struct fat *v, uint32_t cluster) {
    assert(cluster >= 2);
    return v->data + (uint64_t)(cluster - 2) * v->cluster;
}

uint64_t fat_table_bytes(const struct fat *v) {
    return mos_min(mos_round_up(mos_div_up(v->next * v->bits, 8), v->sector),
                   (uint64_t)v->fat_sectors * v->sector);
}
