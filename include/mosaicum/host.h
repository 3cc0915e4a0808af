/* mosaicum/host.h - everything the core needs from the outside world.
 *
 * The core library never touches files, clock, environment or threads by itself: whoever uses it
 * hands it one `struct mos_host`.  src/platform/ implements it for Linux and POSIX; tests wrap it
 * to make the n-th write fail.
 *
 * Every function that can fail returns 0 or a positive errno value; outputs are untouched on
 * failure.  Paths are NUL-terminated and relative to the working directory or absolute.
 */
#ifndef MOSAICUM_HOST_H
#define MOSAICUM_HOST_H

#include "mosaicum/computer.h"
#include "mosaicum/wires.h"

#include <errno.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* Two errno values with a meaning of their own here (mos_fail has words for them). */
#define MOS_OUT_OF_REACH EXDEV /* a guard (base/guard.h) lets nobody touch that place */
#define MOS_NO_FILE ENOTBLK    /* a device, pipe or socket where only a file will do */

enum mos_open_mode {
    MOS_OPEN_READ,   /* must exist and be a file: EISDIR, MOS_NO_FILE; never waits */
    MOS_OPEN_NEW,    /* created, must not exist, read and write */
    MOS_OPEN_MODIFY, /* must exist, read and write */
};

enum mos_file_kind { MOS_FILE_REGULAR, MOS_FILE_FOLDER, MOS_FILE_LINK, MOS_FILE_OTHER };

struct mos_file_info {
    enum mos_file_kind kind;
    uint32_t mode; /* permission bits */
    uint64_t size; /* bytes */
    int64_t mtime_s, ctime_s;
    uint32_t mtime_ns, ctime_ns;
    uint64_t device, inode; /* identity, for caches only; never in an output */
};

/* One outside program.  It gets a clean environment (PATH, LC_ALL=C and `environment`), no
 * terminal, and is ended with all its children when a limit is passed; children that it leaves
 * behind end with it. */
struct mos_program {
    const char *const *arguments;   /* NULL-terminated, [0] is looked up in PATH */
    const char *const *environment; /* NULL-terminated NAME=VALUE list, may be NULL */
    const char *folder;             /* working directory, NULL: the current one */
    const void *input;              /* standard input, may be NULL */
    size_t input_length;
    size_t output_limit; /* bytes of standard output and of standard error, each */
    unsigned seconds;    /* time limit */
};

struct mos_program_result {
    int status;            /* exit status, or 128 + signal */
    bool timeout;          /* ended by the time limit */
    bool overflow;         /* ended, for it printed more than output_limit */
    char *output, *errors; /* malloc'ed, NUL-terminated; the caller frees both */
    size_t output_length, errors_length;
};

/* One thread with a queue of at most so many jobs, handled in order. */
enum { MOS_WORKER_SLOTS = 16 };
struct mos_worker;

struct mos_host {
    void *user;
    const struct mos_computer *computer; /* its storage devices; NULL: they are not to be seen */
    const struct mos_wires *wires;       /* what leads to boards; NULL: nothing does */
    int (*open)(const struct mos_host *h, const char *path, enum mos_open_mode mode, int *file);
    void (*close)(const struct mos_host *h, int file);
    /* Reads up to `length` bytes at `offset`; *got is less only at the end of the file. */
    int (*pread)(const struct mos_host *h, int file, void *to, size_t length, uint64_t offset,
                 size_t *got);
    /* Writes all of it. */
    int (*pwrite)(const struct mos_host *h, int file, const void *from, size_t length,
                  uint64_t offset);
    /* Copies bytes of one file to another, sharing their blocks where the file system can. */
    int (*copy)(const struct mos_host *h, int from, uint64_t at, int to, uint64_t to_at,
                uint64_t length);
    int (*resize)(const struct mos_host *h, int file, uint64_t size);
    int (*sync)(const struct mos_host *h, int file);
    /* Tells the system that a range will not be written again soon.  Advice, never an error. */
    void (*settle)(const struct mos_host *h, int file, uint64_t offset, uint64_t length);
    /* The first stored span at or after `from`: *start and *end; *start == size if there is none.
     */
    int (*next_data)(const struct mos_host *h, int file, uint64_t from, uint64_t *start,
                     uint64_t *end);
    /* A new file without a name, read and write; it is gone when it is closed. */
    int (*temporary)(const struct mos_host *h, int *file);
    /* What comes next on standard input, up to `length` bytes; *got 0: it has ended. */
    int (*read_input)(const struct mos_host *h, void *to, size_t length, size_t *got);
    int (*info)(const struct mos_host *h, const char *path, bool follow, struct mos_file_info *out);
    int (*file_info)(const struct mos_host *h, int file, struct mos_file_info *out);
    /* Calls `each` for every name in a folder, in no order; stops when it returns false. */
    int (*list)(const struct mos_host *h, const char *path,
                bool (*each)(void *self, const char *name), void *self);
    /* The same with what each name is, a link itself. */
    int (*survey)(const struct mos_host *h, const char *path,
                  bool (*each)(void *self, const char *name, const struct mos_file_info *info),
                  void *self);
    int (*read_link)(const struct mos_host *h, const char *path, char *to, size_t size);
    /* A symbolic link at a path that must not be there yet. */
    int (*make_link)(const struct mos_host *h, const char *target, const char *path);
    int (*make_folder)(const struct mos_host *h, const char *path); /* parents too; may exist */
    int (*remove_tree)(const struct mos_host *h, const char *path); /* may be absent */
    int (*rename)(const struct mos_host *h, const char *from, const char *to);
    /* The same, but EEXIST where `to` is there already, whatever it is. */
    int (*rename_new)(const struct mos_host *h, const char *from, const char *to);
    /* Sets the permission bits of a file or folder that is no link. */
    int (*protect)(const struct mos_host *h, const char *path, uint32_t mode);
    /* A file or folder that is no link gets the owner of another, where the caller may give it. */
    int (*own_like)(const struct mos_host *h, const char *path, const char *like);
    /* Swaps two existing folders in one step; ENOTSUP where the system cannot. */
    int (*exchange)(const struct mos_host *h, const char *a, const char *b);
    int (*sync_folder)(const struct mos_host *h, const char *path);
    /* Takes an exclusive lock on what `name` stands for within a (new or existing) file; waits for
     * it or not: EWOULDBLOCK.  It holds against threads of the same process, too, and ends when the
     * file is closed.  ELOOP for a link. */
    int (*lock)(const struct mos_host *h, const char *path, const char *name, bool wait, int *file);
    /* The real, absolute form of an existing path; malloc'ed. */
    int (*real_path)(const struct mos_host *h, const char *path, char **out);
    int (*run)(const struct mos_host *h, const struct mos_program *program,
               struct mos_program_result *result);
    const char *(*environment)(const struct mos_host *h, const char *name); /* NULL: not set */
    int64_t (*now_ns)(const struct mos_host *h);                            /* monotonic */
    int64_t (*wall_ns)(
        const struct mos_host *h);              /* since 1970, as file times are; for caches only */
    int64_t (*today)(const struct mos_host *h); /* seconds since 1970-01-01, UTC; for end dates */
    /* Bytes that may still be written where a path (or what exists of it) lies. */
    int (*room)(const struct mos_host *h, const char *path, uint64_t *bytes);
    /* Is there a program of that name (in PATH, or a path)? */
    bool (*has_program)(const struct mos_host *h, const char *name);
    unsigned (*cores)(const struct mos_host *h);
    struct mos_worker *(*worker_start)(const struct mos_host *h,
                                       void (*work)(void *self, void *job),
                                       void *self);         /* NULL: no thread to be had */
    void (*worker_submit)(struct mos_worker *w, void *job); /* waits while the queue is full */
    void (*worker_finish)(struct mos_worker *w);            /* runs what is queued, then ends it */
};

#endif
