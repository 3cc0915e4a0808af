/* Going through a volume from its root folder, whatever it is: paths, folders that were entered,
 * names that share content.  Nothing that is read is trusted: a folder is entered once. */
#ifndef MOS_FS_WALK_H
#define MOS_FS_WALK_H

#include "base/map.h"
#include "fs/fs.h"

struct mos_walk {
    struct mos_ctx *ctx;
    const struct mos_read_request *request;
    struct mos_buf path;   /* of what is being told; "" is the root folder */
    struct mos_map linked; /* number of what has several names -> path of its first */
    struct mos_map entered;
    uint64_t names; /* that may still come: damage must not make more than a volume can hold */
    unsigned depth;
};

/* One name of a folder, and what the driver finds it by. */
struct mos_walk_child {
    const char *name;
    uint64_t reference;
};

/* At the root folder.  `names`: the most that the volume can have. */
struct mos_walk mos_walk_make(struct mos_ctx *ctx, const struct mos_read_request *request,
                              uint64_t names);
/* The path so far, for a problem in words; short-lived. */
const char *mos_walk_path(struct mos_walk *walk);
/* Notes a name in *children (of struct mos_walk_child; it lives where those do).  false: it is
 * none that a folder can hold, or there were too many. */
bool mos_walk_child(struct mos_walk *walk, struct mos_vec *children, const char *name,
                    size_t length, uint64_t reference);
/* Before the names of a folder are read, by what the driver knows it by.  false, and it is told:
 * it was entered already, or lies too deep.  mos_walk_leave() goes with true. */
bool mos_walk_enter(struct mos_walk *walk, uint64_t folder);
void mos_walk_leave(struct mos_walk *walk);
/* One that lies in the folder, between enter and leave: its name is put behind the folder's path,
 * of `length` bytes. */
void mos_walk_name(struct mos_walk *walk, size_t length, const char *name);
/* Enters a folder, lists it and goes on with each name in it.  list() tells damage itself; false:
 * the sink stopped it. */
bool mos_walk_folder(struct mos_walk *walk, uint64_t folder,
                     void (*list)(void *self, struct mos_vec *children),
                     bool (*each)(void *self, uint64_t reference), void *self);
/* Names of one content: the first that comes is told as it is, the others as hard links to it. */
void mos_walk_link(struct mos_walk *walk, uint64_t content, struct mos_entry *entry);

#endif
