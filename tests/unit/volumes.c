/* Volumes there and back: what is written is read, what is changed is changed and nothing else. */
#include "support.h"

#include "base/bytes.h"
#include "content/attributes.h"
#include "content/content.h"
#include "fs/fs.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

/* ---- a model: path -> what is known of it ---- */

struct thing {
    enum mos_entry_type type;
    uint16_t mode;
    uint32_t uid, gid, major, minor;
    int64_t mtime;
    uint64_t size, sum;
    const char *target;
    const uint8_t *attributes;
    size_t attributes_length;
    bool met;
};

struct model {
    struct core *c;
    struct mos_map things;
    struct thing *current;
    struct mos_sink through; /* entry NULL: none */
    size_t wrong;
    bool plain; /* owners, modes and dates are not kept by this file system */
};

static bool note_entry(void *self, const struct mos_entry *e) {
    struct model *m = self;
    struct mos_arena *arena = m->c->ctx.arena;
    struct thing *t = mos_alloc(arena, sizeof *t);
    uint8_t *copy = mos_alloc(arena, e->attributes_length + 1);
    if (e->attributes_length)
        memcpy(copy, e->attributes, e->attributes_length);
    *t = (struct thing){.type = e->type,
                        .mode = e->mode,
                        .uid = (unsigned)e->uid,
                        .gid = (unsigned)e->gid,
                        .major = e->major,
                        .minor = e->minor,
                        .mtime = e->mtime,
                        .size = e->size,
                        .target = e->target ? mos_strdup(arena, e->target) : NULL,
                        .attributes = copy,
                        .attributes_length = e->attributes_length};
    mos_map_set(&m->things, mos_strdup(arena, e->path), t);
    m->current = t;
    return !m->through.entry || m->through.entry(m->through.self, e);
}

static bool note_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct model *m = self;
    return !m->through.data || m->through.data(m->through.self, offset, bytes, length);
}

static bool note_end(void *self, uint64_t sum) {
    struct model *m = self;
    m->current->sum = sum;
    return !m->through.end || m->through.end(m->through.self, sum);
}

static struct model model_of(struct core *c, const struct mos_sink *through, bool plain) {
    struct model m = {.c = c, .things = mos_map_make(c->ctx.arena), .plain = plain};
    if (through)
        m.through = *through;
    return m;
}

static struct mos_sink model_sink(struct model *m) {
    return (struct mos_sink){m, note_entry, note_data, note_end};
}

static const char *differs(const struct model *m, const struct thing *a, const struct thing *b) {
    if (a->type != b->type)
        return "type";
    if (a->size != b->size || a->sum != b->sum)
        return "content";
    if (a->target && b->target && strcmp(a->target, b->target) != 0)
        return "target";
    if (m->plain)
        return NULL;
    if (a->mode != b->mode || a->uid != b->uid || a->gid != b->gid || a->mtime != b->mtime)
        return "owner, mode or date";
    if (a->major != b->major || a->minor != b->minor)
        return "device";
    if (a->attributes_length != b->attributes_length ||
        memcmp(a->attributes, b->attributes, a->attributes_length) != 0)
        return "attributes";
    return NULL;
}

/* Every thing of `a` is in `b` and the same; what `b` has more are folders of its own making. */
static void check_same(struct model *a, struct model *b) {
    for (size_t i = 0; i < a->things.count; i++) {
        const char *path = a->things.items[i].key;
        struct thing *x = a->things.items[i].value, *y = mos_map_get(&b->things, path);
        const char *what = y ? differs(a, x, y) : "missing";
        if (what)
            fprintf(stderr, "\n/%s: %s\n", path, what);
        CU_ASSERT_PTR_NULL(what);
        if (y)
            y->met = true;
    }
    for (size_t i = 0; i < b->things.count; i++) {
        const struct thing *y = b->things.items[i].value;
        CU_ASSERT(y->met || y->type == MOS_ENTRY_FOLDER);
    }
}

/* ---- trees ---- */

enum attributes { NO_ATTRIBUTES, NO_ACCESS_LISTS, ALL_ATTRIBUTES };

static void attribute_list(struct core *c, uint64_t *seed, enum attributes which,
                           struct mos_buf *out) {
    static const char *const names[] = {"user.note", "security.capability", "security.selinux",
                                        "trusted.x"};
    struct mos_attribute_set set = mos_attribute_set_make(c->ctx.arena);
    uint8_t value[900];
    size_t count = random_below(seed, 4);
    memset(value, (int)random_below(seed, 256), sizeof value);
    for (size_t i = 0; i < count; i++)
        mos_attribute_add(&set, names[i], strlen(names[i]), value,
                          random_below(seed, i ? 40 : 500));
    if (random_below(seed, 5) == 0 && which == ALL_ATTRIBUTES) {
        static const uint8_t acl[] = {2,   0,   0,   0,   1,   0,   6,  0,   255, 255, 255,
                                      255, 2,   0,   4,   0,   9,   1,  0,   0,   4,   0,
                                      4,   0,   255, 255, 255, 255, 16, 0,   6,   0,   255,
                                      255, 255, 255, 32,  0,   0,   0,  255, 255, 255, 255};
        mos_attribute_add(&set, "system.posix_acl_access", 23, acl, sizeof acl);
    }
    mos_attribute_pack(&set, out);
}

static void put_tree(struct core *c, const struct mos_sink *s, uint64_t seed, size_t entries,
                     bool plain, enum attributes attributes) {
    static uint8_t bytes[200000], pieces[3200000];
    char path[300], target[200] = "", last[300] = "";
    for (size_t i = 0; i < entries; i++) {
        static const enum mos_entry_type types[] = {MOS_ENTRY_LINK, MOS_ENTRY_HARD_LINK,
                                                    MOS_ENTRY_CHAR, MOS_ENTRY_FIFO};
        struct mos_buf list = {.arena = c->ctx.arena};
        size_t folder = random_below(&seed, 4), kind = random_below(&seed, 10);
        snprintf(path, sizeof path, "%s%s %zu-%.*s",
                 folder == 0   ? ""
                 : folder == 1 ? "tides/"
                 : folder == 2 ? "tides/höhe/"
                               : "log/",
                 i % 3 ? "entry number" : "e", i, (int)random_below(&seed, 60),
                 "nnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnnn");
        struct mos_entry e = {.path = path,
                              .mode = plain ? 0644 : (uint16_t)random_below(&seed, 010000),
                              .mtime = 1700000000 + 2 * (int64_t)random_below(&seed, 100000),
                              .target = target};
        if (!plain) {
            e.uid = (uint32_t)random_below(&seed, 100000);
            e.gid = (uint32_t)random_below(&seed, 100000);
        }
        if (attributes)
            attribute_list(c, &seed, attributes, &list);
        e.attributes = (const uint8_t *)list.data;
        e.attributes_length = list.length;
        if (i == 5 &&
            entries > 300) { /* so many pieces that their list needs blocks, and those a list */
            memset(pieces, 0, sizeof pieces);
            for (size_t k = 0; k < sizeof pieces; k += 8192)
                memset(pieces + k, 1 + (int)(k % 255), 4096);
            CU_ASSERT_TRUE(mos_bytes_stream(&e, pieces, sizeof pieces, s));
            continue;
        }
        if (plain || kind < 7 || !*last) {
            size_t length = random_below(&seed, kind ? 9000 : sizeof bytes);
            for (size_t k = 0; k < length; k++)
                bytes[k] = (uint8_t)random_next(&seed);
            if (length > 40000)
                memset(bytes + 8192, 0, 20000);
            CU_ASSERT_TRUE(mos_bytes_stream(&e, bytes, length, s));
            strcpy(last, path);
            continue;
        }
        e.type = types[random_below(&seed, 4)];
        memset(target, 't', 1 + random_below(&seed, 150));
        if (e.type == MOS_ENTRY_HARD_LINK)
            strcpy(target, last);
        else if (e.type == MOS_ENTRY_CHAR)
            e.major = (uint32_t)random_below(&seed, 400), e.minor = (uint32_t)i;
        if (e.type == MOS_ENTRY_HARD_LINK) /* it has nothing of its own */
            e.attributes_length = 0;
        CU_ASSERT_TRUE(s->entry(s->self, &e) && s->end(s->self, 0));
        memset(target, 0, sizeof target);
    }
}

static struct mos_volume_wish wish(uint64_t size) {
    struct mos_volume_wish w = {.size = size, .sector = 512, .label = "GAUGE", .date = 1767225600};
    mos_uuid_from_name("volume", w.uuid);
    mos_uuid_from_name("hash", w.hash_seed);
    return w;
}

/* A volume of a seed in memory; *m: what is in it. */
static struct mos_io volume_of(struct core *c, const struct mos_fs_driver *d, uint64_t size,
                               uint32_t unit, uint64_t seed, size_t entries, struct model *m) {
    struct mos_io io = mos_io_memory(c->ctx.arena, mos_alloc(c->ctx.arena, size), size);
    struct mos_io *held = mos_alloc(c->ctx.arena, sizeof *held);
    *held = io;
    struct mos_volume_wish w = wish(size);
    static const char *const compressions[] = {"gz", "xz", "zst"};
    w.unit = unit;
    w.compress = compressions[seed % 3];
    struct mos_volume_base *v = d->begin(&c->ctx, held, &w);
    struct mos_sink sink = d->sink(v);
    bool plain = d->no_owners;
    enum attributes which = d == &mos_fs_ext4       ? ALL_ATTRIBUTES
                            : d == &mos_fs_squashfs ? NO_ACCESS_LISTS
                                                    : NO_ATTRIBUTES;
    *m = model_of(c, &sink, plain);
    struct mos_sink through = model_sink(m);
    put_tree(c, &through, seed, entries, plain, which);
    if (d->contents) {
        sink = d->contents(v);
        put_tree(c, &sink, seed, entries, plain, which);
    }
    struct mos_volume_result r;
    CU_ASSERT_TRUE_FATAL(d->finish(v, &r) && r.fits);
    CU_ASSERT_EQUAL(v->inventory->refusal_count, 0);
    return io;
}

static size_t read_all(struct core *c, const struct mos_fs_driver *d, struct mos_io *io,
                       struct model *into) {
    struct mos_vec problems = mos_vec_make(c->ctx.arena, sizeof(char *));
    struct mos_sink sink = model_sink(into);
    struct mos_read_request request = {.sink = &sink, .problems = &problems};
    CU_ASSERT_TRUE(d->stream(&c->ctx, io, &request));
    return problems.count;
}

/* Hard links are told apart by who comes first, which the order of reading decides. */
static void settle_links(struct model *m) {
    for (size_t i = 0; i < m->things.count; i++) {
        struct thing *t = m->things.items[i].value;
        if (t->type != MOS_ENTRY_HARD_LINK)
            continue;
        const struct thing *o = mos_map_get(&m->things, t->target);
        for (unsigned hops = 0; o && o->type == MOS_ENTRY_HARD_LINK && hops < 100; hops++)
            o = mos_map_get(&m->things, o->target);
        if (o)
            *t = *o;
    }
}

/* What the system's own checker says. */
static bool accepted(struct core *c, struct mos_io *io) {
    const char *path = keep(path_in(test_folder("checked"), "volume"));
    uint8_t *bytes = mos_alloc(c->ctx.arena, io->size);
    CU_ASSERT_EQUAL(mos_io_read(io, bytes, io->size, 0), 0);
    write_file(path, bytes, io->size);
    bool good = runs(0, "$JUDGE e2fsck -fn '%s'", path);
    remove_folder(path);
    return good;
}

static void what_is_written_is_read(void) {
    static const struct {
        const struct mos_fs_driver *d;
        uint64_t size;
        uint32_t unit;
        size_t entries, blocks; /* blocks 0: as many as fit */
    } cases[] = {{&mos_fs_ext4, 24 << 20, 0, 150},
                 {&mos_fs_ext4, 64 << 20, 4096, 900},
                 {&mos_fs_ext4, 48 << 20, 1024, 600},
                 {&mos_fs_ext4, 48 << 20, 2048, 400},
                 /* a last group that is too short to be of use, and one that just is */
                 {&mos_fs_ext4, (16 << 20) + (50 << 10), 1024, 60, 16385},
                 {&mos_fs_ext4, (16 << 20) + (60 << 10), 1024, 60, 16444},
                 {&mos_fs_fat32, 48 << 20, 512, 300},
                 {&mos_fs_fat16, 32 << 20, 0, 250},
                 {&mos_fs_fat12, 16 << 20, 0, 120},
                 {&mos_fs_squashfs, 24 << 20, 0, 1200},
                 {&mos_fs_squashfs, 24 << 20, 4096, 400},
                 {&mos_fs_squashfs, 24 << 20, 1 << 20, 400},
                 {&mos_fs_cpio, 24 << 20, 0, 200}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++)
        for (uint64_t seed = 1; seed <= 3; seed++) {
            struct core c;
            core_start(&c);
            struct model wrote, read;
            struct mos_io io = volume_of(&c, cases[i].d, cases[i].size, cases[i].unit,
                                         seed + i * 10, cases[i].entries, &wrote);
            read = model_of(&c, NULL, wrote.plain);
            CU_ASSERT_EQUAL(read_all(&c, cases[i].d, &io, &read), 0);
            if (seed == 1 && cases[i].d == &mos_fs_ext4) {
                uint8_t count[4];
                CU_ASSERT(accepted(&c, &io));
                CU_ASSERT_EQUAL(mos_io_read(&io, count, 4, 1024 + 4), 0);
                CU_ASSERT(!cases[i].blocks || mos_le32(count) == cases[i].blocks);
            }
            if (cases[i].d == &mos_fs_cpio) { /* a second name has no content of its own there */
                for (size_t k = 0; k < wrote.things.count; k++) {
                    struct thing *t = wrote.things.items[k].value;
                    struct thing *o = mos_map_get(&read.things, wrote.things.items[k].key);
                    if (t->type == MOS_ENTRY_HARD_LINK && o)
                        *t = *o;
                }
            } else {
                settle_links(&wrote);
                settle_links(&read);
            }
            check_same(&wrote, &read);
            core_end(&c);
        }
}

/* A damaged volume is read as far as it is sound; a read that fails is told. */
static void damage_is_told(void) {
    for (size_t i = 0; mos_fs_at(i); i++) {
        const struct mos_fs_driver *d = mos_fs_at(i);
        if (!d->stream)
            continue;
        struct core c;
        core_start(&c);
        struct model wrote;
        uint64_t size = d == &mos_fs_fat32 ? 34 << 20 : 8 << 20;
        struct mos_io io = volume_of(&c, d, size, 0, 5, 15, &wrote);
        unsigned long calls = 0;
        struct mos_io count = mos_io_faulty(c.ctx.arena, &io, 0, EIO, &calls);
        struct model all = model_of(&c, NULL, wrote.plain);
        CU_ASSERT_EQUAL(read_all(&c, d, &count, &all), 0);
        unsigned long reads = calls;
        CU_ASSERT(reads > 20);
        for (unsigned long n = 1; n <= reads; n++) {
            struct model some = model_of(&c, NULL, wrote.plain);
            calls = 0;
            struct mos_io bad = mos_io_faulty(c.ctx.arena, &io, n, EIO, &calls);
            size_t told = read_all(&c, d, &bad, &some);
            if (!told)
                fprintf(stderr, "%s: failing read %lu of %lu\n", d->name, n, reads);
            CU_ASSERT(told > 0);
        }
        core_end(&c);
    }
}

/* ---- changing ---- */

/* Random changes, then the volume says what the model says. */
static void change_at_random(struct core *c, const struct mos_fs_driver *d, struct mos_io *io,
                             struct model *m, uint64_t seed, size_t changes) {
    static uint8_t bytes[120000];
    const char *why = NULL;
    uint64_t before;
    struct mos_editor *editor = d->edit(&c->ctx, io, 1767225600, &why);
    CU_ASSERT_PTR_NOT_NULL_FATAL(editor);
    for (size_t i = 0; i < changes; i++) {
        char path[300];
        size_t pick = random_below(&seed, m->things.count);
        struct thing *t = m->things.items[pick].value;
        bool fresh = random_below(&seed, 3) == 0 || t->type != MOS_ENTRY_FILE;
        if (fresh)
            snprintf(path, sizeof path, "%s/neu %llu/file %zu with a name.txt",
                     random_below(&seed, 2) ? "tides" : "log",
                     (unsigned long long)random_below(&seed, 5), i);
        else
            snprintf(path, sizeof path, "%s", m->things.items[pick].key);
        if (!fresh && random_below(&seed, 4) == 0) {
            CU_ASSERT_TRUE_FATAL(editor->remove(editor, path, &before));
            CU_ASSERT_EQUAL(before, t->size);
            t->type = MOS_ENTRY_SOCKET; /* gone */
            continue;
        }
        size_t length = random_below(&seed, random_below(&seed, 5) ? 5000 : sizeof bytes);
        for (size_t k = 0; k < length; k++)
            bytes[k] = (uint8_t)(1 + random_below(&seed, 255));
        struct mos_io content = mos_io_memory(c->ctx.arena, bytes, length);
        uint16_t mode = random_below(&seed, 2) ? 0644 : 0755;
        bool ok = editor->put(editor, path, &content, mode, &before);
        if (!ok)
            fprintf(stderr, "\n%s %s\n", d->name, c->error.message);
        CU_ASSERT_TRUE_FATAL(ok);
        CU_ASSERT_EQUAL(before, fresh ? UINT64_MAX : t->size);
        struct mos_sink nowhere = {m, note_entry, note_data, note_end};
        struct mos_entry e = {.path = path, .mode = mode, .mtime = 1767225600};
        struct mos_sink none = {0};
        m->through = none;
        if (!fresh) { /* owner, mode, date and attributes stay */
            e.mode = t->mode;
            e.uid = t->uid;
            e.gid = t->gid;
            e.mtime = t->mtime;
            e.attributes = t->attributes;
            e.attributes_length = t->attributes_length;
        }
        CU_ASSERT_TRUE(mos_bytes_stream(&e, bytes, length, &nowhere));
    }
    CU_ASSERT_TRUE(editor->finish(editor));
}

/* Takes removed things out of a model. */
static struct model living(struct core *c, const struct model *m) {
    struct model out = model_of(c, NULL, m->plain);
    for (size_t i = 0; i < m->things.count; i++)
        if (((struct thing *)m->things.items[i].value)->type != MOS_ENTRY_SOCKET)
            mos_map_set(&out.things, m->things.items[i].key, m->things.items[i].value);
    return out;
}

static void what_is_changed_is_changed(void) {
    static const struct {
        const struct mos_fs_driver *d;
        uint64_t size;
        uint32_t unit;
        size_t entries;
    } cases[] = {{&mos_fs_ext4, 40 << 20, 1024, 60},
                 {&mos_fs_ext4, 48 << 20, 4096, 900},
                 {&mos_fs_fat32, 40 << 20, 512, 150},
                 {&mos_fs_fat16, 24 << 20, 0, 100},
                 {&mos_fs_fat12, 12 << 20, 0, 60}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++)
        for (uint64_t seed = 1; seed <= 4; seed++) {
            struct core c;
            core_start(&c);
            struct model m, read;
            const struct mos_fs_driver *d = cases[i].d;
            struct mos_io io =
                volume_of(&c, d, cases[i].size, cases[i].unit, seed, cases[i].entries, &m);
            for (size_t k = 0; k < m.things.count; k++) { /* links and what they name stay */
                struct thing *t = m.things.items[k].value;
                if (t->type == MOS_ENTRY_HARD_LINK) {
                    struct thing *o = mos_map_get(&m.things, t->target);
                    t->met = o->met = true;
                }
            }
            struct model files = model_of(&c, NULL, m.plain);
            for (size_t k = 0; k < m.things.count; k++)
                if (!((struct thing *)m.things.items[k].value)->met)
                    mos_map_set(&files.things, m.things.items[k].key, m.things.items[k].value);
            change_at_random(&c, d, &io, &files, seed * 77, 60);
            for (size_t k = 0; k < m.things.count; k++) {
                struct thing *t = m.things.items[k].value;
                if (t->met)
                    mos_map_set(&files.things, m.things.items[k].key, t);
                t->met = false;
            }
            read = model_of(&c, NULL, m.plain);
            CU_ASSERT_EQUAL(read_all(&c, d, &io, &read), 0);
            CU_ASSERT(d != &mos_fs_ext4 || seed > 2 || accepted(&c, &io));
            struct model left = living(&c, &files);
            settle_links(&left);
            settle_links(&read);
            check_same(&left, &read);
            core_end(&c);
        }
}

static struct mos_editor *editor_of(struct core *c, const struct mos_fs_driver *d,
                                    struct mos_io *io) {
    const char *why = NULL;
    struct mos_editor *e = d->edit(&c->ctx, io, 0, &why);
    CU_ASSERT_PTR_NOT_NULL_FATAL(e);
    return e;
}

/* Where only holes of one block are free, a file has as many pieces as blocks: its map grows by
 * levels, and goes again with the file. */
static void a_fragmented_volume_is_changed(void) {
    enum { FILES = 4000 };
    static const size_t blocks[] = {1, 4, 5, 336, 337, 1970, 1996 /* too many */};
    static uint8_t bytes[FILES * 1024];
    struct core c;
    core_start(&c);
    const uint64_t size = 12 << 20;
    struct mos_io io = mos_io_memory(c.ctx.arena, mos_alloc(c.ctx.arena, size), size);
    struct mos_volume_wish w = wish(size);
    w.unit = 1024;
    w.no_journal = true;
    struct mos_volume_base *v = mos_fs_ext4.begin(&c.ctx, &io, &w);
    struct mos_sink sink = mos_fs_ext4.sink(v);
    for (size_t i = 0; i < sizeof bytes; i++)
        bytes[i] = (uint8_t)(i % 251 + 1);
    for (size_t i = 0; i < FILES; i++) {
        struct mos_entry e = {.path = path_in("f", "%zu", i), .mode = 0644};
        CU_ASSERT_TRUE(mos_bytes_stream(&e, bytes, 1024, &sink));
    }
    struct mos_volume_result r;
    CU_ASSERT_TRUE_FATAL(mos_fs_ext4.finish(v, &r) && r.fits);
    uint64_t before;
    struct mos_editor *e = editor_of(&c, &mos_fs_ext4, &io);
    for (size_t n = FILES, k = 0; n; k++) { /* all that is free in one piece */
        struct mos_io content = mos_io_memory(c.ctx.arena, bytes, 1024 * n);
        if (!e->put(e, path_in("filler", "%zu", k), &content, 0644, &before)) {
            c.error.kind = MOS_ERROR_NONE;
            n /= 2;
        }
    }
    for (size_t i = 0; i < FILES; i += 2)
        CU_ASSERT_TRUE(e->remove(e, path_in("f", "%zu", i), &before));
    CU_ASSERT_TRUE(e->finish(e));
    for (size_t i = 0; i < sizeof blocks / sizeof *blocks; i++) {
        struct mos_io content = mos_io_memory(c.ctx.arena, bytes, 1024 * blocks[i]);
        e = editor_of(&c, &mos_fs_ext4, &io);
        bool ok = e->put(e, "tide", &content, 0755, &before);
        if (blocks[i] == 1996) {
            CU_ASSERT(!ok && strcmp(c.error.message, "/tide does not fit: no block is free") == 0);
            break;
        }
        CU_ASSERT(ok && e->finish(e) && accepted(&c, &io));
        struct model now = model_of(&c, NULL, false);
        CU_ASSERT_EQUAL(read_all(&c, &mos_fs_ext4, &io, &now), 0);
        const struct thing *t = mos_map_get(&now.things, "tide");
        CU_ASSERT(t && t->size == 1024 * blocks[i]);
        e = editor_of(&c, &mos_fs_ext4, &io);
        CU_ASSERT(e->remove(e, "tide", &before) && e->finish(e) && accepted(&c, &io));
    }
    core_end(&c);
}

/* Blocks of attributes serve several files: one more, one less, and a copy where no more may. */
static void shared_attributes_stay(void) {
    enum { FILES = 1024 };
    struct core c;
    core_start(&c);
    const uint64_t size = 16 << 20;
    struct mos_io io = mos_io_memory(c.ctx.arena, mos_alloc(c.ctx.arena, size), size);
    struct mos_volume_wish w = wish(size);
    struct mos_volume_base *v = mos_fs_ext4.begin(&c.ctx, &io, &w);
    struct mos_sink sink = mos_fs_ext4.sink(v);
    struct mos_attribute_set set = mos_attribute_set_make(c.ctx.arena);
    struct mos_buf list = {.arena = c.ctx.arena};
    uint8_t value[600];
    memset(value, 0x17, sizeof value);
    mos_attribute_add(&set, "user.tide", 9, value, sizeof value);
    mos_attribute_pack(&set, &list);
    for (size_t i = 0; i < FILES; i++) {
        struct mos_entry e = {.path = path_in("f", "%zu", i),
                              .mode = 0644,
                              .attributes = (const uint8_t *)list.data,
                              .attributes_length = list.length};
        CU_ASSERT_TRUE(mos_bytes_stream(&e, "low", 3, &sink));
    }
    const struct mos_entry alias = {.path = "alias", .type = MOS_ENTRY_HARD_LINK, .target = "f/7"};
    CU_ASSERT_TRUE(sink.entry(sink.self, &alias) && sink.end(sink.self, 0));
    struct mos_volume_result r;
    CU_ASSERT_TRUE_FATAL(mos_fs_ext4.finish(v, &r) && r.fits);
    for (int round = 0; round < 3; round++) {
        struct mos_editor *e = editor_of(&c, &mos_fs_ext4, &io);
        struct mos_io content = mos_io_memory(c.ctx.arena, value, 5);
        uint64_t before;
        if (round == 0) /* the 1025th */
            CU_ASSERT_TRUE(e->put(e, "alias", &content, 0644, &before));
        for (int i = 8; i < 400 && round == 1; i++)
            CU_ASSERT_TRUE(e->remove(e, path_in("f", "%d", i), &before));
        if (round == 2)
            CU_ASSERT_TRUE(e->put(e, "f/7", &content, 0644, &before) &&
                           e->remove(e, "alias", &before));
        CU_ASSERT(e->finish(e) && accepted(&c, &io));
        struct model now = model_of(&c, NULL, false);
        CU_ASSERT_EQUAL(read_all(&c, &mos_fs_ext4, &io, &now), 0);
        size_t with = 0;
        for (size_t k = 0; k < now.things.count; k++) {
            const struct thing *t = now.things.items[k].value;
            with += t->attributes_length == list.length &&
                    memcmp(t->attributes, list.data, list.length) == 0;
        }
        CU_ASSERT_EQUAL(with, round == 0 ? FILES + 1 : round == 1 ? FILES + 1 - 392 : FILES - 392);
    }
    core_end(&c);
}

/* A change that finds no room is refused with the reason: content, an entry in a full folder. */
static void what_does_not_fit_is_refused(void) {
    static uint8_t bytes[35 << 20];
    for (size_t i = 0; mos_fs_at(i); i++) {
        const struct mos_fs_driver *d = mos_fs_at(i);
        for (int kind = 0; kind < (d == &mos_fs_fat32 ? 2 : 3) && d->edit; kind++) {
            struct core c;
            core_start(&c);
            struct model m;
            uint64_t size = d == &mos_fs_fat32 ? 34 << 20 : 4 << 20, before;
            struct mos_io io = volume_of(&c, d, size, 0, 3, 6, &m);
            struct mos_editor *e = editor_of(&c, d, &io);
            struct mos_io small = mos_io_memory(c.ctx.arena, bytes, 1),
                          large = mos_io_memory(c.ctx.arena, bytes, size);
            bool ok = e->put(e, "tide", &small, 0644, &before);
            CU_ASSERT_TRUE(ok);
            size_t count = 1;
            if (kind < 2) /* a new one, the content of one that is there */
                ok = e->put(e, kind ? "tide" : "log/new", &large, 0644, &before);
            for (; kind == 2 && ok && count < 100000; count++)
                ok = e->put(e, path_in("", "log of the tides, number %zu", count) + 1, &small, 0644,
                            &before);
            if (ok || !strstr(c.error.message, "fit"))
                fprintf(stderr, "\n%s, %d: %s\n", d->name, kind, c.error.message);
            CU_ASSERT(!ok && c.error.kind == MOS_ERROR_USAGE && strstr(c.error.message, "fit"));
            CU_ASSERT(kind < 2 || count > 100);
            core_end(&c);
        }
    }
}

static void every_failed_change_is_told(void) {
    static uint8_t bytes[30000];
    for (size_t i = 0; mos_fs_at(i); i++) {
        const struct mos_fs_driver *d = mos_fs_at(i);
        for (unsigned long n = 0, all = 1; d->edit && n < all; n++) {
            struct core c;
            core_start(&c);
            struct model m;
            uint64_t size = d == &mos_fs_fat32 ? 34 << 20 : 4 << 20, before;
            struct mos_io io = volume_of(&c, d, size, 0, 3, 6, &m);
            struct mos_io content = mos_io_memory(c.ctx.arena, bytes, sizeof bytes);
            unsigned long calls = 0;
            struct mos_io bad = mos_io_faulty(c.ctx.arena, &io, n, EIO, &calls);
            const char *why = NULL;
            struct mos_editor *e = d->edit(&c.ctx, &bad, 0, &why);
            bool ok = e && e->put(e, "tides/neu/gauge.bin", &content, 0644, &before) &&
                      e->remove(e, "tides/neu/gauge.bin", &before) && e->finish(e);
            if (ok != (n == 0))
                fprintf(stderr, "%s: failing call %lu\n", d->name, n);
            CU_ASSERT_EQUAL(ok, n == 0);
            CU_ASSERT(ok || why || c.error.kind);
            if (!n)
                all = calls + 1;
            core_end(&c);
        }
    }
}

/* ---- compressed images and archives ---- */

static void compressed_images_come_back(void) {
    static const char *const kinds[] = {"gz", "xz", "zst"};
    const size_t size = (3 << 20) + 12345;
    for (size_t k = 0; k < 3; k++) {
        struct core c;
        core_start(&c);
        const char *folder = test_folder("packed");
        uint8_t *bytes = mos_alloc(c.ctx.arena, size), *back = mos_alloc(c.ctx.arena, size);
        uint64_t seed = k + 1, packed;
        for (size_t i = 1 << 20; i < (2 << 20); i++)
            bytes[i] = (uint8_t)(random_next(&seed) & 15);
        bytes[size - 1] = 7;
        struct mos_io io = mos_io_memory(c.ctx.arena, bytes, size);
        const char *path = keep(path_in(folder, "image.%s", kinds[k]));
        CU_ASSERT_TRUE_FATAL(mos_pack_file(&c.ctx, &io, path, kinds[k], &packed));
        CU_ASSERT(packed < size / 3);
        struct mos_unpacked u;
        CU_ASSERT_TRUE_FATAL(mos_unpack_open(&c.ctx, path, &u));
        CU_ASSERT_EQUAL(u.io.size, size);
        CU_ASSERT_PTR_NOT_NULL(u.compression);
        CU_ASSERT_EQUAL(mos_io_read(&u.io, back, size, 0), 0);
        CU_ASSERT_EQUAL(memcmp(bytes, back, size), 0);
        uint64_t start, end;
        CU_ASSERT_EQUAL(mos_io_next_data(&u.io, 0, &start, &end), 0);
        CU_ASSERT_EQUAL(start, 1 << 20);
        mos_unpack_close(&u);
        core_end(&c);
    }
}

static void archives_keep_what_volumes_have(void) {
    struct core c;
    core_start(&c);
    const char *path = keep(path_in(test_folder("tar"), "all.tar.zst"));
    struct model wrote, read;
    struct mos_sink sink;
    struct mos_tar *tar = mos_tar_new(&c.ctx, path, &sink);
    CU_ASSERT_PTR_NOT_NULL_FATAL(tar);
    wrote = model_of(&c, &sink, false);
    struct mos_sink through = model_sink(&wrote);
    put_tree(&c, &through, 4, 150, false, true);
    CU_ASSERT_TRUE_FATAL(mos_tar_end(tar, true));
    read = model_of(&c, NULL, false);
    struct mos_sink back = model_sink(&read);
    CU_ASSERT_TRUE(mos_archive_stream(&c.ctx, path, (struct mos_place){0}, &back, NULL));
    for (size_t i = 0; i < wrote.things.count; i++) { /* a list that says no more than the mode */
        struct thing *t = wrote.things.items[i].value;
        const struct thing *o = mos_map_get(&read.things, wrote.things.items[i].key);
        if (t->type == MOS_ENTRY_HARD_LINK && o)
            *t = *o;
        if (o && t->attributes_length) /* an access control list settles the mode's bits */
            t->mode = o->mode;
    }
    check_same(&wrote, &read);
    core_end(&c);
}

SUITE(volumes_suite, {"shared attributes stay", shared_attributes_stay},
      {"what does not fit is refused", what_does_not_fit_is_refused},
      {"a fragmented volume is changed", a_fragmented_volume_is_changed},
      {"what is written is read", what_is_written_is_read}, {"damage is told", damage_is_told},
      {"what is changed is changed", what_is_changed_is_changed},
      {"failed changes", every_failed_change_is_told},
      {"compressed images", compressed_images_come_back},
      {"archives keep it all", archives_keep_what_volumes_have});
