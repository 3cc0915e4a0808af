/* Writing media for one board of many, and from a pipe: what goes onto the card is not a file. */
#include "support.h"

#include "base/guard.h"
#include "boot/unit.h"
#include "boot/variables.h"
#include "computer/scene.h"
#include "loaders/loaders.h"
#include "platform/platform.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

/* ---- patterns ---- */

static const struct {
    const char *pattern, *unit, *text, *why; /* text NULL: refused, for a reason with these words */
} patterns[] = {
    {"<UNIT>", "jetty-7", "jetty-7", NULL},
    {"tide-<UNIT>.local", "jetty-7", "tide-jetty-7.local", NULL},
    {"<UNIT>/<UNIT>", "a1", "a1/a1", NULL},
    {"02:00:5e:<UNIT:3>", "jetty-7", "02:00:5e:00:00:07", NULL},
    {"02:00:5e:<UNIT:3>", "jetty-0070000", "02:00:5e:01:11:70", NULL},
    {"<UNIT:1>", "255", "ff", NULL},
    {"<UNIT:6>", "u281474976710655", "ff:ff:ff:ff:ff:ff", NULL},
    {"<UNIT:2>-<UNIT>", "u258", "01:02-u258", NULL},
    {"<UNIT:1>", "256", NULL, "too large"},
    {"<UNIT:3>", "u16777216", NULL, "too large"},
    {"<UNIT:6>", "u281474976710656", NULL, "no number"},
    {"<UNIT:6>", "99999999999999999999999", NULL, "no number"},
    {"<UNIT:3>", "jetty", NULL, "no number"},
    {"<UNIT:3>", "7-jetty", NULL, "no number"},
};

static const char *const no_patterns[] = {"",        "02:00:5e:00:00:07", "UNIT",     "<unit>",
                                          "<UNIT:>", "<UNIT:0>",          "<UNIT:7>", "<UNIT:33>",
                                          "<UNIT",   "<UNIT> <",          "a<b<UNIT>"};

static void patterns_name_units(void) {
    struct core c;
    const char *why = NULL;
    core_start(&c);
    for (size_t i = 0; i < sizeof patterns / sizeof *patterns; i++) {
        CU_ASSERT_TRUE(mos_unit_is_pattern(patterns[i].pattern, &why));
        const char *text = mos_unit_text(c.ctx.arena, patterns[i].pattern, patterns[i].unit, &why);
        if (patterns[i].text)
            CU_ASSERT_TRUE(text && strcmp(text, patterns[i].text) == 0);
        if (!patterns[i].text)
            CU_ASSERT_TRUE(!text && strstr(why, patterns[i].why));
    }
    for (size_t i = 0; i < sizeof no_patterns / sizeof *no_patterns; i++)
        CU_ASSERT_FALSE(mos_unit_is_pattern(no_patterns[i], &why));
    core_end(&c);
}

/* Different numbers never get one address, as long as the address has room for them. */
static void numbers_keep_apart(void) {
    struct core c;
    uint64_t seed = 5;
    core_start(&c);
    for (unsigned i = 0; i < 2000; i++) {
        unsigned bytes = 1 + (unsigned)random_below(&seed, 6);
        uint64_t number = random_below(&seed, 1ull << 8 * bytes), back = 0;
        const char *why = NULL;
        const char *text =
            mos_unit_text(c.ctx.arena, mos_printf(c.ctx.arena, "<UNIT:%u>", bytes),
                          mos_printf(c.ctx.arena, "u-%llu", (unsigned long long)number), &why);
        CU_ASSERT_PTR_NOT_NULL_FATAL(text);
        CU_ASSERT_EQUAL(strlen(text), 3 * bytes - 1);
        for (const char *p = text; p < text + strlen(text); p += 3)
            back = back << 8 | strtoul(p, NULL, 16);
        CU_ASSERT_EQUAL(back, number);
    }
    core_end(&c);
}

/* ---- one board of many ---- */

static const uint8_t *env_of(const struct made_up_device *d) {
    return d->bytes + card_parts[CARD_ENV].at;
}

/* Has the device this variable?  value NULL: has it none of that name? */
static bool stores(struct scene *s, const struct made_up_device *d, const char *name,
                   const char *value) {
    struct mos_map variables;
    bool flag;
    if (!mos_loaders_read_stored(s->core.ctx.arena, env_of(d), CARD_BLOCK, &variables, &flag))
        return false;
    const struct mos_loader_variable *v = mos_map_get(&variables, name);
    return value ? v && strcmp(v->value, value) == 0 : !v;
}

/* All that the image defines is there, but for the block of variables. */
static bool equal_but_variables(const struct scene *s, const struct made_up_device *d) {
    uint8_t kept[CARD_BLOCK], *block = s->image + card_parts[CARD_ENV].at;
    memcpy(kept, block, sizeof kept);
    memcpy(block, env_of(d), sizeof kept);
    bool equal = scene_carries(s, d, true);
    memcpy(block, kept, sizeof kept);
    return equal;
}

static void a_unit_has_its_own_values(void) {
    struct scene s;
    scene_start(&s);
    card_put_variables(&s.core, s.image);
    card_put(&s.core, s.image, path_in(s.folder, "out"), "one");
    struct made_up *m = scene_card(4, "");
    struct made_up_device *d = scene_noise(&s, m);

    /* a name that has no number, and several devices for one name: nothing is touched */
    struct result got = scene_write(&s, m, (struct mosaicum_write){.unit = "jetty"}, "/dev/sdb");
    CU_ASSERT(got.status == MOSAICUM_REFUSED || got.status == MOSAICUM_USAGE);
    CU_ASSERT_PTR_NOT_NULL(strstr(got.error, "ethaddr"));
    CU_ASSERT_PTR_NOT_NULL(strstr(got.error, "no number"));
    CU_ASSERT_EQUAL(d->writes, 0);

    got = scene_write(&s, m, (struct mosaicum_write){.unit = "jetty-7"}, "/dev/sdb");
    CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
    CU_ASSERT_STRING_EQUAL(got.rules, "");
    CU_ASSERT_TRUE(stores(&s, d, "hostname", "tide-jetty-7"));
    CU_ASSERT_TRUE(stores(&s, d, "ethaddr", "02:00:5e:00:00:07"));
    CU_ASSERT_TRUE(stores(&s, d, "boot_note", "tide")); /* what the build has stays */
    CU_ASSERT_TRUE(equal_but_variables(&s, d));

    /* the same again: nothing differs */
    unsigned long before = d->writes;
    got =
        scene_write(&s, m, (struct mosaicum_write){.unit = "jetty-7", .changed = true}, "/dev/sdb");
    CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
    CU_ASSERT_EQUAL(d->writes, before);

    /* another name: its region only, though the region is the device's and would stay */
    got =
        scene_write(&s, m, (struct mosaicum_write){.unit = "jetty-8", .changed = true}, "/dev/sdb");
    CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
    CU_ASSERT_TRUE(stores(&s, d, "ethaddr", "02:00:5e:00:00:08"));
    CU_ASSERT(d->writes > before && equal_but_variables(&s, d));

    /* no name: it is said, and what is there stays */
    got = scene_write(&s, m, (struct mosaicum_write){0}, "/dev/sdb");
    CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
    CU_ASSERT_STRING_EQUAL(got.rules, "write.no-unit");
    CU_ASSERT_TRUE(stores(&s, d, "ethaddr", "02:00:5e:00:00:08"));
    /* … or goes, where all is wanted */
    got = scene_write(&s, m, (struct mosaicum_write){.all_regions = true}, "/dev/sdb");
    CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
    CU_ASSERT_TRUE(stores(&s, d, "ethaddr", NULL) && stores(&s, d, "hostname", "nobody"));
    made_up_free(m);
    scene_end(&s);
}

static void one_name_is_for_one_device(void) {
    static const char *const both[] = {"/dev/sdb", "/dev/sdc"};
    struct scene s;
    scene_start(&s);
    struct mosaicum_write r = {.unit = "jetty-7", .devices = both, .device_count = 2};
    for (unsigned own = 0; own < 2; own++) {
        struct made_up *m = scene_card(4, "disk sdc 8:32 4M bus=usb port=1-3 model=Reader "
                                          "serial=R3\n");
        struct made_up_device *b = scene_noise(&s, m), *c = made_up_device(m, "sdc");
        if (own) {
            card_put_variables(&s.core, s.image);
            card_put(&s.core, s.image, path_in(s.folder, "out"), "one");
        }
        struct result got = scene_write(&s, m, r, "");
        CU_ASSERT_EQUAL(got.status == MOSAICUM_DONE, !own);
        CU_ASSERT_EQUAL(strstr(got.error, "one device at a time") != NULL, own);
        CU_ASSERT_EQUAL(b->writes + c->writes == 0, own);
        made_up_free(m);
    }
    scene_end(&s);
}

/* A ledger that promises a block of variables where the image has none. */
static void a_block_must_be_there(void) {
    struct scene s;
    scene_start(&s);
    card_put_variables(&s.core, s.image);
    card_put(&s.core, s.image, path_in(s.folder, "out"), "one");
    size_t length;
    char *ledger = read_whole(path_in(s.folder, "out/ledger.json"), &length);
    scene_build(&s, 3, "one"); /* noise again, */
    write_text(path_in(s.folder, "promise.json"), ledger);
    free(ledger);
    struct made_up *m = scene_card(4, "");
    struct made_up_device *d = scene_noise(&s, m);
    char *promise = path_in(s.folder, "promise.json");
    struct result got = scene_write(
        &s, m, (struct mosaicum_write){.unit = "jetty-7", .ledger = promise}, "/dev/sdb");
    CU_ASSERT(got.status != MOSAICUM_DONE);
    CU_ASSERT_EQUAL(d->writes, 0);
    made_up_free(m);
    scene_end(&s);
}

/* ---- names that were given before ---- */

static void a_name_is_given_once(void) {
    static const struct {
        const char *device, *unit;
        bool before;
    } steps[] = {
        {"/dev/sdb", "jetty-7", false},
        {"/dev/sdb", "jetty-7", false}, /* the same card again */
        {"/dev/sdc", "jetty-8", false},
        {"/dev/sdc", "jetty-7", true},
        {"/dev/sdc", "jetty-7", false}, /* it is that card's now, */
        {"/dev/sdb", "jetty-7", true},
        {"/dev/sdc", "jetty-8", false}, /* … while this one was its own all the time */
    };
    struct scene s;
    scene_start(&s);
    struct made_up *m = scene_card(4, "disk sdc 8:32 4M bus=usb port=1-3 model=Reader serial=R3\n");
    for (size_t i = 0; i < sizeof steps / sizeof *steps; i++) {
        struct result got =
            scene_write(&s, m, (struct mosaicum_write){.unit = steps[i].unit}, steps[i].device);
        CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
        CU_ASSERT_EQUAL(strstr(got.rules, "write.not-new") != NULL, steps[i].before);
    }
    made_up_free(m);
    scene_end(&s);
}

/* ---- from a pipe ---- */

static struct {
    uint8_t *bytes;
    size_t length, at, most; /* most: bytes that one read gets */
    int error;               /* at the end, in place of it */
} pipe_state;

static int read_pipe(const struct mos_host *h, void *to, size_t length, size_t *got) {
    (void)h;
    size_t n = pipe_state.length - pipe_state.at;
    n = n < length ? n : length;
    n = n < pipe_state.most ? n : pipe_state.most;
    memcpy(to, pipe_state.bytes + pipe_state.at, n);
    pipe_state.at += n;
    *got = n;
    return n ? 0 : pipe_state.error;
}

static const struct {
    const char *packed; /* by which of the system's programs; NULL: plain */
    size_t most, less;  /* less: bytes that are missing at the end */
    int error;
    bool no_ledger, fine;
    const char *says;
} pipes[] = {
    {NULL, SIZE_MAX, 0, 0, false, true, ""},
    {NULL, 4097, 0, 0, false, true, ""},
    {NULL, 65536, 0, 0, false, true, ""},
    {"gzip", 999, 0, 0, false, true, ""},
    {"xz", 65536, 0, 0, false, true, ""},
    {"zstd -q", 8191, 0, 0, false, true, ""},
    {NULL, 65536, 1, 0, false, false, "write.image-damaged"},
    {NULL, 65536, CARD_SIZE / 2, 0, false, false, "write.image-damaged"},
    {NULL, 65536, CARD_SIZE, 0, false, false, ""},
    {"gzip", 65536, 9, 0, false, false, ""},
    {"xz", 65536, 1, 0, false, false, ""},
    {"zstd -q", 65536, CARD_SIZE / 4, 0, false, false, ""},
    {NULL, 65536, 0, EIO, false, false, "standard input"},
    {NULL, 65536, 0, 0, true, false, "--ledger"},
};

static void an_image_comes_through_a_pipe(void) {
    struct scene s;
    scene_start(&s);
    char *ledger = keep(path_in(s.folder, "out/ledger.json"));
    for (size_t i = 0; i < sizeof pipes / sizeof *pipes; i++) {
        struct made_up *m = scene_card(4, "");
        struct made_up_device *d = scene_noise(&s, m);
        char *path = s.path;
        if (pipes[i].packed) {
            path = path_in(s.folder, "packed");
            CU_ASSERT_TRUE_FATAL(runs(0, "%s -c < %s > %s", pipes[i].packed, s.path, path));
        }
        pipe_state.bytes = (uint8_t *)read_whole(path, &pipe_state.length);
        pipe_state.length -= pipes[i].less;
        pipe_state.most = pipes[i].most;
        pipe_state.at = 0;
        pipe_state.error = pipes[i].error;
        s.host.read_input = read_pipe;
        struct result got = scene_write(
            &s, m,
            (struct mosaicum_write){.what = "-", .ledger = pipes[i].no_ledger ? NULL : ledger},
            "/dev/sdb");
        CU_ASSERT_EQUAL(got.status == MOSAICUM_DONE, pipes[i].fine);
        CU_ASSERT_TRUE(strstr(got.rules, pipes[i].says) || strstr(got.error, pipes[i].says));
        CU_ASSERT_TRUE(pipes[i].fine || got.rules[0] || got.error[0]);
        CU_ASSERT_EQUAL(d->writes == 0, !pipes[i].fine);
        CU_ASSERT_EQUAL(scene_carries(&s, d, true) && scene_has_table(&s, d), pipes[i].fine);
        free(pipe_state.bytes);
        made_up_free(m);
    }
    scene_end(&s);
}

/* Whoever works through a guard finds every operation that the host has, behind the guard, too. */
static void a_guard_has_what_its_host_has(void) {
    struct core c;
    core_start(&c);
    const struct mos_host *real = mos_platform_host();
    const struct mos_host *guard = mos_guard_host(mos_guard_new(c.ctx.arena, real));
    for (size_t at = 0; at + sizeof(void *) <= sizeof *real; at += sizeof(void *)) {
        static const char none[sizeof(void *)];
        bool of_real = memcmp((const char *)real + at, none, sizeof none) != 0;
        bool of_guard = memcmp((const char *)guard + at, none, sizeof none) != 0;
        CU_ASSERT_TRUE(!of_real || of_guard);
    }
    core_end(&c);
}

SUITE(units_suite, {"patterns name units", patterns_name_units},
      {"numbers keep apart", numbers_keep_apart},
      {"a unit has its own values", a_unit_has_its_own_values},
      {"one name is for one device", one_name_is_for_one_device},
      {"a block must be there", a_block_must_be_there},
      {"a name is given once", a_name_is_given_once},
      {"an image comes through a pipe", an_image_comes_through_a_pipe},
      {"a guard has what its host has", a_guard_has_what_its_host_has});
