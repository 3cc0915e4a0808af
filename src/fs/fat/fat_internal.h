/* Shared by the files of this folder only.  Names and offsets are those of the FAT file system
 * specification, version 1.03. */
#ifndef MOS_FS_FAT_INTERNAL_H
#define MOS_FS_FAT_INTERNAL_H

#include "base/map.h"
#include "fs/fat/layout.h"
#include "fs/fs.h"

enum {
    FAT_ENTRY = 32,         /* bytes of a directory entry */
    FAT_RESERVED = 32,      /* sectors before the first FAT; 1 but in FAT32 */
    FAT_ROOT_ENTRIES = 512, /* of FAT12 and FAT16: their root folder does not grow */
    FAT_COPIES = 2,
    FAT_MARGIN = 16,        /* clusters kept away from where the kinds meet */
    FAT12_CLUSTERS = 4085,  /* as many, and it is FAT16 */
    FAT16_CLUSTERS = 65525, /* as many, and it is FAT32 */
    FAT_END = 0x0fffffff,
    FAT_PENDING = 1 << 20,
    FAT_LONG_UNITS = 13, /* of a name in UTF-16, in an entry of a long one */
};

struct fat {
    struct mos_volume_base base;
    unsigned bits;            /* of an entry of the table: 12, 16 or 32 */
    uint32_t sector, cluster; /* bytes */
    uint32_t reserved, root_entries;
    uint64_t root; /* offset of the root folder of FAT12 and FAT16 */
    uint32_t sectors, fat_sectors, clusters;
    uint64_t data; /* offset of cluster 2 */
    uint64_t next; /* the next cluster to give out; passes clusters + 2 when it does not fit */
    uint32_t given_back;
    uint32_t current;
    struct mos_entry entry;
    struct mos_buf entry_path;
    enum mos_inv_result mode;
    uint64_t written; /* bytes of the current file, holes included */
    uint8_t *pending;
    size_t pending_length;
    uint64_t pending_offset;
};

/* Gives `count` clusters to a node and returns the first. */
uint32_t fat_take(struct fat *v, struct mos_inv_node *node, uint32_t count);
uint64_t fat_offset(const struct fat *v, uint32_t cluster);
void fat_flush(struct fat *v);

/* folder.c */
const char *fat_bad_name(const char *name); /* why it cannot be stored, or NULL */
void fat_write_folders(struct fat *v);
/* Appends the entries of a name; `taken` holds the short names of its folder (11 bytes) and whose
 * they are: a name's own, given by the same pointer, is free for it. */
void fat_put_name(struct mos_buf *b, const char *name, struct mos_map *taken, uint8_t attributes,
                  int64_t date, uint32_t cluster, uint64_t size);
void fat_put_dots(struct mos_buf *b, uint32_t self, uint32_t parent, int64_t date);

/* table.c: the FATs, the boot sector and the free-space sector */
void fat_write_tables(struct fat *v);
/* Bytes of one FAT that say something. */
uint64_t fat_table_bytes(const struct fat *v);
/* Sets an entry; its reserved bits become 0. */
void fat_put_entry(unsigned bits, uint8_t *table, uint64_t cluster, uint32_t value);

/* reader.c: a volume that is there */
struct fat_reader {
    struct mos_io *io;
    unsigned bits;
    uint32_t sector, cluster; /* bytes */
    uint32_t reserved, copies, fat_sectors, sectors, root_entries, clusters, root_cluster;
    uint64_t root, data;      /* offsets of the fixed root folder, and of cluster 2 */
    uint8_t window[4096 + 2]; /* of the FAT, and where it was read */
    uint64_t window_at;
    bool window_read;
};
/* Reads the boot sector; false: it is no FAT, or *why says what is wrong. */
bool fat_open(struct fat_reader *r, struct mos_io *io, const char **why);
/* The entry of a cluster; 0 where it cannot be read.  Ends are FAT_END, whatever the width. */
uint32_t fat_next(struct fat_reader *r, uint32_t cluster);
/* An entry of a folder, with the long name that was before it. */
struct fat_file {
    const char *name;
    uint64_t at[21]; /* offsets of its directory entries, the short one last */
    size_t entries;
    uint8_t raw[FAT_ENTRY];
    uint32_t cluster, size;
    bool folder;
};
/* Calls `each` for every file of a folder (cluster 0: the root); false: damaged, or stopped. */
bool fat_list(struct fat_reader *r, struct mos_arena *arena, uint32_t cluster,
              bool (*each)(void *self, const struct fat_file *file), void *self);
int64_t fat_date(const uint8_t *entry);
bool fat_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out);
/* edit.c */
struct mos_editor *fat_edit(struct mos_ctx *ctx, struct mos_io *io, int64_t date, const char **why);
bool fat_stream(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request);

/* folder.c */
/* Where the units of a long name lie in an entry. */
extern const uint8_t fat_long_places[FAT_LONG_UNITS];
/* What the entries of a long name state of the short one that follows them. */
uint8_t fat_short_sum(const uint8_t name[11]);

#endif
