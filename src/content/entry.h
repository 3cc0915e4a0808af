/* What goes into a volume: a stream of entries with their data.
 *
 * Order of calls on a sink: entry, then for regular files data with rising offsets, then end.
 * Data comes in runs whose offsets are multiples of MOS_RUN_UNIT and whose lengths are too, except
 * for the last of a file.  Runs of zero bytes of that size are left out: they are holes.
 */
#ifndef MOS_CONTENT_ENTRY_H
#define MOS_CONTENT_ENTRY_H

#include "base/buf.h"
#include "base/ctx.h"

enum { MOS_RUN_UNIT = 4096 };

enum mos_entry_type {
    MOS_ENTRY_FILE,
    MOS_ENTRY_FOLDER,
    MOS_ENTRY_LINK,      /* symbolic; target is its text */
    MOS_ENTRY_HARD_LINK, /* target is the path of an earlier entry */
    MOS_ENTRY_CHAR,
    MOS_ENTRY_BLOCK,
    MOS_ENTRY_FIFO,
    MOS_ENTRY_SOCKET,
};

struct mos_entry {
    const char *path; /* no slash at either end; "" is the root folder itself */
    enum mos_entry_type type;
    uint16_t mode;     /* permission bits, 07777 */
    uint64_t uid, gid; /* above UINT32_MAX: nobody that a file system could store */
    int64_t mtime;
    uint32_t mtime_ns;
    uint64_t size;             /* files */
    uint32_t major, minor;     /* devices */
    const char *target;        /* links */
    const uint8_t *attributes; /* extended ones, packed as content/attributes.h says */
    size_t attributes_length;
    const uint8_t *sha256; /* of a small text whose bytes do not come along; or NULL */
};

/* Every function returns false to stop the stream; then ctx->error says why. */
struct mos_sink {
    void *self;
    bool (*entry)(void *self, const struct mos_entry *entry);
    /* bytes may be NULL when an index is replayed, never when content is streamed. */
    bool (*data)(void *self, uint64_t offset, const void *bytes, size_t length);
    /* sum: mos_content_sum over the runs of the file. */
    bool (*end)(void *self, uint64_t sum);
};

/* Parts of sinks that only look at entries. */
bool mos_ignore_data(void *self, uint64_t offset, const void *bytes, size_t length);
bool mos_ignore_end(void *self, uint64_t sum);

/* A path in normal form: no empty or "." components, no slash at either end.  NULL when it has a
 * ".." component.  It lives in `buffer`, until that is used again. */
const char *mos_entry_path(struct mos_buf *buffer, const char *path);

#endif
