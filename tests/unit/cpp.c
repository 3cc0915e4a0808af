/* The preprocessor of tree sources: what macros come to, where their tokens stand, and that nothing
 * runs away; trees as text, and copied. */
#include "support.h"

#include "base/bytes.h"
#include "tree/text.h"
#include "tree/tree.h"

#include <string.h>

static struct mos_dt *parse(struct core *c, const char *text) {
    return mos_dt_parse(&c->ctx, mos_source_make(c->ctx.arena, "t.dts", text, strlen(text), 0),
                        NULL, NULL, 0);
}

/* The value of p, as text: what the macros before it make of it. */
static void macros_come_to(void) {
    static const struct {
        const char *lines, *value, *shown;
    } cases[] = {
        {"#define A 3", "<A>", "<3>"},
        {"#define A B\n#define B A", "<1>", "<1>"}, /* a circle stops */
        {"#define F(x) (x + 1)", "<F(2) F((3, 4) ? 5 : 6)>", NULL},
        {"#define F(x) (x + 1)", "<F(2) (F ( 3 ))>", "<3 4>"},
        {"#define F(x, y) x##y", "<F(1, 2) F(, 7) F(4, )>", "<0xc 7 4>"},
        {"#define S(x) #x", "S(a \"b\\n\" 'c')", "\"a \\\"b\\\\n\\\" 'c'\""},
        {"#define S(x) #x\n#define X(x) S(x)\n#define N 5", "X(N), S(N)", "\"5\", \"N\""},
        {"#define V(f, ...) f, ##__VA_ARGS__", "<1>, V(<2>), V(<3>, <4>)", "<1 2 3 4>"},
        {"#define V(a...) a", "<V(1 2)>", "<1 2>"},
        {"#define E", "<1 E 2>", "<1 2>"},
        {"#define F() 4", "<F() F( )>", "<4 4>"},
        {"#define F(x) x\n#define G F", "<G(6)>", "<6>"},
        {"#define OBJ(x) <x OBJ\n#define OBJ2 9>", "<1>", "<1>"},
        {"#define L(x) x ## _l", "<1>; L(q): n { }; m { r = <2>; }", "<1>"},
        {"#if 1\n#define A 1\n#elif 1\n#define A 2\n#else\n#error no\n#endif", "<A>", "<1>"},
        {"#if 0\n#error no\n#elif defined(B) || !defined C\n#define A 2\n#endif", "<A>", "<2>"},
        {"#ifdef A\n#ifndef B\n#error no\n#endif\n#elif 0\n#else\n#define A 7\n#endif", "<A>",
         "<7>"},
        {"#if -1 > 0u && 'a' == 97 && (1 ? 2 : 1/0) == 2 && -7 / 2 == -3\n#define A 5\n#endif",
         "<A>", "<5>"},
        {"#if 0 && 1 / 0\n#elif __has_include(\"nothing.h\")\n#else\n#define A 8\n#endif", "<A>",
         "<8>"},
        {"#define A 1\n#undef A\n#ifndef A\n#define A 4\n#endif", "<A>", "<4>"},
        {"#define LONG \\\n  6 /* a \n b */ \\\n  7 // gone", "<LONG>", "<6 7>"},
        {"", "<__LINE__ __COUNTER__ __COUNTER__>", "<2 0 1>"},
        {"", "__FILE__", "\"t.dts\""},
        {"#define ONE 0x1e+1", "<(ONE)>", "<0x1f>"},
        {"#pragma once\n#address-cells = <2>;\n", "<1>", NULL}, /* outside of a node */
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_dt *dt = parse(&c, mos_printf(c.ctx.arena, "%s\n/dts-v1/; / { p = %s; };",
                                                 cases[i].lines, cases[i].value));
        const struct mos_dt_property *p = dt ? mos_dt_property(dt->root, "p") : NULL;
        struct mos_dt_phandles all = {mos_vec_make(c.ctx.arena, sizeof(struct mos_dt_phandle))};
        const char *shown = p ? mos_dt_shown_value(c.ctx.arena, dt, &all, dt->root, p) : NULL;
        bool good = cases[i].shown ? shown && strcmp(shown, cases[i].shown) == 0
                                   : !dt && c.ctx.findings.items.count == 1;
        if (!good)
            fprintf(stderr, "\n%s\n%s: %s\n", cases[i].lines, cases[i].value, shown);
        CU_ASSERT(good);
        core_end(&c);
    }
}

/* Each mistake is told once, at its place: line and column of the first one. */
static void mistakes_have_their_place(void) {
    static const struct {
        const char *text;
        unsigned line, column;
        size_t places;
    } cases[] = {
        {"#define F(a, b) a\n/dts-v1/; / { p = <F(1)>; };", 2, 20, 1},
        {"#define F(a) a\n/dts-v1/; / { p = <F(1, 2)>; };", 2, 20, 1},
        {"#define F(a) a\n/dts-v1/; / { p = <F(1; };", 2, 20, 1},
        {"#define N 1 +\n/dts-v1/; / { p = <(N)>; };", 2, 22, 1}, /* the ) after it */
        {"#define BAD @\n/dts-v1/; / { p = <BAD>; };", 2, 20, 2}, /* and where it is defined */
        {"#define I BAD\n#define BAD @\n/dts-v1/;\n/ { p = <I>; };", 4, 10, 3},
        {"#define F(x) <x>\n/dts-v1/;\n/ { p = F(1\n  @); };", 4, 3,
         2}, /* an argument's own line */
        {"#if 1\n/dts-v1/; / { };", 1, 1, 1},
        {"#endif\n", 1, 1, 1},
        {"#if 1\n#else\n#else\n#endif\n", 3, 1, 1},
        {"#if 1 +\n#endif\n", 1, 1, 1},
        {"#if 1 / 0\n#endif\n", 1, 1, 1},
        {"#define F(a, a) 1\n", 1, 1, 1},
        {"#define F(a\n", 1, 1, 1},
        {"#define X a ##\n", 1, 1, 1},
        {"#define defined 1\n", 1, 1, 1},
        {"#include <nothing.h>\n", 1, 10, 1},
        {"#define H <>\n#include H\n", 2, 1, 1},
        {"#error stop\n", 1, 1, 1},
        {"/dts-v1/; / { p = __DATE__; };", 1, 19, 1},
        {"/dts-v1/;\n# 1 \"t.dts\"\n/ { p = <@>; };", 1, 1, 1}, /* a line of another text */
        {"/* no end", 1, 1, 1},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_dt *dt = parse(&c, cases[i].text);
        bool good = !dt && c.ctx.findings.items.count == 1;
        struct mos_position at = {0, 0};
        size_t places = 0;
        if (good) {
            const struct mos_finding *f = mos_vec_pointer(&c.ctx.findings.items, 0);
            const struct mos_place *p = mos_vec_at(&f->places, 0);
            places = f->places.count;
            at = mos_source_position(p->source, p->offset);
            good = at.line == cases[i].line && at.column == cases[i].column &&
                   places == cases[i].places;
        }
        if (!good)
            fprintf(stderr, "\n%s\nat %u:%u, %zu places, %zu findings\n", cases[i].text, at.line,
                    at.column, places, c.ctx.findings.items.count);
        CU_ASSERT(good);
        core_end(&c);
    }
}

/* What would never end, or fill the memory, ends in a message. */
static void nothing_runs_away(void) {
    struct core c;
    core_start(&c);
    struct mos_buf bomb = {.arena = c.ctx.arena}, deep = bomb, nested = bomb, braces = bomb;
    mos_buf_text(&bomb, "#define M0 1 1 1 1 1 1 1 1 1 1\n");
    for (int i = 1; i < 40; i++)
        mos_buf_printf(&bomb, "#define M%d M%d M%d M%d M%d\n", i, i - 1, i - 1, i - 1, i - 1);
    mos_buf_text(&bomb, "/dts-v1/; / { p = <M39>; };");
    mos_buf_text(&deep, "#define F(x) x\n/dts-v1/; / { p = <");
    for (int i = 0; i < 5000; i++)
        mos_buf_text(&deep, "F(");
    for (int i = 0; i < 5000; i++)
        mos_buf_text(&deep, ")");
    mos_buf_text(&deep, ">; };");
    mos_buf_text(&nested, "/dts-v1/; / { p = <");
    for (int i = 0; i < 50000; i++)
        mos_buf_text(&nested, "(-");
    mos_buf_text(&braces, "/dts-v1/; / {");
    for (int i = 0; i < 50000; i++)
        mos_buf_text(&braces, "a {");
    const char *const texts[] = {mos_buf_string(&bomb), mos_buf_string(&deep),
                                 mos_buf_string(&nested), mos_buf_string(&braces)};
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        c.ctx.findings.items.count = 0;
        CU_ASSERT_PTR_NULL(parse(&c, texts[i]));
        CU_ASSERT_EQUAL(c.ctx.findings.items.count, 1);
    }
    core_end(&c);
}

/* ---- deleted things ---- */

/* Names of properties and children in order. */
static const char *order_of(struct core *c, const struct mos_dt *dt) {
    struct mos_buf b = {.arena = c->ctx.arena};
    for (const struct mos_dt_property *p = dt->root->properties; p; p = p->next)
        mos_buf_printf(&b, "%s ", p->name);
    for (const struct mos_dt_node *n = dt->root->first_child; n; n = n->next)
        mos_buf_printf(&b, "%s(%u) ", n->name, n->property_count);
    return mos_buf_string(&b);
}

/* What is deleted and comes again stands where it stood, without what was in it. */
static void what_comes_again_keeps_its_place(void) {
    static const struct {
        const char *more, *order;
    } cases[] = {
        {"", "a b c x(1) y(1) z(1) "},
        {"/ { /delete-property/ a; };", "b c x(1) y(1) z(1) "},
        {"/ { /delete-property/ a; d; a; };", "a b c d x(1) y(1) z(1) "},
        {"/ { /delete-node/ x; };", "a b c y(1) z(1) "},
        {"/delete-node/ &lx; / { w { }; x { s; t; }; };", "a b c x(2) y(1) z(1) w(0) "},
        {"/delete-node/ &lx; / { lx: v { }; };", "a b c y(1) z(1) v(0) "},
        {"/ { /delete-node/ x; x { }; /delete-node/ x; };", "a b c y(1) z(1) "},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_dt *dt =
            parse(&c, mos_printf(c.ctx.arena,
                                 "/dts-v1/; / { a; b; c; lx: x { p; }; y { p; }; z { p; }; };%s",
                                 cases[i].more));
        CU_ASSERT_PTR_NOT_NULL_FATAL(dt);
        CU_ASSERT_STRING_EQUAL(order_of(&c, dt), cases[i].order);
        CU_ASSERT_STRING_EQUAL(order_of(&c, mos_dt_copy(c.ctx.arena, dt)), cases[i].order);
        core_end(&c);
    }
}

SUITE(cpp_suite, {"macros come to", macros_come_to},
      {"mistakes have their place", mistakes_have_their_place},
      {"nothing runs away", nothing_runs_away},
      {"what comes again keeps its place", what_comes_again_keeps_its_place});
