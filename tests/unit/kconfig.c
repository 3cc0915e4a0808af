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
                 {"#CONFIG_A is not set", true, "n"}};
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
        bool overrides;
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
        parts[2]->overrides = cases[i].overrides ? parts[1] : NULL;
        struct mos_map merged = mos_config_merge(&c.ctx, parts, 3);
        CU_ASSERT_EQUAL(count_rule(&c, MOS_RULE_KERNEL_CONFLICT), cases[i].conflicts);
        CU_ASSERT_STRING_EQUAL(((struct mos_setting *)mos_map_get(&merged, "CONFIG_A"))->value,
                               cases[i].result);
        core_end(&c);
    }
}

SUITE(kconfig_suite, {"lines", lines_are_judged}, {"conflicts", conflicts_depend_on_rank});
