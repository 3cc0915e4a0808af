/* The JSON Schema that editors use, before a validator that knows nothing of Mosaicum. */
#include "peers.h"

#include <string.h>

static void good_definitions_are_accepted(void) {
    struct outcome o = run_shell("cd '%s' && tests/peers/validate '%s' good $(find demo "
                                 "tests/rules/*/passes -name '*.yaml' -o "
                                 "-name mosaicum.pins | grep -v /out/)",
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

SUITE(schema_suite, {"good definitions", good_definitions_are_accepted},
      {"wrong definitions", wrong_definitions_are_refused});
