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

SUITE(model_suite, {"texts are written as they are", texts_are_written_as_they_are},
      {"values and places", values_know_where_they_come_from},
      {"nothing is guessed", nothing_is_guessed}, {"references", references_are_typed},
      {"the schema table", the_table_is_sound},
      {"the reference of keys", the_reference_is_up_to_date});
