/* Tables of contents of packs: what is written is read, and nothing that was changed is. */
#include "support.h"

#include "boot/contents.h"

#include <string.h>

static struct mos_contents some(struct core *c, uint64_t *seed) {
    static const char *const kinds[] = {"stage", "kernel", "file", "a-kind-of-15-xx"},
                             *const forms[] = {"none", "gz", "xz", "zst"};
    struct mos_contents x = {.count = random_below(seed, 12)};
    x.rows = mos_alloc_array(c->ctx.arena, x.count + 1, sizeof *x.rows);
    x.length = mos_contents_room(x.count);
    for (size_t i = 0; i < x.count; i++) {
        struct mos_contents_row *r = &x.rows[i];
        *r = (struct mos_contents_row){
            .name = random_below(seed, 4)
                        ? mos_printf(c->ctx.arena, "part-%u", (unsigned)random_below(seed, 1000))
                        : "a-name-with-31-characters-in-it",
            .kind = kinds[random_below(seed, 4)],
            .compression = forms[random_below(seed, 4)],
            .offset = x.length + random_below(seed, 1 << 20),
            .stored = random_below(seed, 3) ? random_below(seed, 1ull << 33) : 0,
            .size = random_below(seed, 1ull << 40),
            .has_load = random_below(seed, 2),
            .has_entry = random_below(seed, 2),
            .sum = (uint32_t)random_below(seed, UINT32_MAX)};
        r->load = r->has_load ? random_below(seed, UINT64_MAX) : 0;
        r->entry = r->has_entry ? random_below(seed, UINT64_MAX) : 0;
        x.length = r->offset + r->stored;
    }
    return x;
}

static bool same_row(const struct mos_contents_row *a, const struct mos_contents_row *b) {
    return strcmp(a->name, b->name) == 0 && strcmp(a->kind, b->kind) == 0 &&
           strcmp(a->compression, b->compression) == 0 && a->offset == b->offset &&
           a->stored == b->stored && a->size == b->size && a->has_load == b->has_load &&
           a->has_entry == b->has_entry && a->load == b->load && a->entry == b->entry &&
           a->sum == b->sum;
}

static void what_is_written_is_read(void) {
    uint64_t seed = 33;
    for (size_t round = 0; round < 300; round++) {
        struct core c;
        core_start(&c);
        struct mos_contents a = some(&c, &seed), b;
        size_t room = mos_contents_room(a.count), at = random_below(&seed, room);
        uint8_t *bytes = mos_alloc(c.ctx.arena, room);
        const char *problem;
        mos_contents_write(&a, bytes);
        CU_ASSERT_TRUE(mos_contents_is(bytes, room));
        CU_ASSERT_TRUE_FATAL(mos_contents_read(c.ctx.arena, bytes, room, a.length, &b, &problem));
        CU_ASSERT_PTR_NULL(problem);
        CU_ASSERT_EQUAL(a.length, b.length);
        CU_ASSERT_EQUAL_FATAL(a.count, b.count);
        for (size_t i = 0; i < a.count; i++)
            CU_ASSERT_TRUE(same_row(&a.rows[i], &b.rows[i]));
        /* a byte less of it, or of the pack, or another one */
        CU_ASSERT_FALSE(mos_contents_read(c.ctx.arena, bytes, room - 1, a.length, &b, &problem));
        CU_ASSERT_PTR_NOT_NULL(problem);
        CU_ASSERT_FALSE(mos_contents_read(c.ctx.arena, bytes, room, a.length - 1, &b, &problem));
        CU_ASSERT_STRING_EQUAL(problem, "it is cut off");
        bytes[at] ^= (uint8_t)(1 + random_below(&seed, 255));
        CU_ASSERT_FALSE(mos_contents_read(c.ctx.arena, bytes, room, a.length, &b, &problem));
        core_end(&c);
    }
}

/* Tables whose sum is right, and whose rows are not. */
static void rows_must_make_sense(void) {
    static const struct {
        struct mos_contents_row row;
        bool good;
    } rows[] = {
        {{.name = "hail", .kind = "file", .compression = "none", .offset = 200, .stored = 56},
         true},
        {{.name = "hail", .kind = "file", .compression = "none", .offset = 200, .stored = 57},
         false},
        {{.name = "hail", .kind = "file", .compression = "none", .offset = 257}, false},
        {{.name = "h", .kind = "file", .compression = "none", .offset = 9, .stored = UINT64_MAX},
         false},
        {{.name = "", .kind = "file", .compression = "none"}, false},
        {{.name = "hail", .kind = "", .compression = "none"}, false},
        {{.name = "hail", .kind = "file", .compression = ""}, false},
        {{.name = "../hail", .kind = "file", .compression = "none"}, false},
        {{.name = "ha\033il", .kind = "file", .compression = "none"}, false},
        {{.name = "hail", .kind = "fi le", .compression = "none"}, false},
    };
    struct core c;
    core_start(&c);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct mos_contents_row row = rows[i].row;
        struct mos_contents a = {256, 1, &row}, b;
        uint8_t bytes[256];
        const char *problem;
        mos_contents_write(&a, bytes);
        CU_ASSERT_EQUAL(mos_contents_read(c.ctx.arena, bytes, sizeof bytes, 256, &b, &problem),
                        rows[i].good);
    }
    core_end(&c);
}

SUITE(contents_suite, {"what is written is read", what_is_written_is_read},
      {"rows must make sense", rows_must_make_sense});
