/* Nodes against the kernel's schema files: for each word of their language a node that keeps to it
 * and one that does not. */
#include "support.h"

#include <string.h>

static const char head[] = "%YAML 1.2\n"
                           "---\n"
                           "$id: http://devicetree.org/schemas/harbour/part.yaml#\n"
                           "title: Part\n"
                           "properties:\n"
                           "  compatible:\n"
                           "    const: harbour,part\n";
static const char rest[] = "additionalProperties: false\n";

/* A schema of one property `harbour,x` (flow style), values that are good, and what is said of one
 * that is not. */
static const struct {
    const char *schema, *good, *bad, *says;
} values[] = {
#define TYPE(t) "{$ref: /schemas/types.yaml#/definitions/" t "}"
#define WITH(t, words) "{$ref: /schemas/types.yaml#/definitions/" t ", " words "}"
    {TYPE("uint32"), "<5>", "<5 6>", "has 8 bytes, and one number of 32 bits is wanted"},
    {TYPE("uint32"), "<0>", "\"ab\"", "has 3 bytes, and one number of 32 bits is wanted"},
    {TYPE("uint64"), "/bits/ 64 <5>", "<5>", "has 4 bytes, and one number of 64 bits is wanted"},
    {TYPE("uint8-array"), "[01 02]", "", "has 0 bytes, which are no numbers of 8 bits"},
    {TYPE("uint16-array"), "/bits/ 16 <1 2>", "[01 02 03]",
     "has 3 bytes, which are no numbers of 16 bits"},
    {TYPE("flag"), "", "<1>", "has a value, and is there or not"},
    {"{type: boolean}", "", "\"yes\"", "has a value, and is there or not"},
    {TYPE("string"), "\"a\"", "\"a\", \"b\"", "is more than one text"},
    {TYPE("string"), "\"a\"", "<1>", "is no text"},
    {TYPE("string-array"), "\"a\", \"b\"", "[61 62]", "is no text"},
    {TYPE("phandle"), "<&other>", "<&other 1>", "is not one reference"},
    {WITH("uint32", "enum: [1, 2, 0x10]"), "<16>", "<3>", "is 3, and may be 1, 2 or 0x10"},
    {WITH("uint32", "const: 7"), "<7>", "<8>", "is 8, and must be 7"},
    {WITH("uint32", "minimum: 2, maximum: 4"), "<2>", "<1>", "is 1, and must be at least 2"},
    {WITH("uint32", "minimum: 2, maximum: 4"), "<4>", "<5>", "is 5, and must be at most 4"},
    {WITH("uint32", "exclusiveMinimum: 2"), "<3>", "<2>", "is 2, and must be more than 2"},
    {WITH("uint32", "exclusiveMaximum: 2"), "<1>", "<2>", "is 2, and must be less than 2"},
    {WITH("uint32", "multipleOf: 8"), "<24>", "<20>", "is 20, and must be a multiple of 8"},
    {WITH("int32", "minimum: -3"), "<(-3)>", "<(-4)>", "is -4, and must be at least -3"},
    {WITH("uint32-array", "maxItems: 2"), "<1 2>", "<1>", "has 1 entry, and 2 wanted"},
    {WITH("uint32-array", "minItems: 1, maxItems: 2"), "<1>", "<1 2 3>",
     "has 3 entries, and at most 2 wanted"},
    {WITH("uint32-array", "minItems: 2, maxItems: 9"), "<1 2>", "<1>",
     "has 1 entry, and at least 2 wanted"},
    {WITH("uint32-array", "minItems: 1, maxItems: 4, items: {maximum: 9}"), "<9 8 7>", "<1 2 10>",
     "is 10, and must be at most 9"},
    {WITH("uint32-array", "items: [{const: 1}, {minimum: 2}]"), "<1 2>", "<1 1>",
     "is 1, and must be at least 2"},
    {WITH("uint32-array", "items: [{const: 1}], additionalItems: {const: 2}"), "<1 2 2>", "<1 2 3>",
     "is 3, and must be 2"},
    {WITH("uint32-matrix", "maxItems: 2, items: {items: [{maximum: 1}, {maximum: 5}]}"),
     "<1 5>, <0 5>", "<1 5>, <0 6>", "is 6, and must be at most 5"},
    {WITH("uint32-matrix", "minItems: 1, maxItems: 2, items: {items: [{}, {}], enum: [[0, 1]]}"),
     "<0 1>", "<1 1>", "is 2 entries, and may be"},
    {"{enum: [fast, slow]}", "\"slow\"", "\"slowly\"", "is \"slowly\", and may be fast or slow"},
    {"{const: fast}", "\"fast\"", "\"fas\"", "is \"fas\", and must be fast"},
    {"{items: [{const: rx}, {const: tx}]}", "\"rx\", \"tx\"", "\"tx\", \"rx\"",
     "is \"tx\", and must be rx"},
    {"{items: [{const: rx}, {const: tx}]}", "\"rx\", \"tx\"", "\"rx\"",
     "has 1 entry, and 2 wanted"},
    {"{items: [{const: rx}, {const: tx}], minItems: 1}", "\"rx\"", "\"rx\", \"tx\", \"rx\"",
     "has 3 entries, and at most 2 wanted"},
    {"{contains: {const: rx}}", "\"tx\", \"rx\"", "\"tx\"", "lacks an entry that must be in it"},
    {WITH("string-array", "uniqueItems: true"), "\"a\", \"b\"", "\"a\", \"a\"", "has \"a\" twice"},
    {WITH("string", "pattern: \"^ch-\\\\d+$\""), "\"ch-12\"", "\"ch-1x\"",
     "is \"ch-1x\", and must fit the pattern"},
    {WITH("string", "pattern: '^[\\w\\-]+(?:\\.x)?$'"), "\"a_-b.x\"", "\"a_-bx.\"",
     "must fit the pattern"},
    {WITH("string", "pattern: '^a+?b\\+?$'"), "\"aab\"", "\"abb\"", "must fit the pattern"},
    {WITH("string", "pattern: '^a+?b\\+?$'"), "\"ab+\"", "\"ab++\"", "must fit the pattern"},
    {WITH("string", "not: {const: off}"), "\"on\"", "\"off\"", "may not be"},
    {"{oneOf: [{const: a}, {items: [{const: b}, {const: c}]}]}", "\"b\", \"c\"", "\"b\"",
     "begins with \"b\", and is none of the 2 that are known"},
    {"{anyOf: [{const: 1}, {minimum: 5}]}", "<6>", "<4>",
     "begins with 4, and is none of the 2 that are known"},
    {"{allOf: [" TYPE("uint32") ", {maximum: 3}]}", "<3>", "<4>", "is 4, and must be at most 3"},
    {"{if: {const: 1}, then: {}, else: {minimum: 8}}", "<1>", "<2>",
     "is 2, and must be at least 8"},
    {"{oneOf: [" TYPE("flag") ", {enum: [100, 101]}]}", "<101>", "<102>",
     "begins with 102, and is none"},
    {"{oneOf: [" TYPE("uint32") ", " TYPE("string") "]}", "\"abcdefg\"", "[01 02]",
     "has 2 bytes, and one number of 32 bits is wanted"},
    {"{$ref: '#/$defs/small'}", "<3>", "<4>", "is 4, and must be at most 3"},
    {"{$ref: 'common.yaml#/$defs/big'}", "<30>", "<31>", "is 31, and must be at most 30"},
    {"{$ref: /schemas/harbour/common.yaml#/$defs/big}", "<30>", "<31>",
     "is 31, and must be at most 30"},
    {"false", NULL, "<1>", "is not allowed here"},
};

/* A whole schema behind `head`, a node's text, and what is said of it (NULL: nothing). */
static const struct {
    const char *schema, *node, *says;
} nodes[] = {
    {"  a: true\nadditionalProperties: false\n", "a; pinctrl-0 = <1>; status = \"okay\";", NULL},
    {"  a: true\nadditionalProperties: false\n", "b;", "b of /part is not known to its binding"},
    {"  saltwater: true\nadditionalProperties: false\n", "saltwaters;", "Write saltwater, or"},
    {"additionalProperties: false\n", "inner { };", "/part/inner is not known to its binding"},
    {"  a: true\nrequired: [a]\n", "a;", NULL},
    {"  a: true\nrequired: [a]\n", "", "a of /part is needed, and not there"},
    {"  interrupts: true\nrequired: [interrupts]\n", "interrupts-extended = <0>;", NULL},
    {"patternProperties:\n  '^ch-[0-9]+$':\n    $ref: /schemas/types.yaml#/definitions/uint32\n"
     "additionalProperties: false\n",
     "ch-1 = <1>;", NULL},
    {"patternProperties:\n  '^ch-[0-9]+$':\n    $ref: /schemas/types.yaml#/definitions/uint32\n"
     "additionalProperties: false\n",
     "ch-1 = <1 2>;", "ch-1 of /part has 8 bytes"},
    {"patternProperties:\n  '^ch-[0-9]+$': true\nadditionalProperties: false\n", "ch-x;",
     "ch-x of /part is not known"},
    {"patternProperties:\n  '(?<!a)b': true\nadditionalProperties: false\n", "anything;", NULL},
    {"  port:\n    type: object\n    properties:\n      reg:\n        maxItems: 1\n"
     "    required: [reg]\n",
     "port { };", "reg of /part/port is needed"},
    {"  port:\n    type: object\n    required: [reg]\n", "port { status = \"disabled\"; };", NULL},
    {"additionalProperties:\n  $ref: /schemas/types.yaml#/definitions/flag\n", "a;", NULL},
    {"additionalProperties:\n  $ref: /schemas/types.yaml#/definitions/flag\n", "a = <1>;",
     "a of /part has a value"},
    {"dependencies:\n  a: [b]\n", "b;", NULL},
    {"dependencies:\n  a: [b]\n", "a;", "b of /part is needed, and not there"},
    {"oneOf:\n  - required: [a]\n  - required: [b, c]\n", "a;", NULL},
    {"oneOf:\n  - required: [a]\n  - required: [b, c]\n", "b;", "/part needs a, or b and c"},
    {"oneOf:\n  - required: [a]\n  - required: [b, c]\n", "a; b; c;",
     "has more than one of: a, or b and c"},
    {"anyOf:\n  - required: [a]\n  - required: [b]\n", "a; b;", NULL},
    {"anyOf:\n  - required: [a]\n  - required: [b]\n", "", "/part needs a, or b"},
    {"oneOf:\n  - properties:\n      a: {const: 1}\n  - properties:\n      a: {const: 2}\n",
     "a = <3>;", "fits none of the forms that its binding allows"},
    {"if:\n  required: [a]\nthen:\n  required: [b]\nelse:\n  required: [c]\n", "a; b;", NULL},
    {"if:\n  required: [a]\nthen:\n  required: [b]\nelse:\n  required: [c]\n", "a;",
     "b of /part is needed"},
    {"if:\n  required: [a]\nthen:\n  required: [b]\nelse:\n  required: [c]\n", "",
     "c of /part is needed"},
    {"if:\n  properties:\n    compatible: {contains: {const: 'harbour,part'}}\n"
     "then:\n  properties:\n    a: false\n",
     "a;", "a of /part is not allowed here"},
    {"not:\n  required: [a]\n", "", NULL},
    {"not:\n  required: [a]\n", "a;", "a of /part is not allowed here"},
    {"allOf:\n  - $ref: common.yaml#\nunevaluatedProperties: false\n", "common,word;", NULL},
    {"allOf:\n  - $ref: common.yaml#\nunevaluatedProperties: false\n", "other;",
     "other of /part is not known"},
    {"allOf:\n  - if:\n      required: [a]\n    then:\n      properties:\n        b: true\n"
     "unevaluatedProperties: false\n",
     "b;", "b of /part is not known"},
    {"allOf:\n  - $ref: missing.yaml#\nunevaluatedProperties: false\n", "other;", NULL},
    {"  $nodename: {pattern: '^part(@.*)?$'}\n", "", NULL},
    {"  $nodename: {pattern: '^piece(@.*)?$'}\n", "",
     "/part is \"part\", and must fit the pattern"},
    {"  reg:\n    items:\n      - description: registers\n      - description: memory\n",
     "reg = <1 2>, <3 4>;", NULL},
    {"  reg:\n    items:\n      - description: registers\n      - description: memory\n",
     "reg = <1 2>;", "reg of /part has 1 entry, and 2 wanted"},
    {"  clocks:\n    maxItems: 2\n", "clocks = <&clk 1>, <&clk 2>;", NULL},
    {"  clocks:\n    maxItems: 2\n", "clocks = <&clk 1>;", "clocks of /part has 1 entry"},
    {"  interrupts:\n    maxItems: 1\n", "interrupt-parent = <&other>; interrupts = <1 2>;", NULL},
    {"  interrupts:\n    maxItems: 1\n", "interrupt-parent = <&other>; interrupts = <1 2 3 4>;",
     "interrupts of /part has 2 entries, and 1 wanted"},
    {"select: false\nadditionalProperties: false\n", "b;", NULL},
    {"select:\n  required: [a]\nadditionalProperties: false\n", "b;", NULL},
    {"  a: true\nselect:\n  required: [a]\nadditionalProperties: false\n", "a; b;",
     "b of /part is not known"},
};

static char *workspace;

static void start(const char *name) {
    workspace = test_folder(name);
    write_text(path_in(workspace, "b/harbour/common.yaml"),
               "title: Common\nselect: false\nproperties:\n  common,word: true\n"
               "$defs:\n  big: {maximum: 30}\n");
}

/* What is said of a node by a schema. */
static bool said(const char *schema, const char *tail, const char *node, const char *says) {
    char text[2000];
    snprintf(text, sizeof text, "%s%s%s$defs:\n  small: {maximum: 3}\n", head, schema, tail);
    write_text(path_in(workspace, "b/harbour/part.yaml"), text);
    snprintf(text, sizeof text,
             "/dts-v1/;\n/ {\n#address-cells = <1>; #size-cells = <1>;\n"
             "clk: clk { #clock-cells = <1>; };\nother: other { #interrupt-cells = <2>; };\n"
             "part { compatible = \"harbour,part\"; %s };\n};\n",
             node);
    write_text(path_in(workspace, "t.dts"), text);
    struct outcome o =
        run_shell("cd '%s' && '%s' tree bindings t.dts --bindings b", workspace, MOSAICUM_PROGRAM);
    bool good = says ? o.status == 0 && strstr(o.out, "tree.binding") && strstr(o.out, says)
                     : o.status == 0 && !strstr(o.out, "WARNING");
    if (good && says) /* both places: in the tree, and in the file */
        good = strstr(o.out, "t.dts:6") && strstr(o.out, "b/harbour/");
    if (!good)
        fprintf(stderr, "%s%s: %s\n%s%s", schema, node, says ? says : "nothing", o.out, o.err);
    outcome_free(&o);
    return good;
}

static void values_are_judged(void) {
    start("bindings-values");
    for (size_t i = 0; i < sizeof values / sizeof *values; i++) {
        char schema[400], node[200];
        snprintf(schema, sizeof schema, "  harbour,x: %s\n", values[i].schema);
        if (values[i].good) {
            snprintf(node, sizeof node, "harbour,x%s%s;", *values[i].good ? " = " : "",
                     values[i].good);
            CU_ASSERT_TRUE(said(schema, rest, node, NULL));
        }
        snprintf(node, sizeof node, "harbour,x%s%s;", *values[i].bad ? " = " : "", values[i].bad);
        CU_ASSERT_TRUE(said(schema, rest, node, values[i].says));
    }
}

static void nodes_are_judged(void) {
    start("bindings-nodes");
    for (size_t i = 0; i < sizeof nodes / sizeof *nodes; i++)
        CU_ASSERT_TRUE(said(nodes[i].schema, "", nodes[i].node, nodes[i].says));
}

/* What cannot be told is counted: it is neither good nor bad. */
static void unknown_is_counted(void) {
    start("bindings-unknown");
    CU_ASSERT_TRUE(said("allOf:\n  - $ref: missing.yaml#\n", "", "", NULL));
    struct outcome o =
        run_shell("cd '%s' && '%s' tree bindings t.dts --bindings b", workspace, MOSAICUM_PROGRAM);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "1            0                 1               0"));
    outcome_free(&o);
    write_text(path_in(workspace, "b/harbour/part.yaml"),
               "properties: {compatible: {const: harbour,part}\n");
    o = run_shell("cd '%s' && '%s' tree bindings t.dts --bindings b", workspace, MOSAICUM_PROGRAM);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "0            1                 0               1"));
    outcome_free(&o);
    o = run_shell("cd '%s' && '%s' tree bindings t.dts --bindings none", workspace,
                  MOSAICUM_PROGRAM);
    CU_ASSERT(o.status == 3 && strstr(o.err, "Cannot read none"));
    outcome_free(&o);
    o = run_shell("cd '%s' && '%s' tree bindings t.dts", workspace, MOSAICUM_PROGRAM);
    CU_ASSERT(o.status == 2 && strstr(o.err, "--bindings"));
    outcome_free(&o);
}

/* A board's kernel sources: named and not there is an error, there without bindings is said. */
static void sources_are_looked_for(void) {
    workspace = test_folder("bindings-sources");
    write_text(path_in(workspace, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(workspace, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\nkernel: {source: linus}\ntree: {blobs: {main: "
               "t.dts}}\n");
    write_text(path_in(workspace, "t.dts"),
               "/dts-v1/;\n/ { part { compatible = \"harbour,part\"; b; }; };\n");
    CU_ASSERT(runs(0, "mkdir -p '%s/linux'", workspace));
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, workspace);
    CU_ASSERT(o.status == 1 && strstr(o.out, "kernel sources: linus is not there"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "Write linux."));
    outcome_free(&o);
    CU_ASSERT(runs(0, "sed -i s/linus/linux/ '%s/boards/curlew.yaml'", workspace));
    o = run_shell("'%s' --no-cache -w '%s' check -v", MOSAICUM_PROGRAM, workspace);
    CU_ASSERT_PTR_NULL(strstr(o.out, "kernel sources"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "bindings: there are none in linux/Documentation/"));
    outcome_free(&o);
    /* a file that is malformed where the node asks for it is counted */
    write_text(path_in(workspace, "linux/Documentation/devicetree/bindings/x/part.yaml"),
               "properties: {compatible: {const: 'harbour,part'}\n");
    o = run_shell("'%s' --no-cache -w '%s' check -v", MOSAICUM_PROGRAM, workspace);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "bindings: 1 file or folder cannot be read"));
    outcome_free(&o);
}

/* Schemas that lead to themselves, or never end, end. */
static void circles_end(void) {
    start("bindings-circles");
    CU_ASSERT_TRUE(
        said("  harbour,x: {$ref: '#/properties/harbour,x'}\n", rest, "harbour,x = <1>;", NULL));
    CU_ASSERT_TRUE(said("allOf:\n  - $ref: '#'\n", "", "a;", NULL));
    CU_ASSERT_TRUE(said("anyOf:\n  - $ref: '#'\n  - $ref: '#'\n  - $ref: '#'\n", "", "a;", NULL));
}

SUITE(bindings_suite, {"values are judged", values_are_judged},
      {"nodes are judged", nodes_are_judged}, {"unknown is counted", unknown_is_counted},
      {"sources are looked for", sources_are_looked_for}, {"circles end", circles_end});
