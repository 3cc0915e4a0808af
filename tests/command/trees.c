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
    CU_ASSERT_STRING_EQUAL(first_finding(), "tree/curlew.dts:2:11 piece.path");
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
    CU_ASSERT_STRING_EQUAL(first_finding(), "tree/chip.dtsi:3:33 tree.syntax");
    write_text(path_in(workspace, "tree/chip.dtsi"),
               "/ {\n\n\tuart0: serial { };\n};\n\n&uart1 { };\n");
    CU_ASSERT_STRING_EQUAL(first_finding(), "tree/chip.dtsi:6:1 tree.target-missing");
    write_text(path_in(workspace, "tree/chip.dtsi"), "/ { };\n#error no such chip\n");
    CU_ASSERT_STRING_EQUAL(first_finding(), "tree/chip.dtsi:2:1 tree.syntax");
    struct outcome o =
        run_shell("'%s' --no-cache --no-run -w '%s' check", MOSAICUM_PROGRAM, workspace);
    CU_ASSERT_EQUAL(o.status, 1); /* no program is needed */
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "#error no such chip"));
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

/* ---- what nodes take of others ---- */

static const char peripherals[] =
    "/dts-v1/;\n/ {\n#address-cells = <1>;\n#size-cells = <1>;\ninterrupt-parent = <&gic>;\n"
    "gic: gic@1000 { reg = <0x1000 0x100>; interrupt-controller; #interrupt-cells = <3>; };\n"
    "pin: gpio@2000 { reg = <0x2000 0x100>; gpio-controller; #gpio-cells = <2>; "
    "interrupt-controller; #interrupt-cells = <2>; };\n"
    "rate: rate { #clock-cells = <0>; };\nchip: chip@3000 { reg = <0x3000 0x100>; #clock-cells = "
    "<1>; #reset-cells = <1>; #power-domain-cells = <0>; };\n"
    "dma: dma@4000 { reg = <0x4000 0x100>; #dma-cells = <2>; };\nvolts: volts { };\n"
    "fuses { cell: cell { }; };\n"
    "spi@5000 { reg = <0x5000 0x100>; #address-cells = <1>; #size-cells = <0>; cs-gpios = <&pin 4 "
    "0>, <0>; radio@0 { reg = <0>; interrupts-extended = <&pin 6 1>; }; store@1 { reg = <1>; }; "
    "};\n"
    "user@6000 {\nreg = <0x6000 0x100>;\ninterrupts = <0 5 4>, <0 6 4>;\ninterrupt-names = "
    "\"rx\", \"tx\";\nclocks = <&rate>, <&chip 3>;\nclock-names = \"bus\", \"core\";\nresets = "
    "<&chip 1>;\ndmas = <&dma 1 2>, <&dma 3 4>;\ndma-names = \"rx\", \"tx\";\nreset-gpios = <&pin "
    "3 "
    "1>;\ncore-supply = <&volts>;\npower-domains = <&chip>;\nnvmem-cells = <&cell>;\nnr-gpios = "
    "<7>;\n};\n};\n";

static void references_are_read(void) {
    static const struct {
        const char *edit, *says; /* NULL: nothing is wrong */
    } rows[] = {
        {"", NULL},
        {"s/<&rate>, <&chip 3>/<\\&rate 1>, <\\&chip 3>/",
         "clocks of /user@6000: entry 2 begins with the number 0x1, not"},
        {"s/<&rate>, <&chip 3>/<\\&rate>, <\\&chip>/",
         "clocks of /user@6000: entry 2 has 0 cells behind /chip@3000, which takes 1"},
        {"s/<&rate>, <&chip 3>/<\\&volts>, <\\&chip 3>/",
         "clocks of /user@6000: entry 1 is &volts, which has no #clock-cells"},
        {"s/<&rate>, <&chip 3>/<0>, <\\&chip 3>/", NULL}, /* a hole is allowed */
        {"s/clocks = <&rate>, /clocks = /", "clock-names of /user@6000 has 2 names; clocks has 1"},
        {"s/\"bus\", \"core\"/\"bus\"/",
         "clock-names of /user@6000 has 1 name; clocks has 2 entries"},
        {"s/<&chip 1>/<\\&chip 1 2>/", "resets of /user@6000: entry 2 begins with the number 0x2"},
        {"s/<&dma 1 2>, <&dma 3 4>/<\\&dma 1>, <\\&dma 3 4>/", "dmas of /user@6000: entry 2"},
        {"s/<&pin 3 1>/<\\&pin 3>/",
         "reset-gpios of /user@6000: entry 1 has 1 cell behind /gpio@2000, which takes 2"},
        {"s/core-supply = <&volts>/core-supply = <77>/",
         "core-supply of /user@6000: entry 1 is 0x4d, which is the phandle of no"},
        {"s/core-supply = <&volts>/core-supply = [01 02 03]/", "has 3 bytes, which are no cells"},
        {"s/<0 5 4>, <0 6 4>/<0 5 4 0>/",
         "interrupts of /user@6000 has 4 cells; /gic@1000 takes 3 each"},
        {"s/<0 5 4>, <0 6 4>/<0 5 4>/", "interrupt-names of /user@6000 has 2 names"},
        {"s/<&pin 6 1>/<\\&pin 6>/",
         "interrupts-extended of /spi@5000/radio@0: entry 1 has 1 cell"},
        /* the next cell is taken for its flags, so that one chip select is left */
        {"s/<&pin 4 0>, <0>/<\\&pin 4>, <0>/", "store@1 is at chip select 1 of /spi@5000"},
        {"s/<&pin 4 0>, <0>/<\\&pin 4 0 0 9>/", "cs-gpios of /spi@5000: entry 3"},
        {"s/store@1 { reg = <1>/store@0 { reg = <0>/",
         "radio@0 and store@0 are both at 0x0 of /spi@5000"},
        {"s/store@1 { reg = <1>/store@0 { status = \"disabled\"; reg = <0>/", NULL},
        {"s/store@1 { reg = <1>/store@0 { status = \"okay\"; reg = <0>/", "are both at 0x0"},
        {"s/spi@5000 {/& status = \"disabled\";/; s/store@1 { reg = <1>/store@0 { reg = <0>/",
         NULL},
        {"s/^user@6000 {/& status = \"disabled\";/; s/<&pin 3 1>/<\\&pin 3>/", NULL},
        {"s/nr-gpios = <7>/nr-gpios = <99>/", NULL},
        {"s/nvmem-cells = <&cell>/nvmem-cells = <\\&cell 1>/",
         "nvmem-cells of /user@6000: entry 2"},
        {"s/power-domains = <&chip>/power-domains = <\\&rate>/",
         "which has no #power-domain-cells"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        start("references", "");
        write_text(path_in(workspace, "tree/curlew.dts"), peripherals);
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s/tree' && cp curlew.dts before && sed -i '%s' curlew.dts "
                                  "&& { [ -z \"%s\" ] || ! cmp -s before curlew.dts; }",
                                  workspace, rows[i].edit, *rows[i].edit ? "x" : ""));
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, workspace);
        bool good = rows[i].says
                        ? o.status == 1 && strstr(o.out, rows[i].says) && strstr(o.out, "1 error")
                        : o.status == 0;
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%s\n%s%s", rows[i].edit, o.out, o.err);
        outcome_free(&o);
    }
}

/* Where very many are wrong, the first are told, and the others are counted. */
static void the_rest_is_counted(void) {
    struct core c;
    core_start(&c);
    struct mos_buf b = {.arena = c.ctx.arena};
    start("many", "");
    mos_buf_text(&b, "/dts-v1/;\n/ {\nrate: rate { };\n");
    for (int i = 0; i < 20; i++)
        mos_buf_printf(&b, "user-%d { clocks = <&rate>; };\n", i);
    mos_buf_text(&b, "};\n");
    write_text(path_in(workspace, "tree/curlew.dts"), mos_buf_string(&b));
    struct outcome o = run_shell("'%s' --no-cache -v -w '%s' check", MOSAICUM_PROGRAM, workspace);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "12 errors"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "8 more references of tree main"));
    outcome_free(&o);
    core_end(&c);
}

/* A blob from outside has the mistakes of its maker; those of an overlay of ours are told, at its
 * own line. */
static void mistakes_of_others_are_theirs(void) {
    start("theirs", "");
    write_text(path_in(workspace, "tree/curlew.dts"), peripherals);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && sed -i 's/tree.curlew.dts}/&}/; s/}}$/}}/; s/^tree:/&/' boards/curlew.yaml "
        "&& sed -i 's/<&pin 3 1>/<\\&pin 3>/; s/store@1 { reg = <1>/store@0 { reg = <0>/' "
        "tree/curlew.dts && sed -i 's/^rate:/rate: /' tree/curlew.dts && printf 'mosaicum: "
        "1\\nboard: curlew\\ntree: {blobs: {main: {base: tree/curlew.dts}}, overlays: {none: "
        "{file: none.dtso, when: boot}}}\\n' >boards/curlew.yaml && printf "
        "'/dts-v1/;\\n/plugin/;\\n&volts { };\\n' >none.dtso && { '%s' --no-cache -q build "
        "--force; sed -i 's/<&pin 3>/<\\&pin 3 1>/; s/store@0 { reg = <0>/store@1 { reg = "
        "<1>/' tree/curlew.dts; '%s' --no-cache -q build; } >/dev/null 2>&1; mkdir -p pieces "
        "&& cp out/curlew/main.dtb pieces/vendor.dtb",
        workspace, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    static const struct {
        const char *overlay, *says;
    } rows[] = {
        {"&volts { label = \"core\"; };", NULL},
        {"&{/spi@5000} { note@1 { reg = <1>; }; };", "store@1 and note@1 are both at 0x1"},
        {"&{/user@6000} { reset-gpios = <&pin 3>; };", "entry 1 has 1 cell behind /gpio@2000"},
        {"&{/user@6000} { reset-gpios = <&pin 3 0>; };", NULL},
        {"&volts { status = \"disabled\"; };", "core-supply of /user@6000: entry 1 is /volts, and"},
        {"&dma { status = \"disabled\"; };",
         "dmas of /user@6000: entry 1 is /dma@4000, and that is switched off"},
        {"&rate { status = \"disabled\"; };",
         "clocks of /user@6000: entry 1 is /rate, and that is"},
        {"&dma { status = \"disabled\"; }; &{/user@6000} { dmas = <&dma 1 1>, <&dma 1 2>; };",
         "dmas of /user@6000: entry 1 is /dma@4000, and that is switched off"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        char text[400];
        snprintf(text, sizeof text, "/dts-v1/;\n/plugin/;\n%s\n", rows[i].overlay);
        write_text(path_in(workspace, "our.dtso"), text);
        write_text(path_in(workspace, "boards/curlew.yaml"),
                   "mosaicum: 1\nboard: curlew\npieces: {vendor: {file: pieces/vendor.dtb}}\ntree: "
                   "{blobs: {main: {piece: vendor}}, overlays: {ours: our.dtso}}\n");
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, workspace);
        bool good = rows[i].says ? o.status == 1 && strstr(o.out, rows[i].says) &&
                                       strstr(o.out, "our.dtso:3")
                                 : o.status == 0;
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%s\n%s%s", rows[i].overlay, o.out, o.err);
        outcome_free(&o);
    }
}

/* ---- mosaicum tree ---- */

/* Each line in a folder with a few sources: how it ends, and what it says or leaves. */
#define PHYS                                                                                       \
    "printf '/dts-v1/;\\n/ { p: p { #phy-cells = <1>; }; q { phys = <&p 3>; }; r { interrupts = "  \
    "<1 2>; "                                                                                      \
    "interrupt-parent = <&i>; }; i: i { compatible = \"x,armctrl-ic\"; #interrupt-cells = <2>; "   \
    "}; "                                                                                          \
    "};\\n' > phy.dts; "
static void trees_by_themselves(void) {
    static const struct {
        const char *line;
        int status;
        const char *says; /* in either output */
    } rows[] = {
        {"M tree compile a.dts -o a.dtb && M tree find a.dtb light", 1,
         "Nothing in a.dtb is called"},
        {"M tree compile a.dts --keep-labels -o a.dtb && M tree find a.dtb light", 0, "/lamp@1"},
        {"M tree compile a.dts -o a.dtb && M tree compile a.dts -o a.dtb", 4, "a.dtb"},
        {"M tree compile bad.dts a.dts -o out/; ls out", 0,
         "a.dtb"}, /* one mistake is one tree's */
        {"M tree compile bad.dts a.dts -o out/", 1, "bad.dts:3"},
        {"M tree compile more.dts -o m.dtb", 1, "There is no file common.h"},
        {"M tree compile more.dts -I inc -o m.dtb", 1, "no number, and no macro"},
        {"M tree compile more.dts -I inc -D LEVEL=7 -o m.dtb && M tree find m.dtb level", 0, "<7>"},
        {"M tree compile more.dts -I inc -D 9=7 -o m.dtb", 2, "--define is NAME or NAME=TEXT"},
        {"M tree compile out.dts -o m.dtb", 1, "lies outside of the folders that may be read"},
        {"M tree compile ask.dts -o m.dtb", 1, "not known whether it is there"},
        {"M tree compile over.dtso -o o.dtbo && M tree claims o.dtbo", 2,
         "put it on its tree first"},
        {"M tree claims a.dts | grep -c 'registers'", 0, "1"},
        {PHYS "M tree claims phy.dts | tr -s ' '", 0, "PHY 3 /p /q phys 1"},
        {PHYS "M tree claims phy.dts | tr -s ' '", 0, "interrupt 1 2 /i /r interrupts 1"},
        {"cp a.dts b.dts; M tree compile a.dts none.dts b.dts -o many; ls many", 0, "b.dtb"},
        {"cp a.dts b.dts; M tree compile a.dts none.dts b.dts -o many", 3,
         "Cannot open none.dts: No such file or directory; while compiling 3 sources (written into "
         "many: 2)"},
        {"M tree text over.dtso", 0, "<&light>"},
        {"M tree apply a.dts over.dtso -o m.dtb && M tree compare a.dts m.dtb", 1, "/lamp@1/bulb"},
        {"M tree apply a.dts over.dtso lost.dtso -o m.dtb; ls", 0, "over.dtso"},
        {"M tree apply a.dts over.dtso lost.dtso -o m.dtb; [ ! -e m.dtb ]", 0,
         "needs the label gone"},
        {"M tree apply over.dtso a.dts -o m.dtb", 2, "is an overlay itself"},
        {"M tree compare a.dts a.dts", 0, "Nothing differs."},
        {"M tree text a.dts -o t.dts && M tree compile t.dts -o t.dtb && M tree compare a.dts "
         "t.dtb",
         0, "Nothing differs."},
        {"M tree draw a.dts", 0, "maker,lamp"},
        {"M tree comple a.dts", 2, "did you mean compile?"},
        {"M tree compile a.dts", 2, "mosaicum tree compile SOURCE"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = test_folder("by-themselves"), *in = keep(path_in(w, "in"));
        write_text(path_in(in, "a.dts"),
                   "/dts-v1/;\n/ { #address-cells = <1>; #size-cells = <1>;\nlight: lamp@1 { "
                   "compatible = \"maker,lamp\"; reg = <1 1>; }; };\n");
        write_text(path_in(in, "bad.dts"), "/dts-v1/;\n/ {\n\tx = <y>;\n};\n");
        write_text(path_in(in, "more.dts"),
                   "/dts-v1/;\n#include <common.h>\n/ { level = <LEVEL>; };\n");
        write_text(path_in(in, "inc/common.h"), "/* nothing */\n");
        write_text(path_in(in, "out.dts"), "/dts-v1/;\n#include \"../secret.h\"\n/ { };\n");
        write_text(path_in(in, "ask.dts"),
                   "#if __has_include(\"../secret.h\")\n#endif\n/dts-v1/; / { };\n");
        write_text(path_in(w, "secret.h"), "/ { };\n");
        write_text(path_in(in, "over.dtso"),
                   "/dts-v1/; /plugin/;\n&light { bulb { of = <&light>; }; };\n");
        write_text(path_in(in, "lost.dtso"), "/dts-v1/; /plugin/;\n&gone { };\n");
        struct outcome o = run_shell("cd '%s' && M() { '%s' --no-cache \"$@\"; } && %s", in,
                                     MOSAICUM_PROGRAM, rows[i].line);
        bool good = o.status == rows[i].status &&
                    (strstr(o.out, rows[i].says) || strstr(o.err, rows[i].says));
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%s: %d\n%s%s", rows[i].line, o.status, o.out, o.err);
        outcome_free(&o);
    }
}

/* Overlays that need each other the other way round, and one of another board: both say it. */
static void overlays_in_their_place(void) {
    static const char *const forms[][2] = {{"dtso", ""}, {"dtbo", ""}, {"dtso", ", when: boot"}};
    for (size_t i = 0; i < sizeof forms / sizeof *forms; i++) {
        char overlays[300];
        snprintf(
            overlays, sizeof overlays,
            "  overlays:\n    lamp: {file: tree/lamp.%s%s}\n    mast: {file: tree/mast.%s%s}\n",
            forms[i][0], forms[i][1], forms[i][0], forms[i][1]);
        start("overlay-order", overlays);
        write_text(
            path_in(workspace, "tree/curlew.dts"),
            "/dts-v1/;\n/ { compatible = \"saltmarsh,curlew\", \"harbour,tern64\"; quay: quay "
            "{ }; };\n");
        write_text(path_in(workspace, "tree/mast.dtso"),
                   "/dts-v1/;\n/plugin/;\n/ { compatible = \"saltmarsh,dunlin\", "
                   "\"saltmarsh,avocet\"; };\n&quay { mast: mast { }; };\n");
        write_text(path_in(workspace, "tree/lamp.dtso"),
                   "/dts-v1/;\n/plugin/;\n/ { compatible = \"harbour,tern64\"; };\n&mast { lamp; "
                   "};\n");
        CU_ASSERT(runs(0,
                       "cd '%s/tree' && '%s' tree compile lamp.dtso mast.dtso --keep-labels -q -o "
                       ".",
                       workspace, MOSAICUM_PROGRAM));
        struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, workspace);
        CU_ASSERT(o.status == 1 && strstr(o.out, "needs the label mast"));
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "Put mast before lamp."));
        CU_ASSERT_PTR_NOT_NULL(strstr(
            o.out,
            "Overlay mast is for saltmarsh,dunlin, and the tree is that of saltmarsh,curlew"));
        CU_ASSERT_PTR_NULL(strstr(o.out, "Overlay lamp is for"));
        outcome_free(&o);
    }
}

/* A label is not read as what a property of its name would be. */
static void labels_are_no_properties(void) {
    start("label-names", "  overlays: {lamp: {file: tree/lamp.dtso}}\n");
    CU_ASSERT(runs(0, "sed -i 's/curlew.dts/curlew.dtb/' '%s/boards/curlew.yaml'", workspace));
    write_text(path_in(workspace, "tree/curlew.dts"), "/dts-v1/;\n/ { quay: quay { }; };\n");
    write_text(path_in(workspace, "tree/lamp.dtso"),
               "/dts-v1/;\n/plugin/;\n&quay { gpio: a { }; clocks: ab { }; dmas: abc { }; resets: "
               "abcd { }; reg: abcde { }; status: abcdef { }; interrupts: abcdefg { }; };\n&{/} { "
               "aliases { gpios = \"/quay\"; }; };\n");
    CU_ASSERT(runs(0, "cd '%s/tree' && '%s' tree compile curlew.dts --keep-labels -q -o curlew.dtb",
                   workspace, MOSAICUM_PROGRAM));
    CU_ASSERT_STRING_EQUAL(first_finding(), "-:0:0 none");
}

SUITE(trees_suite, {"labels are no properties", labels_are_no_properties},
      {"overlays in their place", overlays_in_their_place},
      {"included files", included_files_are_found},
      {"preprocessed sources", preprocessed_places_are_the_users},
      {"overlays", overlays_point_to_both_files}, {"references are read", references_are_read},
      {"the rest is counted", the_rest_is_counted},
      {"mistakes of others are theirs", mistakes_of_others_are_theirs},
      {"trees by themselves", trees_by_themselves});
