/* Shared by the files of this folder only.  Section names are those of the kernel's
 * Documentation/filesystems/ext4. */
#ifndef MOS_FS_EXT4_INTERNAL_H
#define MOS_FS_EXT4_INTERNAL_H

#include "fs/fs.h"

enum {
    EXT4_SUPER_OFFSET = 1024,
    EXT4_SUPER_SIZE = 1024,
    EXT4_MAGIC = 0xef53,
    EXT4_DESC_SIZE = 32,
    EXT4_INODE_SIZE = 256,
    EXT4_ROOT_INODE = 2,
    EXT4_JOURNAL_INODE = 8,
    EXT4_FIRST_INODE = 11, /* lost+found */
    EXT4_LONGEST_EXTENT = 32768,
    EXT4_BYTES_PER_INODE = 16384, /* one inode for that much of the volume, if there is room */
};

/* Feature flags ("The Super Block"). */
enum {
    EXT4_COMPAT = 0x4 /* journal */ | 0x8 /* xattr */ | 0x20 /* dir_index */,
    EXT4_COMPAT_JOURNAL = 0x4,
    EXT4_INCOMPAT = 0x2 /* filetype */ | 0x40 /* extents */ | 0x200 /* flex_bg */,
    EXT4_INCOMPAT_64BIT = 0x80,
    EXT4_RO_COMPAT = 0x1 /* sparse_super */ | 0x2 /* large_file */ | 0x8 /* huge_file */ |
                     0x20 /* dir_nlink */ | 0x40 /* extra_isize */ | 0x400 /* metadata_csum */,
    EXT4_RO_CSUM = 0x400,
};

struct ext4_run {
    uint32_t start, count;
};

struct ext4 {
    struct mos_volume_base base;
    uint32_t block_size;
    uint32_t first_block; /* first data block: 1 with 1 KiB blocks, else 0 */
    uint32_t blocks;      /* of the volume */
    uint32_t per_group, groups, desc_blocks;
    uint64_t next;       /* the next block to give out; passes `blocks` when it does not fit */
    struct mos_vec gaps; /* of struct ext4_run: below `next` and yet free */
    uint32_t inodes_per_group;
    uint32_t next_inode;
    uint32_t journal_blocks;
    struct mos_inv_node journal, lost;
    uint32_t csum_seed;
    /* the file being written */
    uint32_t current;
    struct mos_entry entry;
    enum mos_inv_result mode;
    uint32_t logical;
    struct mos_buf entry_path;
    /* contiguous data on its way out */
    uint8_t *pending;
    size_t pending_length;
    uint64_t pending_offset;
    /* places of the bookkeeping of each group, known at the end */
    uint32_t *block_bitmaps, *inode_bitmaps, *inode_tables;
    struct mos_vec trees;            /* of struct ext4_tree */
    uint32_t *used_inodes, *folders; /* per group */
};

/* An inode whose extents need blocks of their own. */
struct ext4_tree {
    uint32_t node, blocks;
    uint8_t field[60];
};

enum { EXT4_PENDING = 1 << 20 };

/* allocate.c */
bool ext4_has_super(uint32_t group);
uint32_t ext4_group_start(const struct ext4 *v, uint32_t group);
/* Blocks at the start of a group that hold superblock and descriptors. */
uint32_t ext4_group_reserved(const struct ext4 *v, uint32_t group);
/* The next free blocks in a row: at least 1, at most `wanted`. */
uint32_t ext4_take(struct ext4 *v, uint32_t wanted, uint32_t *count);
/* Exactly `count` in a row (fewer than a group holds). */
uint32_t ext4_take_row(struct ext4 *v, uint32_t count);
void ext4_give_back(struct ext4 *v, uint32_t start, uint32_t count);

/* Blocks that are not free, of the whole volume. */
uint64_t ext4_used(const struct ext4 *v);

/* data.c: contents of files and folders */
void ext4_add_blocks(struct ext4 *v, struct mos_inv_node *node, uint32_t logical,
                     const uint8_t *bytes, size_t length);
void ext4_flush(struct ext4 *v);
struct mos_sink ext4_sink(struct mos_volume_base *volume);

/* folder.c: numbers all inodes and writes all folders */
void ext4_write_folders(struct ext4 *v);

/* extent.c */
void ext4_write_trees(struct ext4 *v);
void ext4_extent_field(const struct ext4 *v, const struct mos_inv_node *node, uint32_t index,
                       uint8_t field[60], uint32_t *tree_blocks);

/* inode.c */
void ext4_write_inodes(struct ext4 *v);
uint32_t ext4_inode_seed(const struct ext4 *v, uint32_t inode);

/* super.c */
void ext4_write_bookkeeping(struct ext4 *v);
void ext4_describe_spans(const struct ext4 *v, struct mos_vec *spans);
bool ext4_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out);

#endif
