/* Every rule: its page, its fixture that fails with exactly this rule, its fixture that passes. */
#include "support.h"

#include "base/finding.h"
#include "computer/card.h"
#include "computer/made-up.h"
#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>

/* ---- rules about writing: on a made-up computer ---- */

static bool consents(void *self, const char *device, const char *token) {
    (void)self;
    return device && token;
}

static json_t *findings_of(mosaicum *m) {
    json_t *list = json_array();
    for (size_t i = 0; i < mosaicum_finding_count(m); i++) {
        const struct mosaicum_finding *f = mosaicum_finding_at(m, i);
        json_t *places = json_array();
        for (size_t k = 0; k < f->place_count; k++)
            json_array_append_new(places, json_string(f->places[k].thing));
        json_array_append_new(list, json_pack("{s:s,s:o,s:s}", "rule", f->rule, "places", places,
                                              "try", f->remedy ? f->remedy : ""));
    }
    return json_pack("{s:o}", "findings", list);
}

/* "write card.img /dev/sdb --for curlew": what came of it. */
static json_t *write_line(struct mos_host *host, const char *folder, char *line, int *status) {
    char *words[8] = {0};
    size_t n = 0;
    for (char *p = strtok(line, " "); p && n < 8; p = strtok(NULL, " "))
        words[n++] = p;
    CU_ASSERT_FATAL(n == 3 || n == 5);
    const char *devices[] = {words[2]}, *regions[] = {words[4], NULL};
    struct mosaicum_write r = {.what = path_in(folder, "%s", words[1]),
                               .devices = devices,
                               .device_count = 1,
                               .ask = consents};
    r.board = n == 5 && strcmp(words[3], "--for") == 0 ? words[4] : NULL;
    r.unit = n == 5 && strcmp(words[3], "--unit") == 0 ? words[4] : NULL;
    r.regions = n == 5 && strcmp(words[3], "--region") == 0 ? regions : NULL;
    struct mosaicum_options o = {.host = host, .workspace = folder};
    mosaicum *m = mosaicum_new(&o);
    *status = mosaicum_write(m, &r) != MOSAICUM_DONE;
    json_t *d = findings_of(m);
    mosaicum_free(m);
    return d;
}

/* In the ledger the region boot becomes a volume of that kind, of the running board. */
static void own_volume(const char *folder, const char *kind) {
    char *path = path_in(folder, "ledger.json");
    json_t *d = json_load_file(path, 0, NULL), *region;
    size_t i;
    json_array_foreach(json_object_get(json_array_get(json_object_get(d, "images"), 0), "regions"),
                       i, region) {
        if (strcmp(json_string_value(json_object_get(region, "name")), "boot") == 0) {
            json_object_set_new(region, "owner", json_string("device"));
            json_object_set_new(region, "holds", json_string(kind));
        }
    }
    CU_ASSERT_EQUAL(json_dump_file(d, path, 0), 0);
    json_decref(d);
}

/* Does the lines of job.txt with the card of tests/computer/card.c; the last one counts. */
static json_t *check_write(const char *fixture, int *status) {
    struct core c;
    char why[200] = "", *folder = keep(test_folder("writes"));
    uint8_t *image = malloc(CARD_SIZE);
    core_start(&c);
    copy_folder(fixture, folder);
    write_text(path_in(folder, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    card_fill(&c, image, 1);
    card_put(&c, image, folder, "one");
    char *text = read_whole(path_in(folder, "computer.txt"), NULL);
    char *job = read_whole(path_in(folder, "job.txt"), NULL);
    struct made_up *computer = made_up_new(text, NULL, why, sizeof why);
    CU_ASSERT_PTR_NOT_NULL_FATAL(computer);
    struct mos_host host = *mos_platform_host();
    host.computer = made_up_computer(computer);
    json_t *d = NULL;
    for (char *line = job, *next; line && *line; line = next) {
        next = strchr(line, '\n');
        if (next)
            *next++ = 0;
        if (strncmp(line, "damage ", 7) == 0) {
            image[atoi(line + 7)] ^= 1;
            write_file(path_in(folder, "card.img"), image, CARD_SIZE);
            continue;
        }
        if (strcmp(line, "per-unit") == 0) {
            card_put_variables(&c, image);
            card_put(&c, image, folder, "one");
            continue;
        }
        if (strcmp(line, "volume") == 0) {
            card_put_volume(&c, image, NULL);
            card_put(&c, image, folder, "one");
            continue;
        }
        if (strncmp(line, "own-volume ", 11) == 0) {
            own_volume(folder, line + 11);
            continue;
        }
        if (strncmp(line, "edit sdb ", 9) == 0) {
            card_put_volume(&c, made_up_device(computer, "sdb")->bytes, line + 9);
            continue;
        }
        json_decref(d);
        d = write_line(&host, folder, line, status);
    }
    made_up_free(computer);
    core_end(&c);
    free(image);
    free(text);
    free(job);
    return d;
}

static json_t *check(const char *folder, int *status) {
    if (strstr(folder, "/write."))
        return check_write(folder, status);
    if (strstr(folder, "board.learned")) /* what the board answered is stored */
        return run_json(status, "-w '%s' learn curlew --stored '%s/answers.txt'", folder, folder);
    if (!strstr(folder, "boot.fallback-fails"))
        return run_json(status, "-w '%s' check", folder);
    const char *out = keep(test_folder("faults")); /* found by breaking what was built */
    folder = keep(folder);
    CU_ASSERT_TRUE(
        runs(0, "'%s' --no-cache -q -w '%s' build --out '%s'", MOSAICUM_PROGRAM, folder, out));
    return run_json(status, "-w '%s' --out '%s' rehearse curlew --faults", folder, out);
}

static void fixture_fails(const char *id) {
    int status;
    json_t *d = check(path_in(MOSAICUM_SOURCE, "tests/rules/%s/fails", id), &status), *finding;
    size_t i, seen = 0;
    const struct mos_rule_row *row = mos_rule_rows;
    while (strcmp(row->id, id) != 0)
        row++;
    CU_ASSERT_EQUAL(status, row->severity == MOS_SEVERITY_ERROR);
    json_array_foreach(json_object_get(d, "findings"), i, finding) {
        const char *rule = json_string_value(json_object_get(finding, "rule"));
        CU_ASSERT_STRING_EQUAL(rule, id);
        CU_ASSERT(json_array_size(json_object_get(finding, "places")) > 0);
        CU_ASSERT_PTR_NOT_NULL(json_string_value(json_object_get(finding, "try")));
        seen++;
    }
    if (seen != 1)
        fprintf(stderr, "\n%s: %zu findings\n", id, seen);
    CU_ASSERT_EQUAL(seen, 1);
    json_decref(d);
}

static void fixture_passes(const char *id) {
    int status;
    json_t *d = check(path_in(MOSAICUM_SOURCE, "tests/rules/%s/passes", id), &status);
    CU_ASSERT_EQUAL(status, 0);
    CU_ASSERT_EQUAL(json_array_size(json_object_get(d, "findings")), 0);
    json_decref(d);
}

static void each_rule_has_its_fixtures(void) {
    for (size_t i = 0; i < MOS_RULE_COUNT; i++) {
        fixture_fails(mos_rule_rows[i].id);
        fixture_passes(mos_rule_rows[i].id);
    }
}

/* The quoted block after a heading "## Fails (FILE)" must stand in that file of the fixture. */
static void quote_is_true(const char *id, const char *page, const char *heading, const char *kind) {
    char file[128], *at = strstr(page, heading);
    CU_ASSERT_PTR_NOT_NULL_FATAL(at);
    CU_ASSERT_EQUAL_FATAL(sscanf(at + strlen(heading), " (%127[^)])", file), 1);
    char *start = strstr(at, "```\n") + 4, *end = strstr(start, "\n```");
    CU_ASSERT_PTR_NOT_NULL_FATAL(end);
    char *quote = strndup(start, (size_t)(end - start));
    char *text = read_whole(path_in(MOSAICUM_SOURCE, "tests/rules/%s/%s/%s", id, kind, file), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    CU_ASSERT_PTR_NOT_NULL(strstr(text, quote));
    free(text);
    free(quote);
}

static void each_rule_has_its_page(void) {
    for (size_t i = 0; i < MOS_RULE_COUNT; i++) {
        const char *id = mos_rule_rows[i].id;
        struct outcome o = run_shell("'%s' explain %s", MOSAICUM_PROGRAM, id);
        char *page = read_whole(path_in(MOSAICUM_SOURCE, "docs/rules/%s.md", id), NULL);
        CU_ASSERT_PTR_NOT_NULL_FATAL(page);
        CU_ASSERT_EQUAL(o.status, 0);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, mos_rule_rows[i].title));
        quote_is_true(id, page, "## Fails", "fails");
        quote_is_true(id, page, "## Passes", "passes");
        free(page);
        outcome_free(&o);
    }
}

/* docs/facts.md names every rule, and no other. */
static void facts_name_every_rule(void) {
    char *text = read_whole(path_in(MOSAICUM_SOURCE, "docs/facts.md"), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    for (size_t i = 0; i < MOS_RULE_COUNT; i++) {
        char quoted[80];
        snprintf(quoted, sizeof quoted, "`%s`", mos_rule_rows[i].id);
        if (!strstr(text, quoted)) {
            fprintf(stderr, "\ndocs/facts.md does not name %s\n", mos_rule_rows[i].id);
            CU_FAIL("a rule without its fact");
        }
    }
    for (char *at = text; (at = strchr(at, '`')); at++) { /* `family.name` */
        size_t n = strcspn(at + 1, "`"), dot = strcspn(at + 1, ".");
        bool known = dot + 1 >= n || strspn(at + 1, "abcdefghijklmnopqrstuvwxyz-.") < n;
        for (size_t i = 0; i < MOS_RULE_COUNT && !known; i++)
            known =
                strlen(mos_rule_rows[i].id) == n && strncmp(at + 1, mos_rule_rows[i].id, n) == 0;
        if (!known && strncmp(at + 1, "mosaicum.pins", n) != 0) {
            fprintf(stderr, "\ndocs/facts.md names %.*s, which is no rule\n", (int)n, at + 1);
            CU_FAIL("a fact without its rule");
        }
        at += n + 1;
    }
    free(text);
}

SUITE(rules_suite, {"facts name every rule", facts_name_every_rule},
      {"each rule has fixtures that fail and pass", each_rule_has_its_fixtures},
      {"each rule has its page, and its quotes are true", each_rule_has_its_page});
