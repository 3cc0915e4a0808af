/* The RAM of a rehearsal against an array: what lies where, and over what. */
#include "support.h"

#include "content/content.h"
#include "disk/table.h"
#include "fs/fs.h"
#include "loaders/loaders.h"

#include "rehearse/sim.h"

#include <stdlib.h>
#include <string.h>

enum { START = 0x40000000, LENGTH = 1 << 20, ROUNDS = 60, STEPS = 40 };

static struct sim *ram_of(struct core *c, uint64_t loader_from) {
    struct sim *s = mos_alloc(c->ctx.arena, sizeof *s);
    struct mos_rig *m = mos_alloc(c->ctx.arena, sizeof *m);
    struct mos_rehearsal *out = mos_alloc(c->ctx.arena, sizeof *out);
    *m = (struct mos_rig){
        .dialect = mos_dialect_at(0), .ram = {START, LENGTH}, .loader_from = loader_from};
    out->events = mos_vec_make(c->ctx.arena, sizeof(struct mos_event));
    out->console.arena = c->ctx.arena;
    *s = (struct sim){
        .ctx = &c->ctx, .arena = c->ctx.arena, .rig = m, .out = out, .console = &out->console};
    sim_ram_start(s);
    return s;
}

static size_t overlaps(const struct sim *s) {
    size_t count = 0;
    for (size_t i = 0; i < s->out->events.count; i++)
        count += ((struct mos_event *)mos_vec_at(&s->out->events, i))->kind == MOS_EVENT_OVER;
    return count;
}

static void ram_equals_an_array(void) {
    static uint8_t bytes[LENGTH], out[LENGTH], more[4096];
    static int owner[LENGTH]; /* which claim has a byte; -1: none */
    uint64_t seed = 40;
    for (size_t round = 0; round < ROUNDS; round++) {
        struct core c;
        struct sim *s;
        bool spoiled[STEPS] = {false};
        uint64_t from[STEPS], length[STEPS];
        size_t expected = 0;
        core_start(&c);
        s = ram_of(&c, 0);
        memset(bytes, 0, sizeof bytes);
        memset(owner, -1, sizeof owner);
        for (int i = 0; i < STEPS; i++) {
            bool again = i && random_below(&seed, 3) == 0; /* beside an earlier one */
            length[i] = 1 + random_below(&seed, random_below(&seed, 4) ? 3000 : 200000);
            from[i] = !again                     ? random_below(&seed, LENGTH)
                      : from[i - 1] >= length[i] ? from[i - 1] - length[i]
                                                 : from[i - 1] + length[i - 1];
            if (from[i] + length[i] > LENGTH)
                from[i] = LENGTH - length[i];
            for (int k = 0; k < i; k++)
                if (!spoiled[k] && from[k] < from[i] + length[i] && from[i] < from[k] + length[k]) {
                    spoiled[k] = true;
                    expected++;
                }
            sim_ram_claim(s, START + from[i], length[i], mos_printf(c.ctx.arena, "thing %d", i));
            for (uint64_t k = 0; k < length[i]; k++)
                owner[from[i] + k] = i;
            size_t at = random_below(&seed, LENGTH), n = random_below(&seed, sizeof more);
            n = at + n > LENGTH ? LENGTH - at : n;
            for (size_t k = 0; k < n; k++)
                bytes[at + k] = more[k] = (uint8_t)random_next(&seed);
            sim_ram_write(s, START + at, more, n);
        }
        CU_ASSERT_EQUAL(overlaps(s), expected);
        sim_ram_read(s, START, out, LENGTH);
        CU_ASSERT_EQUAL(memcmp(out, bytes, LENGTH), 0);
        for (int i = 0; i < 400; i++) {
            uint64_t at = random_below(&seed, LENGTH), n = random_below(&seed, LENGTH - at + 1);
            const struct sim_thing *t = sim_ram_at(s, START + at);
            CU_ASSERT_EQUAL(t != NULL, owner[at] >= 0);
            CU_ASSERT(!t || atoi(t->what + 6) == owner[at]);
            CU_ASSERT(!t || (t->spoiled != NULL) == spoiled[owner[at]]);
            const uint8_t *copy = sim_ram_copy(s, START + at, n, LENGTH);
            CU_ASSERT_PTR_NOT_NULL_FATAL(copy);
            CU_ASSERT_EQUAL(memcmp(copy, bytes + at, n), 0);
        }
        core_end(&c);
    }
}

/* The borders: the first and the last byte, the loader's own place, and what is asked too much. */
static void ram_has_its_ends(void) {
    struct core c;
    core_start(&c);
    struct sim *s = ram_of(&c, START + LENGTH / 2);
    static const struct {
        uint64_t at, length;
        bool is, free;
    } cases[] = {{START, LENGTH, true, false},         {START, LENGTH / 2, true, true},
                 {START, LENGTH / 2 + 1, true, false}, {START + LENGTH / 2, 1, true, false},
                 {START + LENGTH - 1, 1, true, false}, {START + LENGTH, 1, false, false},
                 {START + LENGTH, 0, true, false},     {START - 1, 1, false, false},
                 {START - 1, 2, false, false},         {START, LENGTH + 1, false, false},
                 {UINT64_MAX, 2, false, false},        {START + 1, UINT64_MAX, false, false}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        CU_ASSERT_EQUAL(sim_ram_is(s, cases[i].at, cases[i].length), cases[i].is);
        CU_ASSERT_EQUAL(sim_ram_free(s, cases[i].at, cases[i].length), cases[i].free);
    }
    uint8_t bytes[8] = {1, 2, 3, 4, 5, 6, 7, 8}, out[8];
    sim_ram_write(s, START + LENGTH - 4, bytes, 8); /* what is behind the end is lost */
    sim_ram_read(s, START + LENGTH - 4, out, 8);
    CU_ASSERT_EQUAL(memcmp(out, "\1\2\3\4\0\0\0\0", 8), 0);
    CU_ASSERT_PTR_NULL(sim_ram_copy(s, START, 9, 8));
    CU_ASSERT_PTR_NOT_NULL(sim_ram_copy(s, START, 8, 8));
    CU_ASSERT_PTR_NULL(sim_ram_copy(s, START + LENGTH - 4, 8, 8));
    CU_ASSERT_PTR_NULL(sim_ram_at(s, START));
    core_end(&c);
}

static void write_bytes(struct sim *s, uint64_t at, const uint8_t *bytes, size_t length) {
    sim_ram_write(s, at, bytes, length);
}

/* Bytes that are lent are not copied, are never changed, and read like bytes that are written; what
 * is looked at in one piece is what is there. */
static void lent_bytes_stay(void) {
    static uint8_t lent[3][400000], kept[3][400000], model[LENGTH], out[LENGTH], small[5000];
    uint64_t seed = 77;
    for (size_t round = 0; round < ROUNDS; round++) {
        struct core c;
        core_start(&c);
        struct sim *s = ram_of(&c, 0);
        memset(model, 0, sizeof model);
        for (size_t k = 0; k < 3; k++)
            for (size_t i = 0; i < sizeof lent[k]; i++)
                kept[k][i] = lent[k][i] = (uint8_t)(random_next(&seed) >> 8);
        for (int i = 0; i < STEPS; i++) {
            size_t k = random_below(&seed, 3);
            bool lends = random_below(&seed, 2);
            size_t length = 1 + random_below(&seed, lends ? sizeof lent[0] : sizeof small);
            uint64_t at = random_below(&seed, LENGTH - length);
            at = random_below(&seed, 2) ? at & ~(uint64_t)0xffff : at; /* whole pages are likely */
            const uint8_t *bytes = lends ? lent[k] : small;
            for (size_t n = 0; n < sizeof small && !lends; n++)
                small[n] = (uint8_t)random_next(&seed);
            (lends ? sim_ram_lend : write_bytes)(s, START + at, bytes, length);
            memcpy(model + at, bytes, length);
            uint64_t look = random_below(&seed, LENGTH), run = LENGTH - look;
            const uint8_t *seen = sim_ram_look(s, START + look, &run);
            CU_ASSERT(!seen || (run && memcmp(seen, model + look, run) == 0));
        }
        sim_ram_read(s, START, out, LENGTH);
        CU_ASSERT_EQUAL(memcmp(out, model, LENGTH), 0);
        CU_ASSERT_EQUAL(memcmp(lent, kept, sizeof lent), 0);
        core_end(&c);
    }
}

/* ---- flash ---- */

enum {
    FLASH = 2 << 20,
    ERASE = 64 << 10,
    PAGE = 2 << 10,
    BLOCKS = FLASH / ERASE,
    FILES = 4 << 20,
    PARTS = 3,
    MOST_BAD = 7
};

/* A flash, a medium with the files for its regions, and what stands in them. */
struct bench {
    struct core core;
    uint8_t *flash, *files, *content[PARTS];
    struct mos_flash_item items[PARTS];
    uint64_t bad[MOST_BAD];
    size_t bad_count;
};

/* The files on the first partition of a medium. */
static void put_files(struct bench *b) {
    struct core *c = &b->core;
    const char *why = NULL;
    struct mos_io io = mos_io_memory(c->ctx.arena, b->files, FILES);
    struct mos_table_data t = {.sector = 512,
                               .medium_size = FILES,
                               .entries = 128,
                               .first_usable = 34,
                               .last_usable = FILES / 512 - 34,
                               .partitions =
                                   mos_vec_make(c->ctx.arena, sizeof(struct mos_partition))};
    struct mos_partition *p = mos_vec_push(&t.partitions);
    *p = (struct mos_partition){
        .number = 1, .first_lba = 2048, .last_lba = FILES / 512 - 100, .name = "files"};
    mos_table_gpt.type_for("linux", p->type);
    mos_uuid_from_name("files", p->id);
    memset(b->files, 0, FILES);
    CU_ASSERT_EQUAL_FATAL(mos_table_write(&mos_table_gpt, &io, &t, c->ctx.arena, &why), 0);
    uint64_t at = p->first_lba * 512, size = (p->last_lba + 1) * 512 - at;
    struct mos_io part = mos_io_window(c->ctx.arena, &io, at, size);
    const struct mos_fs_driver *d = mos_fs_find("fat12");
    struct mos_volume_wish w = {.size = size, .sector = 512, .label = "F", .region_offset = at};
    struct mos_volume_result r;
    struct mos_volume_base *v = d->begin(&c->ctx, &part, &w);
    struct mos_sink sink = d->sink(v);
    for (size_t i = 0; i < PARTS; i++) {
        struct mos_entry e = {.path = b->items[i].file,
                              .type = MOS_ENTRY_FILE,
                              .mode = 0644,
                              .size = b->items[i].write};
        CU_ASSERT_TRUE(mos_bytes_stream(&e, b->content[i], (size_t)e.size, &sink));
    }
    CU_ASSERT_TRUE_FATAL(d->finish(v, &r));
}

/* Three regions that begin at blocks of the flash, with room for two bad blocks, one or none. */
static void start_bench(struct bench *b, uint64_t *seed, bool nand) {
    static const struct {
        const char *name, *file;
        uint64_t from, blocks;
    } parts[PARTS] = {
        {"first", "a.bin", 0, 8}, {"main", "b.bin", 8, 12}, {"data", "c.bin", 20, 12}};
    bool blank = random_below(seed, 2);
    core_start(&b->core);
    b->flash = malloc(FLASH);
    b->files = malloc(FILES);
    for (size_t i = 0; i < FLASH; i++)
        b->flash[i] = blank ? 0xff : (uint8_t)random_next(seed); /* what was there before */
    for (size_t i = 0; i < PARTS; i++) {
        uint64_t at = parts[i].from * ERASE, length = parts[i].blocks * ERASE;
        uint64_t most = length - random_below(seed, 3) * ERASE;
        uint64_t few = PAGE * (1 + random_below(seed, most / PAGE / 2));
        b->items[i] = (struct mos_flash_item){parts[i].name, parts[i].file, at, length, at, most};
        if (random_below(seed, 2))
            b->items[i].write = few;
        b->content[i] = malloc((size_t)b->items[i].write);
        for (size_t k = 0; k < b->items[i].write; k++)
            b->content[i][k] = (uint8_t)random_next(seed);
    }
    b->bad_count = nand ? random_below(seed, MOST_BAD) : 0;
    for (size_t i = 0; i < b->bad_count; i++)
        b->bad[i] = random_below(seed, BLOCKS);
    put_files(b);
}

static void end_bench(struct bench *b) {
    for (size_t i = 0; i < PARTS; i++)
        free(b->content[i]);
    free(b->flash);
    free(b->files);
    core_end(&b->core);
}

static bool is_bad(const struct bench *b, uint64_t block) {
    for (size_t i = 0; i < b->bad_count; i++)
        if (b->bad[i] == block)
            return true;
    return false;
}

/* Does a reader that steps over bad blocks find a region's content from its place on? */
static bool holds(const struct bench *b, size_t part) {
    const struct mos_flash_item *x = &b->items[part];
    uint64_t at = x->at;
    for (uint64_t done = 0; done < x->write; at += PAGE) {
        if (at >= FLASH)
            return false;
        if (is_bad(b, at / ERASE))
            continue;
        if (memcmp(b->flash + at, b->content[part] + done, PAGE) != 0)
            return false;
        done += PAGE;
    }
    return true;
}

/* What the loader says while it runs the script of a build. */
static const char *run_program(struct bench *b, bool nand) {
    enum { RAM_AT = 0x40000000, AT = RAM_AT + (16 << 20), BACK = AT + (4 << 20) };
    struct mos_arena *arena = b->core.ctx.arena;
    struct mos_io *io = mos_alloc_array(arena, 2, sizeof *io);
    io[0] = mos_io_memory(arena, b->files, FILES);
    io[1] = mos_io_memory(arena, b->flash, FLASH);
    const struct mos_rig_medium media[] = {{.name = "card", .loader = "mmc 0", .io = &io[0]},
                                           {.name = "flash",
                                            .loader = nand ? "nand 0" : "sf 0",
                                            .io = &io[1],
                                            .keeps = true,
                                            .erase = ERASE,
                                            .bad = b->bad,
                                            .bad_count = b->bad_count}};
    const struct mos_rig rig = {
        .dialect = mos_dialect_at(0), .ram = {RAM_AT, 64 << 20}, .media = media, .media_count = 2};
    const struct mos_flash_program p = {.board = "curlew",
                                        .device = media[1].loader,
                                        .nand = nand,
                                        .files_on = "mmc 0",
                                        .at = AT,
                                        .back_at = BACK,
                                        .items = b->items,
                                        .count = PARTS};
    struct mos_buf script = {.arena = arena};
    rig.dialect->write_flash_program(&p, &script);
    struct mos_rehearsal_shell *shell = mos_rehearsal_shell(&b->core.ctx, &rig);
    return mos_rehearsal_type(shell, mos_buf_string(&script));
}

/* A build's script programs a flash, and what it says in the end is true, however many blocks are
 * bad; those are never touched. */
static void a_flash_is_programmed(void) {
    uint64_t seed = 18;
    unsigned whole = 0, told = 0;
    for (unsigned round = 0; round < 100; round++) {
        struct bench b;
        bool nand = round % 4 != 0, all = true;
        start_bench(&b, &seed, nand);
        uint8_t *before = malloc(FLASH);
        memcpy(before, b.flash, FLASH);
        const char *said = run_program(&b, nand), *wrong = strstr(said, "Not programmed:");
        for (size_t i = 0; i < PARTS; i++) {
            bool is = holds(&b, i), says_not = wrong && strstr(wrong, b.items[i].name);
            CU_ASSERT_EQUAL(is, !says_not);
            all &= is;
        }
        CU_ASSERT_EQUAL(all, strstr(said, "The flash is programmed.") != NULL);
        for (size_t i = 0; i < b.bad_count; i++)
            CU_ASSERT_EQUAL(memcmp(b.flash + b.bad[i] * ERASE, before + b.bad[i] * ERASE, ERASE),
                            0);
        CU_ASSERT(nand || all);
        whole += all;
        told += !all;
        free(before);
        end_bench(&b);
    }
    CU_ASSERT(whole > 40 && told > 10); /* both happened */
}

SUITE(rehearse_suite, {"lent bytes stay", lent_bytes_stay},
      {"RAM equals an array", ram_equals_an_array}, {"RAM has its ends", ram_has_its_ends},
      {"a flash is programmed", a_flash_is_programmed});
