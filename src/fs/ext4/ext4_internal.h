/* Shared by the files of this folder only.  Section names are those of the kernel's
 * Documentation/filesystems/ext4. */
#ifndef MOS_FS_EXT4_INTERNAL_H
#define MOS_FS_EXT4_INTERNAL_H

#include "content/attributes.h"
#include "fs/ext4/layout.h"
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
    EXT4_FLAG_INDEXED = 0x1000,
    EXT4_FLAG_EXTENTS = 0x80000,
    EXT4_FLAG_INLINE = 0x10000000,
    EXT4_FLAG_ENCRYPTED = 0x800,
    EXT4_BYTES_PER_INODE = 16384, /* one inode for that much of the volume, if there is room */
};

/* Feature flags ("The Super Block"). */
enum {
    EXT4_COMPAT = 0x4 /* journal */ | 0x8 /* xattr */ | 0x20 /* dir_index */,
    EXT4_COMPAT_JOURNAL = 0x4,
    EXT4_INCOMPAT = 0x2 /* filetype */ | 0x40 /* extents */ | 0x200 /* flex_bg */,
    EXT4_INCOMPAT_64BIT = 0x80,
    EXT4_INCOMPAT_RECOVER = 0x4,
    EXT4_INCOMPAT_META_BG = 0x10,
    EXT4_INCOMPAT_CSUM_SEED = 0x2000,
    EXT4_INCOMPAT_UNREADABLE = 0x1 /* compression */ | 0x8 /* journal device */ | 0x1000,
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

/* attributes.c */
bool ext4_attributes_fit(const struct ext4 *v, const uint8_t *list, size_t length);
void ext4_write_attributes(struct ext4 *v);
/* Puts what fits into an inode's tail; returns the block with the rest, or 0. */
uint32_t ext4_put_attributes(const struct ext4 *v, const struct mos_inv_node *node, uint8_t *inode);

/* hash.c: the half-MD4 hash of a name in an indexed folder; its last bit is 0 */
uint32_t ext4_name_hash(const uint8_t seed[16], const char *name, size_t length, uint32_t *minor);

/* inode.c */
void ext4_write_inodes(struct ext4 *v); /* or counts them, where nothing is written */
uint32_t ext4_inode_seed(const struct ext4 *v, uint32_t inode);

/* super.c */
void ext4_write_bookkeeping(struct ext4 *v);
void ext4_describe_spans(const struct ext4 *v, struct mos_vec *spans);

/* reader.c: a volume that is there */
struct ext4_reader {
    struct mos_ctx *ctx;
    struct mos_io *io;
    const struct mos_read_request *request;
    uint32_t block_size, first_block, per_group, groups, inodes_per_group, inode_size, desc_size;
    uint32_t inodes, compat, incompat, ro_compat, first_meta, csum_seed;
    uint64_t blocks;
    uint8_t uuid[16], hash_seed[16];
    uint64_t budget; /* bytes that may still be read: crossed blocks do not multiply */
    uint8_t *piece;  /* EXT4_PENDING bytes of scratch */
    struct mos_buf last_tail, last_list; /* of the inode before: its attributes and their list */
    uint64_t last_block;
    struct mos_attribute_set set; /* used again for each inode, and so is the block */
    uint8_t *attribute_block;
};
struct ext4_inode {
    uint32_t number, links, flags, generation, uid, gid;
    uint16_t mode; /* with the type's bits */
    uint64_t size, attributes_block;
    int64_t mtime;
    uint32_t mtime_ns;
    uint8_t raw[4096]; /* the first inode_size bytes of it */
};
/* A run of a file's blocks; physical 0: reads as zeros. */
struct ext4_file_run {
    uint64_t logical, physical, length; /* blocks */
};
bool ext4_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out);
/* Reads the superblock; *why says what is wrong when false. */
bool ext4_open(struct ext4_reader *r, struct mos_ctx *ctx, struct mos_io *io, const char **why);
bool ext4_read_block(struct ext4_reader *r, uint64_t block, void *to);
/* Where a group's descriptor lies, bytes. */
uint64_t ext4_desc_offset(const struct ext4_reader *r, uint32_t group);
/* Where an inode lies; 0: nowhere. */
uint64_t ext4_inode_offset(struct ext4_reader *r, uint32_t number);
bool ext4_read_inode(struct ext4_reader *r, uint32_t number, struct ext4_inode *out);
/* The runs of an inode's content in order, into `out` (of struct ext4_file_run); `nodes` (of
 * uint64_t, may be NULL) takes the blocks that only map. */
bool ext4_map(struct ext4_reader *r, const struct ext4_inode *inode, struct mos_vec *out,
              struct mos_vec *nodes);
/* walk.c */
bool ext4_stream(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request);
/* attributes.c: those of an inode, packed */
void ext4_read_attributes(struct ext4_reader *r, const struct ext4_inode *inode,
                          struct mos_buf *out);
/* The value of "system.data" in an inode's tail: the rest of content kept inside. */
const uint8_t *ext4_inline_rest(const struct ext4_reader *r, const struct ext4_inode *inode,
                                size_t *length);

#endif
