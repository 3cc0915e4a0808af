#include "support.h"

#include "kconfig/fragment.h"
#include "kconfig/lack.h"
#include "kconfig/probe.h"

#include <string.h>

static struct mos_config_part *read_part(struct core *c, const char *name, const char *text) {
    return mos_config_read(
        &c->ctx, name,
        mos_source_make(c->ctx.arena, name, text, strlen(text), c->ctx.source_count++));
}

static void lines_are_judged(void) {
    static const struct {
        const char *line;
        bool good;
        const char *value; /* NULL: no setting */
    } cases[] = {{"CONFIG_A=y", true, "y"},
                 {"CONFIG_A=m", true, "m"},
                 {"  CONFIG_A=n  ", true, "n"},
                 {"CONFIG_A=\"a \\\"b\\\"\"", true, "\"a \\\"b\\\"\""},
                 {"CONFIG_A=-12", true, "-12"},
                 {"CONFIG_A=0x1F", true, "0x1F"},
                 {"# CONFIG_A is not set", true, "n"},
                 {"# a comment", true, NULL},
                 {"", true, NULL},
                 {"CONFIG_A=", false, NULL},
                 {"CONFIG_A", false, NULL},
                 {"A=y", false, NULL},
                 {"CONFIG_A = y", false, NULL},
                 {"CONFIG_A=text", false, NULL},
                 {"CONFIG_A=\"open", false, NULL},
                 {"CONFIG_A=yes", false, NULL},
                 {"CONFIG_=y", false, NULL},
                 {"#CONFIG_A is not set", true, "n"},
                 {"\t CONFIG_A=y \t", true, "y"},
                 {"CONFIG_A=y\t ", true, "y"},
                 {"CONFIG_A=y\t", true, "y"},
                 {" \t ", true, NULL},
                 {"#", true, NULL},
                 {"# ", true, NULL},
                 {"#\tCONFIG_A is not set", true, "n"},
                 {"# CONFIG_A is not set yet", true, NULL},
                 {"CONFIG_A=\"\"", true, "\"\""},
                 {"CONFIG_A=\"", false, NULL},
                 {"CONFIG_A=y y", false, NULL},
                 {"CONFIG_A=-", false, NULL},
                 {"CONFIG_A=0x", false, NULL}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_config_part *p = read_part(&c, "f", cases[i].line);
        const struct mos_setting *s = p->settings.count ? mos_vec_pointer(&p->settings, 0) : NULL;
        bool good = count_rule(&c, MOS_RULE_KERNEL_MALFORMED) == !cases[i].good &&
                    (s != NULL) == (cases[i].value != NULL) &&
                    (!s || strcmp(s->value, cases[i].value) == 0);
        if (!good)
            fprintf(stderr, "\n%s\n", cases[i].line);
        CU_ASSERT(good);
        core_end(&c);
    }
}

static void conflicts_depend_on_rank(void) {
    static const struct {
        const char *start, *first, *second;
        bool contradicts;
        size_t conflicts;
        const char *result;
    } cases[] = {
        {"CONFIG_A=n", "CONFIG_A=y", "", false, 0, "y"},
        {"", "CONFIG_A=y", "CONFIG_A=m", false, 1, "m"},
        {"", "CONFIG_A=y", "CONFIG_A=m", true, 0, "m"},
        {"", "CONFIG_A=y", "CONFIG_A=y", false, 0, "y"},
        {"", "CONFIG_A=y", "# CONFIG_A is not set", false, 1, "n"},
        {"", "CONFIG_A=y\nCONFIG_A=m", "", false, 0, "m"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_config_part *parts[] = {read_part(&c, "start", cases[i].start),
                                           read_part(&c, "first", cases[i].first),
                                           read_part(&c, "second", cases[i].second)};
        parts[0]->start = true;
        parts[2]->contradicts = cases[i].contradicts ? parts[1] : NULL;
        struct mos_map merged = mos_config_merge(&c.ctx, parts, 3);
        CU_ASSERT_EQUAL(count_rule(&c, MOS_RULE_KERNEL_CONFLICT), cases[i].conflicts);
        CU_ASSERT_STRING_EQUAL(((struct mos_setting *)mos_map_get(&merged, "CONFIG_A"))->value,
                               cases[i].result);
        core_end(&c);
    }
}

/* Random fragments, merged by a model: the last word wins, and who may not contradict is told. */
static void merging_equals_a_model(void) {
    enum { PARTS = 5, SYMBOLS = 6 };
    uint64_t seed = 77;
    for (size_t round = 0; round < 500; round++) {
        struct core c;
        core_start(&c);
        struct mos_config_part *parts[PARTS];
        int contradicts[PARTS], value[SYMBOLS], owner[SYMBOLS];
        size_t conflicts = 0, length;
        memset(owner, -1, sizeof owner);
        for (int i = 0; i < PARTS; i++) {
            struct mos_buf b = {.arena = c.ctx.arena};
            char name[2] = {(char)('a' + i), 0};
            contradicts[i] =
                i > 1 && random_below(&seed, 2) ? (int)random_below(&seed, (uint64_t)i) : -1;
            for (uint64_t n = random_below(&seed, 6); n; n--) {
                int s = (int)random_below(&seed, SYMBOLS), v = (int)random_below(&seed, 3);
                mos_buf_printf(&b, v ? "CONFIG_S%d=%s\n" : "# CONFIG_S%d is not set\n", s,
                               v == 1 ? "y" : "m");
                bool may = owner[s] <= 0 || owner[s] == i; /* none yet, the start, itself */
                for (int p = contradicts[i]; p >= 0; p = contradicts[p])
                    may |= p == owner[s];
                conflicts += owner[s] >= 0 && value[s] != v && !may;
                owner[s] = i;
                value[s] = v;
            }
            parts[i] = read_part(&c, mos_strdup(c.ctx.arena, name), mos_buf_string(&b));
            parts[i]->start = i == 0;
            parts[i]->contradicts = contradicts[i] >= 0 ? parts[contradicts[i]] : NULL;
        }
        struct mos_map merged = mos_config_merge(&c.ctx, parts, PARTS);
        size_t known = 0;
        for (int s = 0; s < SYMBOLS; s++) {
            char symbol[16];
            snprintf(symbol, sizeof symbol, "CONFIG_S%d", s);
            const struct mos_setting *m = mos_map_get(&merged, symbol);
            CU_ASSERT_EQUAL(m != NULL, owner[s] >= 0);
            known += m != NULL;
            CU_ASSERT(!m || (*m->value == "nym"[value[s]] && m->part == parts[owner[s]]));
        }
        CU_ASSERT_EQUAL(merged.count, known);
        CU_ASSERT_EQUAL(count_rule(&c, MOS_RULE_KERNEL_CONFLICT), conflicts);
        /* what is written of it reads back as the same */
        const char *text = mos_config_text(&c.ctx, &merged, &length);
        struct mos_config_part *again = read_part(&c, "again", text);
        CU_ASSERT(strlen(text) == length && again->settings.count == known);
        for (size_t i = 0; i < again->settings.count; i++) {
            const struct mos_setting *s = mos_vec_pointer(&again->settings, i);
            CU_ASSERT_STRING_EQUAL(
                s->value, ((const struct mos_setting *)mos_map_get(&merged, s->symbol))->value);
        }
        core_end(&c);
    }
}

/* ---- the language ---- */

static struct mos_kc_tree *tree_of(struct core *c, const char *text, struct mos_kc_manner manner) {
    static const char *const none[] = {"CC=cc", NULL};
    struct mos_kc_probes *probes = mos_alloc(c->ctx.arena, sizeof *probes);
    *probes = mos_kc_probes_make(&c->ctx, none, NULL);
    mos_map_set_const(&probes->results, "echo y", "y");
    mos_map_set_const(&probes->results, "echo 12", "12");
    c->ctx.no_run = true;
    struct mos_kc_reading reading = {.source = "nowhere",
                                     .shown = "tide",
                                     .manner = manner,
                                     .vars = mos_map_make(c->ctx.arena),
                                     .probes = probes,
                                     .files = mos_map_make(c->ctx.arena)};
    mos_map_set_const(&reading.vars, "ARCH", "tern");
    mos_map_set_const(&reading.files, "Kconfig",
                      mos_source_make(c->ctx.arena, "tide/Kconfig", text, strlen(text), 0));
    return mos_kc_read(&c->ctx, &reading);
}

static const char *settled(struct core *c, const struct mos_kc_tree *tree, const char *asked) {
    struct mos_config_part *part = read_part(c, "asked", asked);
    struct mos_kc_config *k = mos_kc_config_new(c->ctx.arena, tree);
    size_t length;
    mos_kc_ask(k, part->settings.items, part->settings.count);
    mos_kc_settle(k);
    const char *text = mos_kc_write(k, &length);
    const char *body = strstr(text, "\n#\n");
    return body + 3;
}

#define NEW                                                                                        \
    { .ends = true, .capped = true }
#define MODULES "config MODULES\nbool \"m\"\nmodules\n"
#define M "CONFIG_MODULES=y\n"
#define CHOICE                                                                                     \
    "choice\nprompt \"c\"\ndefault B\nconfig A\nbool \"a\"\nconfig B\nbool \"b\"\nconfig C\nbool " \
    "\"c\"\nendchoice\n"

/* Each was compared with what the resolver of a kernel makes of it (tests/peers/kconfig.c does so
 * with whole kernels). */
static void values_are_settled(void) {
    static const struct {
        const char *tree, *asked, *becomes;
    } cases[] = {
        {"config A\nbool \"a\"\n", "", "# CONFIG_A is not set\n"},
        {"config A\nbool \"a\"\n", "CONFIG_A=m\n", "# CONFIG_A is not set\n"},
        {"config A\nbool \"a\"\ndefault y\n", "", "CONFIG_A=y\n"},
        {"config A\nbool\ndefault y\n", "CONFIG_A=n\n", "CONFIG_A=y\n"},
        {"config A\nbool\n", "CONFIG_A=y\n", ""},
        {"config A\ntristate \"a\"\n", "CONFIG_A=m\n", "CONFIG_A=y\n"},
        {MODULES "config A\ntristate \"a\"\n", M "CONFIG_A=m\n", M "CONFIG_A=m\n"},
        {MODULES "config A\ntristate \"a\"\nconfig B\ntristate \"b\"\ndepends on A\n",
         M "CONFIG_A=m\nCONFIG_B=y\n", M "CONFIG_A=m\nCONFIG_B=m\n"},
        {MODULES "config A\ntristate \"a\"\nconfig B\nbool \"b\"\ndepends on A\n",
         M "CONFIG_A=m\nCONFIG_B=y\n", M "CONFIG_A=m\nCONFIG_B=y\n"},
        {"config B\nbool \"b\"\ndepends on m\nconfig C\nbool \"c\"\ndefault m\n", "CONFIG_B=y\n",
         "CONFIG_C=y\n"},
        {MODULES "config B\nbool \"b\"\ndepends on m\n", "CONFIG_B=y\n",
         "# CONFIG_MODULES is not set\n"},
        {"config A\nbool \"a\"\nselect B\nconfig B\nbool \"b\"\ndepends on C\nconfig C\nbool "
         "\"c\"\n",
         "CONFIG_A=y\n", "CONFIG_A=y\nCONFIG_B=y\n# CONFIG_C is not set\n"},
        {"config A\nbool \"a\"\nimply B\nconfig B\nbool \"b\"\ndepends on C\nconfig C\nbool "
         "\"c\"\n",
         "CONFIG_A=y\n", "CONFIG_A=y\n# CONFIG_B is not set\n# CONFIG_C is not set\n"},
        {"config A\nbool \"a\"\nimply B\nconfig B\nbool \"b\"\n", "CONFIG_A=y\n",
         "CONFIG_A=y\nCONFIG_B=y\n"},
        {"config N\nint \"n\"\nrange 3 9\ndefault 5\n", "CONFIG_N=12\n", "CONFIG_N=5\n"},
        {"config N\nint \"n\"\nrange 3 9\ndefault 12\n", "", "CONFIG_N=9\n"},
        {"config N\nint \"n\"\nrange 3 9\ndefault 5\nconfig O\nint \"o\"\ndefault N\n",
         "CONFIG_N=12\n", "CONFIG_N=5\nCONFIG_O=9\n"},
        {"config N\nhex \"n\"\nrange 0x10 0x20\n", "", "CONFIG_N=0x10\n"},
        {"config N\nint \"n\"\n", "CONFIG_N=007\n", "CONFIG_N=\n"},
        {"config S\nstring \"s\"\n", "CONFIG_S=\"a\\\"b\"\n", "CONFIG_S=\"a\\\"b\"\n"},
        {"config S\nstring\ndefault T\nconfig T\nstring \"t\"\ndefault \"x\"\n", "",
         "CONFIG_S=\"x\"\nCONFIG_T=\"x\"\n"},
        {"choice\nprompt \"c\"\nconfig A\nbool \"a\"\nconfig B\nbool \"b\"\nendchoice\n", "",
         "CONFIG_A=y\n# CONFIG_B is not set\n"},
        {"choice\nprompt \"c\"\ndefault B\nconfig A\nbool \"a\"\nconfig B\nbool \"b\"\nendchoice\n",
         "", "# CONFIG_A is not set\nCONFIG_B=y\n"},
        {"choice\nprompt \"c\"\nconfig A\nbool \"a\"\nconfig B\nbool \"b\"\nendchoice\n",
         "CONFIG_A=y\nCONFIG_B=y\n", "# CONFIG_A is not set\nCONFIG_B=y\n"},
        {"choice\nprompt \"c\"\noptional\nconfig A\nbool \"a\"\nendchoice\n", "", ""},
        {"menu \"First\"\nconfig A\nbool \"a\"\nendmenu\nconfig B\nbool \"b\"\n", "",
         "\n#\n# First\n#\n# CONFIG_A is not set\n# end of First\n\n# CONFIG_B is not set\n"},
        {"menu \"First\"\ndepends on A\ncomment \"seen\"\nendmenu\nconfig A\nbool \"a\"\n", "",
         "# CONFIG_A is not set\n"},
        {"menu \"F\"\nvisible if A\nconfig B\nbool \"b\"\ndefault y\nendmenu\nconfig A\nbool "
         "\"a\"\n",
         "CONFIG_B=n\n", "CONFIG_B=y\n# CONFIG_A is not set\n"},
        {"config A\nbool \"a\" if B\ndefault y if C\nconfig B\ndef_bool n\nconfig C\ndef_bool !B\n",
         "CONFIG_A=n\n", "CONFIG_A=y\nCONFIG_C=y\n"},
        {"config A\ndef_bool 9 < 10 && \"b\" > \"a\" && 0x10 = 16\n", "", "CONFIG_A=y\n"},
        {"config A\ndef_bool UNKNOWN = \"UNKNOWN\"\nconfig B\ndef_bool UNKNOWN\n", "",
         "CONFIG_A=y\n"},
        {"f = $(2)$(1)\nconfig $(f,B,A)\ndef_bool $(shell,echo y)\nconfig N\nint\ndefault "
         "$(shell,echo 12)\n",
         "", "CONFIG_AB=y\nCONFIG_N=12\n"},
        {"x := a\ny = $(x)\nx := b\nconfig S\nstring\ndefault \"$(y) $(ARCH) $(none)$ $(filename)"
         "\"\n",
         "", "CONFIG_S=\"b tern $ Kconfig\"\n"},
        {"config A\nbool \"a\"\nhelp\n  config B\n  bool\n\n  if this ends\nconfig C\nbool \"c\"\n",
         "", "# CONFIG_A is not set\n# CONFIG_C is not set\n"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_kc_tree *t = tree_of(&c, cases[i].tree, (struct mos_kc_manner)NEW);
        const char *text = t ? settled(&c, t, cases[i].asked) : c.error.message;
        bool good = strcmp(text, cases[i].becomes) == 0;
        if (!good)
            fprintf(stderr, "\n%s-- %s-> %s-- not %s", cases[i].tree, cases[i].asked, text,
                    cases[i].becomes);
        CU_ASSERT(good);
        core_end(&c);
    }
}

/* Resolvers of other ages do a few things in another way. */
static void manners_differ(void) {
    static const struct {
        struct mos_kc_manner manner;
        const char *tree, *asked, *becomes;
    } cases[] = {
        {{.zeros = true},
         "config N\nint \"n\"\nconfig H\nhex \"h\"\n",
         "",
         "CONFIG_N=0\nCONFIG_H=0x0\n"},
        {{.raw = true},
         "config S\nstring \"s\"\ndefault \"q\\\\n\"\nconfig T\nstring \"t\"\n",
         "CONFIG_T=\"q\\\\n\"\n",
         "CONFIG_S=\"q\\n\"\nCONFIG_T=\"q\\\\n\"\n"},
        {{.clamps = true},
         "config N\nint \"n\"\nrange 3 9\ndefault 5\n",
         "CONFIG_N=12\n",
         "CONFIG_N=9\n"},
        {{.whole = true},
         "config A\nbool\nconfig S\nstring\n",
         "",
         "# CONFIG_A is not set\nCONFIG_S=\"\"\n"},
        {{.ends = false},
         "menu \"M\"\nconfig A\nbool \"a\"\nendmenu\nconfig B\nbool \"b\"\n",
         "",
         "\n#\n# M\n#\n# CONFIG_A is not set\n# CONFIG_B is not set\n"},
        {{.once = true},
         CHOICE,
         "CONFIG_C=y\nCONFIG_A=y\nCONFIG_B=n\n",
         "# CONFIG_A is not set\n# CONFIG_B is not set\nCONFIG_C=y\n"},
        {{.ranked = true},
         CHOICE,
         "CONFIG_A=n\n",
         "# CONFIG_A is not set\nCONFIG_B=y\n# CONFIG_C is not set\n"},
        {{.ranked = true},
         CHOICE,
         "CONFIG_B=n\n",
         "CONFIG_A=y\n# CONFIG_B is not set\n# CONFIG_C is not set\n"},
        {{.ranked = true},
         CHOICE,
         "CONFIG_C=y\nCONFIG_A=y\n",
         "CONFIG_A=y\n# CONFIG_B is not set\n# CONFIG_C is not set\n"},
        {{.ranked = true},
         CHOICE,
         "CONFIG_C=n\nCONFIG_B=n\nCONFIG_A=n\n",
         "# CONFIG_A is not set\n# CONFIG_B is not set\nCONFIG_C=y\n"},
        {{.ranked = true},
         CHOICE,
         "CONFIG_A=n\nCONFIG_B=n\n",
         "# CONFIG_A is not set\n# CONFIG_B is not set\nCONFIG_C=y\n"},
        {{.capped = false},
         "config A\nbool \"a\"\nimply B\nconfig B\nbool\ndepends on C\nconfig C\nbool \"c\"\n",
         "CONFIG_A=y\n",
         "CONFIG_A=y\n# CONFIG_C is not set\n"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_kc_tree *t = tree_of(&c, cases[i].tree, cases[i].manner);
        CU_ASSERT_PTR_NOT_NULL_FATAL(t);
        CU_ASSERT_STRING_EQUAL(settled(&c, t, cases[i].asked), cases[i].becomes);
        core_end(&c);
    }
}

static void broken_trees_are_told(void) {
    static const struct {
        const char *tree, *says;
    } cases[] = {
        {"config A\nbool \"a\n", "tide/Kconfig:2:6: The text has no closing \""},
        {"config\n", "tide/Kconfig:1:7: The name of the symbol is missing here"},
        {"if A\nconfig B\nbool\n", "This block is not ended in its file"},
        {"endmenu\n", "There is nothing in this file that endmenu ends"},
        {"config A\nbool\ndepends on (B\n", "A closing parenthesis is missing here"},
        {"config A\nbool\ndepends on B &&\n", "A symbol or a text is missing here"},
        {"config A\nbool\ndepends on B C\n", "The line should end before C"},
        {"source \"Kconfig\"\n", "tide/Kconfig:1:8: Kconfig sources itself"},
        {"\nsource \"none\"\n", "while reading tide/Kconfig:2"},
        {"wrong A\n", "tide/Kconfig:1:1: wrong begins no statement"},
        {"a = $(a)\nconfig A\nstring\ndefault \"$(a)\"\n", "$(a) expands to itself"},
        {"f = $(f,$(1))\n$(f,x)\n", "Macros are nested more than"},
        {"$(shell,a,b)\n", "$(shell) takes 1 argument, and has 2"},
        {"$(none,a)\n", "There is no function none"},
        {"$(shell\n", "$( has no closing parenthesis on this line"},
        {"$(error-if,y,this tide is too low)\n", "tide/Kconfig:1:1: this tide is too low"},
        {"config A\nbool\ndepends on B\nconfig B\nbool\ndepends on C\nconfig C\nbool\ndepends on "
         "A\n",
         "A hangs on B hangs on C hangs on A"},
        {"config A\nbool\ndefault $(shell,other)\n", "no probe is run: other"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_kc_tree *t = tree_of(&c, cases[i].tree, (struct mos_kc_manner)NEW);
        bool good = !t && strstr(c.error.message, cases[i].says);
        if (!good)
            fprintf(stderr, "\n%s-> %s\n", cases[i].tree, t ? "read" : c.error.message);
        CU_ASSERT(good);
        core_end(&c);
    }
}

/* What is proposed for a request that is dropped keeps it; nothing is proposed where nothing can.
 */
/* Does any single setting keep the request? */
static bool one_would_do(struct core *c, struct mos_kc_config *asked,
                         const struct mos_setting *wanted) {
    static const char *const values[] = {"n", "m", "y"};
    for (size_t i = 0; i < asked->tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&asked->tree->all, i);
        if (!s->name || !s->entry || strcmp(s->name, wanted->symbol + 7) == 0)
            continue;
        for (size_t k = 0; k < 3; k++) {
            const struct mos_setting one = {
                .symbol = mos_printf(c->ctx.arena, "CONFIG_%s", s->name), .value = values[k]};
            const struct mos_setting *list = &one;
            struct mos_kc_config *with = mos_kc_config_again(c->ctx.arena, asked);
            mos_kc_ask(with, &list, 1);
            mos_kc_settle(with);
            if (mos_kc_answer(with, wanted).reason == MOS_KC_KEPT)
                return true;
        }
    }
    return false;
}

static void what_lacks_is_found(void) {
    static const struct {
        const char *tree, *asked, *lacks; /* lacks NULL: nothing helps */
    } cases[] = {
        {"config A\nbool \"a\"\nconfig B\nbool \"b\"\nconfig X\nbool \"x\"\ndepends on A && B\n"
         "config S\nbool \"s\"\nselect X\nconfig W\nbool \"w\"\ndepends on X\n",
         "CONFIG_W=y\n", "S=y"}, /* not A, B and X */
        {"config A\nbool \"a\"\nconfig B\nbool \"b\"\ndepends on A\n", "CONFIG_B=y\n", "A=y"},
        {"config A\nbool \"a\"\nconfig C\nbool \"c\"\ndepends on A\nconfig B\nbool \"b\"\ndepends "
         "on "
         "C\n",
         "CONFIG_B=y\n", "A=y C=y"},
        {"config A\nbool \"a\"\nconfig C\nbool \"c\"\nconfig D\nbool \"d\"\nconfig B\nbool \"b\"\n"
         "depends on (A && C) || D\n",
         "CONFIG_B=y\n", "D=y"},
        {"config A\nbool \"a\"\ndefault y\nconfig B\nbool \"b\"\ndepends on !A\n", "CONFIG_B=y\n",
         "A=n"},
        {"config A\nbool\nconfig C\nbool \"c\"\nselect A\nconfig B\nbool \"b\"\ndepends on A\n",
         "CONFIG_B=y\n", "C=y"},
        {"config B\nbool \"b\"\ndepends on A\nconfig A\nbool\n", "CONFIG_B=y\n", NULL},
        /* one that others need, too, and a default that is a shorter way than the prompt */
        {"config F\nbool \"f\"\ndefault y\nconfig S\nbool \"s\"\nconfig V\nbool \"v\" if !F\n"
         "default y\ndepends on S\nconfig B\nbool \"b\"\ndepends on V && S\n",
         "CONFIG_B=y\n", "S=y"},
        /* of two ways as short the one that changes less */
        {"config C\nbool \"c\"\nconfig A\nbool \"a\"\nselect P\nconfig P\nbool\nconfig B\nbool "
         "\"b\"\ndepends on C || A\n",
         "CONFIG_B=y\n", "C=y"},
        {MODULES "config A\ntristate \"a\"\nconfig B\ntristate \"b\"\ndepends on A\n",
         M "CONFIG_A=m\nCONFIG_B=y\n", "A=y"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_kc_tree *t = tree_of(&c, cases[i].tree, (struct mos_kc_manner)NEW);
        struct mos_config_part *part = read_part(&c, "asked", cases[i].asked);
        const struct mos_kc_requests all = {part->settings.items, part->settings.count};
        CU_ASSERT_PTR_NOT_NULL_FATAL(t);
        struct mos_kc_config *asked = mos_kc_with(c.ctx.arena, t, &all, NULL, 0);
        const struct mos_kc_way way = mos_kc_lack(c.ctx.arena, asked, all.settings[all.count - 1]);
        struct mos_buf text = {.arena = c.ctx.arena};
        for (size_t k = 0; k < way.count; k++)
            mos_buf_printf(&text, "%s%s=%s", k ? " " : "", way.set[k]->symbol + 7,
                           way.set[k]->value);
        bool good = way.set ? cases[i].lacks && strcmp(mos_buf_string(&text), cases[i].lacks) == 0
                            : !cases[i].lacks && way.stuck;
        CU_ASSERT(!way.set || way.smallest); /* these are small enough to try all */
        CU_ASSERT(way.count < 2 || !one_would_do(&c, asked, all.settings[all.count - 1]));
        if (!good)
            fprintf(stderr, "\n%s-- %s-> %s\n", cases[i].tree, cases[i].asked,
                    mos_buf_string(&text));
        CU_ASSERT(good);
        core_end(&c);
    }
}

/* The fewest settings are these, and none of them can be left out. */
static void the_fewest_settings_are_found(void) {
    static const struct {
        const char *tree, *asked, *least;
    } cases[] = {
        {"config A\nbool \"a\"\nconfig B\nbool \"b\"\ndefault y if A\n", "CONFIG_A=y\nCONFIG_B=y\n",
         "CONFIG_A=y\n"},
        {"config A\nbool \"a\"\nconfig B\nbool \"b\"\ndefault y if A\n", "CONFIG_A=y\nCONFIG_B=n\n",
         "CONFIG_A=y\n# CONFIG_B is not set\n"},
        {"config A\nbool \"a\"\nselect B\nconfig B\nbool \"b\"\n", "CONFIG_A=y\nCONFIG_B=y\n",
         "CONFIG_A=y\n"},
        {CHOICE, "CONFIG_C=y\n", "CONFIG_C=y\n"},
        {CHOICE, "CONFIG_B=y\n", ""},
        {"config N\nint \"n\"\nrange 3 9\ndefault 5\nconfig S\nstring \"s\"\ndefault \"x\"\n",
         "CONFIG_N=7\nCONFIG_S=\"x\"\n", "CONFIG_N=7\n"},
        {"config N\nint \"n\"\ndefault 5\nconfig S\nstring \"s\"\ndefault \"x\"\n",
         "CONFIG_N=5\nCONFIG_S=\"q\\\"q\"\n", "CONFIG_S=\"q\\\"q\"\n"},
        {"config A\nbool \"a\"\nconfig B\nbool \"b\"\ndepends on A\n", "CONFIG_B=y\n", ""},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct core c;
        core_start(&c);
        struct mos_kc_tree *t = tree_of(&c, cases[i].tree, (struct mos_kc_manner)NEW);
        CU_ASSERT_PTR_NOT_NULL_FATAL(t);
        struct mos_config_part *part = read_part(&c, "asked", cases[i].asked);
        const struct mos_kc_requests all = {part->settings.items, part->settings.count};
        struct mos_kc_config *whole = mos_kc_with(c.ctx.arena, t, &all, NULL, 0);
        struct mos_vec least = mos_vec_make(c.ctx.arena, sizeof(void *));
        CU_ASSERT_EQUAL(mos_kc_minimal(whole, &least), 0);
        struct mos_buf text = {.arena = c.ctx.arena};
        for (size_t k = 0; k < least.count; k++) {
            const struct mos_setting *s = mos_vec_pointer(&least, k);
            mos_buf_printf(&text, strcmp(s->value, "n") ? "%s=%s\n" : "# %s is not set\n",
                           s->symbol, s->value);
            const struct mos_setting **rest =
                mos_alloc_array(c.ctx.arena, least.count, sizeof *rest);
            size_t count = 0;
            for (size_t n = 0; n < least.count; n++)
                if (n != k)
                    rest[count++] = mos_vec_pointer(&least, n);
            const struct mos_kc_requests fewer = {rest, count};
            struct mos_kc_config *other = mos_kc_with(c.ctx.arena, t, &fewer, NULL, 0);
            CU_ASSERT_TRUE(mos_kc_changes(whole, other).count > 0);
        }
        CU_ASSERT_STRING_EQUAL(mos_buf_string(&text), cases[i].least);
        core_end(&c);
    }
}

SUITE(kconfig_suite, {"values are settled", values_are_settled}, {"manners differ", manners_differ},
      {"broken trees are told", broken_trees_are_told},
      {"what lacks is found", what_lacks_is_found},
      {"the fewest settings are found", the_fewest_settings_are_found},
      {"merging equals a model", merging_equals_a_model}, {"lines", lines_are_judged},
      {"conflicts", conflicts_depend_on_rank});
