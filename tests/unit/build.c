/* Images, output sets, the store, and what the platform promises. */
#define _GNU_SOURCE
#include "support.h"

#include "base/bytes.h"
#include "build/build.h"
#include "build/image.h"
#include "build/set.h"
#include "ledger/ledger.h"
#include "platform/platform.h"
#include "store/store.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* Writes in any order, twice over some places: every chunk's hash is that of the final bytes. */
static void chunk_hashes_are_of_the_final_bytes(void) {
    enum { SIZE = 110 * 1024 * 1024 + 512, CHUNKS = 28 }; /* several at once, and a short one */
    uint64_t seed = 4;
    uint8_t *model = calloc(1, SIZE), list[32], hash[32], piece[70000];
    struct core c;
    core_start(&c);
    const char *path = path_in(test_folder("image"), "a.img");
    struct mos_image *image = mos_image_create(&c.ctx, path, SIZE);
    CU_ASSERT_PTR_NOT_NULL_FATAL(image);
    for (int i = 0; i < 300; i++) { /* mostly forward, now and then back; two chunks stay empty */
        size_t length = 1 + random_below(&seed, sizeof piece);
        uint64_t offset = i % 10 ? (uint64_t)i * 330000 : random_below(&seed, 90 << 20);
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
    CU_ASSERT_EQUAL(mos_image_chunks(image), CHUNKS);
    for (size_t i = 0; i < CHUNKS; i++) {
        size_t start = i * MOS_CHUNK_SIZE;
        mos_sha256(model + start, (size_t)mos_min(MOS_CHUNK_SIZE, SIZE - start), list);
        CU_ASSERT_EQUAL(memcmp(list, mos_image_chunk_hash(image, i), 32), 0);
        mos_sha256_update(all, list, 32);
    }
    mos_sha256_final(all, list);
    mos_sha256_free(all);
    CU_ASSERT_EQUAL(memcmp(list, hash, 32), 0);
    uint8_t again[32];
    CU_ASSERT(mos_image_hash_of(&c.ctx, path, again) && memcmp(again, hash, 32) == 0);
    FILE *f = fopen(path, "r+b");
    CU_ASSERT(f && fseek(f, 105 << 20, SEEK_SET) == 0 && fputc('x', f) == 'x' && !fclose(f));
    CU_ASSERT(mos_image_hash_of(&c.ctx, path, again) && memcmp(again, hash, 32) != 0);
    model[105 << 20] = 'x';
    size_t length;
    char *bytes = read_whole(path, &length);
    CU_ASSERT(length == SIZE && memcmp(bytes, model, SIZE) == 0);
    free(bytes);
    free(model);
    core_end(&c);
}

/* Files of an output are what their ledger says, or the first that is not is named. */
static void outputs_are_read_again(void) {
    struct core c;
    core_start(&c);
    const char *out = keep(test_folder("verified")), *wrong;
    struct mos_board board = {.selector = "curlew"};
    struct mos_plan plan = {.ctx = &c.ctx, .board = &board};
    struct mos_vec files = mos_vec_make(c.ctx.arena, sizeof(struct mos_ledger_file));
    for (int i = 0; i < 2; i++) { /* an image of one chunk, and a plain file */
        uint8_t hash[MOS_SHA256_SIZE];
        char hex[65];
        write_text(path_in(out, "curlew/%s", i ? "boot.scr" : "card.img"), "as it was");
        mos_sha256("as it was", 9, hash);
        if (!i)
            mos_sha256(hash, sizeof hash, hash);
        mos_sha256_hex(hash, hex);
        *(struct mos_ledger_file *)mos_vec_push(&files) = (struct mos_ledger_file){
            i ? "boot.scr" : "card.img", mos_strdup(c.ctx.arena, hex), NULL, 9, !i};
    }
    CU_ASSERT(mos_build_verify(&plan, out, &files, &wrong) && !wrong);
    write_text(path_in(out, "curlew/boot.scr"), "as it is.");
    CU_ASSERT(mos_build_verify(&plan, out, &files, &wrong) && wrong &&
              strcmp(wrong, "boot.scr") == 0);
    write_text(path_in(out, "curlew/card.img"), "as it is.");
    CU_ASSERT(mos_build_verify(&plan, out, &files, &wrong) && wrong &&
              strcmp(wrong, "card.img") == 0);
    remove_folder(path_in(out, "curlew"));
    CU_ASSERT(!mos_build_verify(&plan, out, &files, &wrong) && c.error.kind == MOS_ERROR_SYSTEM);
    core_end(&c);
}

static bool begin(struct mos_set *set, struct core *c, const char *parent) {
    c->error.kind = MOS_ERROR_NONE;
    return mos_set_begin(set, &c->ctx, parent, "curlew", NULL, 0);
}

/* A ledger that lists the names of a text such as "a b c". */
static const char *ledger_of(const char *board, const char *names) {
    static char text[1024];
    size_t n = (size_t)snprintf(text, sizeof text,
                                "{\"mosaicum\": 1, \"built-by\": \"test\", \"board\": \"%s\", "
                                "\"images\": [], \"outputs\": [",
                                board);
    for (const char *p = names; *p; p += strspn(p, " ")) {
        size_t k = strcspn(p, " ");
        n += (size_t)snprintf(text + n, sizeof text - n, "%s{\"file\": \"%.*s\"}",
                              p == names ? "" : ",", (int)k, p);
        p += k;
    }
    snprintf(text + n, sizeof text - n, "]}");
    return text;
}

static bool put_ledger(struct mos_set *set, const char *names) {
    const char *text = ledger_of("curlew", names);
    return mos_set_file(set, "ledger.json", text, strlen(text));
}

static void sets_appear_as_a_whole(void) {
    struct core c;
    struct mos_set set, second;
    core_start(&c);
    const char *parent = keep(path_in(test_folder("set"), "out"));
    CU_ASSERT_TRUE(begin(&set, &c, parent));
    CU_ASSERT_TRUE(mos_set_file(&set, "a", "1", 1) && put_ledger(&set, "a"));
    CU_ASSERT_FALSE(exists(path_in(parent, "curlew")));
    CU_ASSERT_FALSE(begin(&second, &c, parent)); /* locked */
    CU_ASSERT_EQUAL(c.error.kind, MOS_ERROR_SAFETY);
    CU_ASSERT_TRUE(mos_set_commit(&set));
    CU_ASSERT_TRUE(exists(path_in(parent, "curlew/a")));
    CU_ASSERT_FALSE(exists(path_in(parent, "curlew/.mosaicum-part")));
    CU_ASSERT_TRUE(begin(&set, &c, parent));
    CU_ASSERT_TRUE(mos_set_file(&set, "b", "2", 1));
    mos_set_abandon(&set);
    CU_ASSERT_TRUE(exists(path_in(parent, "curlew/a")) && !exists(path_in(parent, "curlew.part")));
    write_text(path_in(parent, "curlew.part/.mosaicum-part"), "curlew"); /* left by a kill */
    write_text(path_in(parent, "curlew.part/card.img"), "x");
    CU_ASSERT_TRUE(begin(&set, &c, parent));
    CU_ASSERT_FALSE(exists(path_in(parent, "curlew.part/card.img")));
    CU_ASSERT_TRUE(mos_set_file(&set, "b", "2", 1) && put_ledger(&set, "b"));
    CU_ASSERT_FALSE(mos_set_file(&set, "../b", "2", 1)); /* no name */
    CU_ASSERT_EQUAL(c.error.kind, MOS_ERROR_SAFETY);
    CU_ASSERT_TRUE(mos_set_commit(&set));
    CU_ASSERT_TRUE(exists(path_in(parent, "curlew/b")) && !exists(path_in(parent, "curlew/a")));
    core_end(&c);
}

/* What stands in the way of a set, and whether it may go. */
static void sets_replace_only_what_is_ours(void) {
    static const struct {
        const char *name, *text; /* below the parent; text NULL: a link to ../precious */
        const char *ledger;      /* of curlew/, lists these; NULL: none */
        const char *board;
        bool goes;
    } cases[] = {
        {"curlew/a", "1", "a", "curlew", true},
        {"curlew/a", "1", "a b", "curlew", true}, /* less than listed */
        {"curlew/a", "1", "a", "dunlin", false},  /* another's */
        {"curlew/a", "1", "b", "curlew", false},
        {"curlew/a", "1", NULL, NULL, false},
        {"curlew/a/b", "1", "a", "curlew", false}, /* a folder where a file is listed */
        {"curlew/.hidden", "1", "a", "curlew", false},
        {"curlew/ledger.json", "{}", NULL, NULL, false},
        {"curlew/ledger.json", "no JSON", NULL, NULL, false},
        {"curlew", "1", NULL, NULL, false},
        {"curlew", NULL, NULL, NULL, false},
        {"curlew.part", "1", "a", "curlew", false},
        {"curlew.part", NULL, "a", "curlew", false},
        {"curlew.part/notes", "1", "a", "curlew", false},
        {"curlew.part/.mosaicum-part", "curlew", "a", "curlew", true},
        {"curlew.old.part/notes", "1", "a", "curlew", true}, /* nobody needs that name here */
        {"other/notes", "1", "a", "curlew", true},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        struct mos_set set;
        core_start(&c);
        const char *top = test_folder("ours"), *parent = keep(path_in(top, "out"));
        const char *thing = keep(path_in(parent, "%s", cases[i].name));
        write_text(path_in(top, "precious/file"), "mine");
        write_text(path_in(parent, ".keep"), "");
        if (cases[i].text)
            write_text(thing, cases[i].text);
        else
            CU_ASSERT_EQUAL(symlink("../precious", thing), 0);
        if (cases[i].ledger)
            write_text(path_in(parent, "curlew/ledger.json"),
                       ledger_of(cases[i].board, cases[i].ledger));
        bool went = begin(&set, &c, parent);
        went = went && mos_set_file(&set, "c", "3", 1) && put_ledger(&set, "c");
        went = went && mos_set_commit(&set);
        if (went != cases[i].goes)
            printf("\n%zu %s: %s\n", i, cases[i].name, c.error.message);
        CU_ASSERT_EQUAL(went, cases[i].goes);
        CU_ASSERT_TRUE(exists(path_in(top, "precious/file")));
        if (!cases[i].goes) {
            CU_ASSERT_EQUAL(c.error.kind, MOS_ERROR_SAFETY);
            CU_ASSERT_TRUE(exists(thing));
        }
        core_end(&c);
    }
}

static void sets_spare_what_is_read(void) {
    struct core c;
    struct mos_set set;
    core_start(&c);
    const char *parent = keep(path_in(test_folder("spare"), "out"));
    const char *piece = keep(path_in(parent, "curlew/a"));
    write_text(piece, "1");
    write_text(path_in(parent, "curlew/ledger.json"), ledger_of("curlew", "a"));
    CU_ASSERT_FALSE(mos_set_begin(&set, &c.ctx, parent, "curlew", &piece, 1));
    CU_ASSERT_EQUAL(c.error.kind, MOS_ERROR_SAFETY);
    CU_ASSERT_PTR_NOT_NULL(strstr(c.error.message, "curlew/a lies in it"));
    CU_ASSERT_TRUE(exists(piece));
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
    mos_store_keep_hash(&c.ctx, file, &before, hash); /* it may change again in the same moment */
    CU_ASSERT_FALSE(mos_store_known_hash(&c.ctx, file, got));
    usleep(60000);
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
    struct outcome o =
        run_shell("stat -c %%a '%s' '%s/some'", c.ctx.cache_folder, c.ctx.cache_folder);
    CU_ASSERT_STRING_EQUAL(o.out, "700\n600\n");
    outcome_free(&o);
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
    static char much[1 << 20];
    bool all = strstr(script, "wc -c") != NULL, none = strstr(script, "nothing") != NULL;
    struct mos_program p = {.arguments = arguments,
                            .input = all ? much : "abc",
                            .input_length = all    ? sizeof much
                                            : none ? 0
                                                   : 3,
                            .output_limit = limit,
                            .seconds = seconds};
    struct mos_program_result r = {0};
    *e = c.ctx.host->run(c.ctx.host, &p, &r);
    core_end(&c);
    return r;
}

/* "sleep 30" becomes "sleep 30.PID": ours are told from those of another run of this test. */
static const char *own_sleeps(const char *script, char *out) {
    size_t n = 0;
    for (const char *p = script; *p; p++) {
        out[n++] = *p;
        if (p >= script + 7 && strncmp(p - 7, "sleep 3", 7) == 0)
            n += (size_t)sprintf(out + n, ".%d", (int)getpid());
    }
    out[n] = 0;
    return out;
}

static void programs_have_limits(void) {
    char script[256];
    static const struct {
        const char *script;
        size_t limit;
        int e, status;
        bool timeout, overflow;
        const char *out;
    } cases[] = {
        {"cat; echo $0", 1000, 0, 0, false, false, "abcsh\n"},
        {"exit 7", 1000, 0, 7, false, false, ""},
        {"cat; echo nothing", 1000, 0, 0, false, false, "nothing\n"},
        {"kill -9 $$", 1000, 0, 137, false, false, ""},
        {"echo ${HOME:-none} ${LC_ALL}", 1000, 0, 0, false, false, "none C\n"}, /* clean */
        {"head -c 100000 /dev/zero", 1000, 0, 137, false, true, NULL},
        {"echo early; sleep 30", 1000, 0, 137, true, false, "early\n"},
        /* one that answers before it has read all, one that reads nothing of a mebibyte */
        {"head -c 100000 /dev/zero | tr '\\0' x; cat | wc -c", 200000, 0, 0, false, false, NULL},
        {"sleep 30 # wc -c", 1000, 0, 137, true, false, ""},
        {"exec 0<&-; echo no # wc -c", 1000, 0, 0, false, false, "no\n"},
        /* what is left behind ends, with a session of its own, too, and is not waited for */
        {"sleep 30 & echo x", 1000, 0, 0, false, false, "x\n"},
        {"setsid sleep 31 & (setsid sh -c 'sleep 32 & sleep 33' &) ; echo x", 1000, 0, 0, false,
         false, "x\n"},
        {"setsid sleep 34 & sleep 35", 1000, 0, 137, true, false, ""},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        int e;
        struct mos_program_result r =
            run_program(own_sleeps(cases[i].script, script), cases[i].limit, 1, &e);
        CU_ASSERT_EQUAL(e, cases[i].e);
        if (e)
            continue;
        CU_ASSERT_EQUAL(r.status, cases[i].status);
        CU_ASSERT_EQUAL(r.timeout, cases[i].timeout);
        CU_ASSERT_EQUAL(r.overflow, cases[i].overflow);
        if (cases[i].out && strcmp(r.output, cases[i].out) != 0)
            fprintf(stderr, "\n%s: %s\n", cases[i].script, r.output);
        CU_ASSERT(!cases[i].out || strcmp(r.output, cases[i].out) == 0);
        free(r.output);
        free(r.errors);
    }
    CU_ASSERT(runs(1, "grep -alE '^sleep.3[0-5][.]%d' /proc/[0-9]*/cmdline 2>/dev/null | grep .",
                   (int)getpid()));
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

/* What a worker waits for, and that it got it. */
struct waiting {
    const struct mos_host *host;
    const char *path;
    int file, error;
};

static void wait_for_lock(void *self, void *job) {
    struct waiting *x = self;
    (void)job;
    x->error = x->host->lock(x->host, x->path, "b", true, &x->file);
}

/* A lock is for a name, holds against whoever opens the file again, and can be waited for. */
static void locks_are_for_names(void) {
    const struct mos_host *h = mos_platform_host();
    struct waiting x = {h, keep(path_in(test_folder("locks"), ".lock")), -1, -1};
    int a, b, c;
    CU_ASSERT_EQUAL(h->lock(h, x.path, "a", false, &a), 0);
    CU_ASSERT_EQUAL(h->lock(h, x.path, "a", false, &c), EWOULDBLOCK);
    CU_ASSERT_EQUAL(h->lock(h, x.path, "b", false, &b), 0);
    struct mos_worker *w = h->worker_start(h, wait_for_lock, &x);
    CU_ASSERT_PTR_NOT_NULL_FATAL(w);
    h->worker_submit(w, &x);
    CU_ASSERT_EQUAL(h->lock(h, x.path, "b", false, &c), EWOULDBLOCK);
    h->close(h, b);
    h->worker_finish(w);
    CU_ASSERT_EQUAL(x.error, 0);
    CU_ASSERT_EQUAL(h->lock(h, x.path, "b", false, &c), EWOULDBLOCK);
    h->close(h, x.file);
    CU_ASSERT_EQUAL(h->lock(h, x.path, "b", false, &b), 0);
    CU_ASSERT_EQUAL(h->lock(h, x.path, "a", false, &c), EWOULDBLOCK);
    h->close(h, a);
    h->close(h, b);
    CU_ASSERT(runs(0, "rm '%s' && ln -s nowhere '%s'", x.path, x.path));
    CU_ASSERT_EQUAL(h->lock(h, x.path, "a", false, &c), ELOOP);
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
      {"outputs are read again", outputs_are_read_again}, {"sets", sets_appear_as_a_whole},
      {"sets replace only what is ours", sets_replace_only_what_is_ours},
      {"sets spare what is read", sets_spare_what_is_read},
      {"the store", the_store_is_never_believed_blindly}, {"programs", programs_have_limits},
      {"workers", workers_keep_their_order}, {"locks", locks_are_for_names},
      {"removing trees", trees_are_removed_without_leaving_them});
