/* Shared by the files of this folder only.  Names and offsets are those of the FAT file system
 * specification, version 1.03. */
#ifndef MOS_FS_FAT_INTERNAL_H
#define MOS_FS_FAT_INTERNAL_H

#include "fs/fs.h"

enum {
    FAT_ENTRY = 32,    /* bytes of a directory entry */
    FAT_RESERVED = 32, /* sectors before the first FAT */
    FAT_COPIES = 2,
    FAT_LEAST_CLUSTERS = 65525, /* fewer would make it FAT16 */
    FAT_END = 0x0fffffff,
    FAT_PENDING = 1 << 20,
};

struct fat {
    struct mos_volume_base base;
    uint32_t sector, cluster; /* bytes */
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

/* table.c: the FATs, the boot sector and the free-space sector */
void fat_write_tables(struct fat *v);
bool fat_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out);

#endif
