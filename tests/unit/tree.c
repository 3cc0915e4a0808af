#include "support.h"

#include "base/bytes.h"
#include "tree/tree.h"

#include <string.h>

static struct mos_dt *parse(struct core *c, const char *text) {
    return mos_dt_parse(&c->ctx, mos_source_make(c->ctx.arena, "t.dts", text, strlen(text), 0),
                        NULL, NULL, 0);
}

/* Values of all kinds, byte for byte. */
static void values_are_compiled(void) {
    static const struct {
        const char *text;
        size_t length;
        const char *bytes;
    } cases[] = {
        {"\"a\\n\\x41\\101\"", 5, "a\nAA"},
        {"\"a\", \"b\"", 4, "a\0b"},
        {"<1 0x10 010>", 12, "\0\0\0\1\0\0\0\20\0\0\0\10"},
        {"<'a' (-1)>", 8, "\0\0\0a\xff\xff\xff\xff"},
        {"[00 01 ff]", 3, "\0\1\xff"},
        {"[0001ff]", 3, "\0\1\xff"},
        {"/bits/ 8 <1 2>", 2, "\1\2"},
        {"/bits/ 16 <0x1234>", 2, "\x12\x34"},
        {"/bits/ 64 <0x100000002>", 8, "\0\0\0\1\0\0\0\2"},
        {"<(1 + 2 * 3)>", 4, "\0\0\0\7"},
        {"<((1 << 4) | 3)>", 4, "\0\0\0\23"},
        {"<(7 > 3 ? 1 : 2)>", 4, "\0\0\0\1"},
        {"<(10 % 4) (~0xfffffff0 & 0xff)>", 8, "\0\0\0\2\0\0\0\17"},
        {"<(1 == 2 || 3 != 3)>", 4, "\0\0\0\0"},
        {"<>", 0, ""},
        {"&n", 3, "/n"},
        {"<&n>, \"x\"", 6, "\0\0\0\1x"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_dt *dt =
            parse(&c, mos_printf(c.ctx.arena, "/dts-v1/; / { p = %s; n: n {}; };", cases[i].text));
        CU_ASSERT_PTR_NOT_NULL_FATAL(dt);
        mos_dt_resolve(&c.ctx, dt);
        const struct mos_dt_property *p = mos_dt_property(dt->root, "p");
        bool good =
            p && p->length == cases[i].length && memcmp(p->data, cases[i].bytes, p->length) == 0;
        if (!good)
            fprintf(stderr, "\n%s\n", cases[i].text);
        CU_ASSERT(good);
        core_end(&c);
    }
}

static void mistakes_are_refused(void) {
    static const char *const cases[] = {"/ { };",
                                        "/dts-v1/; / { p = <1>; }",
                                        "/dts-v1/; / { p = <1> };",
                                        "/dts-v1/; / { p = <(1/0)>; };",
                                        "/dts-v1/; / { p = <0x100000000>; };",
                                        "/dts-v1/; / { p = [0]; };",
                                        "/dts-v1/; / { p = \"x; };",
                                        "/dts-v1/; / { n {}; p; };",
                                        "/dts-v1/; / { l: a {}; l: b {}; };",
                                        "/dts-v1/; / { /delete-node/ x; };",
                                        "/dts-v1/; / { /* };",
                                        "/dts-v1/; x;",
                                        "/dts-v1/; / { p = /bits/ 8 <256>; };",
                                        "/dts-v1/; / { p = <08>; };",
                                        "/dts-v1/; /plugin/; &x { /delete-property/ y; };",
                                        "/dts-v1/; /include/ \"../x\"",
                                        "/dts-v1/; / { p = /bits/ 16 <&l>; l: l {}; };"};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_dt *dt = parse(&c, cases[i]);
        if (dt || count_rule(&c, MOS_RULE_TREE_SYNTAX) != 1)
            fprintf(stderr, "\n%s: %zu\n", cases[i], count_rule(&c, MOS_RULE_TREE_SYNTAX));
        CU_ASSERT_PTR_NULL(dt);
        CU_ASSERT_EQUAL(count_rule(&c, MOS_RULE_TREE_SYNTAX), 1);
        core_end(&c);
    }
}

static void later_statements_change_earlier_ones(void) {
    struct core c;
    core_start(&c);
    struct mos_dt *dt = parse(
        &c,
        "/dts-v1/; /memreserve/ 0x1000 0x2000; / { a: a { x; y = <1>; b {}; }; };"
        "&a { y = <2>; /delete-property/ x; /delete-node/ b; };"
        "/ { w = <&v>; a { z = <&{/a}>; }; /omit-if-no-ref/ u: u {}; /omit-if-no-ref/ v: v {}; };");
    CU_ASSERT_PTR_NOT_NULL_FATAL(dt);
    mos_dt_resolve(&c.ctx, dt);
    struct mos_dt_node *a = mos_dt_find(dt, "/a");
    uint32_t y = 0, z = 0, phandle = 1;
    CU_ASSERT_TRUE(mos_dt_cell(a, "y", &y) && y == 2);
    CU_ASSERT_PTR_NULL(mos_dt_property(a, "x"));
    CU_ASSERT_PTR_NULL(mos_dt_find(dt, "/a/b"));
    CU_ASSERT_PTR_NULL(mos_dt_find(dt, "/u")); /* nobody refers to it */
    CU_ASSERT_PTR_NOT_NULL(mos_dt_find(dt, "/v"));
    CU_ASSERT_TRUE(mos_dt_cell(a, "z", &z) && mos_dt_cell(a, "phandle", &phandle) && z == phandle);
    CU_ASSERT_EQUAL(dt->reservations.count, 1);
    CU_ASSERT_PTR_NOT_NULL(mos_dt_property(a, "y")->replaced); /* its trail */
    core_end(&c);
}

/* Reading what was written and writing it again gives the same bytes. */
static void blobs_go_round(void) {
    struct core c;
    core_start(&c);
    struct mos_dt *dt =
        parse(&c, "/dts-v1/; /memreserve/ 1 2; / { m = \"x\"; n: n@1 { r = <&n>; e; }; };");
    CU_ASSERT_PTR_NOT_NULL_FATAL(dt);
    mos_dt_resolve(&c.ctx, dt);
    struct mos_buf first = {.arena = c.ctx.arena}, second = {.arena = c.ctx.arena};
    mos_dt_write_blob(&c.ctx, dt, true, &first);
    struct mos_dt *again = mos_dt_read_blob(&c.ctx, "b", first.data, first.length);
    CU_ASSERT_PTR_NOT_NULL_FATAL(again);
    CU_ASSERT_STRING_EQUAL(mos_dt_string(mos_dt_find(again, "/__symbols__"), "n"), "/n@1");
    mos_dt_write_blob(&c.ctx, again, false, &second);
    CU_ASSERT_EQUAL_FATAL(first.length, second.length);
    CU_ASSERT_EQUAL(memcmp(first.data, second.data, first.length), 0);
    for (size_t n = 0; n < first.length; n++) /* cut off anywhere it is refused */
        CU_ASSERT_PTR_NULL(mos_dt_read_blob(&c.ctx, "cut", first.data, n));
    core_end(&c);
}

static const char base_text[] =
    "/dts-v1/; / { i2c0: i2c@1 { status = \"disabled\"; }; clk: clock {}; u: u { c = <&clk>; }; };";
static const char overlay_text[] =
    "/dts-v1/; /plugin/; &i2c0 { status = \"okay\"; s: s@2 { c = <&clk>, <&s>; }; };"
    "&{/u} { peer = <&s>; };";

static void check_applied(struct mos_dt *base) {
    const struct mos_dt_node *s = mos_dt_find(base, "/i2c@1/s@2");
    CU_ASSERT_PTR_NOT_NULL_FATAL(s);
    uint32_t own = 0, clock = 0, peer = 0;
    CU_ASSERT_STRING_EQUAL(mos_dt_string(mos_dt_find(base, "/i2c@1"), "status"), "okay");
    CU_ASSERT_TRUE(mos_dt_cell(s, "phandle", &own) &&
                   mos_dt_cell(mos_dt_find(base, "/clock"), "phandle", &clock) &&
                   mos_dt_cell(mos_dt_find(base, "/u"), "peer", &peer));
    const uint8_t *c = mos_dt_property(s, "c")->data;
    CU_ASSERT_EQUAL(mos_be32(c), clock);
    CU_ASSERT_EQUAL(mos_be32(c + 4), own);
    CU_ASSERT_EQUAL(peer, own);
    CU_ASSERT_NOT_EQUAL(own, clock);
}

static void overlays_are_applied(void) {
    static const char *const names[] = {"base", "first"};
    struct core c;
    core_start(&c);
    struct mos_dt *base = parse(&c, base_text), *overlay = parse(&c, overlay_text);
    mos_dt_resolve(&c.ctx, base);
    CU_ASSERT_TRUE(mos_dt_apply(&c.ctx, base, overlay, 1, names));
    check_applied(base);
    CU_ASSERT_EQUAL(c.ctx.findings.items.count, 0);
    core_end(&c);
}

/* The same overlay as a blob with fixups, as compilers write it, on a base that is a blob too. */
static void compiled_overlays_are_applied(void) {
    static const char *const names[] = {"base", "first"};
    static const char flat[] =
        "/dts-v1/; / { fragment@0 { target = <0xffffffff>; __overlay__ { status = \"okay\";"
        " s@2 { c = <0xffffffff 1>; phandle = <1>; }; }; };"
        "fragment@1 { target-path = \"/u\"; __overlay__ { peer = <1>; }; };"
        "__fixups__ { i2c0 = \"/fragment@0:target:0\"; clk = \"/fragment@0/__overlay__/s@2:c:0\"; "
        "};"
        "__local_fixups__ { fragment@0 { __overlay__ { s@2 { c = <4>; }; }; };"
        " fragment@1 { __overlay__ { peer = <0>; }; }; };"
        "__symbols__ { s = \"/fragment@0/__overlay__/s@2\"; }; };";
    struct core c;
    core_start(&c);
    struct mos_buf a = {.arena = c.ctx.arena}, b = {.arena = c.ctx.arena};
    struct mos_dt *base = parse(&c, base_text);
    mos_dt_resolve(&c.ctx, base);
    mos_dt_write_blob(&c.ctx, base, true, &a);
    mos_dt_write_blob(&c.ctx, parse(&c, flat), false, &b);
    base = mos_dt_read_blob(&c.ctx, "base", a.data, a.length);
    struct mos_dt *overlay = mos_dt_read_blob(&c.ctx, "overlay", b.data, b.length);
    CU_ASSERT_TRUE_FATAL(overlay->overlay);
    CU_ASSERT_TRUE(mos_dt_apply(&c.ctx, base, overlay, 1, names));
    check_applied(base);
    core_end(&c);
}

SUITE(tree_suite, {"values of all kinds", values_are_compiled}, {"mistakes", mistakes_are_refused},
      {"later statements", later_statements_change_earlier_ones},
      {"blobs go round", blobs_go_round}, {"overlays from source", overlays_are_applied},
      {"overlays from blobs", compiled_overlays_are_applied});
