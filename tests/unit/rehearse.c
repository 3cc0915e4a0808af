/* The RAM of a rehearsal against an array: what lies where, and over what. */
#include "loaders/loaders.h"
#include "support.h"

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

SUITE(rehearse_suite, {"lent bytes stay", lent_bytes_stay},
      {"RAM equals an array", ram_equals_an_array}, {"RAM has its ends", ram_has_its_ends});
