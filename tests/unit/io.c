/* Input and output by offset against an array: what was written is read, what is not stored is
 * zero. */
#include "support.h"

#include "io/io.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { SIZE = 200000 /* no multiple of any page */, FROM = 12345, ROUNDS = 60, STEPS = 60 };

/* A file with stored spans and holes, and the same in memory. */
static int make_file(const char *path, uint8_t *model, size_t size, uint64_t *seed) {
    int fd = open(path, O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
    memset(model, 0, size);
    CU_ASSERT_EQUAL_FATAL(ftruncate(fd, (off_t)size), 0);
    for (size_t i = random_below(seed, 6); i; i--) {
        size_t at = random_below(seed, size), n = 1 + random_below(seed, 20000);
        n = at + n > size ? size - at : n;
        for (size_t k = 0; k < n; k++)
            model[at + k] = (uint8_t)(1 + random_below(seed, 255));
        CU_ASSERT_EQUAL_FATAL(pwrite(fd, model + at, n, (off_t)at), (ssize_t)n);
    }
    close(fd);
    return 0;
}

/* Reads everywhere; spans that are said to be stored hold all that is not zero. */
static void compare(struct mos_io *io, const uint8_t *model, uint64_t *seed) {
    static uint8_t bytes[SIZE];
    size_t at = random_below(seed, io->size), n = random_below(seed, io->size - at + 1);
    CU_ASSERT_EQUAL(mos_io_read(io, bytes, n, at), 0);
    CU_ASSERT_EQUAL(memcmp(bytes, model + at, n), 0);
    CU_ASSERT_EQUAL(mos_io_read(io, bytes, 1, io->size), EIO);
    CU_ASSERT_EQUAL(mos_io_read(io, bytes, io->size - at + 1, at), EIO);
    for (uint64_t from = random_below(seed, io->size), start, end; from < io->size; from = end) {
        CU_ASSERT_EQUAL_FATAL(mos_io_next_data(io, from, &start, &end), 0);
        CU_ASSERT_FATAL(start >= from && start <= io->size);
        for (uint64_t i = from; i < start; i++)
            if (model[i]) {
                CU_FAIL("a hole that holds something");
                break;
            }
        if (start == io->size)
            break;
        CU_ASSERT_FATAL(end > start && end <= io->size);
    }
}

static void change(struct mos_io *io, uint8_t *model, uint64_t *seed) {
    size_t at = random_below(seed, io->size), n = 1 + random_below(seed, 40000);
    n = at + n > io->size ? io->size - at : n;
    for (size_t k = 0; k < n; k++)
        model[at + k] = (uint8_t)random_next(seed);
    CU_ASSERT_EQUAL(mos_io_write(io, model + at, n, at), 0);
    CU_ASSERT_NOT_EQUAL(mos_io_write(io, model, 1, io->size), 0);
}

static void layers_equal_an_array(void) {
    static uint8_t model[SIZE], below[SIZE], again[SIZE];
    const char *path = keep(path_in(test_folder("io"), "file"));
    uint64_t seed = 16;
    for (size_t round = 0; round < ROUNDS; round++) {
        struct core c;
        int file;
        core_start(&c);
        struct mos_arena *arena = c.ctx.arena;
        const struct mos_host *h = c.ctx.host;
        make_file(path, below, SIZE, &seed);
        CU_ASSERT_EQUAL_FATAL(h->open(h, path, MOS_OPEN_READ, &file), 0);
        struct mos_io stored = mos_io_file(arena, h, file, SIZE);
        struct mos_io window = mos_io_window(arena, &stored, FROM, SIZE - 2 * FROM);
        bool whole = round % 2;
        memcpy(model, whole ? below : below + FROM, SIZE - (whole ? 0 : 2 * FROM));
        struct mos_io top = mos_io_overlay(arena, whole ? &stored : &window);
        CU_ASSERT_EQUAL(window.size, SIZE - 2 * FROM);
        for (size_t i = 0; i < STEPS; i++) {
            if (i % 3 == 0)
                change(&top, model, &seed);
            compare(&top, model, &seed);
        }
        /* below it nothing has changed */
        CU_ASSERT_EQUAL(mos_io_read(&stored, again, SIZE, 0), 0);
        CU_ASSERT_EQUAL(memcmp(again, below, SIZE), 0);
        h->close(h, file);
        core_end(&c);
    }
}

static void memory_equals_an_array(void) {
    static uint8_t bytes[SIZE], model[SIZE];
    uint64_t seed = 17;
    struct core c;
    core_start(&c);
    struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
    struct mos_io window = mos_io_window(c.ctx.arena, &io, FROM, 1000);
    for (size_t i = 0; i < STEPS; i++) {
        change(&io, model, &seed);
        change(&window, model + FROM, &seed);
        compare(&window, model + FROM, &seed);
        compare(&io, model, &seed);
    }
    core_end(&c);
}

/* Faults come where they were ordered, and are remembered. */
static void faults_are_exact(void) {
    static uint8_t bytes[SIZE], out[SIZE];
    struct core c;
    unsigned long calls = 0;
    core_start(&c);
    struct mos_io io = mos_io_memory(c.ctx.arena, bytes, SIZE);
    struct mos_io broken = mos_io_broken(c.ctx.arena, &io, 1000, 500, EIO);
    struct mos_io_trouble trouble = {0};
    struct mos_io watched = mos_io_watched(c.ctx.arena, &broken, &trouble);
    CU_ASSERT_EQUAL(mos_io_read(&watched, out, 1000, 0), 0);
    CU_ASSERT_EQUAL(mos_io_read(&watched, out, 100, 1500), 0);
    CU_ASSERT_EQUAL(trouble.errnum, 0);
    CU_ASSERT_EQUAL(mos_io_read(&watched, out, 1, 1499), EIO);
    CU_ASSERT(trouble.errnum == EIO && trouble.offset == 1499);
    CU_ASSERT_EQUAL(mos_io_read(&watched, out, 1001, 0), EIO);
    CU_ASSERT_EQUAL(trouble.offset, 1499); /* the first */
    struct mos_io faulty = mos_io_faulty(c.ctx.arena, &io, 3, ENOSPC, &calls);
    for (unsigned i = 1; i < 6; i++)
        CU_ASSERT_EQUAL(i % 2 ? mos_io_read(&faulty, out, 1, 0) : mos_io_write(&faulty, out, 1, 0),
                        i == 3 ? ENOSPC : 0);
    CU_ASSERT_EQUAL(calls, 5);
    core_end(&c);
}

SUITE(io_suite, {"origins equal an array", layers_equal_an_array},
      {"memory equals an array", memory_equals_an_array}, {"faults are exact", faults_are_exact});
