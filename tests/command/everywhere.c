/* What must hold for every rule's fixtures, whatever the rule: places lie in their files, findings
 * can be accepted, and what is shown of a board can be read back. */
#include "support.h"

#include "base/finding.h"

#include <stdlib.h>
#include <string.h>

static const char *fixture(size_t rule, const char *kind) {
    return path_in(MOSAICUM_SOURCE, "tests/rules/%s/%s", mos_rule_rows[rule].id, kind);
}

/* The length of a line (from 1) of a text, or -1 when there is none. */
static long line_length(const char *text, long line) {
    while (text && --line)
        if ((text = strchr(text, '\n')))
            text++;
    return text ? (long)strcspn(text, "\n") : -1;
}

static bool lies_in_its_file(const char *folder, const json_t *place) {
    const char *file = json_string_value(json_object_get(place, "file"));
    if (!file)
        return json_string_value(json_object_get(place, "thing")) != NULL;
    char *path = strdup(folder), *text = read_whole(path_in(path, "%s", file), NULL);
    long length = line_length(text, json_integer_value(json_object_get(place, "line")));
    json_int_t column = json_integer_value(json_object_get(place, "column")),
               marked = json_integer_value(json_object_get(place, "length"));
    free(path);
    free(text);
    return length >= 0 && column >= 1 && marked >= 0 && column - 1 + marked <= length;
}

static bool good_finding(const char *folder, const json_t *f) {
    static const char *const severities[] = {"error", "warning", "note"};
    const char *severity = json_string_value(json_object_get(f, "severity"));
    json_t *places = json_object_get(f, "places"), *p, *r;
    size_t i, k, known = 0;
    bool good = json_string_length(json_object_get(f, "message")) > 10;
    for (i = 0; i < 3; i++)
        known += strcmp(severity, severities[i]) == 0;
    json_array_foreach(places, i, p) {
        good = good && lies_in_its_file(folder, p);
        json_array_foreach(json_object_get(p, "replaced"), k, r) good =
            good && lies_in_its_file(folder, r);
    }
    return good && known == 1 && json_array_size(places) >= 1;
}

/* The first rule, and the next after one, that is taken and whose fixtures are workspaces (those
 * about writing media are computers). */
static size_t next_rule(size_t rule) {
    while (rule < MOS_RULE_COUNT &&
           (strncmp(mos_rule_rows[rule].id, "write.", 6) == 0 || !row_is_taken(rule)))
        rule++;
    return rule;
}

static void places_lie_in_their_files(void) {
    for (size_t rule = next_rule(0); rule < MOS_RULE_COUNT; rule = next_rule(rule + 1)) {
        char *folder = strdup(fixture(rule, "fails"));
        int status;
        json_t *d = run_json(&status, "-w '%s' check", folder), *f;
        size_t i;
        json_array_foreach(json_object_get(d, "findings"), i, f) {
            if (!good_finding(folder, f))
                fprintf(stderr, "\n%s: a finding that is not well formed\n",
                        mos_rule_rows[rule].id);
            CU_ASSERT_TRUE(good_finding(folder, f));
        }
        json_decref(d);
        free(folder);
    }
}

/* What no waiver accepts: a definition that cannot be understood, what is about waivers, and what
 * only a rehearsal or the board itself tells. */
static bool stays(const char *rule) {
    static const char *const rules[] = {"board.schema",        "piece.path",   "board.variant",
                                        "board.outside",       "board.waiver", "board.combinations",
                                        "boot.fallback-fails", "board.learned"};
    for (size_t i = 0; i < sizeof rules / sizeof *rules; i++)
        if (strcmp(rules[i], rule) == 0)
            return true;
    return false;
}

/* One line for what a command printed or made; the whole of it is for who runs it again. */
static void note_sum(struct mos_buf *sums, size_t rule, const char *what, const char *format, ...)
    __attribute__((format(printf, 4, 5)));
static void note_sum(struct mos_buf *sums, size_t rule, const char *what, const char *format, ...) {
    char command[2000];
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(command, sizeof command, format, arguments);
    va_end(arguments);
    struct outcome o = run_shell("export LC_ALL=C.UTF-8 TZ=UTC; { %s; } 2>&1 | cksum", command);
    mos_buf_printf(sums, "%s %s %s", mos_rule_rows[rule].id, what, o.out);
    outcome_free(&o);
}

static void findings_can_be_accepted(void) {
    unsigned accepted = 0;
    struct core c;
    core_start(&c);
    struct mos_buf sums = {.arena = c.ctx.arena};
    for (size_t rule = next_rule(0); rule < MOS_RULE_COUNT; rule = next_rule(rule + 1)) {
        const char *id = mos_rule_rows[rule].id;
        char *w = keep(test_folder("accepted"));
        int status;
        if (stays(id))
            continue;
        copy_folder(fixture(rule, "fails"), w);
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' check --accept", MOSAICUM_PROGRAM, w));
        json_t *d = run_json(&status, "-w '%s' check", w);
        if (status || json_array_size(json_object_get(d, "findings")) ||
            json_integer_value(json_object_get(d, "waived")) < 1) {
            char *text = json_dumps(d, 0);
            fprintf(stderr, "\n%s: %s\n", id, text);
            free(text);
            CU_FAIL("a finding that was accepted");
        }
        accepted++;
        json_decref(d);
        /* a build makes images, or says why not */
        struct outcome o = run_shell("'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w);
        CU_ASSERT_EQUAL(o.status == 0, exists(path_in(w, "out/curlew/ledger.json")));
        CU_ASSERT(o.status == 0 || *o.out || *o.err);
        if (o.status == 0)
            note_sum(
                &sums, rule, "made",
                "cd '%s/out/curlew' && sed 's/\"version\": .*//' ledger.json && for f in *; do [ "
                "$f = ledger.json ] || cksum $f; done; for f in *.img; do '%s' --no-cache inspect "
                "--files $f; done",
                w, MOSAICUM_PROGRAM);
        else
            note_sum(&sums, rule, "refused", "cd '%s' && '%s' --no-cache build", w,
                     MOSAICUM_PROGRAM);
        outcome_free(&o);
        remove_folder(w);
    }
    CU_ASSERT(accepted > (all_rows_are_taken() ? 60 : 15));
    hold_golden_rows("fixtures-fail", mos_buf_string(&sums));
    core_end(&c);
}

/* `show all` of a board, put in the place of its file, gives the same board again. */
static void what_is_shown_reads_back(void) {
    struct core c;
    core_start(&c);
    struct mos_buf sums = {.arena = c.ctx.arena};
    for (size_t rule = next_rule(0); rule < MOS_RULE_COUNT; rule = next_rule(rule + 1)) {
        char *w = keep(test_folder("shown"));
        copy_folder(fixture(rule, "passes"), w);
        struct outcome first =
            run_shell("'%s' --no-cache -w '%s' show curlew all", MOSAICUM_PROGRAM, w);
        CU_ASSERT_EQUAL(first.status, 0);
        note_sum(&sums, rule, "shown",
                 "cd '%s' && for p in all ram boot budgets; do '%s' --no-cache "
                 "show curlew $p --trail; done; '%s' --no-cache check -v",
                 w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
        note_sum(
            &sums, rule, "made",
            "cd '%s' && '%s' --no-cache build; (cd out/curlew 2>/dev/null && for f in *; do [ $f "
            "= ledger.json ] || cksum $f; done); '%s' --no-cache rehearse curlew",
            w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
        remove_folder(path_in(w, "out"));
        write_text(path_in(w, "boards/curlew.yaml"), first.out);
        struct outcome second =
            run_shell("'%s' --no-cache -w '%s' show curlew all", MOSAICUM_PROGRAM, w);
        if (strcmp(first.out, second.out) != 0)
            fprintf(stderr, "\n%s:\n%s--\n%s%s\n", mos_rule_rows[rule].id, first.out, second.out,
                    second.err);
        CU_ASSERT_STRING_EQUAL(first.out, second.out);
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' check curlew", MOSAICUM_PROGRAM, w));
        outcome_free(&first);
        outcome_free(&second);
        remove_folder(w);
    }
    hold_golden_rows("fixtures-pass", mos_buf_string(&sums));
    core_end(&c);
}

SUITE(everywhere_suite, {"places lie in their files", places_lie_in_their_files},
      {"findings can be accepted", findings_can_be_accepted},
      {"what is shown reads back", what_is_shown_reads_back});
