/* Partition tables: one driver a kind. */
#ifndef MOS_DISK_TABLE_H
#define MOS_DISK_TABLE_H

#include "io/io.h"

struct mos_partition {
    unsigned number;              /* from 1 */
    uint64_t first_lba, last_lba; /* both belong to it */
    uint8_t type[16], id[16];     /* UUIDs in text order */
    uint64_t attributes;
    const char *name; /* UTF-8 */
    bool bootable;
    uint64_t table_lba; /* logical ones of an MBR: where their own table lies */
};

struct mos_table_data {
    uint32_t sector;      /* bytes */
    uint64_t medium_size; /* bytes; what is more than whole sectors is nobody's */
    uint32_t entries;     /* slots of the table */
    uint64_t entries_at;  /* bytes; 0: the usual place */
    bool mendable;        /* read: one copy is damaged or differs, writing it again mends that */
    bool unseen;          /* read: a GPT that no MBR announces; neither Linux nor loaders take it */
    uint8_t id[16];
    uint64_t first_usable, last_usable; /* LBAs */
    struct mos_vec partitions;          /* of struct mos_partition */
};

/* The span of a medium that a table itself needs, in bytes. */
struct mos_table_span {
    const char *name; /* "the GPT header and its entries" */
    uint64_t start, end;
};

struct mos_table_driver {
    const char *name;  /* as in `table: {kind: …}` */
    const char *title; /* for people */
    uint32_t default_entries;
    uint32_t most_entries;
    uint32_t most_logical; /* more, each behind a table of its own in a chain */
    size_t longest_name;   /* UTF-16 units of a partition's name */
    /* The spans it needs on a medium; at most `room`.  Returns their number. */
    size_t (*spans)(uint32_t sector, uint64_t medium_size, uint32_t entries, uint64_t entries_at,
                    struct mos_table_span *out, size_t room);
    bool entries_move; /* they may lie elsewhere: `entries_at` */
    /* How many entries still fit when the first `free_until` bytes are all it may use. */
    uint32_t (*entries_below)(uint32_t sector, uint64_t free_until);
    /* The identifier of a partition type by its purpose ("linux", "fat32", "swap", "raw" …). */
    bool (*type_for)(const char *purpose, uint8_t type[16]);
    /* A type as definitions write it; false: it is none. */
    bool (*type_parse)(const char *text, uint8_t type[16]);
    /* What the kernel calls a partition, behind PARTUUID=. */
    void (*partition_id)(const uint8_t disk[16], unsigned number, const uint8_t id[16],
                         char out[40]);
    /* Is this a type that content of a purpose may have?  Only asked of types with a name. */
    bool (*type_fits)(const uint8_t type[16], const char *purpose);
    const char *(*type_name)(const uint8_t type[16]); /* NULL: not known */
    /* Writes the whole table; the rest of the medium is untouched.  Returns an errno value. */
    int (*write)(struct mos_io *io, const struct mos_table_data *table);
    /* Reads one.  false: there is none.  Damage is added to `problems` (of const char *). */
    bool (*read)(struct mos_io *io, struct mos_arena *arena, struct mos_table_data *out,
                 struct mos_vec *problems);
};

extern const struct mos_table_driver mos_table_gpt, mos_table_mbr;

/* By name; NULL: not known.  mos_table_names: NULL-terminated. */
const struct mos_table_driver *mos_table_find(const char *name);
const struct mos_table_driver *mos_table_at(size_t index); /* NULL behind the last */

/* The partition of a number; NULL: there is none. */
const struct mos_partition *mos_table_partition(const struct mos_table_data *table,
                                                unsigned number);

/* The table of a medium, and its driver; NULL: there is none.  Of several it is that which Linux
 * and loaders take; one that is `unseen` only where there is no partition otherwise.  Damage is
 * added to `problems` (of const char *). */
const struct mos_table_driver *mos_table_read(struct mos_io *io, struct mos_arena *arena,
                                              struct mos_table_data *out, struct mos_vec *problems);

/* Writes a table and reads it back: it says what it was given, or *why (in the arena) is what it
 * says otherwise and the result ENOTSUP.  Else an errno value of `io`. */
int mos_table_write(const struct mos_table_driver *driver, struct mos_io *io,
                    const struct mos_table_data *table, struct mos_arena *arena, const char **why);

#endif
