/* The JSON Schema that editors use, before a validator that knows nothing of Mosaicum. */
#include "peers.h"

#include <string.h>

static void good_definitions_are_accepted(void) {
    struct outcome o = run_shell("cd '%s' && tests/peers/validate '%s' good $(find demo "
                                 "tests/rules/*/passes -name '*.yaml' -o "
                                 "-name mosaicum.pins | grep -v -e /out/ -e /bindings/)",
                                 MOSAICUM_SOURCE, MOSAICUM_SCHEMA);
    CU_ASSERT_EQUAL(o.status, 0);
    if (o.status)
        fprintf(stderr, "\n%s%s\n", o.out, o.err);
    o.out[strcspn(o.out, ",\n")] = 0;
    proved("JSON Schema, independent validator", "accepts all definitions of demo and fixtures: %s",
           o.out);
    outcome_free(&o);
}

static void wrong_definitions_are_refused(void) {
    static const char *const texts[] = {
        "hardwear: {}",
        "hardware: {cpu: arm65}",
        "hardware: {cores: two}",
        "hardware: {media: {card: {kind: sd, size: 64}}}",
        "hardware: {ram: {main: {start: 1000, sizes: 1 MiB}}}",
        "loader: {environments: {main: {size: 1 KiB, flag-byte: maybe}}}",
        "pieces: {x: {file: a, sha256: 12}}",
        "layout: {card: {regions: {a: {size: most}}}}",
        "variants: {bench: {axis: use, purpose: work}}",
        "budgets: {x: {of: [y], limit: 120%}}",
        "traits: {soc: tern64}",
        "waivers: {w: {rule: x, place: y, reason: z, until: soon}}",
    };
    enum { COUNT = sizeof texts / sizeof *texts };
    const char *w = test_folder("schema");
    for (size_t i = 0; i < COUNT; i++) {
        char text[300];
        snprintf(text, sizeof text, "mosaicum: 1\nboard: b%zu\n%s\n", i, texts[i]);
        write_text(path_in(w, "boards/b%zu.yaml", i), text);
    }
    CU_ASSERT(runs(0, "'%s/tests/peers/validate' '%s' bad '%s'/boards/*.yaml", MOSAICUM_SOURCE,
                   MOSAICUM_SCHEMA, w));
    proved("JSON Schema, independent validator", "refuses %d wrong ones", (int)COUNT);
}

/* What --json prints: the examples, and what every fixture, part and command of the demo says. */
static void outputs_fit_their_schema(void) {
    struct outcome o = run_shell(
        "cd '%s' && M='%s' && { cat docs/json/*.json; for r in tests/rules/*/fails; do $M "
        "--no-cache "
        "--json -w $r check; done; for p in layout ram boot kernel tree env budgets emulator all; "
        "do "
        "for b in curlew+bench dunlin avocet; do $M --json -w demo/saltmarsh show $b $p; $M --json "
        "-w "
        "demo/saltmarsh show $b $p --trail; done; done; $M --json explain; $M --json explain "
        "symptoms; "
        "$M --json explain bad-tree; $M --json inspect README.md; "
        "$M --json -w demo/saltmarsh listen curlew --stored tests/symptoms/bad-tree/fails.log; "
        "$M --json -w tests/rules/board.learned/fails learn curlew --stored "
        "tests/rules/board.learned/fails/answers.txt; "
        "$M --json check nosuch; $M --json -w demo/saltmarsh rehearse dunlin --planned --faults; } "
        "2>/dev/null | tests/peers/validate-output docs/output.schema.json good",
        MOSAICUM_SOURCE, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 0);
    if (o.status)
        fprintf(stderr, "\n%s%s\n", o.out, o.err);
    o.out[strcspn(o.out, ",\n")] = 0;
    static const char *const edits[] = {"s/\"mosaicum\": 1/\"mosaicum\": 2/",
                                        "s/\"status\": 1/\"status\": 9/",
                                        "s/\"severity\": \"error\"/\"severity\": \"bad\"/",
                                        "s/\"why\": .*,/\"why\": null,/",
                                        "s/\"rule\": \".*\"/\"rule\": \"none\"/",
                                        "s/\"line\": [0-9]*/\"line\": 0/",
                                        "s/\"findings\"/\"found\"/",
                                        "s/\"waived\": 0/\"waived\": -1/"};
    enum { COUNT = sizeof edits / sizeof *edits };
    for (size_t i = 0; i < COUNT; i++)
        CU_ASSERT(runs(0,
                       "cd '%s' && sed '%s' docs/json/check.json | tests/peers/validate-output "
                       "docs/output.schema.json bad",
                       MOSAICUM_SOURCE, edits[i]));
    proved("JSON Schema of the outputs", "%s fit, %d changed ones are refused", o.out, (int)COUNT);
    outcome_free(&o);
}

SUITE(schema_suite, {"good definitions", good_definitions_are_accepted},
      {"wrong definitions", wrong_definitions_are_refused}, {"outputs", outputs_fit_their_schema});
