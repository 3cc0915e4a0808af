/* Images, output sets, the store, and what the platform promises. */
#define _GNU_SOURCE
#include "support.h"

#include "base/bytes.h"
#include "build/image.h"
#include "build/set.h"
#include "store/store.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* Writes in any order, twice over some places: every chunk's hash is that of the final bytes. */
static void chunk_hashes_are_of_the_final_bytes(void) {
    enum { SIZE = 30 * 1024 * 1024 + 512 };
    uint64_t seed = 4;
    uint8_t *model = calloc(1, SIZE), list[32], hash[32], piece[70000];
    struct core c;
    core_start(&c);
    const char *path = path_in(test_folder("image"), "a.img");
    struct mos_image *image = mos_image_create(&c.ctx, path, SIZE);
    CU_ASSERT_PTR_NOT_NULL_FATAL(image);
    for (int i = 0; i < 300; i++) { /* mostly forward, now and then back; two chunks stay empty */
        size_t length = 1 + random_below(&seed, sizeof piece);
        uint64_t offset = i % 10 ? (uint64_t)i * 50000 : random_below(&seed, 14 << 20);
        for (size_t k = 0; k < length; k++)
            piece[k] = (uint8_t)random_next(&seed);
        memcpy(model + offset, piece, length);
        CU_ASSERT_EQUAL(mos_io_write(mos_image_io(image), piece, length, offset), 0);
    }
    CU_ASSERT_EQUAL(mos_io_write(mos_image_io(image), piece, 512, SIZE - 512), 0);
    memcpy(model + SIZE - 512, piece, 512);
    CU_ASSERT_EQUAL(mos_io_write(mos_image_io(image), piece, 2, SIZE - 1), ENOSPC);
    CU_ASSERT_TRUE(mos_image_finish(image, hash));
    struct mos_sha256 *all = mos_sha256_new();
    CU_ASSERT_EQUAL(mos_image_chunks(image), 8);
    for (size_t i = 0; i < 8; i++) {
        size_t start = i * MOS_CHUNK_SIZE;
        mos_sha256(model + start, (size_t)mos_min(MOS_CHUNK_SIZE, SIZE - start), list);
        CU_ASSERT_EQUAL(memcmp(list, mos_image_chunk_hash(image, i), 32), 0);
        mos_sha256_update(all, list, 32);
    }
    mos_sha256_final(all, list);
    mos_sha256_free(all);
    CU_ASSERT_EQUAL(memcmp(list, hash, 32), 0);
    size_t length;
    char *bytes = read_whole(path, &length);
    CU_ASSERT(length == SIZE && memcmp(bytes, model, SIZE) == 0);
    free(bytes);
    free(model);
    core_end(&c);
}

static void sets_appear_as_a_whole(void) {
    struct core c;
    struct mos_set set, second;
    core_start(&c);
    const char *parent = keep(path_in(test_folder("set"), "out"));
    CU_ASSERT_TRUE(mos_set_begin(&set, &c.ctx, parent, "curlew"));
    CU_ASSERT_TRUE(mos_set_file(&set, "a", "1", 1));
    CU_ASSERT_FALSE(exists(path_in(parent, "curlew")));
    CU_ASSERT_FALSE(mos_set_begin(&second, &c.ctx, parent, "curlew")); /* locked */
    CU_ASSERT_EQUAL(c.error.kind, MOS_ERROR_SAFETY);
    c.error.kind = MOS_ERROR_NONE;
    CU_ASSERT_TRUE(mos_set_commit(&set));
    CU_ASSERT_TRUE(exists(path_in(parent, "curlew/a")));
    CU_ASSERT_TRUE(mos_set_begin(&set, &c.ctx, parent, "curlew"));
    CU_ASSERT_TRUE(mos_set_file(&set, "b", "2", 1));
    mos_set_abandon(&set);
    CU_ASSERT_TRUE(exists(path_in(parent, "curlew/a")) && !exists(path_in(parent, "curlew.part")));
    write_text(path_in(parent, "curlew.part/left/by/a/kill"), "x");
    CU_ASSERT_TRUE(mos_set_begin(&set, &c.ctx, parent, "curlew"));
    CU_ASSERT_FALSE(exists(path_in(parent, "curlew.part/left")));
    CU_ASSERT_TRUE(mos_set_file(&set, "b", "2", 1) && mos_set_commit(&set));
    CU_ASSERT_TRUE(exists(path_in(parent, "curlew/b")) && !exists(path_in(parent, "curlew/a")));
    core_end(&c);
}

static void the_store_is_never_believed_blindly(void) {
    struct core c;
    uint8_t hash[32] = {1, 2, 3}, got[32];
    char *data;
    size_t length;
    core_start(&c);
    c.ctx.cache_folder = keep(path_in(test_folder("store"), "deep/cache"));
    const char *file = keep(path_in(c.ctx.cache_folder, "../piece"));
    write_text(path_in(c.ctx.cache_folder, "x"), "");
    write_text(file, "tide");
    struct mos_file_info before;
    c.ctx.host->info(c.ctx.host, file, true, &before);
    CU_ASSERT_FALSE(mos_store_known_hash(&c.ctx, file, got));
    mos_store_keep_hash(&c.ctx, file, &before, hash);
    CU_ASSERT(mos_store_known_hash(&c.ctx, file, got) && memcmp(got, hash, 32) == 0);
    usleep(20000);
    write_text(file, "ebbe"); /* the same size, another time */
    CU_ASSERT_FALSE(mos_store_known_hash(&c.ctx, file, got));
    mos_store_keep_hash(&c.ctx, file, &before, hash); /* it changed while it was read */
    CU_ASSERT_FALSE(mos_store_known_hash(&c.ctx, file, got));
    CU_ASSERT_FALSE(mos_store_get(&c.ctx, "none", &data, &length));
    mos_store_put(&c.ctx, "some", "abc", 3);
    CU_ASSERT(mos_store_get(&c.ctx, "some", &data, &length) && length == 3);
    c.ctx.cache_folder = "/proc/nowhere"; /* what cannot be kept is no error */
    mos_store_put(&c.ctx, "some", "abc", 3);
    CU_ASSERT_EQUAL(c.error.kind, MOS_ERROR_NONE);
    core_end(&c);
}

/* ---- the platform ---- */

static struct mos_program_result run_program(const char *script, size_t limit, unsigned seconds,
                                             int *e) {
    struct core c;
    core_start(&c);
    const char *const arguments[] = {"sh", "-c", script, NULL};
    struct mos_program p = {.arguments = arguments,
                            .input = "abc",
                            .input_length = 3,
                            .output_limit = limit,
                            .seconds = seconds};
    struct mos_program_result r = {0};
    *e = c.ctx.host->run(c.ctx.host, &p, &r);
    core_end(&c);
    return r;
}

static void programs_have_limits(void) {
    static const struct {
        const char *script;
        size_t limit;
        int e, status;
        bool timeout;
        const char *out;
    } cases[] = {
        {"cat; echo $0", 1000, 0, 0, false, "abcsh\n"},
        {"exit 7", 1000, 0, 7, false, ""},
        {"kill -9 $$", 1000, 0, 137, false, ""},
        {"echo ${HOME:-none} ${LC_ALL}", 1000, 0, 0, false, "none C\n"}, /* a clean environment */
        {"head -c 100000 /dev/zero", 1000, EFBIG, 0, false, NULL},
        {"echo early; sleep 30", 1000, 0, 137, true, "early\n"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        int e;
        struct mos_program_result r = run_program(cases[i].script, cases[i].limit, 1, &e);
        CU_ASSERT_EQUAL(e, cases[i].e);
        if (e)
            continue;
        CU_ASSERT_EQUAL(r.status, cases[i].status);
        CU_ASSERT_EQUAL(r.timeout, cases[i].timeout);
        if (strcmp(r.output, cases[i].out) != 0)
            fprintf(stderr, "\n%s: %s\n", cases[i].script, r.output);
        CU_ASSERT_STRING_EQUAL(r.output, cases[i].out);
        free(r.output);
        free(r.errors);
    }
}

static void note_job(void *self, void *job) {
    struct mos_buf *b = self;
    if (b->length % 7 == 0)
        usleep(200);
    b->data[b->length++] = (char)(uintptr_t)job;
}

static void workers_keep_their_order(void) {
    static char seen[200];
    struct mos_buf b = {.data = seen};
    struct core c;
    core_start(&c);
    struct mos_worker *w = c.ctx.host->worker_start(c.ctx.host, note_job, &b);
    CU_ASSERT_PTR_NOT_NULL_FATAL(w);
    for (uintptr_t i = 1; i <= 100; i++)
        c.ctx.host->worker_submit(w, (void *)i);
    c.ctx.host->worker_finish(w);
    CU_ASSERT_EQUAL(b.length, 100);
    for (size_t i = 0; i < 100; i++)
        CU_ASSERT_EQUAL(seen[i], (char)(i + 1));
    core_end(&c);
}

static void trees_are_removed_without_leaving_them(void) {
    const char *folder = test_folder("remove");
    struct core c;
    core_start(&c);
    write_text(path_in(folder, "outside/kept"), "x");
    write_text(path_in(folder, "tree/a/b/c"), "x");
    CU_ASSERT_EQUAL(symlink("../../outside", path_in(folder, "tree/a/link")), 0);
    CU_ASSERT_EQUAL(c.ctx.host->remove_tree(c.ctx.host, path_in(folder, "tree")), 0);
    CU_ASSERT_FALSE(exists(path_in(folder, "tree")));
    CU_ASSERT_TRUE(exists(path_in(folder, "outside/kept")));
    CU_ASSERT_EQUAL(c.ctx.host->remove_tree(c.ctx.host, path_in(folder, "tree")),
                    0); /* may be absent */
    core_end(&c);
}

SUITE(build_suite, {"chunk hashes", chunk_hashes_are_of_the_final_bytes},
      {"sets", sets_appear_as_a_whole}, {"the store", the_store_is_never_believed_blindly},
      {"programs", programs_have_limits}, {"workers", workers_keep_their_order},
      {"removing trees", trees_are_removed_without_leaving_them});
