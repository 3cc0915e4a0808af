/* Mistakes of engineers, planted one at a time in boards that are right, and designs that are right
 * in other ways: what check says of each.  A line of tests/planted/BOARD.txt:
 *
 *     what was done :: rules, of which one must find it (-: a correct design) :: shell commands
 *
 * The family `start` may find any of them: it says that the board does not come up.
 *
 * The results are held in tests/data/golden/planted.txt. */
#include "support.h"

#include "base/buf.h"

#include <stdlib.h>
#include <string.h>

static const struct board {
    const char *name, *root;
} boards[] = {{"curlew", "pieces/rootfs.tar.zst"},
              {"avocet", "pieces/avocet-rootfs.tar.zst"},
              {"dunlin", "pieces/dunlin-rootfs.tar.zst"}};

struct tally {
    size_t mistakes, found, designs, clean;
};

static const char *base_of(const struct board *b) {
    const char *w = keep(test_folder(b->name));
    if (strcmp(b->name, "curlew") != 0) {
        copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), w);
        CU_ASSERT_TRUE_FATAL(runs(0, "rm -f '%s/mosaicum.pins'", w)); /* an edit is no new piece */
        return w;
    }
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && cp '%s/tests/planted/curlew.yaml' boards && cp "
                              "'%s/tests/planted/loader.config' loader",
                              w, MOSAICUM_SOURCE, MOSAICUM_SOURCE));
    return w;
}

static bool matches(const char *rules, const char *rule) {
    if (*rules != '-' && strncmp(rule, "start.", 6) == 0)
        return true;
    for (const char *p = rules; *(p += strspn(p, " ")); p += strcspn(p, " ")) {
        size_t n = strcspn(p, " ");
        if (strncmp(p, rule, n) == 0 && rule[n] == '.')
            return true;
    }
    return false;
}

/* The rules of all errors and warnings, each once; *hit: one of them is of those families. */
static void collect(const json_t *d, const char *rules, struct mos_buf *out, bool *hit) {
    const json_t *finding;
    size_t i;
    *hit = false;
    json_array_foreach(json_object_get(d, "findings"), i, finding) {
        const char *rule = json_string_value(json_object_get(finding, "rule"));
        if (strcmp(json_string_value(json_object_get(finding, "severity")), "note") == 0)
            continue;
        *hit |= matches(rules, rule);
        if (!strstr(mos_buf_string(out), rule))
            mos_buf_printf(out, " %s", rule);
    }
}

static void try_line(struct core *c, const struct board *b, const char *base, char *line,
                     struct mos_buf *results, struct tally *all) {
    char *rules = strstr(line, " :: "), *edit = rules ? strstr(rules + 4, " :: ") : NULL;
    CU_ASSERT_PTR_NOT_NULL_FATAL(edit);
    *rules = *edit = 0;
    rules += 4;
    edit += 4;
    const char *w = keep(test_folder("planted"));
    copy_folder(base, w);
    struct outcome o = run_shell(
        "cd '%s' && B=boards/%s.yaml ROOT=%s && . '%s/tests/planted/edits.sh' && { %s\n}; "
        "diff -rq '%s' . > diff.txt",
        w, b->name, b->root, MOSAICUM_SOURCE, edit, base);
    if (o.status != 1) /* every edit edits something */
        fprintf(stderr, "\n%s: %d %s\n", line, o.status, o.err);
    CU_ASSERT_EQUAL(o.status, 1);
    outcome_free(&o);
    int status;
    bool hit, design = strcmp(rules, "-") == 0;
    struct mos_buf said = {.arena = c->ctx.arena};
    json_t *d = run_json(&status, "-w '%s' check '%s*'", w, b->name);
    CU_ASSERT(d && status < 3);
    collect(d, rules, &said, &hit);
    json_decref(d);
    all->mistakes += !design;
    all->found += !design && hit;
    all->designs += design;
    all->clean += design && !said.length;
    mos_buf_printf(results, "%-9s%s%s%s\n",
                   design        ? said.length ? "ALARM" : "right"
                   : hit         ? "found"
                   : said.length ? "other"
                                 : "missed",
                   line, said.length ? "," : "", mos_buf_string(&said));
    remove_folder(w);
}

static void mistakes_are_found(void) {
    struct core c;
    struct tally all = {0};
    core_start(&c);
    struct mos_buf results = {.arena = c.ctx.arena};
    for (size_t i = 0; i < sizeof boards / sizeof *boards; i++) {
        const char *base = base_of(&boards[i]);
        char *text =
            read_whole(path_in(MOSAICUM_SOURCE, "tests/planted/%s.txt", boards[i].name), NULL);
        CU_ASSERT_PTR_NOT_NULL_FATAL(text);
        mos_buf_printf(&results, "%s\n", boards[i].name);
        for (char *line = text, *next; *line; line = next) {
            next = line + strcspn(line, "\n");
            next += *next ? (*next = 0, 1) : 0;
            if (*line && *line != '#')
                try_line(&c, &boards[i], base, line, &results, &all);
        }
        free(text);
    }
    mos_buf_printf(&results, "%zu of %zu mistakes found, %zu of %zu correct designs right\n",
                   all.found, all.mistakes, all.clean, all.designs);
    CU_ASSERT(all.mistakes >= 300 && all.designs >= 60);
    CU_ASSERT_EQUAL(all.clean, all.designs);
    hold_golden("planted", mos_buf_string(&results));
    core_end(&c);
}

SUITE(planted_suite, {"mistakes are found", mistakes_are_found});
