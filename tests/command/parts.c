/* Features, files from outside, budgets and references over several parts of a definition. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

struct file {
    const char *path, *text;
};

static const struct file feature[] = {
    {"mosaicum.yaml", "mosaicum: 1\nworkspace: saltmarsh-survey\noutside: [vendor]\n"},
    {"features/depth.yaml",
     "mosaicum: 1\nfeature: depth\n"
     "tree: {overlays: {depth: depth.dtso}}\nkernel: {config: {fragments: {depth: depth.config}}}\n"
     "boot: {entries: {main: {arguments: {depth: on}}}}\n"
     "layout: {card: {regions: {data: {volume: {fills: {depth: {folder: files}}}}}}}\n"
     "needs:\n  symbols: {CONFIG_DEPTH: [y, m]}\n  nodes: [\"&bus\", /bus/depth]\n"
     "  files: [etc/depth.conf]\n  arguments: [depth]\n"},
    {"depth.dtso", "/dts-v1/;\n/plugin/;\n&bus { depth { status = \"okay\"; }; };\n"},
    {"base.dts", "/dts-v1/;\n/ { bus: bus { }; };\n"},
    {"depth.config", "CONFIG_DEPTH=m\n"},
    {"start.config", "# CONFIG_DEPTH is not set\n"},
    {"files/etc/depth.conf", "range = 12\n"},
    {"base/etc/motd", "Saltmarsh Survey\n"},
};

static const char *const board =
    "mosaicum: 1\nboard: curlew\nfeatures: [depth]\n"
    "hardware: {cpu: arm64, ram: {main: {start: 0x40000000, sizes: [64 MiB]}}, media: {card: "
    "{kind: disk, "
    "size: 48 MiB}}}\n"
    "loader: {dialect: u-boot}\n"
    "pieces: {kernel: {file: Image}}\nkernel: {image: kernel, config: {start: start.config}}\n"
    "tree: {blobs: {main: base.dts}}\n"
    "boot: {entries: {main: {kernel: kernel, tree: main, arguments: {root: "
    "<data>}}}}\n"
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
    "      data: {number: 1, size: rest, volume: {kind: ext4, fills: {boot: {made: boot}, base: "
    "{folder: base}}}}\n";

static char *workspace(const char *name, const char *more) {
    char *w = test_folder(name), text[4096];
    for (size_t i = 0; i < sizeof feature / sizeof *feature; i++)
        write_text(path_in(w, "%s", feature[i].path), feature[i].text);
    snprintf(text, sizeof text, "%s%s", board, more);
    write_text(path_in(w, "boards/curlew.yaml"), text);
    CU_ASSERT(runs(0, "cp '%s/tests/rules/boot.root-unknown/passes/pieces/Image' '%s/'",
                   MOSAICUM_SOURCE, w));
    return w;
}

/* The findings of a check, as "severity rule" lines in order. */
static const char *findings(const char *w, const char *selector) {
    int status;
    static char text[2000];
    json_t *d = run_json(&status, "-w '%s' check %s", w, selector), *f;
    size_t i, n = 0;
    text[0] = 0;
    json_array_foreach(json_object_get(d, "findings"), i, f) n += (size_t)snprintf(
        text + n, sizeof text - n, "%s %s\n", json_string_value(json_object_get(f, "severity")),
        json_string_value(json_object_get(f, "rule")));
    json_decref(d);
    return text;
}

/* Each world of a feature can be lost, by a variant that takes it out again. */
static void features_are_checked_as_a_whole(void) {
    static const struct {
        const char *variant, *expected;
    } cases[] = {
        {"hardware: {cores: 1}", ""},
        {"tree: {overlays: {~depth: }}", "error board.feature\n"},
        {"kernel: {config: {fragments: {~depth: }}}", "error board.feature\n"},
        {"boot: {entries: {main: {arguments: {~depth: }}}}", "error board.feature\n"},
        {"layout: {card: {regions: {data: {volume: {fills: {~depth: }}}}}}",
         "error board.feature\n"},
        {"features: {~depth: }", ""},
        {"features: [depht]", "error board.reference\n"},
        {"tree: {blobs: {~main: }, overlays: {~depth: }}, kernel: {config: {fragments: {~depth: "
         "}}}, "
         "boot: {entries: {main: {~tree: , arguments: {~depth: }}}}, "
         "layout: {card: {regions: {data: {volume: {fills: {~depth: }}}}}}",
         "warning board.feature\n"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char more[1000];
        snprintf(more, sizeof more, "variants: {v: {%s}}\n", cases[i].variant);
        char *w = workspace("feature", more);
        const char *got = findings(w, "curlew+v");
        if (strcmp(got, cases[i].expected) != 0)
            fprintf(stderr, "\n%s: %s", cases[i].variant, got);
        CU_ASSERT_STRING_EQUAL(got, cases[i].expected);
    }
}

/* A trait of others: on its own it raises no error, with a place of ours it does. */
static void what_is_not_ours_is_counted(void) {
    char *w = workspace("outside", "traits: [vendor/chip]\n");
    write_text(path_in(w, "traits/vendor/chip.yaml"),
               "mosaicum: 1\ntrait: vendor/chip\noutside: yes\n"
               "system: {host-name: under_score}\nbudgets: {b: {of: [kernel], limit: 1 B}}\n"
               "loader: {dialect: u-boot, environments: {main: {base: none, size: 1 KiB, values: "
               "{bootcmd: run "
               "bootcmd}}}}\n");
    CU_ASSERT_STRING_EQUAL(findings(w, ""), "error budget.exceeded\nnote board.outside\n");
    /* files that the workspace lists are not ours either */
    CU_ASSERT(
        runs(0,
             "mkdir '%s/vendor' && printf 'CONFIG_A=y\\nnonsense\\n' > '%s/vendor/v.config' && sed "
             "-i 's/^kernel: .*/kernel: {image: kernel, config: {start: start.config, fragments: "
             "{v: vendor\\/v.config}}}/; s/^traits.*//' '%s/boards/curlew.yaml'",
             w, w, w));
    CU_ASSERT_STRING_EQUAL(findings(w, ""), "note board.outside\n");
    CU_ASSERT(runs(0, "sed -i 's/^outside.*//' '%s/mosaicum.yaml'", w));
    CU_ASSERT_STRING_EQUAL(findings(w, ""), "error kernel.malformed\n");
}

static void budgets_are_kept(void) {
    char *w = workspace("budget", "budgets:\n  part: {of: [data], limit: 50%}\n"
                                  "  file: {of: [kernel], limit: 1 MiB, grow-note: 5%}\n");
    CU_ASSERT_STRING_EQUAL(findings(w, ""), "");
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    CU_ASSERT(runs(0, "cat '%s/Image' '%s/Image' > '%s/x' && mv '%s/x' '%s/Image'", w, w, w, w, w));
    CU_ASSERT_STRING_EQUAL(findings(w, ""), "note budget.grew\n");
    CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    CU_ASSERT_STRING_EQUAL(findings(w, ""), ""); /* the new build is as usual now */
    CU_ASSERT(runs(0, "sed -i 's/limit: 50%%/limit: 5%%/' '%s/boards/curlew.yaml'", w));
    CU_ASSERT_STRING_EQUAL(findings(w, ""), "error budget.exceeded\n");
    CU_ASSERT(runs(0, "'%s' --no-cache -w '%s' show budgets | grep -q '^part .*MiB'",
                   MOSAICUM_PROGRAM, w));
}

/* Lists replace, named things merge, ~ and a new value replace as a whole. */
static void parts_are_merged_by_name(void) {
    char *w = workspace("merged", "traits: [chip]\n");
    write_text(
        path_in(w, "traits/chip.yaml"),
        "mosaicum: 1\ntrait: chip\n"
        "boot: {entries: {main: {flags: [rw, quiet], arguments: {console: [ttyS0, tty0]}}}}\n"
        "tree: {includes: [inc]}\n"
        "variants: {loud: {axis: use, boot: {entries: {main: {flags: ro, arguments: {~console: , "
        "console: ttyS1}}}}}}\n");
    struct outcome o =
        run_shell("'%s' --no-cache -w '%s' show curlew boot; '%s' --no-cache -w '%s' show "
                  "curlew+loud boot",
                  MOSAICUM_PROGRAM, w, MOSAICUM_PROGRAM, w);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "console=ttyS0 console=tty0 depth=on"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, " rw quiet'"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "depth=on root=PARTUUID="));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, " console=ttyS1 ro'"));
    outcome_free(&o);
}

SUITE(parts_suite, {"features", features_are_checked_as_a_whole},
      {"what is not ours", what_is_not_ours_is_counted}, {"budgets", budgets_are_kept},
      {"merging", parts_are_merged_by_name});
