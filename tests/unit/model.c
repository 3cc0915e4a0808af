#include "support.h"

#include "model/schema.h"
#include "model/yaml.h"
#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>

static void values_know_where_they_come_from(void) {
    struct core c;
    core_start(&c);
    struct mos_board *b =
        board_from_text(&c, "mosaicum: 1\nboard: curlew\nabout: Wattwürmer\n"
                            "hardware: {console: {port: ttyAMA0, baud: 115200}}\n");
    CU_ASSERT_EQUAL(c.ctx.findings.items.count, 0);
    const struct mos_value *baud = b->hardware->console->baud;
    struct mos_position p = mos_source_position(baud->place.source, baud->place.offset);
    CU_ASSERT_EQUAL(baud->number, 115200);
    CU_ASSERT_EQUAL(p.line, 4);
    CU_ASSERT_EQUAL(p.column, 43); /* bytes, although a line above has a character of two */
    CU_ASSERT_PTR_NULL(baud->place.replaced);
    core_end(&c);
}

/* Scalars are typed by the table, never guessed. */
static void nothing_is_guessed(void) {
    struct core c;
    core_start(&c);
    struct mos_board *b = board_from_text(
        &c, "mosaicum: 1\nboard: no\nabout: 0123\nloader: {environments: {main: {size: 1 KiB, "
            "values: {a: null, b: 1e3, c: yes, d: ''}}}}\n");
    static const char *const expected[] = {"null", "1e3", "yes", ""};
    struct mos_environment *e = b->loader->environments.items[0];
    CU_ASSERT_EQUAL(c.ctx.findings.items.count, 0);
    CU_ASSERT_STRING_EQUAL(b->board->text, "no");
    CU_ASSERT_STRING_EQUAL(b->about->text, "0123");
    CU_ASSERT_EQUAL_FATAL(e->values.count, 4);
    for (size_t i = 0; i < 4; i++)
        CU_ASSERT_STRING_EQUAL(((struct mos_variable *)e->values.items[i])->value->text,
                               expected[i]);
    core_end(&c);
}

static void references_are_typed(void) {
    struct core c;
    core_start(&c);
    struct mos_board *b =
        board_from_text(&c, "mosaicum: 1\nboard: curlew\npieces: {linux: a.img}\n"
                            "stages: {first: {piece: linux, by: rom}, next: {piece: first}}\n");
    struct mos_stage *first = b->stages.items[0], *next = b->stages.items[1];
    CU_ASSERT_PTR_EQUAL(first->piece->target, b->pieces.items[0]);
    CU_ASSERT_FALSE(first->by->broken);
    CU_ASSERT_TRUE(next->piece->broken); /* a stage of that name is no piece */
    CU_ASSERT_EQUAL(count_rule(&c, MOS_RULE_BOARD_REFERENCE), 1);
    core_end(&c);
}

/* Every key of the table has a word about it, and no name twice. */
static void check_keys(const struct mos_keys *keys) {
    for (size_t i = 0; i < keys->count; i++) {
        const struct mos_key *k = &keys->keys[i];
        CU_ASSERT_PTR_NOT_NULL(k->about);
        CU_ASSERT(k->offset < keys->size);
        CU_ASSERT((k->type == MOS_TYPE_RECORD || k->type == MOS_TYPE_NAMED) == (k->record != NULL));
        bool chooses =
            k->type == MOS_TYPE_CHOICE || (k->type == MOS_TYPE_LIST && k->of == MOS_TYPE_CHOICE);
        CU_ASSERT(chooses == (k->choices != NULL));
        for (size_t n = 0; n < i; n++)
            CU_ASSERT_STRING_NOT_EQUAL(keys->keys[n].name, k->name);
        if (k->record)
            check_keys(k->record);
    }
}

static void the_table_is_sound(void) {
    check_keys(&mos_board_keys);
    check_keys(&mos_workspace_keys);
}

/* docs/definition.md ends with the tables that the schema table gives. */
static void the_reference_is_up_to_date(void) {
    struct mosaicum_options o = {.host = mos_platform_host(), .workspace = "."};
    mosaicum *m = mosaicum_new(&o);
    const char *tables;
    CU_ASSERT_EQUAL(mosaicum_reference(m, &tables), MOSAICUM_DONE);
    char *page = read_whole(path_in(MOSAICUM_SOURCE, "docs/definition.md"), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(page);
    bool same =
        strlen(page) > strlen(tables) && strcmp(page + strlen(page) - strlen(tables), tables) == 0;
    if (!same)
        fprintf(stderr, "\ndocs/definition.md: run docs/make-definition\n");
    CU_ASSERT_TRUE(same);
    free(page);
    mosaicum_free(m);
}

/* ---- writing ---- */

static size_t put_character(uint32_t code, char *to) {
    if (code < 0x80) {
        to[0] = (char)code;
        return 1;
    }
    size_t n = code < 0x800 ? 2 : code < 0x10000 ? 3 : 4;
    static const uint8_t first[] = {0, 0, 0xc0, 0xe0, 0xf0};
    to[0] = (char)(first[n] | code >> (6 * (n - 1)));
    for (size_t i = 1; i < n; i++)
        to[i] = (char)(0x80 | (code >> (6 * (n - 1 - i)) & 0x3f));
    return n;
}

/* A text as a scalar, in a list and behind a key, reads back as it was. */
static bool reads_back(struct core *c, const char *text) {
    struct mos_buf out = {.arena = c->ctx.arena};
    mos_yaml_comment(&out, "");
    mos_buf_text(&out, "a: [");
    mos_yaml_scalar(&out, text);
    mos_buf_text(&out, ", ");
    mos_yaml_scalar(&out, text);
    mos_buf_text(&out, "]\nb: ");
    mos_yaml_scalar(&out, text);
    mos_buf_text(&out, "  # ");
    mos_yaml_comment(&out, text);
    mos_buf_text(&out, "\nc: last\n");
    const char *all = mos_buf_string(&out);
    const struct mos_node *n =
        mos_yaml_parse(&c->ctx, mos_source_make(c->ctx.arena, "written", all, out.length, 0));
    return n && n->count == 3 && n->items[0]->count == 2 &&
           strcmp(n->items[0]->items[1]->text, text) == 0 && strcmp(n->items[1]->text, text) == 0 &&
           strcmp(n->items[2]->text, "last") == 0;
}

/* Every character there is, alone at the start and among its neighbours; and mixtures. */
static void texts_are_written_as_they_are(void) {
    size_t wrong = 0, tried = 0;
    for (uint32_t from = 1; from < 0x110000;) {
        struct core c;
        char text[400];
        size_t length = 0;
        core_start(&c);
        for (unsigned i = 0; i < 64 && from < 0x110000; i++, from++)
            if (from < 0xd800 || from > 0xdfff)
                length += put_character(from, text + length);
        text[length] = 0;
        wrong += !reads_back(&c, text);
        tried++;
        core_end(&c);
    }
    uint64_t state = 31;
    static const uint32_t odd[] = {'"',    '\\',   '\n',  '\t',    ' ',  ':',    '#',    '-',
                                   '~',    0x7f,   0x85,  0xa0,    0xad, 0x2028, 0x2029, 0x202e,
                                   0xfeff, 0xfffd, 0x51f, 0x1f30a, 'x',  '0',    '{',    ','};
    for (size_t i = 0; i < 3000; i++) {
        struct core c;
        char text[200];
        size_t length = 0;
        core_start(&c);
        for (size_t k = random_below(&state, 12); k; k--)
            length +=
                put_character(odd[random_below(&state, sizeof odd / sizeof *odd)], text + length);
        text[length] = 0;
        wrong += !reads_back(&c, text);
        tried++;
        core_end(&c);
    }
    CU_ASSERT_EQUAL(wrong, 0);
    CU_ASSERT(tried > 20000);
}

/* The last value of each type that is one, and the first that is none. */
static void values_have_their_borders(void) {
#define HASH "00112233445566778899aabbccddeeff00112233445566778899aabbccddeef"
    static const struct {
        enum mos_type type;
        const char *text;
        bool good;
        uint64_t number;
    } cases[] = {
        {MOS_TYPE_INTEGER, "0", true, 0},
        {MOS_TYPE_INTEGER, "4294967295", true, UINT32_MAX},
        {MOS_TYPE_INTEGER, "4294967296", false, 0},
        {MOS_TYPE_INTEGER, "18446744073709551616", false, 0},
        {MOS_TYPE_INTEGER, "+1", false, 0},
        {MOS_TYPE_INTEGER, "1 ", false, 0},
        {MOS_TYPE_INTEGER, "0x1", false, 0},
        {MOS_TYPE_SIZE, "0 B", true, 0},
        {MOS_TYPE_SIZE, "1 KiB", true, 1024},
        {MOS_TYPE_SIZE, "1 kB", true, 1000},
        {MOS_TYPE_SIZE, "3 MiB", true, 3 << 20},
        {MOS_TYPE_SIZE, "3 MB", true, 3000000},
        {MOS_TYPE_SIZE, "2 GiB", true, 2ull << 30},
        {MOS_TYPE_SIZE, "2 GB", true, 2000000000},
        {MOS_TYPE_SIZE, "5 sectors", true, 5},
        {MOS_TYPE_SIZE, "1", false, 0},
        {MOS_TYPE_SIZE, "1 KB", false, 0},
        {MOS_TYPE_SIZE, "-1 B", false, 0},
        {MOS_TYPE_SIZE, "1%", false, 0},
        {MOS_TYPE_SIZE, "8388607 GiB", true, 8388607ull << 30},
        {MOS_TYPE_SIZE, "17179869184 GiB", false, 0},
        {MOS_TYPE_SHARE, "0%", true, 0},
        {MOS_TYPE_SHARE, "99%", true, 99},
        {MOS_TYPE_SHARE, "100%", false, 0},
        {MOS_TYPE_SHARE, "%", false, 0},
        {MOS_TYPE_SHARE, "5 %", false, 0},
        {MOS_TYPE_SHARE, "1 B", true, 1},
        {MOS_TYPE_SHARE, "rest", false, 0},
        {MOS_TYPE_SPAN, "rest", true, 0},
        {MOS_TYPE_SPAN, "Rest", false, 0},
        {MOS_TYPE_SPAN, "50%", true, 50},
        {MOS_TYPE_ADDRESS, "0x0", true, 0},
        {MOS_TYPE_ADDRESS, "0xffffffffffffffff", true, UINT64_MAX},
        {MOS_TYPE_ADDRESS, "0x10000000000000000", false, 0},
        {MOS_TYPE_ADDRESS, "0xAbC", true, 0xabc},
        {MOS_TYPE_ADDRESS, "0x", false, 0},
        {MOS_TYPE_ADDRESS, "0xg", false, 0},
        {MOS_TYPE_ADDRESS, "10", false, 0},
        {MOS_TYPE_BOOLEAN, "yes", true, 0},
        {MOS_TYPE_BOOLEAN, "false", true, 0},
        {MOS_TYPE_BOOLEAN, "Yes", false, 0},
        {MOS_TYPE_BOOLEAN, "on", false, 0},
        {MOS_TYPE_NAME, "a", true, 0},
        {MOS_TYPE_NAME, "9-_.", true, 0},
        {MOS_TYPE_NAME, "-a", false, 0},
        {MOS_TYPE_NAME, ".a", false, 0},
        {MOS_TYPE_NAME, "a b", false, 0},
        {MOS_TYPE_NAME, "a/b", false, 0},
        {MOS_TYPE_NAME, "0123456789012345678901234567890123456789012345678901234567890123", true,
         0},
        {MOS_TYPE_NAME, "01234567890123456789012345678901234567890123456789012345678901234", false,
         0},
        {MOS_TYPE_PATH, "a", true, 0},
        {MOS_TYPE_PATH, "a/../b", true, 0},
        {MOS_TYPE_PATH, "./a//b/.", true, 0},
        {MOS_TYPE_PATH, "a/..", true, 0},
        {MOS_TYPE_PATH, "..", false, 0},
        {MOS_TYPE_PATH, "a/../..", false, 0},
        {MOS_TYPE_PATH, "./..", false, 0},
        {MOS_TYPE_PATH, "a/./../../b", false, 0},
        {MOS_TYPE_PATH, "/a", false, 0},
        {MOS_TYPE_PATH, "...", true, 0},
        {MOS_TYPE_PATH, "<kernel>/a", true, 0},
        {MOS_TYPE_PATH, "<kernel>/../a", false, 0},
        {MOS_TYPE_SHA256, HASH "0", true, 0},
        {MOS_TYPE_SHA256, HASH, false, 0},
        {MOS_TYPE_SHA256, HASH "00", false, 0},
        {MOS_TYPE_SHA256, HASH "A", false, 0},
        {MOS_TYPE_SHA256, HASH "g", false, 0},
        {MOS_TYPE_DATE, "2026-03-01", true, 1772323200},
        {MOS_TYPE_DATE, "1980-01-01", true, 315532800},
        {MOS_TYPE_DATE, "1979-12-31", false, 0},
        {MOS_TYPE_DATE, "2107-12-31", true, 4354732800},
        {MOS_TYPE_DATE, "2108-01-01", false, 0},
        {MOS_TYPE_DATE, "2026-00-01", false, 0},
        {MOS_TYPE_DATE, "2026-13-01", false, 0},
        {MOS_TYPE_DATE, "2026-12-00", false, 0},
        {MOS_TYPE_DATE, "2026-12-32", false, 0},
        {MOS_TYPE_DATE, "2026-1-01", false, 0},
        {MOS_TYPE_DATE, "2026-01-1x", false, 0},
        {MOS_TYPE_VERSION, "1", true, 0},
        {MOS_TYPE_VERSION, "2", false, 0},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_source *s =
            mos_source_make(c.ctx.arena, "t", cases[i].text, strlen(cases[i].text), 0);
        struct mos_node n = {.kind = MOS_NODE_SCALAR, .text = cases[i].text, .plain = true};
        struct mos_key key = {.name = "value"};
        n.place = mos_place_at(s, 0, 1);
        const struct mos_value *v = mos_schema_value(&c.ctx, &key, cases[i].type, &n);
        bool good = !v->broken == cases[i].good && c.ctx.findings.items.count == !cases[i].good &&
                    (!cases[i].good || !cases[i].number || v->number == cases[i].number);
        if (!good)
            fprintf(stderr, "\n%s: %s, %llu\n", cases[i].text, v->broken ? "refused" : "taken",
                    (unsigned long long)v->number);
        CU_ASSERT(good);
        core_end(&c);
    }
}

SUITE(model_suite, {"values have their borders", values_have_their_borders},
      {"texts are written as they are", texts_are_written_as_they_are},
      {"values and places", values_know_where_they_come_from},
      {"nothing is guessed", nothing_is_guessed}, {"references", references_are_typed},
      {"the schema table", the_table_is_sound},
      {"the reference of keys", the_reference_is_up_to_date});
