/* The classic partition table (MBR): four primary entries of 16 bytes at 446, a signature at 510.
 * Logical partitions (number 5 and up) are a chain of tables inside an extended one, each with one
 * partition and a link to the next; the extended one takes the first primary that is left.
 *
 * A type is one byte; in struct mos_partition it is the last byte of `type`.  The disk's signature
 * is the first four bytes of `id`; the kernel calls partitions SSSSSSSS-NN after it.
 */
#include "disk/table.h"

#include "base/bytes.h"

#include <assert.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum {
    AT_SIGNATURE = 440,
    AT_ENTRIES = 446,
    ENTRY_SIZE = 16,
    PRIMARIES = 4,
    AT_MAGIC = 510,
    MOST_LOGICAL = 60,
};

static size_t mbr_spans(uint32_t sector, uint64_t medium_size, uint32_t entries,
                        uint64_t entries_at, struct mos_table_span *out, size_t room) {
    (void)entries_at;
    (void)medium_size;
    (void)entries;
    if (room)
        out[0] = (struct mos_table_span){"the MBR", 0, sector};
    return 1;
}

static uint32_t mbr_entries_below(uint32_t sector, uint64_t free_until) {
    return free_until >= sector ? PRIMARIES : 0;
}

static const struct {
    const char *purpose, *name;
    uint8_t type;
} types[] = {
    {"linux", "Linux", 0x83},       {"fat32", "FAT32", 0x0c},
    {"raw", "Linux", 0x83},         {"fat16", "FAT16", 0x0e},
    {"fat32", "FAT32", 0x0b},       {"fat12", "FAT12", 0x01},
    {"swap", "Linux swap", 0x82},   {"extended", "extended", 0x05},
    {"extended", "extended", 0x0f}, {"efi-system", "EFI system", 0xef},
    {"fat32", "EFI system", 0xef},  {"fat16", "EFI system", 0xef},
    {"fat12", "EFI system", 0xef},  {"protective", "protective", 0xee},
};
enum { TYPES = sizeof types / sizeof *types };

static bool mbr_type_for(const char *purpose, uint8_t type[16]) {
    for (size_t i = 0; i < TYPES; i++)
        if (strcmp(types[i].purpose, purpose) == 0) {
            memset(type, 0, 16);
            type[15] = types[i].type;
            return true;
        }
    return false;
}

static const char *mbr_type_name(const uint8_t type[16]) {
    for (size_t i = 0; i < TYPES; i++)
        if (types[i].type == type[15])
            return types[i].name;
    return NULL;
}

static bool mbr_type_fits(const uint8_t type[16], const char *purpose) {
    for (size_t i = 0; i < TYPES; i++)
        if (types[i].type == type[15] && strcmp(types[i].purpose, purpose) == 0)
            return true;
    return false;
}

static bool mbr_type_parse(const char *text, uint8_t type[16]) {
    char *end;
    unsigned long v = strncmp(text, "0x", 2) == 0 ? strtoul(text, &end, 16) : 256;
    if (v > 255 || !v || *end)
        return false;
    memset(type, 0, 16);
    type[15] = (uint8_t)v;
    return true;
}

static void mbr_partition_id(const uint8_t disk[16], unsigned number, const uint8_t id[16],
                             char out[40]) {
    static const char digits[] = "0123456789abcdef";
    (void)id;
    char *p = out;
    for (int i = 0; i < 4; i++) {
        *p++ = digits[disk[i] >> 4];
        *p++ = digits[disk[i] & 15];
    }
    *p++ = '-';
    *p++ = digits[number >> 4 & 15];
    *p++ = digits[number & 15];
    *p = 0;
}

/* ---- writing ---- */

static void put_entry(uint8_t *e, const struct mos_partition *p) {
    e[0] = p->bootable ? 0x80 : 0;
    e[1] = e[5] = 0xfe; /* cylinder, head and sector are past what they can say */
    e[2] = e[3] = e[6] = e[7] = 0xff;
    e[4] = p->type[15];
    mos_put_le32(e + 8, (uint32_t)p->first_lba);
    mos_put_le32(e + 12, (uint32_t)(p->last_lba - p->first_lba + 1));
}

/* The table of one logical partition; its link counts from the extended one's start. */
static int write_link(struct mos_io *io, const struct mos_table_data *t,
                      const struct mos_partition *p, uint64_t extended) {
    assert(p->number > PRIMARIES);
    uint8_t s[512] = {0};
    const struct mos_partition *next = mos_table_partition(t, p->number + 1);
    struct mos_partition inside = *p;
    inside.first_lba -= p->table_lba;
    inside.last_lba -= p->table_lba;
    put_entry(s + AT_ENTRIES, &inside);
    if (next) {
        struct mos_partition link = {.first_lba = next->table_lba - extended,
                                     .last_lba = next->last_lba - extended,
                                     .type = {[15] = 0x05}};
        put_entry(s + AT_ENTRIES + ENTRY_SIZE, &link);
    }
    s[AT_MAGIC] = 0x55;
    s[AT_MAGIC + 1] = 0xaa;
    return mos_io_write(io, s, sizeof s, p->table_lba * t->sector);
}

static int write_chain(struct mos_io *io, const struct mos_table_data *t, uint8_t *mbr) {
    const struct mos_partition *first = mos_table_partition(t, PRIMARIES + 1), *last = first;
    struct mos_partition extended = {.type = {[15] = 0x0f}};
    if (!first)
        return 0;
    int e = 0;
    for (const struct mos_partition *p = first; p && !e;
         p = mos_table_partition(t, p->number + 1)) {
        e = write_link(io, t, p, first->table_lba);
        last = p;
    }
    extended.first_lba = first->table_lba;
    extended.last_lba = last->last_lba;
    for (unsigned n = 1; n <= PRIMARIES; n++)
        if (!mos_table_partition(t, n)) {
            put_entry(mbr + AT_ENTRIES + (n - 1) * ENTRY_SIZE, &extended);
            return e;
        }
    return e ? e : ENOSPC;
}

static int mbr_write(struct mos_io *io, const struct mos_table_data *t) {
    uint8_t mbr[512] = {0};
    for (size_t i = 0; i < 4; i++)
        mbr[AT_SIGNATURE + i] = t->id[3 - i];
    for (size_t i = 0; i < t->partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&t->partitions, i);
        if (p->number >= 1 && p->number <= PRIMARIES)
            put_entry(mbr + AT_ENTRIES + (p->number - 1) * ENTRY_SIZE, p);
    }
    mbr[AT_MAGIC] = 0x55;
    mbr[AT_MAGIC + 1] = 0xaa;
    int e = write_chain(io, t, mbr);
    return e ? e : mos_io_write(io, mbr, sizeof mbr, 0);
}

/* ---- reading ---- */

static bool is_extended(uint8_t type) {
    return type == 0x05 || type == 0x0f || type == 0x85;
}

static bool good_entry(const uint8_t *e, const struct mos_io *io) {
    uint64_t start = mos_le32(e + 8), count = mos_le32(e + 12);
    return (e[0] == 0 || e[0] == 0x80) && (!e[4] || (start && count)) &&
           (!e[4] || start * 512 < io->size);
}

/* A boot sector of a file system has the same signature; its entries are code. */
static bool is_table(const uint8_t *s, const struct mos_io *io) {
    bool any = false;
    if (s[AT_MAGIC] != 0x55 || s[AT_MAGIC + 1] != 0xaa || memcmp(s + 54, "FAT", 3) == 0 ||
        memcmp(s + 82, "FAT", 3) == 0)
        return false;
    for (size_t i = 0; i < PRIMARIES; i++) {
        const uint8_t *e = s + AT_ENTRIES + i * ENTRY_SIZE;
        if (!good_entry(e, io) || e[4] == 0xee)
            return false;
        any |= e[4] != 0;
    }
    return any;
}

static void add(struct mos_table_data *out, const uint8_t *e, unsigned number, uint64_t base) {
    struct mos_partition *p = mos_vec_push(&out->partitions);
    p->number = number;
    p->first_lba = base + mos_le32(e + 8);
    p->last_lba = p->first_lba + mos_le32(e + 12) - 1;
    p->type[15] = e[4];
    p->bootable = e[0] == 0x80;
    p->name = "";
}

/* The chain: each table holds one logical partition and a link, from the extended one's start. */
static void read_logical(struct mos_io *io, struct mos_table_data *out, uint64_t extended,
                         struct mos_vec *problems) {
    uint64_t at = extended;
    uint8_t s[512];
    for (unsigned number = 5; number < 5 + MOST_LOGICAL; number++) {
        if (mos_io_read(io, s, sizeof s, at * 512) || s[AT_MAGIC] != 0x55 ||
            s[AT_MAGIC + 1] != 0xaa) {
            mos_vec_push_pointer(problems, "The chain of logical partitions is broken.");
            return;
        }
        const uint8_t *e = s + AT_ENTRIES, *link = e + ENTRY_SIZE;
        if (e[4]) {
            add(out, e, number, at);
            struct mos_partition *p = mos_vec_at(&out->partitions, out->partitions.count - 1);
            p->table_lba = at;
        }
        if (!is_extended(link[4]) || !mos_le32(link + 8))
            return;
        at = extended + mos_le32(link + 8);
    }
    mos_vec_push_pointer(problems, "The chain of logical partitions does not end.");
}

/* What reaches past the medium, or into each other; logical ones lie inside the extended one. */
static void check_spans(const struct mos_io *io, const struct mos_table_data *t,
                        struct mos_arena *arena, struct mos_vec *problems) {
    for (size_t i = 0; i < t->partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&t->partitions, i);
        if (p->last_lba >= io->size / 512)
            mos_vec_push_pointer(
                problems, mos_printf(arena, "Partition %u ends past the medium.", p->number));
        for (size_t k = 0; k < i; k++) {
            const struct mos_partition *o = mos_vec_at(&t->partitions, k);
            bool inside = (is_extended(o->type[15]) && p->table_lba) ||
                          (is_extended(p->type[15]) && o->table_lba);
            if (!inside && o->first_lba <= p->last_lba && p->first_lba <= o->last_lba)
                mos_vec_push_pointer(problems, mos_printf(arena, "Partitions %u and %u overlap.",
                                                          o->number, p->number));
        }
    }
}

static bool mbr_read(struct mos_io *io, struct mos_arena *arena, struct mos_table_data *out,
                     struct mos_vec *problems) {
    uint8_t s[512];
    if (io->size < sizeof s || mos_io_read(io, s, sizeof s, 0) || !is_table(s, io))
        return false;
    *out = (struct mos_table_data){.sector = 512,
                                   .medium_size = io->size,
                                   .entries = PRIMARIES,
                                   .first_usable = 1,
                                   .last_usable = io->size / 512 - 1,
                                   .partitions = mos_vec_make(arena, sizeof(struct mos_partition))};
    for (size_t i = 0; i < 4; i++)
        out->id[i] = s[AT_SIGNATURE + 3 - i];
    for (unsigned i = 0; i < PRIMARIES; i++) {
        const uint8_t *e = s + AT_ENTRIES + i * ENTRY_SIZE;
        if (!e[4])
            continue;
        add(out, e, i + 1, 0);
        if (is_extended(e[4]))
            read_logical(io, out, mos_le32(e + 8), problems);
    }
    check_spans(io, out, arena, problems);
    return true;
}

const struct mos_table_driver mos_table_mbr = {
    .name = "mbr",
    .title = "MBR",
    .default_entries = PRIMARIES,
    .most_entries = PRIMARIES,
    .most_logical = MOST_LOGICAL,
    .spans = mbr_spans,
    .entries_below = mbr_entries_below,
    .type_for = mbr_type_for,
    .type_parse = mbr_type_parse,
    .type_fits = mbr_type_fits,
    .type_name = mbr_type_name,
    .partition_id = mbr_partition_id,
    .write = mbr_write,
    .read = mbr_read,
};
