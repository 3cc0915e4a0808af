/* What lies where on the disk: offsets of fields, in bytes, as reader, writer and editor use them.
 * Little-endian but for the journal.  The kernel's Documentation/filesystems/ext4, "The Super
 * Block", "Block Group Descriptors", "Index Nodes", "Extent Tree", "Directory Entries", "Journal
 * (jbd2)" and "Extended Attributes". */
#ifndef MOS_FS_EXT4_LAYOUT_H
#define MOS_FS_EXT4_LAYOUT_H

enum ext4_super_field {
    SUPER_INODES = 0x0,
    SUPER_BLOCKS = 0x4,
    SUPER_RESERVED = 0x8, /* blocks for the superuser */
    SUPER_FREE_BLOCKS = 0xc,
    SUPER_FREE_INODES = 0x10,
    SUPER_FIRST_BLOCK = 0x14,
    SUPER_LOG_BLOCK = 0x18, /* 0: 1024 bytes */
    SUPER_LOG_CLUSTER = 0x1c,
    SUPER_PER_GROUP = 0x20, /* blocks */
    SUPER_CLUSTERS_PER_GROUP = 0x24,
    SUPER_INODES_PER_GROUP = 0x28,
    SUPER_WRITTEN = 0x30,     /* date of the last write */
    SUPER_MOST_MOUNTS = 0x36, /* between checks */
    SUPER_MAGIC = 0x38,
    SUPER_STATE = 0x3a,  /* 1: clean */
    SUPER_ERRORS = 0x3c, /* what is done then; 1: go on */
    SUPER_CHECKED = 0x40,
    SUPER_REVISION = 0x4c, /* 1: inodes have a size of their own */
    SUPER_FIRST_INODE = 0x54,
    SUPER_INODE_SIZE = 0x58,
    SUPER_GROUP = 0x5a, /* that this copy lies in */
    SUPER_COMPAT = 0x5c,
    SUPER_INCOMPAT = 0x60,
    SUPER_RO_COMPAT = 0x64,
    SUPER_UUID = 0x68,
    SUPER_LABEL = 0x78,
    SUPER_RESERVED_DESCS = 0xce, /* blocks behind the descriptors, kept for more of them */
    SUPER_JOURNAL_INODE = 0xe0,
    SUPER_HASH_SEED = 0xec,
    SUPER_HASH_VERSION = 0xfc,
    SUPER_JOURNAL_COPY_KIND = 0xfd,
    SUPER_DESC_SIZE = 0xfe,
    SUPER_MOUNT_OPTIONS = 0x100,
    SUPER_FIRST_META = 0x104,
    SUPER_MADE = 0x108,
    SUPER_JOURNAL_COPY = 0x10c, /* of the journal inode's block field, then of its size */
    SUPER_JOURNAL_COPY_SIZE = SUPER_JOURNAL_COPY + 64,
    SUPER_BLOCKS_HIGH = 0x150,
    SUPER_FREE_BLOCKS_HIGH = 0x158,
    SUPER_LEAST_EXTRA = 0x15c, /* behind the first 128 bytes of an inode */
    SUPER_WANTED_EXTRA = 0x15e,
    SUPER_FLAGS = 0x160,
    SUPER_LOG_FLEX = 0x174, /* groups that share their bookkeeping */
    SUPER_SUM_KIND = 0x175,
    SUPER_SPARSE_FIRST = 0x24c, /* groups with copies, where only two have them */
    SUPER_SPARSE_SECOND = 0x250,
    SUPER_SUM_SEED = 0x270,
    SUPER_SUM = 0x3fc,
};

enum ext4_desc_field {
    DESC_BLOCK_BITMAP = 0x0,
    DESC_INODE_BITMAP = 0x4,
    DESC_INODE_TABLE = 0x8,
    DESC_FREE_BLOCKS = 0xc,
    DESC_FREE_INODES = 0xe,
    DESC_FOLDERS = 0x10,
    DESC_FLAGS = 0x12,
    DESC_BLOCK_BITMAP_SUM = 0x18,
    DESC_INODE_BITMAP_SUM = 0x1a,
    DESC_UNUSED_INODES = 0x1c,
    DESC_SUM = 0x1e,
    /* descriptors of 64 bytes only: the high halves */
    DESC_HIGH = 0x20, /* of blocks' numbers, free blocks, free inodes and folders: so much later */
    DESC_UNUSED_INODES_HIGH = 0x32,
    DESC_BLOCK_BITMAP_SUM_HIGH = 0x38,
    DESC_INODE_BITMAP_SUM_HIGH = 0x3a,
};
enum ext4_desc_flag {
    DESC_INODES_UNMADE = 1, /* their bitmap is not on the disk */
    DESC_BLOCKS_UNMADE = 2,
    DESC_TABLE_ZEROED = 4,
};

enum ext4_inode_field {
    INODE_MODE = 0x0,
    INODE_UID = 0x2,
    INODE_SIZE = 0x4,
    INODE_ATIME = 0x8,
    INODE_CTIME = 0xc,
    INODE_MTIME = 0x10,
    INODE_DTIME = 0x14, /* when it was deleted, or the next one to be */
    INODE_GID = 0x18,
    INODE_LINKS = 0x1a,
    INODE_SECTORS = 0x1c, /* that it takes, 512 bytes each */
    INODE_FLAGS = 0x20,
    INODE_FIELD = 0x28, /* 60 bytes: extents, pointers, or a short link's target */
    INODE_GENERATION = 0x64,
    INODE_ATTRIBUTES = 0x68, /* block of extended attributes */
    INODE_SIZE_HIGH = 0x6c,
    INODE_SECTORS_HIGH = 0x74,
    INODE_ATTRIBUTES_HIGH = 0x76,
    INODE_UID_HIGH = 0x78,
    INODE_GID_HIGH = 0x7a,
    INODE_SUM = 0x7c,
    INODE_SHORT = 0x80,      /* so long is one without the rest */
    INODE_EXTRA_SIZE = 0x80, /* of the fields from here on */
    INODE_SUM_HIGH = 0x82,
    INODE_CTIME_EXTRA = 0x84,
    INODE_MTIME_EXTRA = 0x88,
    INODE_ATIME_EXTRA = 0x8c,
    INODE_CRTIME = 0x90,
    INODE_CRTIME_EXTRA = 0x94,
};

/* The header of an extent node, then its entries, 12 bytes each. */
enum ext4_extent_field {
    EXTENT_MAGIC = 0xf30a,
    EXTENT_COUNT = 0x2,
    EXTENT_ROOM = 0x4,
    EXTENT_DEPTH = 0x6,
    EXTENT_SIZE = 12,
    EXTENT_LOGICAL = 0x0,
    EXTENT_LENGTH = 0x4, /* blocks; above 32768: not written yet */
    EXTENT_START_HIGH = 0x6,
    EXTENT_START = 0x8,
    EXTENT_BELOW = 0x4, /* of an entry that leads further down */
    EXTENT_BELOW_HIGH = 0x8,
    EXTENT_UNUSED = 0xa,
};

/* An entry of a folder: inode, length, length of the name, kind, name. */
enum ext4_entry_field {
    ENTRY_INODE = 0x0,
    ENTRY_LENGTH = 0x4,
    ENTRY_NAME_LENGTH = 0x6,
    ENTRY_KIND = 0x7,
    ENTRY_NAME = 0x8,
    ENTRY_TAIL_SUM = 0x8, /* of the tail, which looks like an entry without a name */
};

/* The index of a folder: its head counts as its first entry. */
enum ext4_index_field {
    INDEX_LIMIT = 0x0,
    INDEX_COUNT = 0x2,
    INDEX_HASH = 0x0,
    INDEX_BLOCK = 0x4,
    INDEX_SIZE = 8,
    INDEX_TAIL_SUM = 0x4,
};

/* The journal's own super block (big-endian, version 2). */
enum ext4_journal_field {
    JOURNAL_MAGIC = 0xc03b3998,
    JOURNAL_KIND = 0x4, /* 4: super block, version 2 */
    JOURNAL_BLOCK_SIZE = 0xc,
    JOURNAL_BLOCKS = 0x10,
    JOURNAL_FIRST = 0x14,  /* block of the log */
    JOURNAL_COMMIT = 0x18, /* first that is expected */
    JOURNAL_UUID = 0x30,
    JOURNAL_USERS = 0x40,
};

/* A block of extended attributes, and an entry of it. */
enum ext4_attribute_field {
    ATTRIBUTES_USERS = 0x4,
    ATTRIBUTES_BLOCKS = 0x8,
    ATTRIBUTES_HASH = 0xc,
    ATTRIBUTES_SUM = 0x10,
    ATTRIBUTE_NAME_LENGTH = 0x0,
    ATTRIBUTE_INDEX = 0x1,
    ATTRIBUTE_VALUE_AT = 0x2,
    ATTRIBUTE_VALUE_INODE = 0x4,
    ATTRIBUTE_VALUE_LENGTH = 0x8,
    ATTRIBUTE_HASH = 0xc,
};

#endif
