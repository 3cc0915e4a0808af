#include "support.h"

#include "base/hash.h"
#include "disk/table.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { SIZE = 4 << 20 };

static struct mos_table_data example(struct core *c, uint32_t sector, uint32_t entries) {
    struct mos_table_data t = {.sector = sector, .medium_size = SIZE, .entries = entries};
    struct mos_table_span spans[8];
    size_t n = mos_table_gpt.spans(sector, SIZE, entries, 0, spans, 8);
    CU_ASSERT_EQUAL_FATAL(n, 4);
    t.first_usable = spans[2].end / sector;
    t.last_usable = spans[3].start / sector - 1;
    t.partitions = mos_vec_make(c->ctx.arena, sizeof(struct mos_partition));
    mos_uuid_from_name("disk", t.id);
    static const char *const names[] = {"boot", "Würmer 潮",
                                        "a name of thirty-six units, exactly so"};
    for (unsigned i = 0; i < 3; i++) {
        struct mos_partition *p = mos_vec_push(&t.partitions);
        *p = (struct mos_partition){.number = i * 2 + 1,
                                    .first_lba = t.first_usable + i * 10,
                                    .last_lba = t.first_usable + i * 10 + 9,
                                    .name = names[i],
                                    .bootable = i == 1};
        mos_uuid_from_name(names[i], p->id);
        mos_table_gpt.type_for(i ? "linux" : "fat32", p->type);
    }
    return t;
}

static void tables_go_round(void) {
    static const struct {
        uint32_t sector, entries;
    } cases[] = {{512, 128}, {512, 48}, {512, 7}, {4096, 128}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        uint8_t *bytes = calloc(1, SIZE);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
        struct mos_table_data t = example(&c, cases[i].sector, cases[i].entries), again;
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        CU_ASSERT_EQUAL(mos_table_gpt.write(&io, &t), 0);
        CU_ASSERT_TRUE_FATAL(mos_table_gpt.read(&io, c.ctx.arena, &again, &problems));
        CU_ASSERT_EQUAL(problems.count, 0);
        CU_ASSERT_EQUAL(again.sector, t.sector);
        CU_ASSERT_EQUAL(again.entries, t.entries);
        CU_ASSERT_EQUAL(memcmp(again.id, t.id, 16), 0);
        CU_ASSERT_EQUAL_FATAL(again.partitions.count, 3);
        for (size_t k = 0; k < 3; k++) {
            const struct mos_partition *p = mos_vec_at(&t.partitions, k),
                                       *q = mos_vec_at(&again.partitions, k);
            CU_ASSERT(p->number == q->number && p->first_lba == q->first_lba &&
                      p->last_lba == q->last_lba);
            CU_ASSERT(p->bootable == q->bootable && memcmp(p->id, q->id, 16) == 0);
            CU_ASSERT(strncmp(p->name, q->name, strlen(q->name)) == 0);
        }
        free(bytes);
        core_end(&c);
    }
}

/* A table is mended exactly where that overwrites nothing but a table: entries in their usual place
 * and moved ones, a loader at 8 KiB, an MBR that protects, lists more or belongs to somebody else,
 * either copy damaged, something of the user's over one, media that were cut.  What is mended is
 * sound, and all else stays byte for byte. */
static void mending_overwrites_nothing(void) {
    enum { SECTOR = 512, ARRAY = 32 * SECTOR, LOADER = 8192, MOVED = 64 * 1024 };
    enum { PROTECTS, HYBRID, FOREIGN, LATE, NONE, MBRS };
    enum { SOUND, HEADER, SIGNATURE, ENTRIES, BOTH, LOADER_AT_512, FRONTS };
    enum { SOUND_END, NO_BACKUP, ENVIRONMENT, CUT, ENDS = CUT + 12 };
    for (unsigned k = 0; k < 2 * 2 * MBRS * FRONTS * ENDS; k++) {
        bool moved = k & 1, loader = k & 2;
        unsigned n = k / 4, mbr = n % MBRS, front = n / MBRS % FRONTS, end = n / MBRS / FRONTS,
                 cut = end < CUT ? 0 : 1 + (end - CUT) * 1571;
        struct core c;
        core_start(&c);
        uint8_t *bytes = calloc(1, SIZE), *was = malloc(SIZE);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
        struct mos_table_data t = example(&c, SECTOR, 128), again;
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        if (moved) {
            t.entries_at = MOVED;
            t.first_usable = (MOVED + ARRAY) / SECTOR;
            for (unsigned i = 0; i < 3; i++) {
                struct mos_partition *p = mos_vec_at(&t.partitions, i);
                p->first_lba += MOVED / SECTOR, p->last_lba += MOVED / SECTOR;
            }
        }
        struct mos_partition *last = mos_vec_at(&t.partitions, 2);
        last->last_lba = t.last_usable - 10;
        CU_ASSERT_EQUAL(mos_table_gpt.write(&io, &t), 0);
        memset(bytes, 0xc5, 440);
        if (mbr == HYBRID || mbr == FOREIGN)
            bytes[446 + 16 + 4] = 0x0c;
        if (mbr == FOREIGN)
            bytes[446 + 4] = 0x83;
        if (mbr == LATE) /* what protects begins at sector 1 */
            bytes[446 + 8] = 2;
        if (mbr == NONE)
            memset(bytes + 446, 0, 64);
        if (loader)
            memset(bytes + LOADER, 0x1d, 9000);
        if (end & 1) /* or it is full of zeros, and its place is all that keeps it */
            memset(bytes + last->first_lba * SECTOR, 0x77,
                   (last->last_lba + 1 - last->first_lba) * SECTOR);
        if (front == HEADER || front == BOTH)
            bytes[SECTOR + 60] ^= 4;
        if (front == SIGNATURE)
            bytes[SECTOR + 2] ^= 4;
        if (front == ENTRIES) /* a type, or the identifier of a partition */
            bytes[(moved ? MOVED : 2 * SECTOR) + 3] ^= 4;
        if (front == BOTH)
            bytes[(moved ? MOVED : 2 * SECTOR) + 19] ^= 4;
        if (front == LOADER_AT_512)
            memset(bytes + SECTOR, 0x1d, SECTOR);
        if (end == NO_BACKUP)
            memset(bytes + SIZE - SECTOR, 0, SECTOR);
        for (size_t i = 0; end == ENVIRONMENT && i < 4096; i++)
            bytes[SIZE - 8192 + i] = i % 128 < 16 ? 0 : 0xee;
        io.size = SIZE - cut;
        memcpy(was, bytes, SIZE);
        bool over_entries = loader && !moved, primary = (front == SOUND) && !over_entries,
             backup = end == SOUND_END;
        uint64_t whole = io.size / SECTOR * SECTOR, second = whole - SECTOR - ARRAY;
        bool read = mos_table_gpt.read(&io, c.ctx.arena, &again, &problems),
             seen = mbr == PROTECTS || mbr == HYBRID,
             mends = read && (!(primary && backup) || mbr == NONE) && (seen || mbr == NONE) &&
                     !over_entries && front != LOADER_AT_512 &&
                     !(front == BOTH && moved && loader) && end != ENVIRONMENT &&
                     last->last_lba < second / SECTOR;
        CU_ASSERT_EQUAL(read, primary || backup);
        CU_ASSERT_EQUAL(problems.count != 0, /* without any header it is no GPT */
                        (read && !seen) || (!(primary && backup) &&
                                            (backup || end == ENVIRONMENT ||
                                             (front != LOADER_AT_512 && front != SIGNATURE))));
        CU_ASSERT_EQUAL(read && again.unseen, read && !seen);
        CU_ASSERT_EQUAL_FATAL(read && again.mendable, mends);
        if (mends) {
            uint64_t first = moved && front != BOTH ? MOVED : 2 * SECTOR;
            CU_ASSERT_EQUAL_FATAL(mos_table_gpt.write(&io, &again), 0);
            CU_ASSERT_EQUAL(memcmp(bytes, was, mbr == HYBRID ? SECTOR : 446), 0);
            CU_ASSERT_EQUAL(memcmp(bytes + 1024, was + 1024, first - 1024), 0);
            CU_ASSERT_EQUAL(
                memcmp(bytes + first + ARRAY, was + first + ARRAY, second - first - ARRAY), 0);
            CU_ASSERT_EQUAL(memcmp(bytes + whole, was + whole, SIZE - whole), 0);
            problems.count = 0;
            CU_ASSERT(mos_table_gpt.read(&io, c.ctx.arena, &again, &problems));
            CU_ASSERT_EQUAL(problems.count, 0);
            CU_ASSERT_EQUAL(again.partitions.count, 3);
            CU_ASSERT(again.last_usable < second / SECTOR);
        } else if (read && problems.count && !(primary && backup)) {
            CU_ASSERT_STRING_EQUAL(
                mos_vec_pointer(&problems, problems.count - 1),
                "The GPT cannot be fixed: something else lies where its copies belong.");
        }
        free(bytes);
        free(was);
        core_end(&c);
    }
}

/* Where the primary entries lay nobody knows any more, and a partition is in their usual place. */
static void a_partition_in_the_way(void) {
    struct core c;
    core_start(&c);
    uint8_t *bytes = calloc(1, SIZE);
    struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
    struct mos_table_data t = example(&c, 512, 128), again;
    struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
    struct mos_partition *p = mos_vec_at(&t.partitions, 0);
    t.entries_at = 1 << 20;
    t.first_usable = 3;
    p->first_lba = 5, p->last_lba = 20;
    CU_ASSERT_EQUAL(mos_table_gpt.write(&io, &t), 0);
    bytes[512 + 60] ^= 1;
    CU_ASSERT(mos_table_gpt.read(&io, c.ctx.arena, &again, &problems));
    CU_ASSERT_STRING_EQUAL(mos_vec_pointer(&problems, problems.count - 1),
                           "The GPT cannot be fixed: something else lies where its copies belong.");
    CU_ASSERT_FALSE(again.mendable);
    free(bytes);
    core_end(&c);
}

/* One wrong byte anywhere in the table's sums is noticed, and the backup still gives the table. */
static void damage_is_noticed(void) {
    static const size_t places[] = {512,      512 + 16, 512 + 24, 512 + 40,
                                    512 + 56, 512 + 88, 1024,     1024 + 60};
    for (size_t i = 0; i <= sizeof places / sizeof *places; i++) {
        struct core c;
        core_start(&c);
        uint8_t *bytes = calloc(1, SIZE);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
        struct mos_table_data t = example(&c, 512, 128), again;
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        mos_table_gpt.write(&io, &t);
        if (i < sizeof places / sizeof *places)
            bytes[places[i]] ^= 1;
        else
            memset(bytes + SIZE - 512, 0, 512); /* the backup header */
        CU_ASSERT_TRUE(mos_table_gpt.read(&io, c.ctx.arena, &again, &problems));
        CU_ASSERT(problems.count > 0);
        CU_ASSERT_EQUAL(again.partitions.count, 3);
        free(bytes);
        core_end(&c);
    }
}

static void every_failed_write_is_told(void) {
    unsigned long calls = 0, all = 0;
    for (unsigned long n = 0; n <= all; n++) {
        struct core c;
        core_start(&c);
        uint8_t *bytes = calloc(1, SIZE);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
        struct mos_table_data t = example(&c, 512, 8);
        calls = 0;
        struct mos_io bad = mos_io_faulty(c.ctx.arena, &io, n, EIO, &calls);
        CU_ASSERT_EQUAL(mos_table_gpt.write(&bad, &t), n ? EIO : 0);
        if (!n)
            all = calls;
        free(bytes);
        core_end(&c);
    }
    CU_ASSERT(all >= 19);
}

static void a_new_kind_needs_only_its_row(void) {
    CU_ASSERT_PTR_EQUAL(mos_table_find("gpt"), &mos_table_gpt);
    CU_ASSERT_PTR_NULL(mos_table_find("none"));
    for (size_t i = 0; mos_table_at(i); i++) {
        const struct mos_table_driver *d = mos_table_at(i);
        CU_ASSERT(d->name && d->title && d->spans && d->write && d->read && d->type_for &&
                  d->entries_below);
    }
    CU_ASSERT_EQUAL(mos_table_gpt.entries_below(512, 8192), 56);
}

/* Random partitions through an MBR and back; damage never reads outside, a chain ends. */
static void classic_tables_go_round(void) {
    uint64_t state = 11;
    for (int round = 0; round < 200; round++) {
        struct core c;
        core_start(&c);
        uint8_t *bytes = calloc(1, SIZE);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        struct mos_table_data t = {.sector = 512,
                                   .medium_size = SIZE,
                                   .entries = 4,
                                   .partitions =
                                       mos_vec_make(c.ctx.arena, sizeof(struct mos_partition))},
                              again;
        uint64_t at = 1;
        for (size_t i = 0; i < 4; i++)
            t.id[i] = (uint8_t)random_next(&state);
        for (unsigned n = 1; n <= 4; n++) {
            if (random_below(&state, 4) == 0 && n > 1)
                continue;
            struct mos_partition *p = mos_vec_push(&t.partitions);
            at += random_below(&state, 500);
            *p = (struct mos_partition){.number = n,
                                        .first_lba = at,
                                        .last_lba = at + random_below(&state, 1000),
                                        .bootable = random_below(&state, 2)};
            mos_table_mbr.type_for(random_below(&state, 2) ? "linux" : "fat32", p->type);
            at = p->last_lba + 1;
        }
        CU_ASSERT_EQUAL(mos_table_mbr.write(&io, &t), 0);
        CU_ASSERT_TRUE_FATAL(mos_table_mbr.read(&io, c.ctx.arena, &again, &problems));
        CU_ASSERT_FALSE(mos_table_gpt.read(&io, c.ctx.arena, &again, &problems) &&
                        problems.count == 0);
        CU_ASSERT_TRUE(mos_table_mbr.read(&io, c.ctx.arena, &again, &problems));
        CU_ASSERT_EQUAL(memcmp(again.id, t.id, 16), 0);
        CU_ASSERT_EQUAL_FATAL(again.partitions.count, t.partitions.count);
        for (size_t i = 0; i < t.partitions.count; i++) {
            const struct mos_partition *p = mos_vec_at(&t.partitions, i),
                                       *q = mos_vec_at(&again.partitions, i);
            CU_ASSERT(p->number == q->number && p->first_lba == q->first_lba &&
                      p->last_lba == q->last_lba && p->bootable == q->bootable &&
                      p->type[15] == q->type[15]);
        }
        for (int k = 0; k < 20; k++) { /* damage: an answer, whatever it is */
            bytes[446 + random_below(&state, 66)] = (uint8_t)random_next(&state);
            mos_table_mbr.read(&io, c.ctx.arena, &again, &problems);
        }
        free(bytes);
        core_end(&c);
    }
    uint8_t type[16];
    char id[40];
    static const uint8_t disk[16] = {0xbc, 0x25, 0xc9, 0xdc};
    CU_ASSERT_TRUE(mos_table_mbr.type_parse("0x83", type) && type[15] == 0x83);
    static const char *const wrong[] = {"83", "0x", "0x100", "0x0", "0x8g", ""};
    for (size_t i = 0; i < 6; i++)
        CU_ASSERT_FALSE(mos_table_mbr.type_parse(wrong[i], type));
    mos_table_mbr.partition_id(disk, 12, NULL, id);
    CU_ASSERT_STRING_EQUAL(id, "bc25c9dc-0c");
}

/* ---- any table, or the word that it cannot be ---- */

enum { TABLES = 150, SECTORS = SIZE / 512 };

/* Up to `most` partitions with gaps between them, in order of place; numbers 1, 2, 3 … */
static struct mos_table_data any_places(struct core *c, uint64_t *state, uint64_t first,
                                        uint64_t last, size_t most) {
    struct mos_table_data t = {.sector = 512,
                               .medium_size = SIZE,
                               .entries = 128,
                               .first_usable = first,
                               .last_usable = last};
    t.partitions = mos_vec_make(c->ctx.arena, sizeof(struct mos_partition));
    uint64_t at = first;
    for (size_t i = 0; i < 16; i++)
        t.id[i] = (uint8_t)(1 + random_below(state, 255));
    for (size_t i = 0; i < most && at + 40 < last; i++) {
        struct mos_partition *p = mos_vec_push(&t.partitions);
        p->number = (unsigned)i + 1;
        p->table_lba = at;
        p->first_lba = at + 1 + random_below(state, 20);
        p->last_lba =
            p->first_lba + random_below(state, i + 1 < most ? 400 : last - p->first_lba + 1);
        p->last_lba = p->last_lba > last ? last : p->last_lba;
        p->bootable = random_below(state, 4) == 0;
        p->name = random_below(state, 3) ? "mast" : "";
        at = p->last_lba + 1;
        for (size_t k = 0; k < 16; k++)
            p->id[k] = (uint8_t)(1 + random_below(state, 255));
    }
    return t;
}

static struct mos_partition *nth(struct mos_table_data *t, size_t i) {
    return mos_vec_at(&t->partitions, i);
}

static bool same_partitions(struct core *c, const struct mos_table_driver *d, struct mos_io *io,
                            struct mos_table_data *t) {
    struct mos_table_data again;
    struct mos_vec problems = mos_vec_make(c->ctx.arena, sizeof(char *));
    if (!d->read(io, c->ctx.arena, &again, &problems) || problems.count)
        return false;
    size_t same = 0;
    for (size_t i = 0; i < t->partitions.count; i++) {
        const struct mos_partition *p = nth(t, i), *q = mos_table_partition(&again, p->number);
        same += q && p->first_lba == q->first_lba && p->last_lba == q->last_lba &&
                p->bootable == q->bootable && memcmp(p->type, q->type, 16) == 0 &&
                (!d->longest_name || (strcmp(p->name, q->name) == 0 &&
                                      (q->attributes & ~(uint64_t)4) == p->attributes &&
                                      memcmp(p->id, q->id, 16) == 0));
    }
    return same == t->partitions.count && memcmp(again.id, t->id, d->longest_name ? 16 : 4) == 0;
}

static void any_gpt_or_none(void) {
    uint64_t state = 23;
    for (size_t n = 0; n < TABLES; n++) {
        struct core c;
        core_start(&c);
        const char *why = NULL;
        uint8_t *bytes = calloc(1, SIZE);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
        struct mos_table_data t =
            any_places(&c, &state, 34, SECTORS - 34, 1 + random_below(&state, 20));
        for (size_t i = 0; i < t.partitions.count; i++) {
            struct mos_partition *p = nth(&t, i), *other = nth(&t, random_below(&state, i + 1));
            unsigned number = other->number; /* in any order of numbers */
            other->number = p->number;
            p->number = number;
            p->attributes = random_next(&state) & 0xffff000000000001;
            mos_table_gpt.type_for(i & 1 ? "linux" : "raw", p->type);
        }
        CU_ASSERT_EQUAL(mos_table_write(&mos_table_gpt, &io, &t, c.ctx.arena, &why), 0);
        CU_ASSERT(same_partitions(&c, &mos_table_gpt, &io, &t));
        /* nothing but the table is touched */
        size_t touched = 0;
        for (size_t i = 34 * 512; i < SIZE - 33 * 512; i++)
            touched += bytes[i] != 0;
        CU_ASSERT_EQUAL(touched, 0);
        struct mos_partition *p = nth(&t, random_below(&state, t.partitions.count)), was = *p;
        switch (n % 3) {
        case 0:
            p->number = 129;
            break;
        case 1:
            p->number = 0;
            break;
        default: /* as another one has it */
            p->number = nth(&t, random_below(&state, t.partitions.count))->number;
        }
        if (p->number != was.number) {
            CU_ASSERT_EQUAL(mos_table_write(&mos_table_gpt, &io, &t, c.ctx.arena, &why), ENOTSUP);
            CU_ASSERT_PTR_NOT_NULL(why);
        }
        core_end(&c);
        free(bytes);
    }
}

static void any_mbr_or_none(void) {
    uint64_t state = 24;
    for (size_t n = 0; n < TABLES; n++) {
        struct core c;
        core_start(&c);
        const char *why = NULL;
        uint8_t *bytes = calloc(1, SIZE);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
        struct mos_table_data t =
            any_places(&c, &state, 1, SECTORS - 1, 1 + random_below(&state, 12));
        size_t primaries = t.partitions.count <= 4 && random_below(&state, 2)
                               ? t.partitions.count
                               : random_below(&state, 4);
        for (size_t i = 0; i < t.partitions.count; i++) {
            nth(&t, i)->type[15] = i & 1 ? 0x83 : 0x0c;
            if (i >= primaries)
                nth(&t, i)->number = (unsigned)(5 + i - primaries);
            else
                nth(&t, i)->table_lba = 0;
        }
        CU_ASSERT_EQUAL(mos_table_write(&mos_table_mbr, &io, &t, c.ctx.arena, &why), 0);
        CU_ASSERT(same_partitions(&c, &mos_table_mbr, &io, &t));
        size_t logical = t.partitions.count > primaries ? t.partitions.count - primaries : 0;
        if (logical >= 2) { /* a chain that runs backwards, or has a hole */
            struct mos_partition *a = nth(&t, primaries), *b = nth(&t, t.partitions.count - 1);
            unsigned number = a->number;
            a->number = n & 1 ? b->number : b->number + 2;
            b->number = n & 1 ? number : b->number;
            CU_ASSERT_NOT_EQUAL(mos_table_write(&mos_table_mbr, &io, &t, c.ctx.arena, &why), 0);
        }
        core_end(&c);
        free(bytes);
    }
}

/* A table of two partitions that is right in all its sums; what is wrong with them is told, and
 * what only looks near it is not. */
static void mistakes_in_tables_are_told(void) {
    static const struct {
        uint64_t first, last; /* of the second; the first has 100 to 199 */
        const char *says;     /* NULL: nothing is wrong */
    } cases[] = {
        {200, 299, NULL},
        {199, 299, "Partitions 1 and 2 overlap."},
        {50, 99, NULL},
        {50, 100, "Partitions 1 and 2 overlap."},
        {120, 130, "Partitions 1 and 2 overlap."},
        {34, 40, NULL},
        {33, 40, "Partition 2 lies outside the usable sectors."},
        {8000, 8158, NULL},
        {8000, 8159, "Partition 2 lies outside the usable sectors."},
        {8000, 8191, "Partition 2 lies outside the usable sectors."},
        {8000, 8192, "Partition 2 ends past the medium, or before it begins."},
        {300, 299, "Partition 2 ends past the medium, or before it begins."},
        {300, 300, NULL},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        uint8_t *bytes = calloc(1, SIZE);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
        struct mos_table_data t = example(&c, 512, 128), again;
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        struct mos_partition *p = nth(&t, 0), *q = nth(&t, 1);
        t.partitions.count = 2;
        p->number = 1;
        p->first_lba = 100;
        p->last_lba = 199;
        q->number = 2;
        q->first_lba = cases[i].first;
        q->last_lba = cases[i].last;
        CU_ASSERT_EQUAL(mos_table_gpt.write(&io, &t), 0);
        CU_ASSERT_TRUE_FATAL(mos_table_gpt.read(&io, c.ctx.arena, &again, &problems));
        const char *said = problems.count ? mos_vec_pointer(&problems, 0) : NULL;
        bool good = cases[i].says ? said && strcmp(said, cases[i].says) == 0 : !said;
        if (!good)
            fprintf(stderr, "\n%llu to %llu: %s\n", (unsigned long long)cases[i].first,
                    (unsigned long long)cases[i].last, said ? said : "nothing");
        CU_ASSERT(good);
        core_end(&c);
        free(bytes);
    }
}

SUITE(disk_suite, {"mistakes in tables are told", mistakes_in_tables_are_told},
      {"mending overwrites nothing", mending_overwrites_nothing},
      {"a partition in the way", a_partition_in_the_way}, {"any GPT, or none", any_gpt_or_none},
      {"any MBR, or none", any_mbr_or_none}, {"tables go round", tables_go_round},
      {"classic tables go round", classic_tables_go_round}, {"damage", damage_is_noticed},
      {"failed writes", every_failed_write_is_told}, {"drivers", a_new_kind_needs_only_its_row});
