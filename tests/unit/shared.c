/* Equal content is counted once: what comes of it is what comes of counting each by itself. */
#include "support.h"

#include "model/schema.h"
#include "plan/bytes.h"
#include "plan/shared.h"

#include <stdlib.h>
#include <string.h>

/* Values of a volume and its fills: each may matter to what is counted. */
static const struct {
    const char *key;
    const char *values[4]; /* NULL: not stated */
} choices[] = {
    {"label", {NULL, "root", "tide", NULL}},
    {"journal", {NULL, NULL, "no", NULL}},
    {"unit", {NULL, "1 KiB", NULL, "2 KiB"}},
    {"spare", {NULL, "1 MiB", NULL, "30%"}},
    {"inodes", {NULL, "3000", NULL, "9000"}},
    {"volume-id",
     {NULL, "6f9619ff-8b86-d011-b42d-00cf4fc964ff", NULL, "1b9619ff-8b86-d011-b42d-00cf4fc964ff"}},
};
static const char *const fills[][4] = {
    {"archive: root", "archive: root, except: [etc]", "archive: root, to: /old",
     "archive: root, only: [many]"},
    {"archive: more", "archive: more, only: [etc, other]", "archive: more, replaces: yes",
     "archive: more, to: /etc"},
};

static const char *some_board(struct core *c, uint64_t *seed) {
    struct mos_buf b = {.arena = c->ctx.arena};
    mos_buf_printf(&b,
                   "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 64 "
                   "MiB}}}\npieces: {root: {file: root.tar}, more: {file: more.tar}, note: {file: "
                   "note}}\nsystem: {host-name: jetty-%d}\nlayout: {card: {regions: {root: {at: 1 "
                   "MiB, size: %d MiB, volume: {kind: %s",
                   (int)random_below(seed, 3), 12 + 4 * (int)random_below(seed, 3),
                   random_below(seed, 6) ? "ext4" : "fat16");
    bool fat = strstr(mos_buf_string(&b), "fat16") != NULL;
    for (size_t i = 0; i < sizeof choices / sizeof *choices && !fat; i++) {
        const char *value = choices[i].values[random_below(seed, 4)];
        if (value)
            mos_buf_printf(&b, ", %s: %s", choices[i].key, value);
    }
    mos_buf_printf(&b, ", fills: {a: {%s}, b: {%s}", fills[0][random_below(seed, 4)],
                   fills[1][random_below(seed, 4)]);
    mos_buf_text(&b,
                 random_below(seed, 2) ? ", c: {piece: note, to: etc/note, replaces: yes}" : "");
    mos_buf_text(&b, random_below(seed, 2) ? ", d: {made: system}}}}}}}\n" : "}}}}}}\n");
    return mos_buf_string(&b);
}

static const struct mos_region_plan *counted(struct core *c, const char *folder, const char *text) {
    struct mos_board *b = board_from_text(c, text);
    b->workspace_name = "saltmarsh-survey";
    b->root = folder;
    struct mos_plan *plan = mos_plan_make(&c->ctx, b);
    CU_ASSERT_PTR_NOT_NULL_FATAL(plan);
    const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, 0);
    struct mos_region_plan *r = mos_vec_pointer(&m->regions, 0);
    CU_ASSERT_TRUE_FATAL(mos_plan_fill(plan, m, r, NULL));
    CU_ASSERT_TRUE_FATAL(r->counted);
    return r;
}

static bool same_node(const struct mos_inv_node *a, const struct mos_inv_node *b) {
    bool same = strcmp(a->name, b->name) == 0 && a->size == b->size && a->sum == b->sum &&
                a->mtime == b->mtime && a->extent_count == b->extent_count &&
                a->parent == b->parent && a->next == b->next && a->inode == b->inode &&
                a->link_to == b->link_to && a->links == b->links && a->uid == b->uid &&
                a->mode == b->mode && a->fill == b->fill && a->type == b->type &&
                a->indexed == b->indexed && a->attributes == b->attributes;
    const struct mos_extent *x = mos_inv_extents(a), *y = mos_inv_extents(b);
    return same && (!a->extent_count || memcmp(x, y, a->extent_count * sizeof *x) == 0);
}

static void compare(const struct mos_region_plan *a, const struct mos_region_plan *b) {
    const struct mos_inventory *x = a->volume->inventory, *y = b->volume->inventory;
    const struct mos_volume_result *p = &a->result, *q = &b->result;
    CU_ASSERT(p->fits == q->fits && p->missing == q->missing && p->content == q->content &&
              p->structure == q->structure && p->free == q->free && p->spare == q->spare &&
              p->entries == q->entries && p->block_size == q->block_size);
    CU_ASSERT(x->clash_count == y->clash_count && x->refusal_count == y->refusal_count &&
              x->clashes.count == y->clashes.count);
    CU_ASSERT_EQUAL_FATAL(x->count, y->count);
    for (uint32_t i = 0; i < x->count; i++)
        CU_ASSERT(same_node(mos_inv_node(x, i), mos_inv_node(y, i)));
    CU_ASSERT_EQUAL_FATAL(a->texts.count, b->texts.count);
    for (size_t i = 0; i < a->texts.count; i++) {
        const char *path = a->texts.items[i].key;
        const struct mos_text_file *s = mos_plan_text(a, path), *t = mos_plan_text(b, path);
        CU_ASSERT_EQUAL(s != NULL, t != NULL);
        if (s && t)
            CU_ASSERT(s->fill == t->fill && s->length == t->length &&
                      (strcmp(path, "etc/shadow") == 0 || /* an index keeps tokens for passwords */
                       strcmp(s->text ? s->text : "", t->text ? t->text : "") == 0));
    }
}

static void counting_once_is_counting_each(void) {
    enum { ROUNDS = 300 };
    const char *folder = keep(test_folder("shared")), *store = keep(test_folder("shared-cache"));
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir -p r/etc r/many m/etc/init.d m/other && for i in $(seq 400); do head -c "
        "$((i * 37 %% 5000)) /dev/zero | tr '\\0' x > r/many/file-$i; echo $i > m/other/$i; done "
        "&& "
        "echo root:x:0:0::/: > r/etc/passwd && echo tide > r/etc/hostname && echo 'root:*:1::::::' "
        "> "
        "r/etc/shadow && echo other > m/etc/hostname && ln r/many/file-1 r/etc/hard && ln -s many "
        "r/soft && echo note > note && for i in r m; do tar -C $i --sort=name -cf $i.tar .; done "
        "&& "
        "mv r.tar root.tar && mv m.tar more.tar && rm -r r m",
        folder));
    uint64_t seed = 512;
    struct core outer; /* its arena outlives the selections */
    core_start(&outer);
    struct mos_shared shared = mos_shared_make(outer.ctx.arena);
    for (size_t i = 0; i < ROUNDS; i++) {
        struct core c, d;
        core_start(&c);
        core_start(&d);
        c.ctx.cache_folder = d.ctx.cache_folder = store;
        const char *text = some_board(&c, &seed);
        const struct mos_region_plan *plain = counted(&c, folder, text);
        d.ctx.shared = &shared;
        compare(plain, counted(&d, folder, text));
        CU_ASSERT_EQUAL(c.ctx.findings.items.count, d.ctx.findings.items.count);
        core_end(&d);
        core_end(&c);
    }
    CU_ASSERT_EQUAL(shared.indexes.count, 2);
    CU_ASSERT(shared.volumes.count > 20 && shared.volumes.count < ROUNDS); /* several met again */
    core_end(&outer);
}

/* What is kept has a bound. */
static void sharing_ends(void) {
    struct core c;
    core_start(&c);
    struct mos_shared shared = mos_shared_make(c.ctx.arena);
    uint8_t key[MOS_SHA256_SIZE] = {1}, other[MOS_SHA256_SIZE] = {2};
    struct mos_volume_base volume = {.inventory = mos_inventory_new(c.ctx.arena, 0, false)};
    struct mos_map none = mos_map_make(c.ctx.arena);
    volume.inventory->count = MOS_MOST_SHARED;
    mos_shared_keep_volume(&shared, key, &volume, &none);
    CU_ASSERT_PTR_EQUAL(mos_shared_volume(&shared, key)->volume, &volume);
    CU_ASSERT_PTR_NULL(mos_shared_volume(&shared, other));
    CU_ASSERT_EQUAL(shared.entries, MOS_MOST_SHARED);
    mos_shared_keep_index(&shared, key, NULL); /* damaged: known to be of no use */
    CU_ASSERT_PTR_NOT_NULL(mos_shared_index(&shared, key));
    CU_ASSERT_PTR_NULL(mos_shared_index(&shared, key)->index);
    CU_ASSERT_PTR_NULL(mos_shared_index(&shared, other));
    core_end(&c);
}

SUITE(shared_suite, {"counting once is counting each", counting_once_is_counting_each},
      {"sharing ends", sharing_ends});
