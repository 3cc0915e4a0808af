#include "support.h"

#include "base/bytes.h"
#include "boot/dialect.h"
#include "loaders/u-boot/environment.h"
#include "loaders/u-boot/legacy.h"
#include "loaders/u-boot/variables.h"

#include <string.h>

static void legacy_headers_go_round(void) {
    struct core c;
    core_start(&c);
    struct mos_buf out = {.arena = c.ctx.arena};
    struct mos_legacy h;
    const char *problem;
    mos_legacy_script(&out, "boot curlew", 1767225600, "echo hello\n", 11);
    uint8_t *d = (uint8_t *)out.data;
    CU_ASSERT_TRUE_FATAL(mos_legacy_read(d, out.length, &h, &problem));
    CU_ASSERT_EQUAL(h.type, MOS_LEGACY_SCRIPT);
    CU_ASSERT_EQUAL(h.size, 19); /* two words and the text */
    CU_ASSERT_STRING_EQUAL(h.name, "boot curlew");
    CU_ASSERT_EQUAL(mos_be32(d + 64), 11);
    CU_ASSERT_EQUAL(mos_be32(d + 68), 0);
    for (size_t i = 0; i < out.length; i++) { /* one flipped bit anywhere */
        d[i] ^= 0x10;
        CU_ASSERT_FALSE(mos_legacy_read(d, out.length, &h, &problem));
        d[i] ^= 0x10;
    }
    for (size_t n = 0; n < out.length; n++)
        CU_ASSERT(n == 64 || !mos_legacy_read(d, n, &h, &problem));
    core_end(&c);
}

static void environments_go_round(void) {
    for (int flag = 0; flag < 2; flag++) {
        struct core c;
        core_start(&c);
        struct mos_map map = mos_map_make(c.ctx.arena), again;
        struct mos_buf out = {.arena = c.ctx.arena};
        bool form;
        struct mos_place none = {0};
        mos_variables_set(c.ctx.arena, &map, "bootdelay", "3", none);
        mos_variables_set(c.ctx.arena, &map, "bootcmd", "run a; setenv b 'x=y'", none);
        mos_variables_set(c.ctx.arena, &map, "bootdelay", "2", none);
        uint64_t need = mos_environment_size(&map, flag);
        mos_environment_write(&out, &map, 4096, flag);
        CU_ASSERT_EQUAL(out.length, 4096);
        CU_ASSERT_EQUAL(out.data[need - 1] | out.data[need - 2], 0);
        CU_ASSERT_NOT_EQUAL(out.data[need - 3], 0); /* exactly as long as counted */
        CU_ASSERT_TRUE_FATAL(
            mos_environment_read(c.ctx.arena, (uint8_t *)out.data, 4096, &again, &form));
        CU_ASSERT_EQUAL(form, flag);
        CU_ASSERT_EQUAL(again.count, 2);
        CU_ASSERT_STRING_EQUAL(
            ((struct mos_loader_variable *)mos_map_get(&again, "bootdelay"))->value, "2");
        CU_ASSERT_STRING_EQUAL(
            ((struct mos_loader_variable *)mos_map_get(&map, "bootdelay"))->replaced->value, "3");
        out.data[100] ^= 1;
        CU_ASSERT_FALSE(
            mos_environment_read(c.ctx.arena, (uint8_t *)out.data, 4096, &again, &form));
        core_end(&c);
    }
}

static void variables_are_seen(void) {
    static const struct {
        const char *text, *uses; /* v: value, r: run, s: set, t: tested */
    } cases[] = {
        {"run a b; echo ${c} $d", "ra rb vc vd "},
        {"setenv x ${y}; env", "sx vy "},
        {"if test -n \"${a}\"; then run b; fi", "ta rb "},
        {"for i in 1 2; do load mmc 0:${i} ${addr} f; done", "si vi vaddr "},
        {"setenv inner 'run late; echo ${later}'", "sinner rlate vlater "},
        {"x=5; echo $x", "sx vx "},
        {"echo ${a:-b}", "ta "},
        {"echo $? $1 ${", ""},
        {"[ \"$a\" = b ] && run c", "ta rc "},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_buf b = {.arena = c.ctx.arena};
        struct mos_vec uses =
            mos_shell_variables(c.ctx.arena, cases[i].text, strlen(cases[i].text));
        for (size_t k = 0; k < uses.count; k++) {
            const struct mos_variable_use *u = mos_vec_at(&uses, k);
            mos_buf_printf(&b, "%c%s ", "vrst"[u->kind], u -> name);
            CU_ASSERT_EQUAL(strncmp(cases[i].text + u->offset, u->name, u->length), 0);
        }
        if (strcmp(mos_buf_string(&b), cases[i].uses) != 0)
            fprintf(stderr, "\n%s: %s\n", cases[i].text, mos_buf_string(&b));
        CU_ASSERT_STRING_EQUAL(mos_buf_string(&b), cases[i].uses);
        core_end(&c);
    }
}

/* Whatever the sizes: what is chosen never overlaps, and is aligned as the architecture wants. */
static void chosen_addresses_never_overlap(void) {
    uint64_t seed = 5;
    for (int i = 0; i < 2000; i++) {
        struct mos_ram_map ram = {0x40000000, 512 << 20, 0x40000000 + (472u << 20)};
        struct mos_kernel_header h = {.alignment = 2 << 20,
                                      .anywhere = random_below(&seed, 2),
                                      .text_offset = random_below(&seed, 2) * 0x80000};
        uint64_t kernel = 1 + random_below(&seed, 60 << 20),
                 tree = 100 + random_below(&seed, 200000);
        uint64_t ramdisk = random_below(&seed, 2) ? random_below(&seed, 80 << 20) : 0;
        h.running_size = kernel + random_below(&seed, 20 << 20);
        struct mos_placement p[3] = {{.what = "kernel"}, {.what = "tree"}, {.what = "ramdisk"}};
        struct mos_loads loads = {&h, kernel, tree, ramdisk, false};
        mos_placement_settle(&ram, &loads, &p[0], &p[1], &p[2]);
        CU_ASSERT_EQUAL((p[0].ranges[0].start - h.text_offset) % (2 << 20), 0);
        for (int a = 0; a < 3; a++)
            for (int b = a + 1; b < 3; b++)
                for (int x = 0; x < 3; x++)
                    for (int y = 0; y < 3; y++) {
                        struct mos_ram_span s = p[a].ranges[x], t = p[b].ranges[y];
                        if (s.length && t.length)
                            CU_ASSERT(s.start + s.length <= t.start ||
                                      t.start + t.length <= s.start);
                    }
    }
}

static void kernel_headers_are_read(void) {
    uint8_t head[4096] = {0};
    struct mos_kernel_header h;
    CU_ASSERT_FALSE(mos_kernel_read(head, sizeof head, 1 << 20, &h));
    memcpy(head + 56, "ARM\x64", 4);
    mos_put_le64(head + 16, 3 << 20);
    mos_put_le64(head + 24, 0xa);
    CU_ASSERT_TRUE(mos_kernel_read(head, sizeof head, 1 << 20, &h));
    CU_ASSERT(strcmp(h.cpu, "arm64") == 0 && h.anywhere && h.running_size == 3 << 20);
    CU_ASSERT_FALSE(mos_kernel_read(head, 60, 60, &h));
    memcpy(head + 56, "RSC\x05", 4);
    CU_ASSERT(mos_kernel_read(head, sizeof head, 1 << 20, &h) && strcmp(h.cpu, "riscv64") == 0);
    memcpy(head, "\x1f\x8b", 2);
    memset(head + 56, 0, 4);
    CU_ASSERT(mos_kernel_read(head, sizeof head, 1 << 20, &h) && !h.form);
}

/* Variables inside of a loader's binary: found by what they look like, whatever lies around. */
static void compiled_variables_are_found(void) {
    static const char variables[] = "arch=arm\0bootcmd=run a; run b\0bootdelay=2\0a=echo ${x}\0";
    static const struct {
        const char *before;
        size_t length;
        const char *after;
        size_t found;
    } cases[] = {{"\0\0", 2, "\0", 4},
                 {"\177ELF code\0some text\0", 20, "more=text\0", 5},
                 {"\1\2\3=\0", 5, "\377\376", 4}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_buf b = {.arena = c.ctx.arena};
        struct mos_map found;
        mos_buf_add(&b, cases[i].before, cases[i].length);
        mos_buf_add(&b, variables, sizeof variables - 1);
        mos_buf_add(&b, cases[i].after, strlen(cases[i].after) + 1);
        CU_ASSERT_TRUE_FATAL(
            mos_environment_find(c.ctx.arena, (uint8_t *)b.data, b.length, &found));
        CU_ASSERT_EQUAL(found.count, cases[i].found);
        const struct mos_loader_variable *v = mos_map_get(&found, "bootcmd");
        CU_ASSERT(v && strcmp(v->value, "run a; run b") == 0);
        CU_ASSERT_FALSE(mos_environment_find(c.ctx.arena, (uint8_t *)b.data, 12, &found));
        core_end(&c);
    }
}

SUITE(boot_suite, {"compiled variables are found", compiled_variables_are_found},
      {"legacy headers", legacy_headers_go_round}, {"environments", environments_go_round},
      {"variables", variables_are_seen}, {"chosen addresses", chosen_addresses_never_overlap},
      {"kernel headers", kernel_headers_are_read});
