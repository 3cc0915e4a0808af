/* GUID partition tables: UEFI Specification 2.10, chapter 5. */
#include "disk/table.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "base/text.h"

#include <assert.h>
#include <errno.h>
#include <string.h>

enum {
    ENTRY_SIZE = 128,
    HEADER_SIZE = 92,
    REVISION = 0x00010000,
    NAME_UNITS = 36,
    LARGEST_SECTOR = 4096
};

/* Offsets in the header (5.3.2). */
enum {
    AT_SIGNATURE = 0,
    AT_REVISION = 8,
    AT_HEADER_SIZE = 12,
    AT_HEADER_CRC = 16,
    AT_MY_LBA = 24,
    AT_OTHER_LBA = 32,
    AT_FIRST_USABLE = 40,
    AT_LAST_USABLE = 48,
    AT_DISK_GUID = 56,
    AT_ENTRIES_LBA = 72,
    AT_ENTRY_COUNT = 80,
    AT_ENTRY_SIZE = 84,
    AT_ENTRIES_CRC = 88,
};

/* Offsets in an entry (5.3.3). */
enum {
    AT_TYPE = 0,
    AT_UNIQUE = 16,
    AT_FIRST = 32,
    AT_LAST = 40,
    AT_ATTRIBUTES = 48,
    AT_ENTRY_NAME = 56
};

static const uint64_t legacy_boot = 1 << 2; /* attribute bit 2 */

/* The first three fields of a GUID are little-endian on disk (appendix A). */
static void put_guid(uint8_t *to, const uint8_t uuid[16]) {
    static const uint8_t order[16] = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
    for (size_t i = 0; i < 16; i++)
        to[i] = uuid[order[i]];
}

static uint64_t entry_sectors(uint32_t sector, uint32_t entries) {
    return mos_div_up((uint64_t)entries * ENTRY_SIZE, sector);
}

static size_t gpt_spans(uint32_t sector, uint64_t medium_size, uint32_t entries,
                        uint64_t entries_at, struct mos_table_span *out, size_t room) {
    uint64_t array = entry_sectors(sector, entries) * sector,
             at = entries_at ? entries_at : 2 * (uint64_t)sector;
    const struct mos_table_span spans[] = {
        {"the protective MBR", 0, sector},
        {"the GPT header", sector, 2 * (uint64_t)sector},
        {"the GPT entries", at, at + array},
        {"the backup GPT", medium_size - sector - array, medium_size},
    };
    size_t n = sizeof spans / sizeof *spans;
    for (size_t i = 0; i < n && i < room; i++)
        out[i] = spans[i];
    return n;
}

static uint32_t gpt_entries_below(uint32_t sector, uint64_t free_until) {
    if (free_until < 3 * (uint64_t)sector)
        return 0;
    return (uint32_t)mos_min(mos_round_down(free_until - 2 * (uint64_t)sector, sector) / ENTRY_SIZE,
                             128);
}

static const struct {
    const char *purpose, *uuid, *name;
} types[] = {
    {"linux", "0fc63daf-8483-4772-8e79-3d69d8477de4", "Linux data"},
    {"fat32", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "basic data"},
    {"fat16", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "basic data"},
    {"fat12", "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "basic data"},
    {"raw", "0fc63daf-8483-4772-8e79-3d69d8477de4", "Linux data"},
    {"efi-system", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system"},
    {"fat32", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system"},
    {"fat16", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system"},
    {"fat12", "c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system"},
    {"swap", "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", "Linux swap"},
};

static bool gpt_type_for(const char *purpose, uint8_t type[16]) {
    for (size_t i = 0; i < sizeof types / sizeof *types; i++)
        if (strcmp(types[i].purpose, purpose) == 0)
            return mos_uuid_parse(types[i].uuid, type);
    return false;
}

static bool gpt_type_parse(const char *text, uint8_t type[16]) {
    return mos_uuid_parse(text, type);
}

static void gpt_partition_id(const uint8_t disk[16], unsigned number, const uint8_t id[16],
                             char out[40]) {
    (void)disk;
    (void)number;
    mos_uuid_text(id, out);
}

static bool gpt_type_fits(const uint8_t type[16], const char *purpose) {
    uint8_t known[16];
    for (size_t i = 0; i < sizeof types / sizeof *types; i++)
        if (mos_uuid_parse(types[i].uuid, known) && memcmp(known, type, 16) == 0 &&
            strcmp(types[i].purpose, purpose) == 0)
            return true;
    return false;
}

static const char *gpt_type_name(const uint8_t type[16]) {
    uint8_t known[16];
    for (size_t i = 0; i < sizeof types / sizeof *types; i++)
        if (mos_uuid_parse(types[i].uuid, known) && memcmp(known, type, 16) == 0)
            return types[i].name;
    return NULL;
}

/* ---- writing ---- */

static void put_entry(uint8_t *e, const struct mos_partition *p) {
    assert(p->number);
    put_guid(e + AT_TYPE, p->type);
    put_guid(e + AT_UNIQUE, p->id);
    mos_put_le64(e + AT_FIRST, p->first_lba);
    mos_put_le64(e + AT_LAST, p->last_lba);
    mos_put_le64(e + AT_ATTRIBUTES, p->attributes | (p->bootable ? legacy_boot : 0));
    uint16_t name[NAME_UNITS] = {0};
    mos_utf16_from_utf8(p->name, name, NAME_UNITS);
    for (size_t i = 0; i < NAME_UNITS; i++)
        mos_put_le16(e + AT_ENTRY_NAME + 2 * i, name[i]);
}

static void put_header(uint8_t *h, const struct mos_table_data *t, uint64_t lba, uint64_t other,
                       uint64_t entries_lba, uint32_t entries_crc) {
    assert(lba != other && t->entries);
    memset(h, 0, LARGEST_SECTOR);
    memcpy(h + AT_SIGNATURE, "EFI PART", 8);
    mos_put_le32(h + AT_REVISION, REVISION);
    mos_put_le32(h + AT_HEADER_SIZE, HEADER_SIZE);
    mos_put_le64(h + AT_MY_LBA, lba);
    mos_put_le64(h + AT_OTHER_LBA, other);
    mos_put_le64(h + AT_FIRST_USABLE, t->first_usable);
    mos_put_le64(h + AT_LAST_USABLE, t->last_usable);
    put_guid(h + AT_DISK_GUID, t->id);
    mos_put_le64(h + AT_ENTRIES_LBA, entries_lba);
    mos_put_le32(h + AT_ENTRY_COUNT, t->entries);
    mos_put_le32(h + AT_ENTRY_SIZE, ENTRY_SIZE);
    mos_put_le32(h + AT_ENTRIES_CRC, entries_crc);
    mos_put_le32(h + AT_HEADER_CRC, mos_crc32(0, h, HEADER_SIZE));
}

enum {
    AT_MBR_ENTRIES = 446,
    MBR_ENTRY = 16,
    MBR_ENTRIES = 4,
    AT_MBR_TYPE = 4,
    AT_MBR_FIRST = 8,
    PROTECTS = 0xee
};

/* Which entries an MBR has: one that protects a GPT (5.2.3: from the second sector on), others. */
static void look_at_mbr(const uint8_t mbr[512], bool *protects, bool *others) {
    *protects = *others = false;
    for (size_t i = 0; i < MBR_ENTRIES && mbr[510] == 0x55 && mbr[511] == 0xaa; i++) {
        const uint8_t *e = mbr + AT_MBR_ENTRIES + i * MBR_ENTRY;
        bool protects_one = e[AT_MBR_TYPE] == PROTECTS && mos_le32(e + AT_MBR_FIRST) == 1;
        *(protects_one ? protects : others) |= e[AT_MBR_TYPE] != 0;
    }
}

/* The protective MBR (5.2.3): one entry over the whole medium.  Boot code before the entries stays,
 * and so do the entries of an MBR that protects this table and lists more. */
static int write_mbr(struct mos_io *io, const struct mos_table_data *t) {
    uint8_t mbr[512], *e = mbr + AT_MBR_ENTRIES;
    bool protects, others;
    int err = mos_io_read(io, mbr, sizeof mbr, 0);
    if (err)
        return err;
    look_at_mbr(mbr, &protects, &others);
    if (protects && others)
        return 0;
    uint64_t last = t->medium_size / t->sector - 1;
    memset(e, 0, MBR_ENTRIES * MBR_ENTRY);
    e[2] = 2; /* starting CHS 0x000200 */
    e[AT_MBR_TYPE] = PROTECTS;
    e[5] = e[6] = e[7] = 0xff;
    mos_put_le32(e + AT_MBR_FIRST, 1);
    mos_put_le32(e + 12, (uint32_t)mos_min(last, UINT32_MAX));
    mbr[510] = 0x55;
    mbr[511] = 0xaa;
    return mos_io_write(io, mbr, sizeof mbr, 0);
}

static int write_array(struct mos_io *io, const struct mos_table_data *t, uint64_t at,
                       uint32_t *crc) {
    size_t next = 0;
    *crc = 0;
    for (uint32_t i = 0; i < t->entries; i++) {
        uint8_t e[ENTRY_SIZE] = {0};
        for (size_t k = 0; k < t->partitions.count; k++) { /* they are in order, as a rule */
            const struct mos_partition *p =
                mos_vec_at(&t->partitions, (next + k) % t->partitions.count);
            if (p->number != i + 1)
                continue;
            put_entry(e, p);
            next += k + 1;
            break;
        }
        *crc = mos_crc32(*crc, e, sizeof e);
        int err = mos_io_write(io, e, sizeof e, at + (uint64_t)i * ENTRY_SIZE);
        if (err)
            return err;
    }
    return 0;
}

/* Where the two arrays of entries lie, in sectors; false: the medium is too small for them.  A last
 * sector that is not whole belongs to nobody. */
static bool place_arrays(const struct mos_table_data *t, uint64_t *first, uint64_t *second) {
    uint64_t last = t->medium_size / t->sector - 1, array = entry_sectors(t->sector, t->entries);
    *first = t->entries_at ? t->entries_at / t->sector : 2;
    if (!array || *first < 2 || *first > last || 2 * array > last - *first)
        return false;
    *second = last - array;
    return true;
}

static int gpt_write(struct mos_io *io, const struct mos_table_data *t) {
    assert(t->sector && t->sector <= LARGEST_SECTOR);
    uint64_t first, second;
    if (t->medium_size < 8 * (uint64_t)t->sector || !place_arrays(t, &first, &second))
        return ENOSPC;
    uint64_t last = t->medium_size / t->sector - 1;
    uint32_t crc;
    uint8_t h[LARGEST_SECTOR];
    int e = write_mbr(io, t);
    if (!e)
        e = write_array(io, t, first * t->sector, &crc);
    if (!e)
        e = write_array(io, t, second * t->sector, &crc);
    if (e)
        return e;
    put_header(h, t, 1, last, first, crc);
    e = mos_io_write(io, h, t->sector, t->sector);
    put_header(h, t, last, 1, second, crc);
    return e ? e : mos_io_write(io, h, t->sector, last * t->sector);
}

/* ---- reading ---- */

struct gpt_reader {
    struct mos_io *io;
    struct mos_arena *arena;
    struct mos_vec *problems;
    uint32_t sector;
    const uint8_t *entries; /* of the copy that was read, as they lie there */
};

static void problem(struct gpt_reader *r, const char *text) {
    mos_vec_push_pointer(r->problems, text);
}

/* Reads and checks one header; false when it cannot be used. */
static bool read_header(struct gpt_reader *r, uint64_t lba, const char *which, uint8_t *h) {
    if (mos_io_read(r->io, h, r->sector, lba * r->sector) ||
        memcmp(h + AT_SIGNATURE, "EFI PART", 8) != 0)
        return false;
    uint32_t size = mos_le32(h + AT_HEADER_SIZE), stated = mos_le32(h + AT_HEADER_CRC);
    if (size < HEADER_SIZE || size > r->sector) {
        problem(r, mos_printf(r->arena, "The %s GPT header states a wrong size.", which));
        return false;
    }
    mos_put_le32(h + AT_HEADER_CRC, 0);
    if (mos_crc32(0, h, size) != stated) {
        problem(r, mos_printf(r->arena, "The sum of the %s GPT header is wrong.", which));
        return false;
    }
    if (mos_le64(h + AT_MY_LBA) != lba) {
        problem(r, mos_printf(r->arena, "The %s GPT header belongs to another sector.", which));
        return false;
    }
    uint32_t count = mos_le32(h + AT_ENTRY_COUNT), entry = mos_le32(h + AT_ENTRY_SIZE);
    if (entry < ENTRY_SIZE || entry % 8 || count > 16384 || (uint64_t)entry * count > 4 << 20) {
        problem(r, mos_printf(r->arena, "The %s GPT header states impossible entries.", which));
        return false;
    }
    return true;
}

static void read_entry(struct gpt_reader *r, const uint8_t *e, unsigned number,
                       struct mos_table_data *out) {
    static const uint8_t unused[16];
    if (memcmp(e + AT_TYPE, unused, 16) == 0)
        return;
    if (mos_le64(e + AT_LAST) >= out->medium_size / out->sector ||
        mos_le64(e + AT_FIRST) > mos_le64(e + AT_LAST)) {
        problem(r, mos_printf(r->arena, "Partition %u ends past the medium, or before it begins.",
                              number));
        return;
    }
    struct mos_partition *p = mos_vec_push(&out->partitions);
    p->number = number;
    put_guid(p->type, e + AT_TYPE); /* the swap is its own inverse */
    put_guid(p->id, e + AT_UNIQUE);
    p->first_lba = mos_le64(e + AT_FIRST);
    p->last_lba = mos_le64(e + AT_LAST);
    p->attributes = mos_le64(e + AT_ATTRIBUTES);
    p->bootable = p->attributes & legacy_boot;
    uint16_t name[NAME_UNITS];
    for (size_t i = 0; i < NAME_UNITS; i++)
        name[i] = mos_le16(e + AT_ENTRY_NAME + 2 * i);
    p->name = mos_utf8_from_utf16(r->arena, name, NAME_UNITS);
    if (p->first_lba < out->first_usable || p->last_lba > out->last_usable)
        problem(r, mos_printf(r->arena, "Partition %u lies outside the usable sectors.", number));
    for (size_t i = 0; i + 1 < out->partitions.count && i < 256; i++) {
        const struct mos_partition *o = mos_vec_at(&out->partitions, i);
        p = mos_vec_at(&out->partitions, out->partitions.count - 1);
        if (o->first_lba <= p->last_lba && p->first_lba <= o->last_lba)
            problem(r, mos_printf(r->arena, "Partitions %u and %u overlap.", o->number, number));
    }
}

/* The entries that a header tells of, if their sum is right; NULL: they are not, and it is said. */
static const uint8_t *sound_entries(struct gpt_reader *r, const uint8_t *h, const char *which) {
    uint32_t count = mos_le32(h + AT_ENTRY_COUNT), size = mos_le32(h + AT_ENTRY_SIZE);
    uint64_t at;
    uint8_t *array = mos_alloc_array(r->arena, count, size);
    if (!mos_mul(mos_le64(h + AT_ENTRIES_LBA), r->sector, &at) ||
        mos_io_read(r->io, array, (size_t)count * size, at)) {
        problem(r, mos_printf(r->arena, "The %s GPT entries cannot be read.", which));
        return NULL;
    }
    if (mos_crc32(0, array, (size_t)count * size) != mos_le32(h + AT_ENTRIES_CRC)) {
        problem(r, mos_printf(r->arena, "The sum of the %s GPT entries is wrong.", which));
        return NULL;
    }
    return array;
}

static bool read_entries(struct gpt_reader *r, const uint8_t *h, const char *which,
                         struct mos_table_data *out) {
    uint32_t count = mos_le32(h + AT_ENTRY_COUNT), size = mos_le32(h + AT_ENTRY_SIZE);
    uint64_t lba = mos_le64(h + AT_ENTRIES_LBA);
    const uint8_t *array = sound_entries(r, h, which);
    if (!array)
        return false;
    r->entries = array;
    out->entries = count;
    if (lba != 2 && which[0] == 'p')
        out->entries_at = lba * r->sector;
    out->first_usable = mos_le64(h + AT_FIRST_USABLE);
    out->last_usable = mos_le64(h + AT_LAST_USABLE);
    put_guid(out->id, h + AT_DISK_GUID);
    for (uint32_t i = 0; i < count; i++)
        read_entry(r, array + (size_t)i * size, i + 1, out);
    return true;
}

/* Is this what remains of slot `i`?  A used one still has its type or its own identifier. */
static bool is_slot(const struct gpt_reader *r, const struct mos_table_data *t, const uint8_t *e,
                    uint64_t i) {
    static const uint8_t unused[16];
    if (i >= t->entries)
        return false;
    const uint8_t *slot = r->entries + i * ENTRY_SIZE;
    return memcmp(slot + AT_TYPE, unused, 16) != 0 &&
           (memcmp(e + AT_TYPE, slot + AT_TYPE, 16) == 0 ||
            memcmp(e + AT_UNIQUE, slot + AT_UNIQUE, 16) == 0);
}

/* Is this what remains of a header? */
static bool is_header(const struct mos_table_data *t, const uint8_t *sector) {
    static const uint8_t none[16];
    uint8_t id[16];
    put_guid(id, sector + AT_DISK_GUID); /* the swap is its own inverse */
    return memcmp(sector + AT_SIGNATURE, "EFI PART", 8) == 0 ||
           (memcmp(id, t->id, 16) == 0 && memcmp(id, none, 16) != 0);
}

/* Is nothing in `count` sectors but zeros and what remains of this table, whose entries begin, or
 * once began, at one of two sectors? */
static bool only_ours(const struct gpt_reader *r, const struct mos_table_data *t, uint64_t from,
                      uint64_t count, const uint64_t arrays[2]) {
    uint8_t sector[LARGEST_SECTOR];
    static const uint8_t empty[ENTRY_SIZE];
    for (uint64_t lba = from; lba < from + count; lba++) {
        if (mos_io_read(r->io, sector, r->sector, lba * r->sector))
            return false;
        for (uint32_t at = 0; at < r->sector && !is_header(t, sector); at += ENTRY_SIZE) {
            bool ours = memcmp(sector + at, empty, ENTRY_SIZE) == 0;
            for (size_t k = 0; k < 2 && !ours; k++)
                ours =
                    lba >= arrays[k] &&
                    is_slot(r, t, sector + at, ((lba - arrays[k]) * r->sector + at) / ENTRY_SIZE);
            if (!ours)
                return false;
        }
    }
    return true;
}

/* Of a table whose primary header is lost: its entries may lie right before the usable sectors
 * instead of in the usual place.  They do when they are found there and not in the usual place. */
static void find_entries(const struct gpt_reader *r, struct mos_table_data *t) {
    uint64_t array = entry_sectors(t->sector, t->entries),
             moved = t->first_usable > array + 2 ? t->first_usable - array : 2;
    size_t length = (size_t)t->entries * ENTRY_SIZE;
    uint8_t *bytes = mos_alloc_array(r->arena, t->entries, ENTRY_SIZE);
    if (moved > t->medium_size / t->sector ||
        mos_io_read(r->io, bytes, length, 2 * (uint64_t)t->sector) ||
        memcmp(bytes, r->entries, length) == 0)
        return;
    if (!mos_io_read(r->io, bytes, length, moved * t->sector) &&
        memcmp(bytes, r->entries, length) == 0)
        t->entries_at = moved * t->sector;
}

/* Both copies may be written when that overwrites nothing else.  The second one's entries began at
 * `once`, before the medium grew or was cut. */
static bool may_be_written(const struct gpt_reader *r, struct mos_table_data *t, uint64_t once) {
    uint64_t first, second, array = entry_sectors(t->sector, t->entries);
    uint8_t mbr[512];
    bool protects, others;
    if (!place_arrays(t, &first, &second) || mos_io_read(r->io, mbr, sizeof mbr, 0))
        return false;
    look_at_mbr(mbr, &protects, &others);
    if ((others && !protects) || !only_ours(r, t, 1, 1, (const uint64_t[]){first, first}) ||
        !only_ours(r, t, first, array, (const uint64_t[]){first, first}) ||
        !only_ours(r, t, second, array + 1, (const uint64_t[]){second, once}))
        return false;
    for (size_t i = 0; i < t->partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&t->partitions, i);
        if (p->first_lba < 2 || p->last_lba >= second ||
            (p->first_lba < first + array && p->last_lba >= first))
            return false;
    }
    t->last_usable = mos_min(t->last_usable, second - 1); /* of a medium that was cut */
    return true;
}

/* Whoever looks for a GPT asks the MBR first.  *mends: a protective one may be written there. */
static bool is_unseen(struct gpt_reader *r, bool *mends) {
    uint8_t mbr[512];
    bool protects, others;
    *mends = false;
    if (mos_io_read(r->io, mbr, sizeof mbr, 0))
        return false;
    look_at_mbr(mbr, &protects, &others);
    *mends = !protects && !others;
    if (*mends)
        problem(r, "Linux and loaders do not see this GPT: the MBR has no partition of type 0xee "
                   "that begins at sector 1.");
    else if (!protects)
        problem(r, "There is a GPT here, too, but Linux and loaders take the MBR: it has no "
                   "partition of type 0xee that begins at sector 1.");
    return !protects;
}

static bool try_sector(struct gpt_reader *r, struct mos_table_data *out) {
    uint8_t first[LARGEST_SECTOR], backup[LARGEST_SECTOR];
    if (r->io->size < 8 * (uint64_t)r->sector)
        return false;
    uint64_t last = r->io->size / r->sector - 1;
    size_t before = r->problems->count;
    bool good = read_header(r, 1, "primary", first);
    uint64_t other = good ? mos_le64(first + AT_OTHER_LBA) : last;
    bool spare = other <= last && read_header(r, other, "backup", backup);
    if (!good && !spare) {
        if (r->problems->count == before)
            return false;
        problem(r, "Neither GPT header can be used.");
        return false;
    }
    if (!good)
        problem(r, "The primary GPT is damaged; this is read from its backup.");
    else if (!spare)
        problem(r, "The backup GPT is missing or damaged.");
    else if (mos_le32(first + AT_ENTRIES_CRC) != mos_le32(backup + AT_ENTRIES_CRC))
        problem(r, "The backup GPT differs from the primary.");
    else if (other != last)
        problem(r, "The backup GPT is not at the end of the medium.");
    else
        sound_entries(r, backup, "backup");
    *out = (struct mos_table_data){.sector = r->sector, .medium_size = r->io->size};
    bool damaged = r->problems->count != before, mends;
    out->unseen = is_unseen(r, &mends);
    out->mendable = damaged || mends;
    before = r->problems->count;
    out->partitions = mos_vec_make(r->arena, sizeof(struct mos_partition));
    bool read = good && read_entries(r, first, "primary", out);
    bool from_backup = !read && spare;
    if (from_backup) {
        out->partitions.count = 0;
        out->mendable = true;
        before = r->problems->count;
        read = read_entries(r, backup, "backup", out);
    }
    uint32_t size = mos_le32((from_backup ? backup : first) + AT_ENTRY_SIZE);
    /* what is wrong with the partitions themselves no second writing mends */
    out->mendable = out->mendable && read && r->problems->count == before && size == ENTRY_SIZE;
    if (!out->mendable)
        return read;
    if (!good)
        find_entries(r, out);
    else if (from_backup && mos_le64(first + AT_ENTRIES_LBA) != 2)
        out->entries_at = mos_min(mos_le64(first + AT_ENTRIES_LBA), last) * r->sector;
    uint64_t once = spare ? mos_le64(backup + AT_ENTRIES_LBA)
                          : other - mos_min(other, entry_sectors(out->sector, out->entries));
    if (!may_be_written(r, out, once)) {
        out->mendable = false;
        problem(r, "The GPT cannot be fixed: something else lies where its copies belong.");
    }
    return read;
}

static bool gpt_read(struct mos_io *io, struct mos_arena *arena, struct mos_table_data *out,
                     struct mos_vec *problems) {
    static const uint32_t sectors[] = {512, 4096};
    for (size_t i = 0; i < 2; i++) {
        struct gpt_reader r = {io, arena, problems, sectors[i]};
        if (try_sector(&r, out))
            return true;
    }
    return false;
}

const struct mos_table_driver mos_table_gpt = {
    .name = "gpt",
    .title = "GPT",
    .default_entries = 128,
    .most_entries = 128,
    .entries_move = true,
    .longest_name = NAME_UNITS,
    .spans = gpt_spans,
    .entries_below = gpt_entries_below,
    .type_for = gpt_type_for,
    .type_parse = gpt_type_parse,
    .partition_id = gpt_partition_id,
    .type_fits = gpt_type_fits,
    .type_name = gpt_type_name,
    .write = gpt_write,
    .read = gpt_read,
};
