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
        {"&n, \"x\", &n, <1>", 12, "/n\0x\0/n\0\0\0\0\1"},
        {"[aa], &n, [bb]", 5, "\xaa/n\0\xbb"},
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
                                        "/dts-v1/; / { /delete-node/ ; };",
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

/* Compiled by us, read back and applied to the base, with nothing to say. */
static bool overlay_applies(struct core *c, const char *text) {
    static const char *const names[] = {"base", "first"};
    struct mos_buf b = {.arena = c->ctx.arena};
    struct mos_dt *base = parse(c, base_text);
    mos_dt_resolve(&c->ctx, base);
    mos_dt_write_blob(&c->ctx, parse(c, text), false, &b);
    struct mos_dt *overlay = mos_dt_read_blob(&c->ctx, "overlay", b.data, b.length);
    if (overlay)
        mos_dt_apply(&c->ctx, base, overlay, 1, names);
    return overlay && c->ctx.findings.items.count == 0;
}

/* What a blob says about itself is not believed: a fix-up outside of its property is a finding, and
 * so is one that names no node. */
static void fixups_stay_inside(void) {
    static const struct {
        unsigned offset;
        bool good, local_good; /* the first cell names the node, the second none */
    } cases[] = {{0, true, true},   {4, true, false},  {5, false, false},
                 {8, false, false}, {9, false, false}, {4096, false, false}};
    for (size_t k = 0; k < 2 * sizeof cases / sizeof *cases; k++) {
        size_t i = k / 2;
        bool local = k % 2;
        struct core c;
        core_start(&c);
        const char *text =
            mos_printf(c.ctx.arena,
                       "/dts-v1/; / { fragment@0 { target-path = \"/u\"; "
                       "__overlay__ { c = <7 9>; n { phandle = <7>; }; }; }; %s%u%s };",
                       local ? "__local_fixups__ { fragment@0 { __overlay__ { c = <"
                             : "__fixups__ { clk = \"/fragment@0/__overlay__:c:",
                       cases[i].offset, local ? ">; }; }; };" : "\"; };");
        bool applied = overlay_applies(&c, text);
        bool good = local ? cases[i].local_good : cases[i].good;
        CU_ASSERT_EQUAL(applied, good);
        core_end(&c);
    }
}

/* The last bytes of a property are no cell. */
static void fixups_need_a_whole_cell(void) {
    static const struct {
        const char *bytes;
        unsigned phandle;
        bool good;
    } cases[] = {{"00 00 00 07 00 00 07", 0x700, false},
                 {"00 00 00 07 00 00 07 00", 0x700, true},
                 {"00 00 00 07 00 00", 0, false},
                 {"00 00 00 07", 0, false}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        const char *text = mos_printf(
            c.ctx.arena,
            "/dts-v1/; / { fragment@0 { target-path = \"/u\"; __overlay__ { c = [%s]; n { phandle "
            "= <%u>; "
            "}; }; }; __local_fixups__ { fragment@0 { __overlay__ { c = <4>; }; }; }; };",
            cases[i].bytes, cases[i].phandle);
        bool applied = overlay_applies(&c, text);
        CU_ASSERT_EQUAL(applied, cases[i].good);
        core_end(&c);
    }
}

/* ---- expressions ---- */

/* The operators of C on unsigned 64-bit numbers; a higher rank binds tighter. */
static const struct {
    const char *sign;
    int rank;
} operators[] = {{"||", 1}, {"&&", 2}, {"|", 3}, {"^", 4},  {"&", 5},  {"==", 6},
                 {"!=", 6}, {"<", 7},  {">", 7}, {"<=", 7}, {">=", 7}, {"<<", 8},
                 {">>", 8}, {"+", 9},  {"-", 9}, {"*", 10}, {"/", 10}, {"%", 10}};

static uint64_t worked_out(unsigned op, uint64_t a, uint64_t b) {
    switch (op) {
    case 0:
        return a || b;
    case 1:
        return a && b;
    case 2:
        return a | b;
    case 3:
        return a ^ b;
    case 4:
        return a & b;
    case 5:
        return a == b;
    case 6:
        return a != b;
    case 7:
        return a < b;
    case 8:
        return a > b;
    case 9:
        return a <= b;
    case 10:
        return a >= b;
    case 11:
        return a << b;
    case 12:
        return a >> b;
    case 13:
        return a + b;
    case 14:
        return a - b;
    case 15:
        return a * b;
    case 16:
        return a / b;
    default:
        return a % b;
    }
}

/* Writes an expression, with parentheses only where its place needs them; its value. */
static uint64_t put_expression(struct mos_buf *b, uint64_t *seed, int depth, int rank) {
    uint64_t kind = depth ? random_below(seed, 10) : 0, x, y, z;
    if (kind < 2) {
        x = random_below(seed, 3) ? random_below(seed, 20) : random_next(seed);
        mos_buf_printf(b, random_below(seed, 2) ? "%llu" : "0x%llx", (unsigned long long)x);
        return x;
    }
    if (kind == 2) {
        char sign = "~-!"[random_below(seed, 3)];
        mos_buf_printf(b, "%c", sign);
        x = put_expression(b, seed, 0, 11);
        return sign == '~' ? ~x : sign == '-' ? 0 - x : !x;
    }
    int own = kind == 3 ? 0 : -1;
    unsigned op = (unsigned)random_below(seed, sizeof operators / sizeof *operators);
    own = own < 0 ? operators[op].rank : own;
    if (own < rank)
        mos_buf_text(b, "(");
    if (kind == 3) {
        x = put_expression(b, seed, depth - 1, 1);
        mos_buf_text(b, " ? ");
        y = put_expression(b, seed, depth - 1, 0);
        mos_buf_text(b, " : ");
        z = put_expression(b, seed, depth - 1, 0);
        x = x ? y : z;
    } else {
        x = put_expression(b, seed, depth - 1, own);
        bool shifts = op == 11 || op == 12, divides = op > 15;
        mos_buf_printf(b, " %s ", operators[op].sign);
        if (shifts || divides) { /* what C defines */
            y = 1 + random_below(seed, 63);
            mos_buf_printf(b, "%llu", (unsigned long long)y);
        } else {
            y = put_expression(b, seed, depth - 1, own + 1);
        }
        x = worked_out(op, x, y);
    }
    if (own < rank)
        mos_buf_text(b, ")");
    return x;
}

static void expressions_are_those_of_c(void) {
    uint64_t seed = 9;
    for (size_t i = 0; i < 3000; i++) {
        struct core c;
        core_start(&c);
        struct mos_buf b = {.arena = c.ctx.arena};
        mos_buf_text(&b, "/dts-v1/; / { p = /bits/ 64 <(");
        uint64_t value = put_expression(&b, &seed, 4, 0);
        mos_buf_text(&b, ")>; };");
        struct mos_dt *dt = parse(&c, mos_buf_string(&b));
        const struct mos_dt_property *p = dt ? mos_dt_property(dt->root, "p") : NULL;
        bool good = p && p->length == 8 && mos_be64(p->data) == value;
        if (!good)
            fprintf(stderr, "\n%s is %llu\n", mos_buf_string(&b), (unsigned long long)value);
        CU_ASSERT(good);
        core_end(&c);
    }
}

/* ---- statements ---- */

enum { NODES = 21, PROPERTIES = 3 };

/* A tree of up to four nodes below each: node i has the children 4 i + 1 to 4 i + 4. */
struct model {
    bool there[NODES];
    int values[NODES][PROPERTIES]; /* -1: none */
};

static int parent_of(int node) {
    return (node - 1) / 4;
}

static void forget(struct model *m, int node) {
    m->there[node] = false;
    for (int k = 0; k < PROPERTIES; k++)
        m->values[node][k] = -1;
    for (int i = 1; i < NODES; i++)
        if (parent_of(i) == node && m->there[i])
            forget(m, i);
}

static void put_path(struct mos_buf *b, int node) {
    if (node && parent_of(node))
        put_path(b, parent_of(node));
    if (node)
        mos_buf_printf(b, "/n%d", (node - 1) % 4);
}

/* Opens a node from the top, makes one statement in it, and closes all. */
static void put_statement(struct mos_buf *b, struct model *m, uint64_t *seed) {
    int node = (int)random_below(seed, NODES), chain[4], depth = 0;
    for (int i = node; i; i = parent_of(i))
        chain[depth++] = i;
    int from = depth;
    bool by_path = node && m->there[node] && random_below(seed, 2);
    if (by_path) {
        mos_buf_text(b, "&{");
        put_path(b, node);
        mos_buf_text(b, "} {");
        from = 0;
    } else {
        mos_buf_text(b, "/ {");
    }
    for (int i = from - 1; i >= 0; i--) {
        mos_buf_printf(b, " n%d {", (chain[i] - 1) % 4);
        m->there[chain[i]] = true;
    }
    int what = (int)random_below(seed, 6), k = (int)random_below(seed, PROPERTIES);
    int child = 4 * node + 1 + (int)random_below(seed, 4);
    if (what == 0 && m->values[node][k] >= 0) {
        mos_buf_printf(b, " /delete-property/ p%d;", k);
        m->values[node][k] = -1;
    } else if (what == 1 && child < NODES && m->there[child]) {
        mos_buf_printf(b, " /delete-node/ n%d;", (child - 1) % 4);
        forget(m, child);
    } else { /* properties stand before nodes: this node may have none yet in this statement */
        m->values[node][k] = (int)random_below(seed, 1000);
        mos_buf_printf(b, " p%d = <%d>;", k, m->values[node][k]);
    }
    for (int i = from; i; i--)
        mos_buf_text(b, " };");
    mos_buf_text(b, " };\n");
}

static bool same_tree(const struct mos_dt_node *n, const struct model *m, int node) {
    size_t children = 0, expected = 0, properties = 0;
    for (const struct mos_dt_node *x = n->first_child; x; x = x->next)
        children++;
    for (const struct mos_dt_property *p = n->properties; p; p = p->next)
        properties++;
    for (int k = 0; k < PROPERTIES; k++) {
        uint32_t value;
        char name[3] = {'p', (char)('0' + k), 0};
        bool has = mos_dt_cell(n, name, &value);
        if (has != (m->values[node][k] >= 0) || (has && value != (uint32_t)m->values[node][k]))
            return false;
        properties -= has;
    }
    for (int i = 1; i < NODES; i++) {
        char name[3] = {'n', (char)('0' + (i - 1) % 4), 0};
        if (parent_of(i) != node || !m->there[i])
            continue;
        const struct mos_dt_node *x = mos_dt_child(n, name);
        if (!x || !same_tree(x, m, i))
            return false;
        expected++;
    }
    return children == expected && !properties;
}

static void statements_equal_a_model(void) {
    uint64_t seed = 10;
    struct core labels;
    core_start(&labels); /* a label needs no blank behind it */
    struct mos_dt *near = parse(&labels, "/dts-v1/;/{q=<&l>;l:n{m:p=<1>;};};");
    CU_ASSERT(near && mos_dt_by_label(near, "l") == mos_dt_find(near, "/n"));
    core_end(&labels);
    for (size_t i = 0; i < 400; i++) {
        struct core c;
        struct model m = {0};
        core_start(&c);
        struct mos_buf b = {.arena = c.ctx.arena}, blob = {.arena = c.ctx.arena};
        forget(&m, 0);
        for (int k = 1; k < NODES; k++)
            forget(&m, k);
        m.there[0] = true;
        mos_buf_text(&b, "/dts-v1/;\n/ { };\n");
        for (size_t n = 1 + random_below(&seed, 30); n; n--)
            put_statement(&b, &m, &seed);
        struct mos_dt *dt = parse(&c, mos_buf_string(&b));
        CU_ASSERT_PTR_NOT_NULL_FATAL(dt);
        mos_dt_resolve(&c.ctx, dt);
        bool good = same_tree(dt->root, &m, 0);
        mos_dt_write_blob(&c.ctx, dt, false, &blob);
        struct mos_dt *again = mos_dt_read_blob(&c.ctx, "b", blob.data, blob.length);
        good = good && again && same_tree(again->root, &m, 0);
        if (!good)
            fprintf(stderr, "\n%s\n", mos_buf_string(&b));
        CU_ASSERT(good);
        core_end(&c);
    }
}

/* ---- many children and properties: by name and by list, always the same ---- */

static struct mos_dt_node *listed_child(const struct mos_dt_node *n, const char *name) {
    struct mos_dt_node *before = NULL, *found = NULL;
    for (struct mos_dt_node *c = n->first_child; c; before = c, c = c->next) {
        CU_ASSERT(c->previous == before && c->parent == n);
        found = found ? found : strcmp(c->name, name) == 0 ? c : NULL;
    }
    CU_ASSERT_PTR_EQUAL(n->last_child, before);
    return found;
}

static struct mos_dt_property *listed_property(const struct mos_dt_node *n, const char *name) {
    struct mos_dt_property *last = NULL, *found = NULL;
    for (struct mos_dt_property *p = n->properties; p; last = p, p = p->next)
        found = found ? found : strcmp(p->name, name) == 0 ? p : NULL;
    CU_ASSERT_PTR_EQUAL(n->last_property, last);
    return found;
}

static void one_change(struct mos_dt *dt, struct mos_dt_node *n, uint64_t *seed, const char *name) {
    struct mos_dt_node *c = mos_dt_child(n, name);
    switch (random_below(seed, 7)) {
    case 0:
    case 1: /* now and then a second one of that name, as damaged blobs have */
        if (!c || random_below(seed, 8) == 0)
            mos_dt_add_label(dt, mos_dt_add_node(dt, n, name), name);
        break;
    case 2:
        if (c)
            mos_dt_remove_node(c);
        break;
    case 3:
    case 4:
        CU_ASSERT_EQUAL(mos_dt_set(dt, n, name, name, 2)->length, 2);
        break;
    case 5:
        CU_ASSERT_EQUAL(mos_dt_property(n, name) != NULL, mos_dt_remove_property(n, name));
        break;
    default:
        if (c && n->child_count > 1)
            mos_dt_child_first(c);
        if (mos_dt_property(n, name))
            mos_dt_property_first(n, mos_dt_property(n, name));
    }
}

static void names_lead_where_the_lists_do(void) {
    static char names[40][8];
    for (size_t i = 0; i < 40; i++)
        snprintf(names[i], sizeof names[i], "n@%zx", i);
    for (uint64_t run = 1; run <= 30; run++) {
        struct core c;
        core_start(&c);
        uint64_t seed = run;
        struct mos_dt *dt = mos_dt_new(c.ctx.arena, "made.dts");
        struct mos_dt_node *n = mos_dt_add_node(dt, dt->root, "many");
        size_t pool = 4 + random_below(&seed, 36);
        for (size_t i = 0; i < 300; i++)
            one_change(dt, n, &seed, names[random_below(&seed, pool)]);
        for (size_t i = 0; i < pool; i++) {
            struct mos_dt_node *child = listed_child(n, names[i]), *labelled;
            CU_ASSERT(n->doubled || mos_dt_child(n, names[i]) == child);
            CU_ASSERT_EQUAL(mos_dt_child(n, names[i]) != NULL, child != NULL);
            CU_ASSERT_PTR_EQUAL(mos_dt_property(n, names[i]), listed_property(n, names[i]));
            labelled = mos_dt_by_label(dt, names[i]);
            CU_ASSERT(!labelled || (strcmp(labelled->name, names[i]) == 0 && !labelled->removed));
            CU_ASSERT_EQUAL(mos_dt_find(dt, mos_printf(c.ctx.arena, "/many/%s", names[i])) != NULL,
                            child != NULL);
        }
        core_end(&c);
    }
}

SUITE(tree_suite, {"fix-ups need a whole cell", fixups_need_a_whole_cell},
      {"fix-ups stay inside", fixups_stay_inside},
      {"expressions are those of C", expressions_are_those_of_c},
      {"statements equal a model", statements_equal_a_model},
      {"values of all kinds", values_are_compiled}, {"mistakes", mistakes_are_refused},
      {"later statements", later_statements_change_earlier_ones},
      {"blobs go round", blobs_go_round}, {"overlays from source", overlays_are_applied},
      {"overlays from blobs", compiled_overlays_are_applied},
      {"names lead where the lists do", names_lead_where_the_lists_do});
