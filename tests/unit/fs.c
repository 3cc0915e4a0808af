#include "support.h"

#include "base/bytes.h"
#include "content/content.h"
#include "fs/ext4/ext4_internal.h"
#include "fs/fs.h"
#include "fs/walk.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

static struct mos_volume_wish wish(uint64_t size) {
    struct mos_volume_wish w = {.size = size, .sector = 512, .label = "GAUGE", .date = 1767225600};
    mos_uuid_from_name("volume", w.uuid);
    return w;
}

static void add(const struct mos_sink *s, enum mos_entry_type type, const char *path,
                const char *target, const void *bytes, size_t length) {
    struct mos_entry e = {.path = path,
                          .type = type,
                          .mode = type == MOS_ENTRY_FOLDER ? 0755 : 0644,
                          .mtime = 1700000000,
                          .target = target,
                          .size = length};
    bool ok = type == MOS_ENTRY_FILE ? mos_bytes_stream(&e, bytes, length, s)
                                     : s->entry(s->self, &e) && s->end(s->self, 0);
    CU_ASSERT_TRUE(ok);
}

/* A made-up tree: folders, files of many sizes, some with holes. */
static void add_random_tree(const struct mos_sink *s, uint64_t seed, size_t files) {
    static uint8_t bytes[300000];
    add(s, MOS_ENTRY_FOLDER, "log", NULL, NULL, 0);
    for (size_t i = 0; i < files; i++) {
        char path[64];
        size_t length = random_below(&seed, i % 7 ? 9000 : sizeof bytes);
        for (size_t k = 0; k < length; k++)
            bytes[k] = (uint8_t)random_next(&seed);
        if (i % 5 == 0 && length > 100000)
            memset(bytes + 20000, 0, 50000);
        snprintf(path, sizeof path, "log/day %zu.of the %zu th week", i, i / 7);
        add(s, MOS_ENTRY_FILE, path, NULL, bytes, length);
    }
}

static struct mos_volume_result make(struct core *c, const struct mos_fs_driver *d, uint64_t size,
                                     uint8_t *bytes, uint64_t seed, size_t files) {
    struct mos_io io = mos_io_memory(c->ctx.arena, bytes, size);
    struct mos_volume_wish w = wish(size);
    struct mos_volume_base *v = d->begin(&c->ctx, bytes ? &io : NULL, &w);
    struct mos_sink s = d->sink(v);
    struct mos_volume_result r;
    add_random_tree(&s, seed, files);
    if (d->contents) {
        s = d->contents(v);
        add_random_tree(&s, seed, files);
    }
    CU_ASSERT_TRUE_FATAL(d->finish(v, &r));
    return r;
}

/* Counting says the same as writing; the result describes each byte once. */
static void counting_equals_writing(void) {
    static const struct {
        const struct mos_fs_driver *driver;
        uint64_t size;
        size_t files;
    } cases[] = {{&mos_fs_ext4, 2 << 20, 30},      {&mos_fs_ext4, 40 << 20, 200},
                 {&mos_fs_ext4, 160 << 20, 400},   {&mos_fs_fat32, 34 << 20, 100},
                 {&mos_fs_fat32, 40 << 20, 300},   {&mos_fs_ext4, 2 << 20, 400},
                 {&mos_fs_fat16, 20 << 20, 80},    {&mos_fs_fat12, 8 << 20, 40},
                 {&mos_fs_cpio, 20 << 20, 60},     {&mos_fs_swap, 1 << 20, 0},
                 {&mos_fs_squashfs, 20 << 20, 200}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        uint8_t *bytes = calloc(1, cases[i].size);
        struct mos_volume_result counted =
            make(&c, cases[i].driver, cases[i].size, NULL, i, cases[i].files);
        struct mos_volume_result written =
            make(&c, cases[i].driver, cases[i].size, bytes, i, cases[i].files);
        CU_ASSERT_EQUAL(counted.fits, written.fits);
        CU_ASSERT_EQUAL(counted.free, written.free);
        CU_ASSERT_EQUAL(counted.missing, written.missing);
        CU_ASSERT_EQUAL(counted.spans.count, written.spans.count);
        CU_ASSERT(!written.fits || memcmp(counted.spans.items, written.spans.items,
                                          written.spans.count * sizeof(struct mos_span)) == 0);
        CU_ASSERT_EQUAL(written.fits, i != 5);
        uint64_t at = 0;
        for (size_t k = 0; k < written.spans.count; k++) {
            const struct mos_span *s = mos_vec_at(&written.spans, k);
            CU_ASSERT_EQUAL(s->offset, at);
            for (uint64_t b = 0; b < s->length && s->kind != MOS_SPAN_DATA; b += 512)
                if (bytes[s->offset + b])
                    CU_FAIL("a span that is not data holds some");
            at += s->length;
        }
        CU_ASSERT(!written.fits || at == cases[i].size);
        free(bytes);
        core_end(&c);
    }
}

/* The smallest region that is accepted works; a KiB less is refused, and says how much is missing.
 */
static void the_limit_is_exact(void) {
    for (uint64_t seed = 1; seed <= 12; seed++) {
        struct core c;
        core_start(&c);
        uint64_t low = 256 << 10, high = 16 << 20;
        while (high - low > 1024) {
            uint64_t middle = (low + high) / 2 / 1024 * 1024;
            if (make(&c, &mos_fs_ext4, middle, NULL, seed, 20 + seed).fits)
                high = middle;
            else
                low = middle;
        }
        uint8_t *bytes = calloc(1, high);
        struct mos_volume_info info;
        CU_ASSERT_TRUE(make(&c, &mos_fs_ext4, high, bytes, seed, 20 + seed).fits);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, high);
        CU_ASSERT_TRUE(mos_fs_probe(&io, c.ctx.arena, &info) && !info.damaged);
        struct mos_volume_result less = make(&c, &mos_fs_ext4, high - 1024, NULL, seed, 20 + seed);
        CU_ASSERT_FALSE(less.fits);
        CU_ASSERT_EQUAL(less.missing, 1024);
        free(bytes);
        core_end(&c);
    }
}

static void volumes_are_recognised(void) {
    for (size_t i = 0; mos_fs_at(i); i++) {
        struct core c;
        core_start(&c);
        const uint64_t size = 40 << 20;
        uint8_t *bytes = calloc(1, size);
        struct mos_volume_info info;
        struct mos_volume_result r = make(&c, mos_fs_at(i), size, bytes, 9, 25);
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, size);
        CU_ASSERT_TRUE_FATAL(mos_fs_probe(&io, c.ctx.arena, &info));
        CU_ASSERT_STRING_EQUAL(info.kind, mos_fs_at(i)->name);
        CU_ASSERT_STRING_EQUAL(info.label, mos_fs_at(i)->longest_label ? "GAUGE" : "");
        CU_ASSERT(!mos_fs_at(i)->edit || info.free == r.free);
        CU_ASSERT_FALSE(info.damaged);
        free(bytes);
        core_end(&c);
    }
}

/* What a volume will be called is what a probe of it says. */
static void names_are_foreseen(void) {
    static const char *const labels[] = {"",
                                         "root",
                                         "BOOT",
                                         "Gauge 7",
                                         "eleven-chrs",
                                         "sixteen-letters-",
                                         "a label that is longer",
                                         "NO NAME",
                                         "tr ail  "};
    uint64_t seed = 3;
    for (size_t i = 0; mos_fs_at(i); i++)
        for (size_t k = 0; k < sizeof labels / sizeof *labels && mos_fs_at(i)->foresee; k++) {
            struct core c;
            core_start(&c);
            const struct mos_fs_driver *d = mos_fs_at(i);
            const uint64_t size = d->smallest(512) < 8 << 20 ? 8 << 20 : 34 << 20;
            uint8_t *bytes = calloc(1, size);
            struct mos_io io = mos_io_memory(c.ctx.arena, bytes, size);
            struct mos_volume_wish w = wish(size);
            struct mos_volume_info told, seen = {0};
            struct mos_volume_result r;
            w.label = labels[k];
            for (size_t n = 0; n < 16; n++)
                w.uuid[n] = (uint8_t)random_next(&seed);
            struct mos_volume_base *v = d->begin(&c.ctx, &io, &w);
            CU_ASSERT_TRUE_FATAL(d->finish(v, &r) && mos_fs_probe(&io, c.ctx.arena, &told));
            d->foresee(c.ctx.arena, &w, &seen);
            CU_ASSERT_STRING_EQUAL(told.label, seen.label);
            CU_ASSERT_STRING_EQUAL(told.id, seen.id);
            free(bytes);
            core_end(&c);
        }
}

/* A path is followed as the kernel follows it: against a walk that knows nothing but parts. */
static void links_are_followed(void) {
    static const struct {
        const char *path, *leads_to; /* NULL: nowhere */
    } rows[] = {{"", ""},
                {"/", ""},
                {"bin/sh", "usr/bin/busybox"},
                {"/bin/sh", "usr/bin/busybox"},
                {"lib/x", "usr/lib/x"},
                {"lib/../bin/sh", "usr/bin/busybox"},
                {"usr/lib/up/bin/sh", "usr/bin/busybox"},
                {"./usr/./lib//x", "usr/lib/x"},
                {"../../usr/lib/x", "usr/lib/x"},
                {"loop", NULL},
                {"loop/x", NULL},
                {"gone", NULL},
                {"usr/lib/x/y", NULL},
                {"twice", "usr/lib/x"},
                {"bin", "usr/bin"}};
    struct core c;
    core_start(&c);
    struct mos_inventory *inv = mos_inventory_new(c.ctx.arena, 0, false);
    static const struct {
        const char *path, *target;
    } entries[] = {{"usr/bin/busybox", NULL}, {"usr/lib/x", NULL},       {"bin", "usr/bin"},
                   {"lib", "/usr/lib"},       {"usr/bin/sh", "busybox"}, {"usr/lib/up", "../.."},
                   {"loop", "pool"},          {"pool", "loop"},          {"gone", "/not/there"},
                   {"twice", "once"},         {"once", "lib/x"}};
    for (size_t i = 0; i < sizeof entries / sizeof *entries; i++) {
        struct mos_entry e = {.path = entries[i].path,
                              .type = entries[i].target ? MOS_ENTRY_LINK : MOS_ENTRY_FILE,
                              .mode = 0755,
                              .target = entries[i].target};
        uint32_t index;
        mos_inv_add(inv, &e, 0, false, &index);
    }
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        uint32_t index = 0, expected = 0;
        bool found = mos_inv_follow(inv, c.ctx.arena, rows[i].path, &index);
        bool there = rows[i].leads_to && mos_inv_find(inv, rows[i].leads_to, &expected);
        if (found != there || (found && index != expected))
            fprintf(stderr, "\n%s leads to %u\n", rows[i].path, index);
        CU_ASSERT(found == there && (!found || index == expected));
    }
    CU_ASSERT_TRUE(mos_inv_is_system(inv, c.ctx.arena));
    core_end(&c);
}

/* How fills meet. */
static void fills_meet(void) {
    struct core c;
    core_start(&c);
    struct mos_volume_wish w = wish(8 << 20);
    struct mos_volume_base *v = mos_fs_ext4.begin(&c.ctx, NULL, &w);
    struct mos_sink s = mos_fs_ext4.sink(v);
    struct mos_inventory *inv = v->inventory;
    uint32_t index;
    add(&s, MOS_ENTRY_LINK, "lib", "usr/lib", NULL, 0);
    add(&s, MOS_ENTRY_LINK, "loop", "loop", NULL, 0);
    add(&s, MOS_ENTRY_FILE, "etc/name", NULL, "curlew", 6);
    add(&s, MOS_ENTRY_FILE, "etc/same", NULL, "jetty", 5);
    add(&s, MOS_ENTRY_HARD_LINK, "etc/alias", "etc/name", NULL, 0);
    v->fill = 1;
    add(&s, MOS_ENTRY_FOLDER, "lib", NULL, NULL, 0); /* stays a link */
    add(&s, MOS_ENTRY_FILE, "lib/modules/a.ko", NULL, "m", 1);
    CU_ASSERT_TRUE(mos_inv_find(inv, "usr/lib/modules/a.ko", &index));
    CU_ASSERT_TRUE(mos_inv_find(inv, "lib", &index) &&
                   mos_inv_node(inv, index)->type == MOS_ENTRY_LINK);
    CU_ASSERT_FALSE(mos_inv_find(inv, "lib/modules", &index));
    add(&s, MOS_ENTRY_FILE, "etc/same", NULL, "jetty", 5); /* equal content */
    CU_ASSERT_EQUAL(inv->clash_count, 0);
    add(&s, MOS_ENTRY_FILE, "etc/name", NULL, "dunlin", 6);
    CU_ASSERT_EQUAL(inv->clash_count, 1);
    add(&s, MOS_ENTRY_FILE, "loop/x", NULL, "x", 1);
    add(&s, MOS_ENTRY_FILE, "etc/name/x", NULL, "x", 1);
    CU_ASSERT_EQUAL(inv->clash_count, 3);
    v->replaces = true;
    add(&s, MOS_ENTRY_FILE, "etc/same", NULL, "mast!", 5);
    CU_ASSERT_EQUAL(inv->clash_count, 3);
    add(&s, MOS_ENTRY_HARD_LINK, "etc/lost", "not/there", NULL, 0);
    CU_ASSERT_EQUAL(inv->refusal_count, 1);
    CU_ASSERT_TRUE(mos_inv_find(inv, "etc/name", &index) && mos_inv_node(inv, index)->links == 2);
    core_end(&c);
}

/* An owner is kept as it is or refused; the highest number means nobody. */
static void owners_are_kept_or_refused(void) {
    static const struct {
        uint64_t owner;
        bool kept;
    } cases[] = {{0, true},           {65535, true},       {65536, true},      {4294967294, true},
                 {4294967295, false}, {4294967296, false}, {UINT64_MAX, false}};
    for (size_t i = 0; i < 2 * sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_volume_wish w = wish(8 << 20);
        struct mos_volume_base *v = mos_fs_ext4.begin(&c.ctx, NULL, &w);
        struct mos_sink s = mos_fs_ext4.sink(v);
        struct mos_entry e = {.path = "f", .mode = 0644};
        uint32_t index;
        *(i % 2 ? &e.uid : &e.gid) = cases[i / 2].owner;
        CU_ASSERT_TRUE(mos_bytes_stream(&e, "x", 1, &s));
        CU_ASSERT_EQUAL(v->inventory->refusal_count, !cases[i / 2].kept);
        CU_ASSERT_EQUAL(mos_inv_find(v->inventory, "f", &index), cases[i / 2].kept);
        core_end(&c);
    }
}

static void fat_refuses_what_it_cannot_hold(void) {
    static const struct {
        enum mos_entry_type type;
        const char *path;
    } cases[] = {{MOS_ENTRY_LINK, "l"},     {MOS_ENTRY_CHAR, "c"},    {MOS_ENTRY_FIFO, "f"},
                 {MOS_ENTRY_FILE, "a:b"},   {MOS_ENTRY_FILE, "dot."}, {MOS_ENTRY_FILE, "\xff"},
                 {MOS_ENTRY_FILE, "README"}};
    struct core c;
    core_start(&c);
    struct mos_volume_wish w = wish(40 << 20);
    struct mos_volume_base *v = mos_fs_fat32.begin(&c.ctx, NULL, &w);
    struct mos_sink s = mos_fs_fat32.sink(v);
    add(&s, MOS_ENTRY_FILE, "readme", NULL, "x", 1);
    CU_ASSERT_EQUAL(v->inventory->refusal_count, 0);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        add(&s, cases[i].type, cases[i].path, "target", "x", 1);
        CU_ASSERT_EQUAL(v->inventory->refusal_count, i + 1);
    }
    core_end(&c);
}

/* What comes the second time must be what came the first time, and all of it. */
static void a_second_coming_is_the_first(void) {
    static const char *const second[] = {"same", "samf", "longer", NULL};
    for (size_t i = 0; i < 4; i++) {
        struct core c;
        core_start(&c);
        struct mos_volume_wish w = wish(1 << 20);
        struct mos_volume_base *v = mos_fs_squashfs.begin(&c.ctx, NULL, &w);
        struct mos_sink s = mos_fs_squashfs.sink(v);
        struct mos_volume_result r;
        struct mos_entry e = {.path = "log", .mode = 0644};
        add(&s, MOS_ENTRY_FILE, "log", NULL, "same", 4);
        s = mos_fs_squashfs.contents(v);
        bool good =
            !second[i] || mos_bytes_stream(&e, second[i], second[i] ? strlen(second[i]) : 0, &s);
        good = good && mos_fs_squashfs.finish(v, &r);
        CU_ASSERT_EQUAL(good, i == 0);
        CU_ASSERT_EQUAL(c.error.kind, i ? MOS_ERROR_SYSTEM : MOS_ERROR_NONE);
        core_end(&c);
    }
}

/* A squashfs that is not read here is none that is damaged. */
static void what_is_not_read_is_not_damaged(void) {
    static const struct {
        size_t at; /* of the superblock */
        uint8_t value;
        bool read, damaged;
    } cases[] = {{24, 0xc0, true, false},
                 {20, 2, false, false},
                 {28, 3, false, false},
                 {12, 7, false, true},
                 {40, 0xff, false, true}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        uint8_t *bytes = calloc(1, 1 << 20);
        struct mos_volume_info info = {0};
        CU_ASSERT_TRUE(make(&c, &mos_fs_squashfs, 1 << 20, bytes, 3, 5).fits);
        bytes[cases[i].at] = cases[i].value;
        if (cases[i].at == 40)
            memset(bytes + 40, 0xff, 6); /* it says that it is larger than what there is */
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, 1 << 20);
        CU_ASSERT(mos_fs_probe(&io, c.ctx.arena, &info) && strcmp(info.kind, "squashfs") == 0);
        CU_ASSERT_EQUAL(info.driver != NULL, cases[i].read);
        CU_ASSERT_EQUAL(info.damaged, cases[i].damaged);
        free(bytes);
        core_end(&c);
    }
}

/* What squashfs cannot store is refused by name. */
static void squashfs_refuses(void) {
    struct core c;
    core_start(&c);
    struct mos_volume_wish w = wish(1 << 20);
    struct mos_volume_base *v = mos_fs_squashfs.begin(&c.ctx, NULL, &w);
    struct mos_sink s = mos_fs_squashfs.sink(v);
    static char name[300], target[5000];
    static const uint8_t list[] = {3, 0, 1, 0, 0, 0, 's', '.', 'x', 1};
    memset(name, 'n', 256);
    memset(target, 't', 4096);
    add(&s, MOS_ENTRY_FILE, name, NULL, "x", 1);
    add(&s, MOS_ENTRY_LINK, "l", target, NULL, 0);
    struct mos_entry e = {
        .path = "a", .mode = 0644, .attributes = list, .attributes_length = sizeof list};
    CU_ASSERT(mos_bytes_stream(&e, "x", 1, &s));
    CU_ASSERT_EQUAL(v->inventory->refusal_count, 3);
    name[255] = target[4095] = 0;
    add(&s, MOS_ENTRY_FILE, name, NULL, "x", 1);
    add(&s, MOS_ENTRY_LINK, "l", target, NULL, 0);
    CU_ASSERT_EQUAL(v->inventory->refusal_count, 3);
    core_end(&c);
}

/* Every write that fails is told, and only then. */
static void every_failed_write_is_told(void) {
    for (size_t d = 0; mos_fs_at(d); d++) {
        unsigned long all = 1;
        for (unsigned long n = 0; n < all; n++) {
            struct core c;
            core_start(&c);
            const uint64_t size = 34 << 20;
            static uint8_t *bytes;
            bytes = bytes ? bytes : calloc(1, size);
            unsigned long calls = 0;
            struct mos_io io = mos_io_memory(c.ctx.arena, bytes, size);
            struct mos_io bad = mos_io_faulty(c.ctx.arena, &io, n, ENOSPC, &calls);
            struct mos_volume_wish w = wish(size);
            struct mos_volume_base *v = mos_fs_at(d)->begin(&c.ctx, &bad, &w);
            struct mos_sink s = mos_fs_at(d)->sink(v);
            struct mos_volume_result r;
            if (mos_fs_at(d)->stream)
                add(&s, MOS_ENTRY_FILE, "etc/name", NULL, "curlew", 6);
            if (mos_fs_at(d)->contents) {
                s = mos_fs_at(d)->contents(v);
                add(&s, MOS_ENTRY_FILE, "etc/name", NULL, "curlew", 6);
            }
            CU_ASSERT_EQUAL(mos_fs_at(d)->finish(v, &r), n == 0);
            CU_ASSERT_EQUAL(c.error.kind, n ? MOS_ERROR_SYSTEM : MOS_ERROR_NONE);
            if (!n)
                all = calls + 1;
            core_end(&c);
        }
        CU_ASSERT(all > (mos_fs_at(d)->edit ? 5 : 1));
    }
}

/* Hashes of names are those of the system's own tool, with and without a seed. */
static void names_are_hashed_alike(void) {
    uint64_t seed = 64;
    static const char letters[] = "abcXYZ019._-+~";
    for (size_t i = 0; i < 60; i++) {
        char name[256], id[40];
        uint8_t key[16];
        size_t n = 1 + random_below(&seed, i % 2 ? 70 : 255);
        for (size_t k = 0; k < n; k++)
            name[k] = letters[random_below(&seed, sizeof letters - 1)];
        name[0] = 'n'; /* no option */
        name[n] = 0;
        for (size_t k = 0; k < 16; k++)
            key[k] = i % 3 ? (uint8_t)random_next(&seed) : 0;
        size_t at = 0;
        for (size_t k = 0; k < 16; k++)
            at += (size_t)sprintf(id + at, "%s%02x",
                                  k == 4 || k == 6 || k == 8 || k == 10 ? "-" : "", key[k]);
        uint32_t minor, hash = ext4_name_hash(key, name, n, &minor);
        struct outcome o = run_shell("debugfs -R 'dx_hash -h half_md4 -s %s %s' 2>&1", id, name);
        char expected[80];
        snprintf(expected, sizeof expected, "is 0x%x (minor 0x%x)", hash, minor);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, expected));
        outcome_free(&o);
    }
}

/* ---- going through a volume ---- */

/* A made-up volume: folder i holds the names in `rows` that say so. */
struct maze {
    struct mos_walk at;
    const struct maze_row {
        uint64_t in;
        const char *name;
        uint64_t is; /* a folder below 100, else a file; of one content where equal */
    } * rows;
    size_t count;
    uint64_t folder;
    struct mos_buf told;
    size_t stop_after;
};

static void list_maze(void *self, struct mos_vec *children) {
    struct maze *m = self;
    for (size_t i = 0; i < m->count; i++)
        if (m->rows[i].in == m->folder && !mos_walk_child(&m->at, children, m->rows[i].name,
                                                          strlen(m->rows[i].name), m->rows[i].is))
            mos_volume_lost(m->at.request, mos_walk_path(&m->at), "bad");
}

static bool tell_maze(void *self, uint64_t reference) {
    struct maze *m = self;
    struct mos_entry e = {.type = reference < 100 ? MOS_ENTRY_FOLDER : MOS_ENTRY_FILE, .size = 1};
    if (e.type == MOS_ENTRY_FILE)
        mos_walk_link(&m->at, reference, &e);
    mos_buf_printf(&m->told, "%s%s%s%s ", mos_walk_path(&m->at),
                   e.type == MOS_ENTRY_FOLDER ? "/" : "", e.target ? "=" : "",
                   e.target ? e.target : "");
    if (m->stop_after && !--m->stop_after)
        return false;
    m->folder = reference;
    return e.type != MOS_ENTRY_FOLDER ||
           mos_walk_folder(&m->at, reference, list_maze, tell_maze, self);
}

/* Everything is told once, whatever leads back; what cannot be is a problem, and the walk goes on.
 */
static void walks_end(void) {
    static const struct maze_row
        plain[] = {{1, "a", 2}, {2, "b", 3}, {3, "x", 100}, {1, "y", 101}, {2, "z", 100}},
        loops[] = {{1, "a", 2}, {2, "up", 1}, {2, "self", 2}, {2, "x", 100}, {1, "again", 2}},
        names[] = {{1, "..", 100},  {1, ".", 101},   {1, "", 102},
                   {1, "a/b", 103}, {1, "...", 104}, {1, ".x", 105}};
    const struct {
        const struct maze_row *rows;
        size_t count, problems, stop_after;
        uint64_t names;
        bool whole_links;
        const char *told;
    } mazes[] = {{plain, 5, 0, 0, 99, false, "/ a/ a/b/ a/b/x a/z=a/b/x y "},
                 {plain, 5, 0, 0, 99, true, "/ a/ a/b/ a/b/x a/z y "},
                 {plain, 5, 0, 4, 99, false, "/ a/ a/b/ a/b/x "},
                 {plain, 5, 1, 0, 4, false, "/ a/ a/b/ a/z y "},
                 {loops, 5, 3, 0, 99, false, "/ a/ a/up/ a/self/ a/x again/ "},
                 {names, 6, 4, 0, 99, false, "/ ... .x "}};
    for (size_t i = 0; i < sizeof mazes / sizeof *mazes; i++) {
        struct core c;
        core_start(&c);
        struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
        struct mos_read_request request = {.problems = &problems,
                                           .whole_links = mazes[i].whole_links};
        struct maze m = {.at = mos_walk_make(&c.ctx, &request, mazes[i].names),
                         .rows = mazes[i].rows,
                         .count = mazes[i].count,
                         .told = {.arena = c.ctx.arena},
                         .stop_after = mazes[i].stop_after};
        CU_ASSERT_EQUAL(tell_maze(&m, 1), mazes[i].stop_after == 0);
        CU_ASSERT_STRING_EQUAL(mos_buf_string(&m.told), mazes[i].told);
        CU_ASSERT_EQUAL(problems.count, mazes[i].problems);
        CU_ASSERT(mazes[i].stop_after || (!m.at.depth && !m.at.path.length));
        core_end(&c);
    }
    /* too deep: a path of 256 folders is told, the next one is not entered */
    struct core c;
    core_start(&c);
    struct mos_vec problems = mos_vec_make(c.ctx.arena, sizeof(char *));
    struct mos_read_request request = {.problems = &problems};
    struct mos_walk w = mos_walk_make(&c.ctx, &request, 9);
    for (uint64_t i = 0; i < 300; i++)
        CU_ASSERT_EQUAL(mos_walk_enter(&w, i), i < 256);
    CU_ASSERT_EQUAL(problems.count, 44);
    for (unsigned i = 0; i < 256; i++)
        mos_walk_leave(&w);
    CU_ASSERT_TRUE(mos_walk_enter(&w, 1000));
    core_end(&c);
}

SUITE(fs_suite, {"names are foreseen", names_are_foreseen},
      {"links are followed", links_are_followed},
      {"owners are kept or refused", owners_are_kept_or_refused},
      {"names are hashed alike", names_are_hashed_alike},
      {"counting equals writing", counting_equals_writing},
      {"the limit is exact", the_limit_is_exact},
      {"volumes are recognised", volumes_are_recognised}, {"fills meet", fills_meet},
      {"FAT refuses", fat_refuses_what_it_cannot_hold},
      {"failed writes", every_failed_write_is_told},
      {"a second coming is the first", a_second_coming_is_the_first},
      {"squashfs refuses", squashfs_refuses}, {"walks end", walks_end},
      {"what is not read is not damaged", what_is_not_read_is_not_damaged});
