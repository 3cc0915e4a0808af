/* What lies where on the disk: offsets of fields, in bytes, little-endian, as reader, writer and
 * editor use them (Microsoft's FAT32 File System Specification 1.03: "Boot Sector and BPB", "FAT32
 * FSInfo Sector Structure", "FAT Directory Structure", "FAT Long Directory Entries"). */
#ifndef MOS_FS_FAT_LAYOUT_H
#define MOS_FS_FAT_LAYOUT_H

enum fat_boot_field {
    BOOT_MAKER = 3, /* 8 letters */
    BOOT_SECTOR = 11,
    BOOT_CLUSTER = 13,  /* sectors each */
    BOOT_RESERVED = 14, /* sectors in front of the tables */
    BOOT_COPIES = 16,
    BOOT_ROOT_ENTRIES = 17, /* 0: the root is a chain of clusters */
    BOOT_SECTORS = 19,      /* 0: BOOT_SECTORS_LONG */
    BOOT_MEDIUM = 21,
    BOOT_FAT_SECTORS = 22, /* 0: BOOT_FAT_SECTORS_LONG, and the long form */
    BOOT_TRACK = 24,       /* sectors */
    BOOT_HEADS = 26,
    BOOT_BEFORE = 28, /* sectors in front of the volume */
    BOOT_SECTORS_LONG = 32,
    BOOT_SHORT_REST = 36, /* the short form goes on here … */
    BOOT_FAT_SECTORS_LONG = 36,
    BOOT_ROOT_CLUSTER = 44,
    BOOT_INFO_SECTOR = 48,
    BOOT_COPY_SECTOR = 50,
    BOOT_LONG_REST = 64, /* … and the long one here: */
    REST_DRIVE = 0,
    REST_MARK = 2, /* 0x29: the next three are there */
    REST_ID = 3,
    REST_LABEL = 7,
    REST_KIND = 18, /* "FAT16   " */
    REST_PROGRAM = 26,
    BOOT_SHORT_KIND = BOOT_SHORT_REST + REST_KIND,
    BOOT_LONG_KIND = BOOT_LONG_REST + REST_KIND,
    BOOT_MAGIC = 510, /* 0xaa55; of the info sector, too */
};

enum fat_info_field {
    INFO_MARK = 0,   /* "RRaA" */
    INFO_MORE = 484, /* "rrAa" */
    INFO_FREE = 488, /* clusters; all ones: not known */
    INFO_NEXT = 492, /* where to look for a free one first */
};

enum fat_entry_field {
    ENTRY_NAME = 0, /* 8 and 3 letters */
    ENTRY_ATTRIBUTES = 11,
    ENTRY_FLAGS = 12, /* base or extension in small letters */
    ENTRY_CREATED_TIME = 14,
    ENTRY_CREATED_DATE = 16,
    ENTRY_READ_DATE = 18,
    ENTRY_CLUSTER_HIGH = 20,
    ENTRY_TIME = 22,
    ENTRY_DATE = 24,
    ENTRY_CLUSTER = 26,
    ENTRY_SIZE = 28,
    /* one of a long name */
    LONG_ORDER = 0,
    LONG_SUM = 13, /* of the short name that follows */
};

enum fat_entry_flag {
    IS_LABEL = 0x08,
    LONG_ENTRY = 0x0f, /* of ENTRY_ATTRIBUTES, and … */
    IS_FOLDER = 0x10,
    IS_FILE = 0x20,    /* … that wants to be saved */
    LOWER_BASE = 0x08, /* of ENTRY_FLAGS */
    LOWER_EXTENSION = 0x10,
    LAST_LONG = 0x40, /* of LONG_ORDER: the last piece, which comes first */
    DELETED = 0xe5,   /* instead of a name's first letter */
};

#endif
