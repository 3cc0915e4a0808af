/* Device trees from files: includes, the C preprocessor, and where their findings point. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

static char *workspace; /* one board with a tree; files are added by each test */

static void start(const char *name, const char *overlays) {
    workspace = test_folder(name);
    write_text(path_in(workspace, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    char text[600];
    snprintf(text, sizeof text,
             "mosaicum: 1\nboard: curlew\ntree:\n  includes: [shared]\n  blobs: {main: {base: "
             "tree/curlew.dts}}\n%s",
             overlays);
    write_text(path_in(workspace, "boards/curlew.yaml"), text);
}

/* The first finding's file, line and column as "FILE:LINE:COLUMN RULE". */
static char *first_finding(void) {
    int status;
    static char text[300];
    json_t *d = run_json(&status, "-w '%s' check", workspace);
    json_t *f = json_array_get(json_object_get(d, "findings"), 0);
    json_t *p = json_array_get(json_object_get(f, "places"), 0);
    const char *file = json_string_value(json_object_get(p, "file"));
    snprintf(text, sizeof text, "%s:%d:%d %s", file ? file : "-",
             (int)json_integer_value(json_object_get(p, "line")),
             (int)json_integer_value(json_object_get(p, "column")),
             f ? json_string_value(json_object_get(f, "rule")) : "none");
    json_decref(d);
    return text;
}

/* The built blob when it contains that text, else NULL; the caller frees it. */
static char *built_with(const char *text) {
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, workspace));
    size_t length;
    char *blob = read_whole(path_in(workspace, "out/curlew/main.dtb"), &length);
    for (size_t i = 0; blob && i + strlen(text) < length; i++)
        if (memcmp(blob + i, text, strlen(text)) == 0)
            return blob;
    free(blob);
    return NULL;
}

static void included_files_are_found(void) {
    start("includes", "");
    write_text(path_in(workspace, "tree/curlew.dts"),
               "/dts-v1/;\n/include/ \"../chips/tern64.dtsi\"\n/include/ \"common.dtsi\"\n/ { "
               "bytes = /incbin/(\"text.bin\", 1, 4); };\n");
    write_text(path_in(workspace, "chips/tern64.dtsi"), "/ { model = \"tern of the jetty\"; };\n");
    write_text(path_in(workspace, "shared/common.dtsi"), "/ { note = \"shared\"; };\n");
    write_text(path_in(workspace, "shared/text.bin"), "xTIDEx");
    CU_ASSERT_STRING_EQUAL(first_finding(), "-:0:0 none");
    char *blob = built_with("TIDE");
    CU_ASSERT_PTR_NOT_NULL(blob);
    free(blob);
    blob = built_with("tern of the jetty");
    CU_ASSERT_PTR_NOT_NULL(blob);
    free(blob);
    write_text(path_in(workspace, "tree/curlew.dts"),
               "/dts-v1/;\n/include/ \"../../secret.dtsi\"\n");
    CU_ASSERT_STRING_EQUAL(first_finding(), "tree/curlew.dts:2:11 tree.syntax");
    write_text(path_in(workspace, "tree/curlew.dts"), "/dts-v1/;\n/include/ \"curlew.dts\"\n");
    CU_ASSERT_PTR_NOT_NULL(strstr(first_finding(), "tree.syntax")); /* it includes itself */
}

static void preprocessed_places_are_the_users(void) {
    start("preprocessed", "");
    write_text(path_in(workspace, "shared/pins.h"),
               "#define PIN(n) (1 << (n))\n#define BAD 3 +\n#define SERIAL uart0\n");
    write_text(path_in(workspace, "tree/chip.dtsi"),
               "/ {\n\tSERIAL: serial { pins = <PIN(4)>; };\n};\n");
    write_text(path_in(workspace, "tree/curlew.dts"),
               "/dts-v1/;\n#include \"pins.h\"\n#include \"chip.dtsi\"\n\n&SERIAL {\n\tstatus = "
               "\"okay\";\n};\n");
    CU_ASSERT_STRING_EQUAL(first_finding(), "-:0:0 none");
    write_text(path_in(workspace, "tree/chip.dtsi"),
               "/ {\n\n\tSERIAL: serial { pins = <PIN(4)> };\n};\n");
    CU_ASSERT_STRING_EQUAL(first_finding(),
                           "tree/chip.dtsi:3:2 tree.syntax"); /* the line: a macro moved columns */
    write_text(path_in(workspace, "tree/chip.dtsi"),
               "/ {\n\n\tuart0: serial { };\n};\n\n&uart1 { };\n");
    CU_ASSERT_STRING_EQUAL(first_finding(), "tree/chip.dtsi:6:1 tree.target-missing");
    write_text(path_in(workspace, "tree/chip.dtsi"), "/ { };\n#error no such chip\n");
    CU_ASSERT_STRING_EQUAL(first_finding(), "tree/chip.dtsi:2:1 tree.syntax");
    struct outcome o =
        run_shell("'%s' --no-cache --no-run -w '%s' check", MOSAICUM_PROGRAM, workspace);
    CU_ASSERT_EQUAL(o.status, 2);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "--no-run forbids"));
    outcome_free(&o);
}

static void overlays_point_to_both_files(void) {
    start("overlays", "  overlays: {one: overlays/one.dtso, two: overlays/two.dtso}\n");
    write_text(path_in(workspace, "tree/curlew.dts"), "/dts-v1/;\n/ { bus: bus { }; };\n");
    write_text(path_in(workspace, "overlays/one.dtso"),
               "/dts-v1/;\n/plugin/;\n&bus { added: part { speed = <1>; }; };\n");
    write_text(path_in(workspace, "overlays/two.dtso"),
               "/dts-v1/;\n/plugin/;\n&added { speed = <1>; };\n");
    CU_ASSERT_STRING_EQUAL(first_finding(),
                           "-:0:0 none"); /* a label of an earlier overlay; equal values */
    write_text(path_in(workspace, "overlays/two.dtso"),
               "/dts-v1/;\n/plugin/;\n&added { speed = <2>; };\n");
    CU_ASSERT_STRING_EQUAL(first_finding(), "overlays/one.dtso:3:22 tree.same-property");
    write_text(path_in(workspace, "overlays/two.dtso"), "/dts-v1/;\n/ { };\n");
    CU_ASSERT_PTR_NOT_NULL(strstr(first_finding(), "boards/curlew.yaml"));
    write_text(path_in(workspace, "overlays/two.dtso"),
               "/dts-v1/;\n/plugin/;\n&bus { peer = <&nothing>; };\n");
    CU_ASSERT_STRING_EQUAL(first_finding(), "overlays/two.dtso:3:16 tree.target-missing");
}

SUITE(trees_suite, {"included files", included_files_are_found},
      {"preprocessed sources", preprocessed_places_are_the_users},
      {"overlays", overlays_point_to_both_files});
