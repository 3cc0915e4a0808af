/* Storage devices as jobs see them: what the kernel tells, and what lies on them. */
#ifndef MOS_API_MEDIA_H
#define MOS_API_MEDIA_H

#include "api/run.h"
#include "disk/table.h"
#include "fs/fs.h"
#include "media/verdict.h"

enum { MEDIA_HEAD = 1 << 20 };

/* A volume, or what a partition holds instead. */
struct media_volume {
    unsigned number;             /* of its partition; 0: it begins where the device does */
    const char *name;            /* of the partition; "" */
    struct mos_volume_info info; /* kind NULL: nothing that is known */
    bool unreadable;
    uint64_t start, length;
};

struct media_device {
    struct mos_block *block; /* NULL: the path leads to no storage device */
    const char *path;        /* as it was named */
    struct mos_media_look look;
    char token[MOS_TOKEN_LETTERS + 1];     /* "": it cannot be read */
    const struct mos_table_driver *driver; /* of its table; NULL: none */
    struct mos_table_data table;
    struct mos_vec volumes;    /* of struct media_volume */
    struct mos_vec objections; /* of struct mos_objection: why it may not be written */
};

/* Looks at a device's content; what cannot be read is noted in it. */
void media_look(mosaicum *m, struct mos_block *block, struct media_device *out);
/* "GPT: BOOT (fat32, 12 % full), root (ext4)", or that nothing is known, or cannot be read. */
const char *media_content(mosaicum *m, const struct media_device *d);
/* "USB, Tern card reader, slot 1" */
const char *media_title(mosaicum *m, const struct mos_block *b);
/* Is it storage that anybody would think of?  Not: loops without a file, RAM, partitions. */
bool media_is_shown(const struct mos_block *b);
/* The token of what is open, made of its first bytes as they are now; false: it cannot be read. */
bool media_token_of(mosaicum *m, const struct mos_block *b, int device,
                    char out[MOS_TOKEN_LETTERS + 1], int *errnum);

#endif
