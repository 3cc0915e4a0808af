#define _GNU_SOURCE /* memmem */
#include "support.h"

#include "base/text.h"
#include "content/content.h"

#include <stdlib.h>
#include <string.h>

/* A sink that writes down what it is given. */
struct record {
    struct mos_buf text;
    struct mos_buf bytes; /* of the last file, holes filled in */
};

static bool note_entry(void *self, const struct mos_entry *e) {
    struct record *r = self;
    mos_buf_printf(&r->text, "%d %s %o %llu %s|", e->type, e->path, e->mode,
                   (unsigned long long)e->size,
                   e->target && (e->type == 2 || e->type == 3) ? e->target : "");
    r->bytes.length = 0;
    return true;
}

static bool note_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct record *r = self;
    mos_buf_printf(&r->text, "%llu+%zu|", (unsigned long long)offset, length);
    if (bytes) {
        CU_ASSERT(offset % MOS_RUN_UNIT == 0 && offset >= r->bytes.length);
        mos_buf_zeros(&r->bytes, (size_t)offset - r->bytes.length);
        mos_buf_add(&r->bytes, bytes, length);
    }
    return true;
}

static bool note_end(void *self, uint64_t sum) {
    struct record *r = self;
    mos_buf_printf(&r->text, "%llx\n", (unsigned long long)sum);
    return true;
}

static struct mos_sink recorder(struct record *r, struct mos_arena *arena) {
    *r = (struct record){{.arena = arena}, {.arena = arena}};
    return (struct mos_sink){r, note_entry, note_data, note_end};
}

/* However a file is cut up on its way, the same runs and the same sum come out. */
static void runs_do_not_depend_on_the_pieces(void) {
    uint64_t seed = 3;
    static uint8_t file[70000];
    for (int round = 0; round < 100; round++) {
        struct core c;
        core_start(&c);
        size_t length = random_below(&seed, sizeof file);
        memset(file, 0, sizeof file);
        for (size_t i = 0; i < length; i++)
            if (i / 5000 % 3 != 1)
                file[i] = (uint8_t)random_next(&seed);
        struct record whole, cut;
        struct mos_sink a = recorder(&whole, c.ctx.arena), b = recorder(&cut, c.ctx.arena);
        struct mos_entry e = {.path = "f"};
        mos_bytes_stream(&e, file, length, &a);
        struct mos_runs runs = {.sink = &b};
        uint64_t sum;
        for (size_t at = 0; at < length;) {
            size_t n = 1 + random_below(&seed, 9000);
            n = n > length - at ? length - at : n;
            mos_runs_add(&runs, file + at, n);
            at += n;
        }
        mos_runs_end(&runs, &sum);
        note_end(&cut, sum);
        CU_ASSERT_EQUAL(whole.bytes.length <= length, true);
        CU_ASSERT_EQUAL(memcmp(mos_buf_string(&whole.bytes), file, whole.bytes.length), 0);
        CU_ASSERT_EQUAL(memcmp(mos_buf_string(&cut.bytes), file, cut.bytes.length), 0);
        CU_ASSERT_STRING_EQUAL(strrchr(mos_buf_string(&whole.text), '|'),
                               strrchr(mos_buf_string(&cut.text), '|'));
        core_end(&c);
    }
}

/* An index replays what was streamed, survives its file form, and a damaged file form is refused.
 */
static void indexes_replay(void) {
    struct core c;
    core_start(&c);
    const char *folder = test_folder("index");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && mkdir -p t/etc && echo curlew > t/etc/name && ln t/etc/name t/etc/alias "
             "&& ln -s name t/etc/link && truncate -s 100000 t/hole && "
             "printf x | dd of=t/hole bs=1 seek=50000 conv=notrunc 2>/dev/null && "
             "tar -czf a.tar.gz -C t . && tar -cf b.tar -C t .",
             folder));
    static const char *const archives[] = {"a.tar.gz", "b.tar"};
    for (size_t i = 0; i < 2; i++) {
        struct record direct, replayed;
        struct mos_sink a = recorder(&direct, c.ctx.arena), b = recorder(&replayed, c.ctx.arena);
        struct mos_index *x = mos_index_new(&c.ctx);
        struct mos_sink sink = mos_index_recorder(x, &a);
        CU_ASSERT_TRUE_FATAL(mos_archive_stream(&c.ctx, path_in(folder, "%s", archives[i]),
                                                (struct mos_place){0}, &sink, NULL));
        struct mos_buf file = {.arena = c.ctx.arena};
        mos_index_save(x, &file);
        struct mos_index *again = mos_index_load(&c.ctx, file.data, file.length);
        CU_ASSERT_PTR_NOT_NULL_FATAL(again);
        CU_ASSERT_TRUE(mos_index_replay(&c.ctx, again, &b));
        CU_ASSERT_EQUAL(mos_index_count(again), 6);
        CU_ASSERT_PTR_NOT_NULL(
            strstr(mos_buf_string(&direct.text), "0 hole 644 100000 |49152+4096|"));
        CU_ASSERT_STRING_EQUAL(mos_buf_string(&direct.text), mos_buf_string(&replayed.text));
        for (size_t k = 0; k < file.length; k += 7) {
            file.data[k] ^= 4;
            CU_ASSERT_PTR_NULL(mos_index_load(&c.ctx, file.data, file.length));
            file.data[k] ^= 4;
        }
    }
    core_end(&c);
}

static struct mos_worker *no_worker(const struct mos_host *h, void (*work)(void *self, void *job),
                                    void *self) {
    (void)h, (void)work, (void)self;
    return NULL;
}

/* Gives up at its nth call. */
struct tired {
    unsigned calls, last;
};

static bool tired_entry(void *self, const struct mos_entry *e) {
    struct tired *t = self;
    (void)e;
    return ++t->calls != t->last;
}

static bool tired_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    (void)offset, (void)bytes, (void)length;
    return tired_entry(self, NULL);
}

static bool tired_end(void *self, uint64_t sum) {
    (void)sum;
    return tired_entry(self, NULL);
}

static bool stream(struct core *c, const char *folder, int form, const struct mos_sink *sink) {
    const struct mos_entry as = {.path = "f", .mode = 0644};
    struct mos_index *x = mos_index_new(&c->ctx);
    struct record ignored;
    struct mos_sink quiet = recorder(&ignored, c->ctx.arena),
                    filled = mos_index_recorder(x, &quiet);
    switch (form) {
    case 0:
        return mos_archive_stream(&c->ctx, path_in(folder, "a.tar.gz"), (struct mos_place){0}, sink,
                                  NULL);
    case 1:
        return mos_folder_stream(&c->ctx, path_in(folder, "t"), 0, sink);
    case 2:
        return mos_file_stream(&c->ctx, path_in(folder, "a.tar.gz"), &as, sink, NULL);
    default:
        return mos_folder_stream(&c->ctx, path_in(folder, "t"), 0, &filled) &&
               mos_index_replay(&c->ctx, x, sink);
    }
}

/* Whatever is streamed: where the sink gives up it ends, and says so. */
static void a_sink_that_gives_up_ends_the_stream(void) {
    const char *folder = keep(test_folder("tired"));
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && mkdir -p t/etc && for i in 1 2 3; do seq 9999 > t/etc/$i; done && "
             "ln -s 1 t/etc/l && tar -czf a.tar.gz -C t .",
             folder));
    for (int form = 0; form < 4; form++) {
        struct core c;
        core_start(&c);
        struct tired t = {0};
        const struct mos_sink sink = {&t, tired_entry, tired_data, tired_end};
        CU_ASSERT_TRUE(stream(&c, folder, form, &sink));
        unsigned all = t.calls;
        CU_ASSERT(all > (form == 2 ? 2 : 10));
        for (unsigned n = 1; n <= all; n++) {
            t = (struct tired){.last = n};
            CU_ASSERT_FALSE(stream(&c, folder, form, &sink));
            CU_ASSERT_EQUAL(t.calls, n);
        }
        core_end(&c);
    }
}

/* The hash of an archive is that of its bytes, with a thread for it and without. */
static void archives_are_hashed(void) {
    const char *path = keep(path_in(MOSAICUM_SOURCE, "demo/saltmarsh/pieces/rootfs.tar.zst"));
    size_t length;
    uint8_t sum[MOS_SHA256_SIZE];
    char *bytes = read_whole(path, &length);
    mos_sha256(bytes, length, sum);
    for (int threads = 0; threads < 2; threads++) {
        struct core c;
        core_start(&c);
        struct mos_host host = *c.ctx.host;
        if (!threads)
            host.worker_start = no_worker;
        c.ctx.host = &host;
        struct record r;
        struct mos_sink sink = recorder(&r, c.ctx.arena);
        struct mos_archive_result result = {.wanted = true};
        CU_ASSERT_TRUE(mos_archive_stream(&c.ctx, path, (struct mos_place){0}, &sink, &result));
        CU_ASSERT(result.hashed && memcmp(result.sha256, sum, sizeof sum) == 0);
        core_end(&c);
    }
    free(bytes);
}

/* Everything that an entry has, as a line. */
static bool note_all(void *self, const struct mos_entry *e) {
    struct record *r = self;
    bool links = e->type == MOS_ENTRY_LINK || e->type == MOS_ENTRY_HARD_LINK;
    mos_buf_printf(&r->text, "%d %s %o %llu:%llu %lld.%u %llu %u:%u %s %zu", e->type, e->path,
                   e->mode, (unsigned long long)e->uid, (unsigned long long)e->gid,
                   (long long)e->mtime, e->mtime_ns, (unsigned long long)e->size, e->major,
                   e->minor, links ? e->target : "", e->attributes_length);
    for (size_t i = 0; i < e->attributes_length; i++)
        mos_buf_printf(&r->text, "%02x", e->attributes[i]);
    mos_buf_char(&r->text, '|');
    return true;
}

static bool note_sum(void *self, uint64_t sum) {
    mos_buf_printf(&((struct record *)self)->text, "%llx\n", (unsigned long long)sum);
    return true;
}

static void random_name(uint64_t *seed, char *to, size_t most) {
    size_t n = 1 + random_below(seed, most - 1);
    for (size_t k = 0; k < n; k++)
        to[k] = (char)('a' + random_below(seed, 26));
    to[n] = 0;
}

/* Any entries, of every kind and with every field, come out of an index as they went in. */
static void indexes_keep_every_field(void) {
    uint64_t seed = 85;
    for (size_t round = 0; round < 40; round++) {
        struct core c;
        core_start(&c);
        struct record in = {{.arena = c.ctx.arena}, {.arena = c.ctx.arena}}, out = in, twice = in;
        struct mos_sink a = {&in, note_all, note_data, note_sum},
                        b = {&out, note_all, note_data, note_sum},
                        t = {&twice, note_all, note_data, note_sum};
        struct mos_index *x = mos_index_new(&c.ctx);
        struct mos_sink sink = mos_index_recorder(x, &a);
        size_t count = 1 + random_below(&seed, 60);
        char path[300] = "";
        struct mos_entry before = {0};
        for (size_t i = 0; i < count; i++) {
            char target[300];
            uint8_t attributes[60];
            size_t shared = random_below(&seed, strnlen(path, 200) + 1); /* with the path before */
            random_name(&seed, path + shared, sizeof path - 1 - shared);
            random_name(&seed, target, sizeof target - 1);
            for (size_t k = 0; k < sizeof attributes; k++)
                attributes[k] = (uint8_t)random_next(&seed);
            struct mos_entry e = {.path = path,
                                  .type = (enum mos_entry_type)random_below(&seed, 8),
                                  .mode = (uint16_t)random_below(&seed, 010000),
                                  .uid = (uint32_t)random_next(&seed),
                                  .gid = (uint32_t)random_next(&seed),
                                  .mtime = (int64_t)random_below(&seed, 1ull << 40) - (1 << 20),
                                  .mtime_ns = (uint32_t)random_below(&seed, 1000000000),
                                  .target = target,
                                  .attributes = attributes,
                                  .attributes_length = random_below(&seed, sizeof attributes)};
            if (random_below(&seed, 2))
                e.mode = before.mode;
            if (random_below(&seed, 2))
                e.uid = before.uid, e.gid = before.gid;
            if (random_below(&seed, 2))
                e.mtime = before.mtime, e.mtime_ns = before.mtime_ns;
            before = e;
            if (e.type == MOS_ENTRY_CHAR || e.type == MOS_ENTRY_BLOCK) {
                e.major = (uint32_t)random_below(&seed, 4096);
                e.minor = (uint32_t)random_below(&seed, 1 << 20);
            }
            if (e.type == MOS_ENTRY_FILE)
                e.size = random_below(&seed, 1ull << 40);
            CU_ASSERT_TRUE(sink.entry(sink.self, &e));
            for (uint64_t at = 0, n; e.type == MOS_ENTRY_FILE && at < e.size; at += n) {
                n = 1 + random_below(&seed, e.size - at); /* runs of data, and holes between */
                if (random_below(&seed, 2))
                    CU_ASSERT_TRUE(sink.data(sink.self, at, NULL, (size_t)n));
            }
            CU_ASSERT_TRUE(sink.end(sink.self, e.type == MOS_ENTRY_FILE ? random_next(&seed) : 0));
        }
        struct mos_buf file = {.arena = c.ctx.arena};
        CU_ASSERT_TRUE(mos_index_replay(&c.ctx, x, &b));
        mos_index_save(x, &file);
        struct mos_index *again = mos_index_load(&c.ctx, file.data, file.length);
        CU_ASSERT_PTR_NOT_NULL_FATAL(again);
        CU_ASSERT_TRUE(mos_index_replay(&c.ctx, again, &t));
        CU_ASSERT_EQUAL(mos_index_count(again), count);
        CU_ASSERT_STRING_EQUAL(mos_buf_string(&out.text), mos_buf_string(&twice.text));
        /* neighbouring runs may have become one on the way in */
        const char *p = mos_buf_string(&in.text), *q = mos_buf_string(&out.text);
        for (; *p && *q; p++, q++) {
            size_t n = strcspn(p, "|"), m = strcspn(q, "|");
            CU_ASSERT(n == m && memcmp(p, q, n) == 0);
            for (p += n; *p != '\n'; p++)
                n = *p == '|' ? 0 : n + 1;
            for (q += m; *q != '\n'; q++)
                m = *q == '|' ? 0 : m + 1;
            CU_ASSERT(n == m && memcmp(p - n, q - n, n) == 0); /* the sum */
        }
        CU_ASSERT(!*p && !*q);
        core_end(&c);
    }
}

static void paths_and_patterns(void) {
    static const struct {
        const char *raw, *normal;
    } paths[] = {{"./a//b/", "a/b"}, {"/a", "a"},  {".", ""},
                 {"a/../b", NULL},   {"..", NULL}, {"...", "..."}};
    static const struct {
        const char *pattern, *path;
        bool fits;
    } patterns[] = {{"lib/modules", "lib/modules", true},
                    {"lib/modules", "lib/modules/6.1/a.ko", true},
                    {"lib/modules", "lib/modules2", false},
                    {"/lib", "lib/x", true},
                    {"*.ko", "a.ko", true},
                    {"*.ko", "d/a.ko", false},
                    {"*/a.ko", "d/a.ko", true},
                    {"l?b", "lib", true},
                    {"a", "b", false}};
    struct core c;
    core_start(&c);
    struct mos_buf buffer = {.arena = c.ctx.arena};
    for (size_t i = 0; i < sizeof paths / sizeof *paths; i++) {
        const char *p = mos_entry_path(&buffer, paths[i].raw);
        CU_ASSERT((p == NULL) == (paths[i].normal == NULL));
        if (p && paths[i].normal)
            CU_ASSERT_STRING_EQUAL(p, paths[i].normal);
    }
    for (size_t i = 0; i < sizeof patterns / sizeof *patterns; i++)
        CU_ASSERT_EQUAL(mos_pattern_fits(patterns[i].pattern, patterns[i].path), patterns[i].fits);
    core_end(&c);
}

/* What a replay brings of each file. */
struct taken {
    char path[64], text[70000];
    size_t length;
    bool bytes, hashed;
    uint8_t sha256[MOS_SHA256_SIZE];
};

static bool take_entry(void *self, const struct mos_entry *entry) {
    struct taken *t = self;
    memset(t, 0, sizeof *t);
    snprintf(t->path, sizeof t->path, "%s", entry->path);
    t->length = (size_t)entry->size;
    t->hashed = entry->sha256 != NULL;
    if (t->hashed)
        memcpy(t->sha256, entry->sha256, sizeof t->sha256);
    return true;
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct taken *t = self;
    t->bytes |= bytes != NULL;
    if (bytes && offset + length <= sizeof t->text)
        memcpy(t->text + offset, bytes, length);
    return true;
}

static bool take_end(void *self, uint64_t sum) {
    (void)self;
    (void)sum;
    return true;
}

/* An index keeps the text of files that rules read, holes and all, and of no others; of other small
 * ones below etc/ their hash. */
static void indexes_keep_small_texts(void) {
    static const struct {
        const char *path;
        size_t length;
        bool kept, hashed;
    } files[] = {{"etc/inittab", 40, true, true},
                 {"etc/ssh/sshd_config", 9000, true, true},
                 {"etc/big", 65536, false, true},
                 {"etc/bigger", 65537, false, false},
                 {"etc/inittab", 65536, true, true},
                 {"etc/inittab", 65537, false, false},
                 {"usr/etc/inittab", 10, false, false},
                 {"etc/empty", 0, false, true},
                 {"etc/wpa_supplicant.conf", 70, false, true}};
    for (size_t i = 0; i < sizeof files / sizeof *files; i++) {
        struct core c;
        static struct taken taken;
        core_start(&c);
        char *text = calloc(1, files[i].length + 1);
        for (size_t k = 0; k < files[i].length; k++)
            text[k] = k / 4096 % 2 ? 0 : (char)('a' + k % 26); /* every other 4 KiB is a hole */
        struct mos_entry e = {.path = files[i].path, .mode = 0644};
        struct mos_index *x = mos_index_new(&c.ctx);
        struct mos_sink record = mos_index_recorder(x, NULL),
                        sink = {&taken, take_entry, take_data, take_end};
        CU_ASSERT_TRUE(mos_bytes_stream(&e, text, files[i].length, &record));
        struct mos_buf saved = {.arena = c.ctx.arena};
        mos_index_save(x, &saved);
        struct mos_index *again = mos_index_load(&c.ctx, saved.data, saved.length);
        CU_ASSERT_PTR_NOT_NULL_FATAL(again);
        CU_ASSERT_TRUE(mos_index_replay(&c.ctx, again, &sink));
        CU_ASSERT_STRING_EQUAL(taken.path, files[i].path);
        CU_ASSERT_EQUAL(taken.bytes, files[i].kept);
        CU_ASSERT_EQUAL(taken.hashed, files[i].hashed);
        uint8_t hash[MOS_SHA256_SIZE];
        mos_sha256(text, files[i].length, hash);
        CU_ASSERT(!files[i].hashed || memcmp(hash, taken.sha256, sizeof hash) == 0);
        bool found =
            memmem(saved.data, saved.length, text, files[i].length < 26 ? files[i].length : 26);
        CU_ASSERT(!files[i].length || found == files[i].kept);
        if (files[i].kept)
            CU_ASSERT_EQUAL(memcmp(taken.text, text, files[i].length), 0);
        free(text);
        core_end(&c);
    }
}

/* What is kept of a file of a usual tree is little more than what tells it from the one before. */
static void indexes_are_small(void) {
    struct core c;
    core_start(&c);
    struct mos_index *x = mos_index_new(&c.ctx);
    struct mos_sink record = mos_index_recorder(x, NULL);
    const size_t count = 5000;
    for (size_t i = 0; i < count; i++) {
        char path[80];
        snprintf(path, sizeof path, "usr/share/part%03zu/file%zu", i / 100, i);
        struct mos_entry e = {.path = path, .mode = 0644, .mtime = 1700000000 + (int64_t)i};
        CU_ASSERT_TRUE(mos_bytes_stream(&e, path, strlen(path), &record));
    }
    struct mos_buf saved = {.arena = c.ctx.arena};
    mos_index_save(x, &saved);
    CU_ASSERT(saved.length < count * 24);
    core_end(&c);
}

/* Passwords leave no trace in an index, and what stands for them has their length. */
static void indexes_keep_no_secret(void) {
    static const char shadow[] =
        "root:$6$estuary$ubJ56q6mL1SjdJkriL42x3MNiDfhvxRDBA8b/Vqj:19000:0:::::\n"
        "locked:!$6$estuary$ubJ56q6mL1SjdJkriL42x3MNiDfhvxRDBA8b/Vqj:1::::::\n"
        "none::1::::::\nnever:*:1::::::\nx:x:1:\nplain:letmein:1:\n"
        "old:ab01FAX.bQRSU:1:\n\n:::\nno colon at all\nlast:$1$saltsalt$qjXMvbEw8oaL.CzflDtaK/";
    static const char *const secrets[] = {"ubJ56q6m", "estuary", "letmein", "ab01FAX", "qjXMvbEw"};
    struct core c;
    static struct taken taken;
    core_start(&c);
    struct mos_entry e = {.path = "etc/shadow", .mode = 0640};
    struct mos_index *x = mos_index_new(&c.ctx);
    struct mos_sink record = mos_index_recorder(x, NULL),
                    sink = {&taken, take_entry, take_data, take_end};
    CU_ASSERT_TRUE(mos_bytes_stream(&e, shadow, sizeof shadow - 1, &record));
    struct mos_buf saved = {.arena = c.ctx.arena};
    mos_index_save(x, &saved);
    for (size_t i = 0; i < sizeof secrets / sizeof *secrets; i++)
        CU_ASSERT_PTR_NULL(memmem(saved.data, saved.length, secrets[i], strlen(secrets[i])));
    CU_ASSERT_TRUE(mos_index_replay(&c.ctx, x, &sink));
    taken.text[sizeof shadow - 1] = 0;
    CU_ASSERT_EQUAL(strlen(taken.text), sizeof shadow - 1);
    static const char *const kept[] = {"root:\1",
                                       "locked:!\1",
                                       "none::1",
                                       "never:*:1",
                                       "x:x:1",
                                       "plain:\2",
                                       "\n:::\nno colon at all\n",
                                       "last:\1"};
    for (size_t i = 0; i < sizeof kept / sizeof *kept; i++)
        CU_ASSERT_PTR_NOT_NULL(strstr(taken.text, kept[i]));
    CU_ASSERT_EQUAL(strlen(mos_field(c.ctx.arena, taken.text, 1)),
                    strlen(mos_field(c.ctx.arena, shadow, 1)));
    /* the same password, the same token */
    CU_ASSERT_STRING_EQUAL(mos_field(c.ctx.arena, taken.text, 1),
                           mos_field(c.ctx.arena, strstr(taken.text, "locked:"), 1) + 1);
    core_end(&c);
}

SUITE(content_suite, {"a sink that gives up ends the stream", a_sink_that_gives_up_ends_the_stream},
      {"archives are hashed", archives_are_hashed},
      {"indexes keep every field", indexes_keep_every_field},
      {"runs", runs_do_not_depend_on_the_pieces}, {"indexes", indexes_replay},
      {"indexes are small", indexes_are_small}, {"indexes keep no secret", indexes_keep_no_secret},
      {"indexes keep small texts", indexes_keep_small_texts},
      {"paths and patterns", paths_and_patterns});
