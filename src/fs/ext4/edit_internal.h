/* Shared by the files that change a volume in place. */
#ifndef MOS_FS_EXT4_EDIT_INTERNAL_H
#define MOS_FS_EXT4_EDIT_INTERNAL_H

#include "fs/ext4/ext4_internal.h"

enum {
    EXT4_RO_GDT_CSUM = 0x10,
    EXT4_INCOMPAT_FILETYPE = 0x2,
    EXT4_INCOMPAT_EXTENTS = 0x40,
    EXT4_DIR_TAIL = 12,
};

/* What is known of a group, once it was touched. */
struct ext4_edit_group {
    uint8_t *blocks, *inodes; /* bitmaps, one block each; NULL: not read yet */
    uint8_t desc[64];
    bool read, dirty, blocks_dirty, inodes_dirty;
};

struct ext4_editor {
    struct mos_editor base;
    struct ext4_reader r;
    struct mos_ctx *ctx;
    struct mos_io *io;
    int64_t date;
    uint8_t super[EXT4_SUPER_SIZE];
    struct ext4_edit_group *groups;
    int64_t free_blocks, free_inodes; /* by how many they changed */
    int errnum;
};

/* edit-space.c: blocks, inodes and the bookkeeping of groups */
void ext4_edit_write(struct ext4_editor *x, const void *bytes, size_t length, uint64_t offset);
bool ext4_edit_read(struct ext4_editor *x, uint64_t block, void *to);
uint64_t ext4_edit_free(struct ext4_editor *x); /* free blocks */
/* Up to `wanted` blocks in a row; 0: none is free. */
uint64_t ext4_edit_take(struct ext4_editor *x, uint64_t wanted, uint64_t *count);
/* Gives blocks back; their bytes become zero. */
void ext4_edit_give(struct ext4_editor *x, uint64_t start, uint64_t count);
uint32_t ext4_edit_take_inode(struct ext4_editor *x, uint32_t near, bool folder); /* 0: none */
void ext4_edit_give_inode(struct ext4_editor *x, uint32_t number);
/* Sums an inode and writes it. */
void ext4_edit_write_inode(struct ext4_editor *x, struct ext4_inode *inode);
/* Groups and superblock, at the end. */
void ext4_edit_flush(struct ext4_editor *x);
uint32_t ext4_edit_seed(const struct ext4_editor *x, const struct ext4_inode *inode);

/* edit-folder.c: names */
struct ext4_spot {
    uint64_t block;          /* physical */
    size_t offset, previous; /* of the entry, and of the one before it in the block (or SIZE_MAX) */
    uint32_t inode;
};
/* Finds a name; spot->inode is 0 when it is not there.  False: the folder is damaged. */
bool ext4_edit_find(struct ext4_editor *x, const struct ext4_inode *folder, const char *name,
                    size_t length, struct ext4_spot *spot);
bool ext4_edit_add_name(struct ext4_editor *x, struct ext4_inode *folder, const char *name,
                        size_t length, uint32_t inode, uint8_t type);
void ext4_edit_drop_name(struct ext4_editor *x, const struct ext4_inode *folder,
                         const struct ext4_spot *spot);
/* The first block of a new folder. */
void ext4_edit_first_block(struct ext4_editor *x, const struct ext4_inode *folder, uint32_t parent,
                           uint8_t *block);
/* Puts runs (of struct ext4_file_run, in order) into an inode's block field. */
bool ext4_edit_set_map(struct ext4_editor *x, struct ext4_inode *inode, const struct mos_vec *runs);

/* edit.c */
struct mos_editor *ext4_edit(struct mos_ctx *ctx, struct mos_io *io, int64_t date,
                             const char **why);

#endif
