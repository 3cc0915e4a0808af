/* Input and output by offset: one table of functions over memory, files, a window of another, and
 * a form that fails on purpose.  All offsets and lengths are bytes. */
#ifndef MOS_IO_IO_H
#define MOS_IO_IO_H

#include "base/buf.h"
#include "base/error.h"
#include "mosaicum/host.h"

struct mos_io;

struct mos_io_driver {
    /* Reads exactly `length` bytes; reading past the end is EIO.  Returns an errno value. */
    int (*read)(struct mos_io *io, void *to, size_t length, uint64_t offset);
    /* Writes exactly `length` bytes; NULL for read-only kinds. */
    int (*write)(struct mos_io *io, const void *from, size_t length, uint64_t offset);
    /* The first stored span at or after `from`, as struct mos_host says; NULL: all is stored. */
    int (*next_data)(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end);
};

struct mos_io {
    const struct mos_io_driver *driver;
    uint64_t size;
    void *self;
};

/* A memory buffer of fixed size (kept by reference). */
struct mos_io mos_io_memory(struct mos_arena *arena, void *bytes, uint64_t size);
/* An open file of the host. */
struct mos_io mos_io_file(struct mos_arena *arena, const struct mos_host *host, int file,
                          uint64_t size);
/* An open storage device of the computer, read only. */
struct mos_io mos_io_device(struct mos_arena *arena, const struct mos_computer *computer,
                            int device, uint64_t size);
/* The span [offset, offset + size) of another. */
struct mos_io mos_io_window(struct mos_arena *arena, struct mos_io *of, uint64_t offset,
                            uint64_t size);
/* Fails the n-th call (from 1) with `errnum`; 0 never fails.  *calls counts them. */
struct mos_io mos_io_faulty(struct mos_arena *arena, struct mos_io *of, unsigned long fail_at,
                            int errnum, unsigned long *calls);

/* Changes that stay in memory: what lies below is only read. */
struct mos_io mos_io_overlay(struct mos_arena *arena, struct mos_io *of);
/* Every read that touches [offset, offset + length) fails with `errnum`. */
struct mos_io mos_io_broken(struct mos_arena *arena, struct mos_io *of, uint64_t offset,
                            uint64_t length, int errnum);

/* Remembers the first read of another that fails: its errno value (0: none) and offset. */
struct mos_io_trouble {
    int errnum;
    uint64_t offset;
};
struct mos_io mos_io_watched(struct mos_arena *arena, struct mos_io *of,
                             struct mos_io_trouble *trouble);

/* All of [offset, offset + length) or nothing: 0, or an errno value (EIO beyond the end). */
int mos_io_read(struct mos_io *io, void *to, size_t length, uint64_t offset);
/* What is not stored reads as zeros: *start == io->size when nothing more is. */
int mos_io_next_data(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end);
/* The same the other way; ENOSPC beyond the end, EROFS where it cannot be written. */
int mos_io_write(struct mos_io *io, const void *from, size_t length, uint64_t offset);

#endif
