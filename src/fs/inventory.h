/* What a volume contains while it is written: one tree of nodes for every file system.  It settles
 * how fills meet: folders merge, links inside the volume are followed, later content must be equal
 * or allowed to replace.  About 120 bytes an entry and its name. */
#ifndef MOS_FS_INVENTORY_H
#define MOS_FS_INVENTORY_H

#include "base/buf.h"
#include "content/entry.h"

struct mos_extent {
    uint32_t logical, length; /* blocks or clusters */
    uint32_t physical;
};

struct mos_inv_node {
    const char *name;
    union {
        const char *text;           /* symbolic links */
        struct mos_extent *extents; /* files: all of them, when there is more than one */
    } more;
    uint64_t size, sum;
    int64_t mtime;
    struct mos_extent extent; /* the first */
    uint32_t extent_count;
    uint32_t parent, next, first_child, last_child,
        same_hash;    /* indexes; 0 is none (and the root) */
    uint32_t inode;   /* given by the file system */
    uint32_t link_to; /* hard links: the node that owns the content */
    uint32_t links;   /* names of the content */
    uint32_t mtime_ns, uid, gid;
    uint32_t device;     /* major << 20 | minor */
    uint32_t attributes; /* which of inventory->attributes; 0: none */
    uint16_t mode, fill;
    uint8_t type; /* enum mos_entry_type */
    bool implied; /* a folder that no fill described */
    bool indexed; /* a folder that the file system keeps sorted by hash */
};

enum mos_inv_result {
    MOS_INV_NEW,      /* write its content */
    MOS_INV_KEPT,     /* nothing to write */
    MOS_INV_COMPARE,  /* an equal file is there already if the content turns out equal */
    MOS_INV_REPLACED, /* forget the old content, write the new */
    MOS_INV_REFUSED,  /* cannot be stored; leave it out */
};

/* Extended attributes, shared by all who have the same. */
struct mos_inv_attributes {
    const uint8_t *list; /* packed */
    size_t length;
    uint32_t users;         /* names that carry them, once the tree is complete */
    uint32_t block, blocks; /* where the file system keeps them outside of inodes */
};

struct mos_inv_clash {
    const char *path;
    uint16_t first_fill, second_fill;
};
struct mos_inv_refusal {
    const char *path, *reason;
    uint16_t fill;
};

enum { MOS_INV_SHOWN = 8 }; /* clashes and refusals that are kept with their names */

struct mos_inventory {
    struct mos_arena *arena;
    struct mos_vec chunks; /* of struct mos_inv_node[1024] */
    uint32_t count;        /* nodes, the root included */
    uint32_t *buckets, bucket_count;
    int64_t date;   /* of implied folders */
    bool fold_case; /* names that differ in case only are the same */
    struct mos_vec clashes, refusals;
    struct mos_vec attributes;     /* of struct mos_inv_attributes, the first is empty */
    uint32_t *attribute_slots;     /* by hash, chains through `attribute_next` */
    struct mos_vec attribute_next; /* of uint32_t */
    uint64_t clash_count, refusal_count;
};

/* With nothing but its root folder (index 0), which is implied until an entry states it.  `date`
 * (seconds since 1970) is that of folders that nobody states; fold_case: "A" and "a" are one name.
 */
struct mos_inventory *mos_inventory_new(struct mos_arena *arena, int64_t date, bool fold_case);
/* A copy that can be added to; names, texts, attributes and extents are those of the original,
 * which must stay. */
struct mos_inventory *mos_inventory_copy(struct mos_arena *arena, const struct mos_inventory *of);
/* The node at an index below ->count.  Nodes do not move when others are added. */
struct mos_inv_node *mos_inv_node(const struct mos_inventory *inv, uint32_t index);
/* Finds or makes the entry's node; *index is set unless refused. */
enum mos_inv_result mos_inv_add(struct mos_inventory *inv, const struct mos_entry *entry,
                                uint16_t fill, bool replaces, uint32_t *index);
/* After MOS_INV_REPLACED, when the old content is given up: makes the node what the entry says. */
enum mos_inv_result mos_inv_replace(struct mos_inventory *inv, uint32_t index,
                                    const struct mos_entry *entry, uint16_t fill);
/* After MOS_INV_COMPARE: is the content that came equal?  A clash is noted when not. */
bool mos_inv_compare(struct mos_inventory *inv, uint32_t index, const struct mos_entry *entry,
                     uint64_t sum, uint16_t fill);
void mos_inv_refuse(struct mos_inventory *inv, const char *path, uint16_t fill, const char *reason);
/* The node at a path (links are not followed); 0 for none, the root for "". */
bool mos_inv_find(const struct mos_inventory *inv, const char *path, uint32_t *index);
/* The node that a path from the root leads to, links followed (all of them within the volume, at
 * most 40 as Linux does); false: it leads nowhere. */
bool mos_inv_follow(const struct mos_inventory *inv, struct mos_arena *arena, const char *path,
                    uint32_t *index);
/* Is there anything at a path, behind links? */
bool mos_inv_has(const struct mos_inventory *inv, struct mos_arena *arena, const char *path);
/* Is it meant to be a system?  It has a folder for programs, or a program anywhere. */
bool mos_inv_is_system(const struct mos_inventory *inv, struct mos_arena *arena);
const char *mos_inv_path(struct mos_arena *arena, const struct mos_inventory *inv, uint32_t index);
/* Adds to a file's extents; grows the last one when it goes on. */
void mos_inv_extend(struct mos_inventory *inv, struct mos_inv_node *node, struct mos_extent extent,
                    uint32_t longest);
const struct mos_extent *mos_inv_extents(const struct mos_inv_node *node);

#endif
