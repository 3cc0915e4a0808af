/* The planner of layouts against a small independent model. */
#include "support.h"

#include "base/bytes.h"
#include "model/schema.h"
#include "plan/plan.h"
#include "rules/rules.h"

#include <string.h>

enum { MIB = 1 << 20 };

struct wanted {
    unsigned at, size; /* MiB; at 0: not stated; size 0: rest */
    bool partition;
};

static struct mos_plan *plan_in(struct core *c, const char *root, const char *text) {
    struct mos_board *b = board_from_text(c, text);
    b->r.name = "curlew";
    b->workspace_name = "saltmarsh-survey";
    b->root = root;
    struct mos_plan *plan = mos_plan_make(&c->ctx, b);
    CU_ASSERT_PTR_NOT_NULL_FATAL(plan);
    mos_rules_run(plan, MOS_STAGE_PLAN);
    return plan;
}

static struct mos_plan *plan_of(struct core *c, const char *text) {
    return plan_in(c, ".", text);
}

static size_t make_regions(uint64_t *seed, struct wanted *w) {
    size_t count = 1 + random_below(seed, 6);
    for (size_t i = 0; i < count; i++) {
        w[i].partition = random_below(seed, 4) != 0;
        w[i].size = 1 + (unsigned)random_below(seed, 60);
        w[i].at = random_below(seed, 3) ? 0 : 1 + (unsigned)random_below(seed, 250);
    }
    if (random_below(seed, 2)) {
        w[count - 1].at = 0;
        w[count - 1].size = 0;
    }
    return count;
}

static const char *text_of(struct core *c, const struct wanted *w, size_t count) {
    struct mos_buf b = {.arena = c->ctx.arena};
    mos_buf_text(&b,
                 "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 256 MiB, "
                 "erase: 4 MiB}}}\nlayout:\n  card:\n    table: {kind: gpt}\n    regions:\n");
    for (size_t i = 0; i < count; i++) {
        mos_buf_printf(&b, "      r%zu: {", i);
        if (w[i].partition)
            mos_buf_printf(&b, "number: %zu, ", i + 1);
        if (w[i].at)
            mos_buf_printf(&b, "at: %u MiB, ", w[i].at);
        if (w[i].size)
            mos_buf_printf(&b, "size: %u MiB}\n", w[i].size);
        else
            mos_buf_text(&b, "size: rest}\n");
    }
    return mos_buf_string(&b);
}

/* What must be found: stated regions that touch each other or the end. */
static void expect_stated(const struct wanted *w, size_t count, size_t *overlaps, size_t *beyond) {
    *overlaps = *beyond = 0;
    for (size_t i = 0; i < count; i++) {
        *beyond += w[i].at && w[i].at + w[i].size > 255; /* the last MiB holds the backup */
        for (size_t k = i + 1; k < count; k++)
            *overlaps += w[i].at && w[k].at && w[i].at < w[k].at + w[k].size &&
                         w[k].at < w[i].at + w[i].size;
    }
}

static void random_layouts_are_sound(void) {
    uint64_t seed = 11;
    unsigned clean = 0, full = 0;
    for (int round = 0; round < 600; round++) {
        struct core c;
        struct wanted w[8];
        size_t count = make_regions(&seed, w), overlaps, beyond;
        core_start(&c);
        const char *text = text_of(&c, w, count);
        struct mos_plan *plan = plan_of(&c, text);
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, 0);
        expect_stated(w, count, &overlaps, &beyond);
        CU_ASSERT_EQUAL(count_rule(&c, MOS_RULE_LAYOUT_OVERLAP), overlaps);
        size_t ends = count_rule(&c, MOS_RULE_LAYOUT_BEYOND_MEDIUM) +
                      count_rule(&c, MOS_RULE_LAYOUT_COVERS_TABLE);
        CU_ASSERT_EQUAL(ends, beyond);
        for (size_t i = 0; i < count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, i);
            if (!r->placed || !r->chosen || m->overflows)
                continue;
            CU_ASSERT_EQUAL(r->start % (w[i].partition ? 4 * MIB : 4096), 0);
            CU_ASSERT(r->start >= m->usable_start && r->start + r->length <= m->usable_end);
            CU_ASSERT(!w[i].size || r->length == (uint64_t)w[i].size * MIB);
            for (size_t k = 0; k < count; k++) {
                const struct mos_region_plan *o = mos_vec_pointer(&m->regions, k);
                bool apart = k == i || !o->placed || o->start + o->length <= r->start ||
                             r->start + r->length <= o->start;
                CU_ASSERT(apart);
            }
        }
        clean += c.ctx.findings.items.count == 0;
        full += m->overflows;
        core_end(&c);
    }
    CU_ASSERT(clean > 100 && full > 10); /* both kinds were really tried */
}

/* Derived identities differ between media, regions and purposes, and never change by themselves. */
static void identities_are_derived(void) {
    static const char text[] =
        "mosaicum: 1\nboard: curlew\nhardware: {media: {a: {kind: sd, size: 64 MiB}, b: {kind: sd, "
        "size: 64 MiB}}}\nlayout:\n  a: {table: {kind: gpt}, regions: {x: {number: 1, size: 1 "
        "MiB}, "
        "y: {number: 2, size: 1 MiB}}}\n  b: {table: {kind: gpt}, regions: {x: {number: 1, size: 1 "
        "MiB}}}\n";
    struct core c, d;
    core_start(&c);
    core_start(&d);
    struct mos_plan *p = plan_of(&c, text), *q = plan_of(&d, text);
    const struct mos_medium_plan *a = mos_vec_pointer(&p->media, 0),
                                 *b = mos_vec_pointer(&p->media, 1);
    const struct mos_region_plan *ax = mos_vec_pointer(&a->regions, 0),
                                 *ay = mos_vec_pointer(&a->regions, 1);
    const struct mos_region_plan *bx = mos_vec_pointer(&b->regions, 0);
    const uint8_t *const all[] = {a->id, b->id, ax->id, ay->id, bx->id};
    for (size_t i = 0; i < 5; i++)
        for (size_t k = 0; k < i; k++)
            CU_ASSERT_NOT_EQUAL(memcmp(all[i], all[k], 16), 0);
    const struct mos_medium_plan *again = mos_vec_pointer(&q->media, 0);
    CU_ASSERT_EQUAL(memcmp(a->id, again->id, 16), 0);
    core_end(&c);
    core_end(&d);
}

/* A value that is broken has one finding; nobody who needs it adds another. */
static void one_cause_has_one_finding(void) {
    static const char *const boards[] = {
        "layout: {card: {table: {kind: gtp}, regions: {a: {number: 1, size: 1 MiB}}}}\n",
        "layout: {card: {table: {kind: gpt}, regions: {a: {number: 1, size: 1 Mib}}}}\n",
        "layout: {card: {table: {kind: gpt}, regions: {a: {at: 1 MiB, environment: man}}}}\n",
        ("layout: {card: {table: {kind: gpt}, regions: {a: {number: 1, size: 1 MiB, volume: {kind: "
         "etx4}}}}}\n"),
        "stages: {first: {piece: x}}\nlayout: {card: {regions: {a: {at: 1 MiB, stage: first}}}}\n",
        "stages: {first: {piece: x, from: a}}\nlayout: {card: {regions: {a: {at: 1 MiB, size: 1 "
        "MiB}}}}\n",
        "kernel: {image: x}\nboot: {entries: {main: {arguments: {root: /dev/nfs}}}}\n"};
    for (size_t i = 0; i < sizeof boards / sizeof *boards; i++) {
        struct core c;
        core_start(&c);
        plan_of(&c, mos_printf(c.ctx.arena,
                               "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, "
                               "size: 64 MiB}}}\n%s",
                               boards[i]));
        if (c.ctx.findings.items.count != 1)
            for (size_t k = 0; k < c.ctx.findings.items.count; k++)
                fprintf(stderr, "\n%s",
                        ((struct mos_finding *)mos_vec_pointer(&c.ctx.findings.items, k))->message);
        CU_ASSERT_EQUAL(c.ctx.findings.items.count, 1);
        core_end(&c);
    }
}

/* However a region is written: it has a place, or it is said why not. */
static void no_region_is_left_out(void) {
    static const char *const places[] = {"", "at: 1 MiB, "}, *const numbers[] = {"", "number: 1, "};
    static const char *const sizes[] = {
        "",           "size: 0 B, ", "size: 0%, ", "size: 0 sectors, ", "size: 1 MiB, ",
        "size: 1%, ", "size: rest, "};
    static const struct {
        const char *region, *definitions;
        bool sound; /* with a size there is nothing to say */
    } contents[] = {
        {"", "", true},
        {"volume: {kind: ext4}", "", true},
        {"piece: p", "pieces: {p: {file: there.bin}}\n", true},
        {"piece: p", "pieces: {p: {file: missing.bin}}\n", false},
        {"piece: p", "pieces: {p: {made-by: {run: [\"true\"]}}}\n", false},
        {"piece: p", "pieces: {p: {ramdisk: {files: {x: {text: x, to: /x}}}}}\n", true},
        {"piece: p", "pieces: {q: {file: there.bin}, p: {packed: {parts: {q: q}}}}\n", true},
        {"stage: s", "pieces: {p: {file: there.bin}}\nstages: {s: {piece: p, by: rom}}\n", true},
        {"stage: s",
         "pieces: {p: {file: there.bin}}\nstages: {s: {piece: p, by: rom, limit: 1 MiB}}\n", true},
        {"stage: s", "pieces: {p: {file: missing.bin}}\nstages: {s: {piece: p, by: rom}}\n", false},
        {"stage: s",
         "pieces: {p: {ramdisk: {files: {x: {text: x, to: /x}}}}}\nstages: {s: {piece: p, by: "
         "rom}}\n",
         true},
        {"environment: e",
         "loader: {dialect: u-boot, environments: {e: {base: none, size: 64 KiB}}}\n", true},
    };
    enum { CONTENTS = sizeof contents / sizeof *contents, FORMS = 2 * 2 * 7 * CONTENTS };
    static const char around[] =
        "mosaicum: 1\nboard: curlew\nhardware: {cpu: arm64, media: {card: {kind: sd, size: 64 "
        "MiB}}}\n%slayout: {card: {table: {kind: gpt}, regions: {a: {%s%s%s%s}}}}\n";
    const char *folder = keep(test_folder("no-region"));
    size_t placed = 0, said = 0;
    write_text(path_in(folder, "there.bin"), "tide\n");
    for (size_t i = 0; i < FORMS; i++) {
        struct core c;
        core_start(&c);
        size_t kind = i / 28, size = i / 4 % 7;
        const char *text =
            mos_printf(c.ctx.arena, around, contents[kind].definitions, places[i % 2],
                       numbers[i / 2 % 2], sizes[size], contents[kind].region);
        struct mos_plan *plan = plan_in(&c, folder, text);
        const struct mos_region_plan *r = mos_plan_region(plan, "a");
        bool good = r && r->placed && r->length, told = c.ctx.findings.items.count;
        bool sized = size >= 4 && contents[kind].sound;
        if (told && !r->number &&
            r->def->volume) /* that it is in no table is said of all of them */
            told = ((struct mos_finding *)mos_vec_pointer(&c.ctx.findings.items, 0))->rule !=
                       MOS_RULE_LAYOUT_UNLISTED ||
                   c.ctx.findings.items.count > 1;
        if (sized && told)
            fprintf(stderr, "\n%s%s\n", text,
                    ((struct mos_finding *)mos_vec_pointer(&c.ctx.findings.items, 0))->message);
        CU_ASSERT(!sized || !told);
        if (!good && !told && !c.ctx.not_proved.count) {
            fprintf(stderr, "\n%s\n", strstr(text, "layout:"));
            CU_FAIL("a region that nobody speaks of");
        }
        placed += good;
        said += !good;
        core_end(&c);
    }
    CU_ASSERT(placed > FORMS / 3 && said > FORMS / 3);
}

/* Partitions of a flash in a tree: written in as many cells as its size takes, and read in as many
 * as they were written in. */
static void flash_partitions_take_the_cells_they_need(void) {
    static const struct {
        const char *size, *at; /* of the flash, and of its second region */
        uint64_t start;
        unsigned cells;
    } cases[] = {{"1 GiB", "512 MiB", 512ull << 20, 1},
                 {"4 GiB", "3 GiB", 3ull << 30, 2},
                 {"8 GiB", "6 GiB", 6ull << 30, 2}};
    const char *w = keep(test_folder("cells"));
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++)
        for (int stated = 0; stated < 3; stated++) { /* not at all; rightly; wrongly */
            struct core c;
            uint32_t cells = 0;
            uint64_t start = cases[i].start + (stated == 2 ? 1 << 20 : 0);
            core_start(&c);
            struct mos_buf tree = {.arena = c.ctx.arena};
            mos_buf_text(&tree, "/dts-v1/;\n/ { flash@0 { reg = <0>; ");
            if (stated)
                mos_buf_printf(&tree,
                               "partitions { compatible = \"fixed-partitions\"; #address-cells = "
                               "<2>; #size-cells = <1>; a@0 { label = \"a\"; reg = <0 0 0x200000>; "
                               "}; b@1 { label = \"b\"; reg = <%u %u 0x200000>; }; };",
                               (unsigned)(start >> 32), (unsigned)start);
            mos_buf_text(&tree, " }; };\n");
            write_text(path_in(w, "t.dts"), mos_buf_string(&tree));
            struct mos_plan *plan = plan_in(
                &c, w,
                mos_printf(
                    c.ctx.arena,
                    "mosaicum: 1\nboard: curlew\nhardware: {cpu: arm, media: {flash: {kind: "
                    "nand, size: %s, erase: 128 KiB, node: /flash@0}}}\ntree: {blobs: {main: "
                    "t.dts}}\nlayout: {flash: {regions: {a: {at: 0 B, size: 2 MiB}, b: {at: "
                    "%s, size: 2 MiB}}}}\n",
                    cases[i].size, cases[i].at));
            const struct mos_blob_plan *blob = mos_vec_pointer(&plan->blobs, 0);
            CU_ASSERT_EQUAL(count_rule(&c, MOS_RULE_TREE_FLASH_DIFFERS), stated == 2);
            const struct mos_dt_node *list = mos_dt_find(blob->tree, "/flash@0/partitions");
            const struct mos_dt_node *second =
                list && list->first_child ? list->first_child->next : NULL;
            CU_ASSERT_PTR_NOT_NULL_FATAL(second);
            const struct mos_dt_property *reg = mos_dt_property(second, "reg");
            CU_ASSERT(mos_dt_cell(list, "#address-cells", &cells));
            if (!stated) {
                CU_ASSERT_EQUAL(cells, cases[i].cells);
                CU_ASSERT_EQUAL(reg->length, 8 * (size_t)cells);
                CU_ASSERT_EQUAL(cells == 2 ? mos_be64(reg->data) : mos_be32(reg->data), start);
                CU_ASSERT_EQUAL(cells == 2 ? mos_be64(reg->data + 8) : mos_be32(reg->data + 4),
                                2 << 20);
            }
            core_end(&c);
        }
}

SUITE(plan_suite,
      {"flash partitions take the cells they need", flash_partitions_take_the_cells_they_need},
      {"no region is left out", no_region_is_left_out},
      {"random layouts", random_layouts_are_sound}, {"identities", identities_are_derived},
      {"one cause, one finding", one_cause_has_one_finding});
