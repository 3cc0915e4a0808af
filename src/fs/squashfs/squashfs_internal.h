/* Squashfs 4.0: the kernel's Documentation/filesystems/squashfs.rst and the headers it names.  All
 * numbers are little-endian; every offset of the format stands here, for writer and reader. */
#ifndef MOS_FS_SQUASHFS_INTERNAL_H
#define MOS_FS_SQUASHFS_INTERNAL_H

#include "content/attributes.h"
#include "fs/fs.h"

#define SQ_MAGIC 0x73717368u
#define SQ_NONE 0xffffffffu        /* no fragment, no attributes */
#define SQ_NO_TABLE (~(uint64_t)0) /* a table that is not there */

enum {
    SQ_METADATA = 8192,       /* bytes of a metadata block before it is compressed */
    SQ_STORED = 1 << 15,      /* in a metadata block's head: it is not compressed */
    SQ_STORED_DATA = 1 << 24, /* the same in the size of a data block or fragment */
    SQ_LEAST_BLOCK = 4096,
    SQ_USUAL_BLOCK = 128 << 10,
    SQ_MOST_BLOCK = 1 << 20,
    SQ_PADDING = 4096, /* of the whole volume */
    SQ_LONGEST_NAME = 256,
    SQ_LONGEST_LINK = 4095, /* the kernel keeps a link's text in one page */
    SQ_MOST_OWNERS = 65535,
    SQ_RUN = 256, /* names behind one head of a folder's listing */
};

/* The superblock. */
enum {
    SQ_SUPER_MAGIC = 0,
    SQ_SUPER_INODES = 4,
    SQ_SUPER_TIME = 8,
    SQ_SUPER_BLOCK = 12,
    SQ_SUPER_FRAGMENTS = 16,
    SQ_SUPER_COMPRESSION = 20, /* 16 bits, as the next four */
    SQ_SUPER_BLOCK_LOG = 22,
    SQ_SUPER_FLAGS = 24,
    SQ_SUPER_OWNERS = 26,
    SQ_SUPER_MAJOR = 28,
    SQ_SUPER_MINOR = 30,
    SQ_SUPER_ROOT = 32, /* 64 bits, as all behind it */
    SQ_SUPER_USED = 40,
    SQ_SUPER_OWNER_TABLE = 48,
    SQ_SUPER_ATTRIBUTE_TABLE = 56,
    SQ_SUPER_INODE_TABLE = 64,
    SQ_SUPER_FOLDER_TABLE = 72,
    SQ_SUPER_FRAGMENT_TABLE = 80,
    SQ_SUPER_EXPORT_TABLE = 88,
    SQ_SUPER_SIZE = 96,
};

/* Flags of the superblock. */
enum {
    SQ_FLAG_NO_FRAGMENTS = 1 << 4,
    SQ_FLAG_ALWAYS_FRAGMENTS = 1 << 5,
    SQ_FLAG_EXPORT = 1 << 7,
    SQ_FLAG_NO_ATTRIBUTES = 1 << 9,
    SQ_FLAG_OPTIONS = 1 << 10, /* a metadata block with the compression's options comes first */
};

/* Types of inodes: an extended one is the basic one plus SQ_EXTENDED. */
enum {
    SQ_FOLDER = 1,
    SQ_FILE,
    SQ_LINK,
    SQ_BLOCK,
    SQ_CHAR,
    SQ_FIFO,
    SQ_SOCKET,
    SQ_EXTENDED = 7,
};

/* What all inodes begin with. */
enum {
    SQ_INODE_TYPE = 0,
    SQ_INODE_MODE = 2,
    SQ_INODE_USER = 4,
    SQ_INODE_GROUP = 6,
    SQ_INODE_TIME = 8,
    SQ_INODE_NUMBER = 12,
    SQ_INODE_HEAD = 16,
};
/* What follows, by type. */
enum {
    SQ_FOLDER_BLOCK = 16, /* of its listing in the folder table */
    SQ_FOLDER_LINKS = 20,
    SQ_FOLDER_BYTES = 24, /* 16 bits: of the listing, and three more */
    SQ_FOLDER_OFFSET = 26,
    SQ_FOLDER_PARENT = 28,
    SQ_FOLDER_SIZE = 32,

    SQ_WIDE_FOLDER_LINKS = 16,
    SQ_WIDE_FOLDER_BYTES = 20,
    SQ_WIDE_FOLDER_BLOCK = 24,
    SQ_WIDE_FOLDER_PARENT = 28,
    SQ_WIDE_FOLDER_INDEXES = 32, /* 16 bits, as the next */
    SQ_WIDE_FOLDER_OFFSET = 34,
    SQ_WIDE_FOLDER_ATTRIBUTES = 36,
    SQ_WIDE_FOLDER_SIZE = 40,

    SQ_FILE_BLOCK = 16, /* where its data begins */
    SQ_FILE_FRAGMENT = 20,
    SQ_FILE_OFFSET = 24, /* in the fragment */
    SQ_FILE_BYTES = 28,
    SQ_FILE_SIZE = 32, /* sizes of its blocks follow, 32 bits each */

    SQ_WIDE_FILE_BLOCK = 16, /* 64 bits, as the next two */
    SQ_WIDE_FILE_BYTES = 24,
    SQ_WIDE_FILE_SPARSE = 32, /* bytes of holes */
    SQ_WIDE_FILE_LINKS = 40,
    SQ_WIDE_FILE_FRAGMENT = 44,
    SQ_WIDE_FILE_OFFSET = 48,
    SQ_WIDE_FILE_ATTRIBUTES = 52,
    SQ_WIDE_FILE_SIZE = 56,

    SQ_OTHER_LINKS = 16,   /* links, devices, pipes and sockets */
    SQ_OTHER_SIZE = 20,    /* pipes and sockets end here … */
    SQ_LINK_BYTES = 20,    /* … a link has its text's length and the text … */
    SQ_DEVICE_NUMBER = 20, /* … and a device its number */
    SQ_OTHER_WIDE = 24,
};

/* Heads and entries of a folder's listing; an index of it. */
enum {
    SQ_HEAD_COUNT = 0, /* less one */
    SQ_HEAD_BLOCK = 4, /* of the inodes that follow */
    SQ_HEAD_NUMBER = 8,
    SQ_HEAD_SIZE = 12,
    SQ_ENTRY_OFFSET = 0,
    SQ_ENTRY_NUMBER = 2, /* more than the head's; signed */
    SQ_ENTRY_TYPE = 4,
    SQ_ENTRY_LENGTH = 6, /* of the name, less one */
    SQ_ENTRY_SIZE = 8,
    SQ_INDEX_AT = 0, /* bytes from the start of the listing */
    SQ_INDEX_BLOCK = 4,
    SQ_INDEX_LENGTH = 8, /* of the name, less one */
    SQ_INDEX_SIZE = 12,
    SQ_FRAGMENT_BLOCK = 0, /* 64 bits */
    SQ_FRAGMENT_BYTES = 8,
    SQ_FRAGMENT_SIZE = 16,
};

/* Attributes: a list each, found by a number. */
enum {
    SQ_LIST_AT = 0, /* 64 bits: block and offset, as all references */
    SQ_LIST_COUNT = 8,
    SQ_LIST_BYTES = 12,
    SQ_LIST_SIZE = 16,
    SQ_ATTRIBUTE_TYPE = 0, /* which prefix its name has */
    SQ_ATTRIBUTE_LENGTH = 2,
    SQ_ATTRIBUTE_HEAD = 4, /* the name follows, then the value's length (32 bits) and the value */
    SQ_ATTRIBUTE_ELSEWHERE = 0x100, /* … or a reference to where these two stand */
    SQ_ATTRIBUTE_TABLE_SIZE = 16, /* its head: 64 bits of where the lists are, 32 of their count */
};

/* A way to compress blocks.  All functions work on whole blocks, for any number of threads. */
struct sq_codec {
    const char *name;   /* as in `compress: …`; NULL: volumes are only read */
    const char *title;  /* for people */
    unsigned id;        /* in the superblock */
    const char *symbol; /* of a kernel that can read it */
    /* Compresses at most `room` bytes' worth; 0: it does not get smaller than that. */
    size_t (*encode)(const uint8_t *from, size_t length, uint8_t *to, size_t room,
                     uint32_t block_size);
    /* *length: room in `to`, then what came.  false: damaged. */
    bool (*decode)(const uint8_t *from, size_t packed, uint8_t *to, size_t *length);
};
const struct sq_codec *sq_codec_named(const char *name); /* NULL: the usual one */
const struct sq_codec *sq_codec_with(unsigned id);       /* NULL: none */
/* Of the library behind it: another one may come to other sizes. */
const char *sq_codec_version(const struct sq_codec *codec);

/* Prefixes of attributes' names that can be stored, by number; NULL behind the last. */
extern const char *const sq_prefixes[];

/* ---- writing ---- */

/* A table of metadata blocks while it grows, in memory. */
struct sq_table {
    const struct sq_codec *codec;
    uint32_t block_size;   /* of the volume */
    struct mos_buf packed; /* whole blocks, with their heads */
    uint8_t block[SQ_METADATA];
    size_t filled;
    struct mos_vec starts; /* of uint64_t: where each block begins in `packed` */
};
struct sq_table sq_table_make(struct mos_arena *arena, const struct sq_codec *codec,
                              uint32_t block_size);
void sq_table_add(struct sq_table *t, const void *bytes, size_t length);
/* Where the next byte will be: its block's place in `packed` << 16 | offset in it. */
uint64_t sq_table_at(struct sq_table *t);
void sq_table_end(struct sq_table *t);

/* Where a file's bytes went. */
struct sq_content {
    uint64_t start;
    uint32_t fragment, offset; /* SQ_NONE: it has none */
    uint32_t *blocks;          /* sizes as they are stored */
    uint32_t count;
    uint32_t passed; /* earlier entries of the same name in one fill: their bytes are not taken */
    bool done;
};

struct sq_pipe; /* blocks on their way through the compression: pipe.c */

struct sq_writer {
    struct mos_volume_base base;
    const struct sq_codec *codec;
    uint32_t block_size;
    uint64_t at;              /* where the next data block goes */
    struct mos_vec contents;  /* of struct sq_content, by inventory index */
    struct mos_vec fragments; /* of struct sq_fragment */
    struct mos_map kept;      /* index in text -> struct sq_kept *: bytes that come once */
    struct sq_pipe *pipe;
    /* the entry that comes */
    uint32_t current;
    enum mos_inv_result mode;
    struct mos_entry entry;
    struct mos_buf path;
    struct sq_kept *keeping;
    bool second; /* what stays is known; bytes are taken */
    bool taking; /* those of the current entry */
};
struct sq_fragment {
    uint64_t start;
    uint32_t size;
};
struct sq_kept {
    uint8_t *bytes;
    size_t length;
};

/* Compresses on all cores; its memory is the volume's arena.  One file at a time. */
struct sq_pipe *sq_pipe_new(struct sq_writer *v);
/* A file's bytes: begin, any number of data with rising offsets, end. */
void sq_pipe_begin(struct sq_pipe *p, uint32_t index, uint64_t size);
void sq_pipe_data(struct sq_pipe *p, uint64_t offset, const uint8_t *bytes, size_t length);
void sq_pipe_end(struct sq_pipe *p);
/* Everything is written (or counted) after that. */
void sq_pipe_finish(struct sq_pipe *p);
/* What is known of a node's content; made at the first asking. */
struct sq_content *sq_content_of(struct sq_writer *v, uint32_t index);

/* Inodes, folders and all other tables behind the data: tables.c.  Returns the bytes in use. */
uint64_t sq_write_tables(struct sq_writer *v);

/* ---- reading ---- */

struct sq_inode {
    uint8_t type; /* basic one */
    uint16_t mode;
    uint32_t uid, gid, number, links;
    int64_t mtime;
    uint64_t size;               /* of a file; of a folder's listing; of a link's text */
    uint64_t start;              /* of the data; of the listing's block */
    uint32_t fragment, offset;   /* of the tail; of the listing in its block */
    uint32_t device, attributes; /* SQ_NONE: none */
    uint64_t after;              /* where the inode's fixed part ends: block sizes, text */
    uint32_t after_offset;
};

struct sq_cached {
    uint64_t start; /* on the volume; SQ_NO_TABLE: nothing yet */
    uint64_t next;  /* where the block behind it begins */
    size_t length;
    uint8_t *bytes;
};

enum { SQ_CACHE = 64 };

struct sq_reader {
    struct mos_ctx *ctx;
    struct mos_io *io;
    const struct sq_codec *codec;
    uint32_t block_size, inodes, fragments, owners;
    uint64_t used, root, owner_table, attribute_table, inode_table, folder_table, fragment_table;
    bool foreign;        /* of a version or compression that is not read here: nothing is damaged */
    uint64_t lists_from; /* where lists of attributes begin to lie */
    uint32_t list_count;
    uint64_t budget; /* bytes that may still be expanded: what is damaged must end */
    struct sq_cached cache[SQ_CACHE];
    uint8_t *packed, *block;    /* of a data block */
    struct sq_cached tail;      /* the last fragment */
    struct mos_buf name, value; /* of an attribute */
};

/* Reads the superblock.  *why: what is wrong with it, or that it cannot be read here. */
bool sq_open(struct sq_reader *r, struct mos_ctx *ctx, struct mos_io *io, const char **why);
bool sq_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out);
/* Reads metadata at *block + *offset and goes on behind it.  false: damaged. */
bool sq_metadata(struct sq_reader *r, uint64_t *block, uint32_t *offset, void *to, size_t length);
bool sq_inode(struct sq_reader *r, uint64_t reference, struct sq_inode *out);
/* One data block into r->block; `room` bytes are expected at most.  Its length, or 0: damaged. */
size_t sq_data(struct sq_reader *r, uint64_t at, uint32_t size);
/* The fragment block of a number; NULL: damaged. */
const struct sq_cached *sq_fragment(struct sq_reader *r, uint32_t number);
/* Packs the attributes of a list; false: damaged. */
bool sq_attributes(struct sq_reader *r, uint32_t list, struct mos_attribute_set *set,
                   struct mos_buf *out);
bool sq_stream(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request);

#endif
