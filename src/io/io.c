#include "io/io.h"

#include <assert.h>
#include <errno.h>
#include <string.h>

int mos_io_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    assert(to || !length);
    if (offset > io->size || length > io->size - offset)
        return EIO;
    return io->driver->read(io, to, length, offset);
}

int mos_io_write(struct mos_io *io, const void *from, size_t length, uint64_t offset) {
    assert(from || !length);
    if (offset > io->size || length > io->size - offset)
        return ENOSPC;
    return io->driver->write ? io->driver->write(io, from, length, offset) : EROFS;
}

int mos_io_next_data(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end) {
    if (io->driver->next_data && from < io->size)
        return io->driver->next_data(io, from, start, end);
    *start = from < io->size ? from : io->size;
    *end = io->size;
    return 0;
}

static int memory_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    assert(offset <= io->size && length <= io->size - offset && (io->self || !length));
    if (length) /* of no bytes at all self may be NULL */
        memcpy(to, (char *)io->self + offset, length);
    return 0;
}

static int memory_write(struct mos_io *io, const void *from, size_t length, uint64_t offset) {
    assert(offset <= io->size && length <= io->size - offset && (io->self || !length));
    if (length)
        memcpy((char *)io->self + offset, from, length);
    return 0;
}

struct mos_io mos_io_memory(struct mos_arena *arena, void *bytes, uint64_t size) {
    static const struct mos_io_driver driver = {memory_read, memory_write};
    (void)arena;
    return (struct mos_io){&driver, size, bytes};
}

struct file_state {
    const struct mos_host *host;
    int file;
};

static int file_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct file_state *s = io->self;
    size_t got = 0;
    int e = s->host->pread(s->host, s->file, to, length, offset, &got);
    return e ? e : got == length ? 0 : EIO;
}

static int file_write(struct mos_io *io, const void *from, size_t length, uint64_t offset) {
    struct file_state *s = io->self;
    return s->host->pwrite(s->host, s->file, from, length, offset);
}

static int file_next_data(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end) {
    struct file_state *s = io->self;
    return s->host->next_data(s->host, s->file, from, start, end);
}

struct mos_io mos_io_file(struct mos_arena *arena, const struct mos_host *host, int file,
                          uint64_t size) {
    assert(file >= 0);
    static const struct mos_io_driver driver = {file_read, file_write, file_next_data};
    struct file_state *s = mos_alloc(arena, sizeof *s);
    *s = (struct file_state){host, file};
    return (struct mos_io){&driver, size, s};
}

struct device_state {
    const struct mos_computer *computer;
    int device;
};

static int device_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct device_state *s = io->self;
    return s->computer->read(s->computer, s->device, to, length, offset);
}

struct mos_io mos_io_device(struct mos_arena *arena, const struct mos_computer *computer,
                            int device, uint64_t size) {
    static const struct mos_io_driver driver = {device_read, NULL, NULL};
    struct device_state *s = mos_alloc(arena, sizeof *s);
    *s = (struct device_state){computer, device};
    return (struct mos_io){&driver, size, s};
}

struct window_state {
    struct mos_io of;
    uint64_t offset;
};

static int window_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct window_state *s = io->self;
    return mos_io_read(&s->of, to, length, s->offset + offset);
}

static int window_write(struct mos_io *io, const void *from, size_t length, uint64_t offset) {
    struct window_state *s = io->self;
    return mos_io_write(&s->of, from, length, s->offset + offset);
}

static int window_next_data(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end) {
    assert(from < io->size);
    struct window_state *s = io->self;
    uint64_t a, b;
    int e = mos_io_next_data(&s->of, s->offset + from, &a, &b);
    if (e)
        return e;
    *start = a - s->offset < io->size ? a - s->offset : io->size;
    *end = b - s->offset < io->size ? b - s->offset : io->size;
    return 0;
}

struct mos_io mos_io_window(struct mos_arena *arena, struct mos_io *of, uint64_t offset,
                            uint64_t size) {
    static const struct mos_io_driver driver = {window_read, window_write, window_next_data};
    struct window_state *s = mos_alloc(arena, sizeof *s);
    *s = (struct window_state){*of, offset};
    if (offset > of->size)
        size = 0;
    else if (size > of->size - offset)
        size = of->size - offset;
    return (struct mos_io){&driver, size, s};
}

struct faulty_state {
    struct mos_io of;
    unsigned long fail_at, *calls;
    int errnum;
};

static int faulty_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct faulty_state *s = io->self;
    return ++*s->calls == s->fail_at ? s->errnum : mos_io_read(&s->of, to, length, offset);
}

static int faulty_write(struct mos_io *io, const void *from, size_t length, uint64_t offset) {
    struct faulty_state *s = io->self;
    return ++*s->calls == s->fail_at ? s->errnum : mos_io_write(&s->of, from, length, offset);
}

struct mos_io mos_io_faulty(struct mos_arena *arena, struct mos_io *of, unsigned long fail_at,
                            int errnum, unsigned long *calls) {
    assert(errnum && calls);
    static const struct mos_io_driver driver = {faulty_read, faulty_write};
    struct faulty_state *s = mos_alloc(arena, sizeof *s);
    *s = (struct faulty_state){*of, fail_at, calls, errnum};
    return (struct mos_io){&driver, of->size, s};
}

struct watched_state {
    struct mos_io of;
    struct mos_io_trouble *trouble;
};

static int watched_read(struct mos_io *io, void *to, size_t length, uint64_t offset) {
    struct watched_state *s = io->self;
    int e = mos_io_read(&s->of, to, length, offset);
    if (e && !s->trouble->errnum)
        *s->trouble = (struct mos_io_trouble){e, offset};
    return e;
}

static int watched_write(struct mos_io *io, const void *from, size_t length, uint64_t offset) {
    struct watched_state *s = io->self;
    return mos_io_write(&s->of, from, length, offset);
}

static int watched_next_data(struct mos_io *io, uint64_t from, uint64_t *start, uint64_t *end) {
    struct watched_state *s = io->self;
    return mos_io_next_data(&s->of, from, start, end);
}

struct mos_io mos_io_watched(struct mos_arena *arena, struct mos_io *of,
                             struct mos_io_trouble *trouble) {
    assert(trouble);
    static const struct mos_io_driver driver = {watched_read, watched_write, watched_next_data};
    struct watched_state *s = mos_alloc(arena, sizeof *s);
    *s = (struct watched_state){*of, trouble};
    *trouble = (struct mos_io_trouble){0};
    return (struct mos_io){&driver, of->size, s};
}
