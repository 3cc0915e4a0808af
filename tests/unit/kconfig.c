#include "support.h"

#include "kconfig/fragment.h"

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

SUITE(kconfig_suite, {"merging equals a model", merging_equals_a_model},
      {"lines", lines_are_judged}, {"conflicts", conflicts_depend_on_rank});
