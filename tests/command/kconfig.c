/* Configurations worked out over Kconfig files: the verb, probes from one run to the next, and what
 * a board's check makes of it. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

static const char kconfig[] = "mainmenu \"Tide gauge\"\n"
                              "config PROBED\n"
                              "\tdef_bool $(shell,echo ran >> \"$COUNT\"; echo y)\n"
                              "config NET\n\tbool \"Network\"\n"
                              "config RADIO\n\tbool \"Radio\"\n\tdepends on NET && PROBED\n";

static const char *make_tree(const char *name) {
    const char *w = test_folder(name);
    write_text(path_in(w, "linux/Kconfig"), kconfig);
    write_text(path_in(w, "start"), "CONFIG_NET=y\n");
    write_text(path_in(w, "fragment"), "CONFIG_RADIO=y\n");
    return w;
}

static size_t probes_run(const char *w) {
    size_t length = 0;
    char *text = read_whole(path_in(w, "count"), &length);
    free(text);
    return length / 4; /* "ran" and a line's end */
}

/* Probes run once, as long as nothing that they hang on has changed. */
static void probes_are_kept(void) {
    const char *w = make_tree("probes");
    static const struct {
        const char *options;
        size_t runs; /* so far */
        int status;
    } steps[] = {{"--no-run", 0, 2},
                 {"", 1, 0},
                 {"", 1, 0},
                 {"--no-run", 1, 0},
                 {"--var OTHER=1", 2, 0},
                 {"--no-cache", 3, 0},
                 {"--no-cache --no-run", 3, 2},
                 {"", 3, 0}};
    for (size_t i = 0; i < sizeof steps / sizeof *steps; i++) {
        struct outcome o = run_shell(
            "cd '%s' && rm -f out && XDG_CACHE_HOME='%s/cache' '%s' config resolve --source linux "
            "--start start --fragment fragment --var COUNT='%s/count' %s -o out",
            w, w, MOSAICUM_PROGRAM, w, steps[i].options);
        CU_ASSERT_EQUAL(o.status, steps[i].status);
        CU_ASSERT_EQUAL(probes_run(w), steps[i].runs);
        if (o.status != steps[i].status)
            fprintf(stderr, "%zu: %s%s", i, o.out, o.err);
        outcome_free(&o);
    }
    char *text = read_whole(path_in(w, "out"), NULL);
    CU_ASSERT_STRING_EQUAL(text, "#\n# Worked out by mosaicum\n# Tide gauge\n#\nCONFIG_PROBED=y\n"
                                 "CONFIG_NET=y\nCONFIG_RADIO=y\n");
    free(text);
}

struct call {
    const char *words, *says;
    int status;
};

static void run_calls(const char *w, const char *always, const struct call *calls, size_t count) {
    for (size_t i = 0; i < count; i++) {
        struct outcome o = run_shell("cd '%s' && '%s' --no-cache config %s %s", w, MOSAICUM_PROGRAM,
                                     calls[i].words, always);
        bool good = o.status == calls[i].status &&
                    (strstr(o.err, calls[i].says) || strstr(o.out, calls[i].says));
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%s: %d %s%s", calls[i].words, o.status, o.out, o.err);
        outcome_free(&o);
    }
}

static void wrong_calls_are_told(void) {
    const char *w = make_tree("calls");
    static const struct call calls[] = {
        {"resolve -o out", "Which sources?", 2},
        {"resolve --source linux", "It is used like this", 2},
        {"reslove --source linux -o out", "did you mean resolve?", 2},
        {"resolve --source nowhere -o out", "nowhere", 3},
        {"resolve --source linux --start none -o out", "There is no start none, here or in", 3},
        {"resolve --source linux --start gauge_defcnfig -o out", "did you mean gauge_defconfig?",
         3},
        {"resolve --source several -o out", "Which architecture?", 2},
        {"resolve --source several --arch tren -o out", "did you mean tern?", 2},
        {"resolve --source several --arch tern -o tern.out", "", 0},
        {"resolve --source linux --fragment none -o out", "none", 3},
        {"resolve --source linux --var =x -o out", "--var is NAME=VALUE", 2},
        {"resolve --source linux --fragment wrong -o out", "kernel.malformed", 1},
        {"resolve --source linux --fragment fragment -o out", "Add CONFIG_NET=y: with it", 1},
        {"resolve --source linux -o fragment", "fragment is there already", 4},
        {"resolve --source linux -o other --link-map fragment",
         "config resolve has no use for --link-map, which goes with: cost", 2},
        {"why NET --source linux --only-show", "config why has no use for --only-show", 2},
        {"why NET --source linux -o other", "config why has no use for --output", 2},
        {"resolve --source names --fragment lost -o names.out",
         "Write CONFIG_TIDE_GAUGE_I2C or CONFIG_TIDE_BUOY_I2C, if one of them is meant", 1},
        {"resolve --source names --fragment far -o far.out",
         "Remove the line, or correct the name.", 1},
        {"resolve --source names --fragment near -o near.out",
         "Write CONFIG_LAMP_OIL_SEA, if that is meant", 1},
        {"resolve --source plain --fragment module -o plain.out",
         "There are no modules, without CONFIG_MODULES, so it is built in.", 0},
        {"resolve --source bare --fragment module -o bare.out",
         "There are no modules in these sources, so it is built in.", 0},
        {"resolve --source chatty -o other", "tide is low", 0},
        {"resolve --source mixed -o another", "which stands between results", 3},
    };
    write_text(path_in(w, "chatty/Kconfig"), "$(info,tide is low)\nconfig A\n\tbool\n");
    write_text(path_in(w, "linux/configs/gauge_defconfig"), "CONFIG_NET=y\n");
    write_text(path_in(w, "several/Kconfig"), "source \"arch/Kconfig\"\n");
    write_text(path_in(w, "several/arch/Kconfig"), "source \"arch/$(SRCARCH)/Kconfig\"\n");
    write_text(path_in(w, "several/arch/tern/Kconfig"), "config NET\n\tbool \"Net\"\n");
    write_text(path_in(w, "names/Kconfig"),
               "config TIDE_GAUGE_SEA_I2C\n\tbool\nconfig TIDE_GAUGE_I2C\n\tbool\nconfig "
               "LAMP_OIL_SEA\n\tbool\nconfig I2C_TIDE\n\tbool\nconfig TIDE_BUOY_I2C\n\tbool\n"
               "config BUOY_A_B_C_OIL\n\tbool\nconfig LAMP_A_B_C_SEA\n\tbool\n");
    write_text(path_in(w, "lost"), "CONFIG_TIDE_I2C=y\n");
    write_text(path_in(w, "far"), "CONFIG_BUOY_OIL=y\n");
    write_text(path_in(w, "near"), "CONFIG_LAMP_SEA=y\n");
    write_text(path_in(w, "plain/Kconfig"), "config MODULES\n\tbool \"m\"\n\tmodules\nconfig "
                                            "RADIO\n\ttristate \"Radio\"\n");
    write_text(path_in(w, "bare/Kconfig"), "config RADIO\n\ttristate \"Radio\"\n");
    write_text(path_in(w, "module"), "CONFIG_RADIO=m\n");
    write_text(path_in(w, "mixed/Kconfig"),
               "config A\n\tstring\n\tdefault \"$(shell,printf 'a\\036b')\"\n");
    write_text(path_in(w, "wrong"), "CONFIG_NET = y\n");
    run_calls(w, "--var COUNT=/dev/null", calls, sizeof calls / sizeof *calls);
}

/* What the sources make of a request is what all rules see; a change of a Kconfig file is seen. */
static void boards_are_settled(void) {
    const char *w = test_folder("settled");
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/kernel.dropped/passes"), w);
    static const struct {
        const char *change, *says; /* NULL: nothing to complain about */
    } steps[] = {
        {"true", NULL},
        {"sed -i 's/depends on NET/depends on NET \\&\\& CLOCK/' linux/Kconfig",
         "Add CONFIG_CLOCK=y: with it the request is kept (3 symbols change, 3 "
         "become built in)."},
        {"sed -i 's/NET && CLOCK/NET \\&\\& TIMER/' linux/Kconfig", "Add CONFIG_TIMER=y"},
        {"sed -i 's/bool \"Timer\"/bool/' linux/Kconfig", "Add CONFIG_CLOCK=y"},
        {"sed -i 's/select TIMER//' linux/Kconfig",
         "Remove the line: nothing in these sources switches TIMER on."},
        {"echo 'bool \"x' >> linux/Kconfig", NULL}, /* it is not proved then */
        {"rm linux/Kconfig", NULL},
    };
    for (size_t i = 0; i < sizeof steps / sizeof *steps; i++) {
        struct outcome o = run_shell("cd '%s' && %s && XDG_CACHE_HOME='%s/cache' '%s' check -v", w,
                                     steps[i].change, w, MOSAICUM_PROGRAM);
        bool good = steps[i].says ? o.status == 1 && strstr(o.out, steps[i].says)
                                  : o.status == 0 && !strstr(o.out, "kernel.dropped");
        if (strstr(steps[i].change, "bool \"x"))
            good &= strstr(o.out, "not proved: what the kernel makes of its configuration: "
                                  "linux/Kconfig:") != NULL;
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%zu: %s%s", i, o.out, o.err);
        outcome_free(&o);
    }
}

static void symbols_are_explained(void) {
    static const struct call calls[] = {
        {"why RADIO", "asked for   by nobody", 0},
        {"why CONFIG_RADIO --start start --fragment fragment", "asked for   y", 0},
        {"why RADIO", "n: NET (n) && PROBED (y)", 0},
        {"why PROBED", "none: nobody can ask for it", 0},
        {"why RADO", "These sources have no symbol RADO; did you mean RADIO?", 2},
        {"why", "It is used like this: mosaicum config why SYMBOL", 2},
        {"search net", "1 symbol", 0},
        {"search tide", "No symbol has tide in its name or prompt.", 0},
    };
    run_calls(make_tree("why"), "--source linux --var COUNT=/dev/null", calls,
              sizeof calls / sizeof *calls);
}

/* ---- a board's configuration ---- */

/* Each step in the workspace that the ones before have left. */
static void fragments_are_changed(void) {
    const char *w = test_folder("ask");
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/kernel.dropped/fails"), w);
    write_text(path_in(w, "wrong"), "CONFIG_NET = y\n");
    static const struct step {
        const char *words;
        int status;
        const char *says[3];
        const char *fragment; /* what the file is then */
    } steps[] = {
        {"ask RADIO=m curlew", 2, {"Into which fragment?  --fragment gauge"}, "CONFIG_RADIO=y\n"},
        {"ask RADIO=m curlew --fragment tide", 2, {"--fragment gauge"}, "CONFIG_RADIO=y\n"},
        {"ask RADIO curlew --fragment gauge", 2, {"is no SYMBOL=VALUE"}, "CONFIG_RADIO=y\n"},
        {"ask RADO=y curlew --fragment gauge", 2, {"did you mean RADIO?"}, "CONFIG_RADIO=y\n"},
        {"ask TICKS=5000 curlew --fragment gauge",
         2,
         {"CONFIG_TICKS cannot come to 5000: it is beyond its range"},
         "CONFIG_RADIO=y\n"},
        {"ask RADIO=m curlew --fragment gauge --source linux",
         2,
         {"name the board, not --source"},
         "CONFIG_RADIO=y\n"},
        {"ask RADIO=m curlew --fragment gauge --only-show",
         0,
         {"    1 - CONFIG_RADIO=y\n      + CONFIG_RADIO=m\n      + CONFIG_MODULES=y\n      + "
          "CONFIG_NET=y\n",
          "3 symbols change, 2 become built in, 1 becomes a module"},
         "CONFIG_RADIO=y\n"},
        {"ask RADIO=m curlew --fragment gauge",
         0,
         {"3 symbols change"},
         "CONFIG_RADIO=m\nCONFIG_MODULES=y\nCONFIG_NET=y\n"},
        {"ask NET=y RADIO=m curlew --fragment gauge",
         0,
         {"kernel/gauge.config has it already: nothing to change."},
         "CONFIG_RADIO=m\nCONFIG_MODULES=y\nCONFIG_NET=y\n"},
        {"ask TICKS=300 CLOCK=y curlew --fragment gauge",
         0,
         {"TICKS   250     300", "TIMER   n       y"},
         "CONFIG_RADIO=m\nCONFIG_MODULES=y\nCONFIG_NET=y\nCONFIG_TICKS=300\nCONFIG_CLOCK=y\n"},
        {"ask TIMER=n curlew --fragment gauge", 2, {"cannot come to n: CLOCK selects it"}},
        {"ask CLOCK=n curlew --fragment gauge",
         0,
         {"    5 - CONFIG_CLOCK=y\n      + # CONFIG_CLOCK is not set"},
         "CONFIG_RADIO=m\nCONFIG_MODULES=y\nCONFIG_NET=y\nCONFIG_TICKS=300\n# CONFIG_CLOCK is not "
         "set\n"},
        {"why RADIO curlew", 0, {"asked for   m", "for y       CONFIG_RADIO=y"}},
        {"cost curlew", 0, {"CONFIG_NET=y", "RADIO=m"}},
        {"minimal curlew -o least", 0, {"4 settings give all 6 symbols"}},
        {"resolve --source linux --fragment least -o a", 0, {""}},
        {"resolve curlew -o b", 0, {""}},
        {"compare a b", 0, {"0 symbols differ"}},
        {"compare kernel/gauge.config kernel/start.config",
         1,
         {"4 symbols differ; 1 more is off in one and not named in the other",
          "CONFIG_TICKS    300                  not there"}},
        {"merge --fragment kernel/gauge.config --fragment least -o c", 0, {""}},
        {"compare kernel/gauge.config c", 0, {"0 symbols differ"}},
        {"search '/^ra.*o$/' curlew", 0, {"1 symbol\n", "Radio of the tide gauge"}},
        {"search '/(/' curlew", 2, {"/(/ is no pattern"}},
        {"why RADIO tern", 2, {"tern"}},
        {"compare kernel/gauge.config wrong", 1, {"kernel.malformed"}},
    };
    for (size_t i = 0; i < sizeof steps / sizeof *steps; i++) {
        struct outcome o =
            run_shell("cd '%s' && '%s' config %s", w, MOSAICUM_PROGRAM, steps[i].words);
        char *text = read_whole(path_in(w, "kernel/gauge.config"), NULL);
        bool good = o.status == steps[i].status;
        for (size_t k = 0; k < 3 && steps[i].says[k]; k++)
            good &= strstr(o.out, steps[i].says[k]) || strstr(o.err, steps[i].says[k]);
        good &= !steps[i].fragment || strcmp(text, steps[i].fragment) == 0;
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%s: %d\n%s%s%s", steps[i].words, o.status, o.out, o.err, text);
        free(text);
        outcome_free(&o);
    }
}

/* What cannot be read whole, or is not the user's, is neither settled nor changed. */
static void what_is_not_whole_is_not_settled(void) {
    static const struct {
        const char *change, *words, *says;
        int status;
    } steps[] = {
        {"echo CONFIG_NET=n >> kernel/gauge.config", "why NET curlew", "asked for  n", 0},
        {"echo CONFIG_NET = y >> kernel/gauge.config", "why NET curlew", "kernel.malformed", 1},
        {"true", "resolve curlew -o out", "kernel.malformed", 1},
        {"true", "ask NET=y curlew --fragment gauge", "kernel.malformed", 1},
        {"rm kernel/gauge.config", "why NET curlew", "piece.missing", 1},
        {"echo CONFIG_CLOCK=y > kernel/gauge.config && echo 'outside: [kernel/gauge.config]' >> "
         "mosaicum.yaml",
         "ask NET=y curlew --fragment gauge", "is said to be from outside: it is not changed", 4},
    };
    const char *w = test_folder("whole");
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/kernel.dropped/passes"), w);
    for (size_t i = 0; i < sizeof steps / sizeof *steps; i++) {
        struct outcome o = run_shell(
            "cd '%s' && %s && cp -f kernel/gauge.config was; '%s' config %s; s=$?; cmp -s "
            "was kernel/gauge.config || ! test -e kernel/gauge.config || exit 9; test -e "
            "out && exit 8; exit $s",
            w, steps[i].change, MOSAICUM_PROGRAM, steps[i].words);
        bool good = o.status == steps[i].status &&
                    (strstr(o.out, steps[i].says) || strstr(o.err, steps[i].says));
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%zu: %d\n%s%s", i, o.status, o.out, o.err);
        outcome_free(&o);
    }
}

/* What the same fragment has asked for, and what cannot hold beside it, gives in. */
static void earlier_wishes_give_in(void) {
    const char *w = test_folder("give-in");
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/kernel.dropped/passes"), w);
    write_text(path_in(w, "linux/Kconfig"),
               "choice\n\tprompt \"Speed\"\nconfig SLOW\n\tbool \"slow\"\nconfig FAST\n\tbool "
               "\"fast\"\nconfig OTHER\n\tbool \"other\"\nendchoice\nconfig LAMP\n\tbool "
               "\"Lamp\"\n\tdepends on FAST\n");
    write_text(path_in(w, "kernel/gauge.config"), "CONFIG_FAST=y\n");
    write_text(path_in(w, "kernel/last.config"), "CONFIG_LAMP=y\n");
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && sed -i 's,{gauge: kernel/gauge.config},{gauge: "
                        "kernel/gauge.config\\, last: kernel/last.config},' boards/curlew.yaml",
                        w));
    struct outcome o = run_shell("cd '%s' && '%s' config ask OTHER=y curlew --fragment gauge", w,
                                 MOSAICUM_PROGRAM);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "    1 - CONFIG_FAST=y\n      + # CONFIG_FAST is not set\n"
                                         "      + CONFIG_OTHER=y\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "CONFIG_LAMP=y of kernel/last.config would come to n.\n"));
    char *text = read_whole(path_in(w, "kernel/gauge.config"), NULL);
    CU_ASSERT_STRING_EQUAL(text, "# CONFIG_FAST is not set\nCONFIG_OTHER=y\n");
    free(text);
    outcome_free(&o);
}

/* Another fragment says otherwise: nothing is written that would not hold. */
static void later_fragments_win(void) {
    const char *w = test_folder("later");
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/kernel.dropped/passes"), w);
    write_text(path_in(w, "kernel/last.config"), "# CONFIG_CLOCK is not set\n");
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && sed -i 's,{gauge: kernel/gauge.config},{gauge: "
                        "kernel/gauge.config\\, last: kernel/last.config},' boards/curlew.yaml",
                        w));
    struct outcome o = run_shell("cd '%s' && cp kernel/gauge.config was && '%s' config ask CLOCK=y "
                                 "curlew --fragment gauge; s=$?; cmp was kernel/gauge.config && "
                                 "exit $s",
                                 w, MOSAICUM_PROGRAM);
    CU_ASSERT_EQUAL(o.status, 2);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "CLOCK=y would need CONFIG_CLOCK=y, and "
                                         "kernel/last.config says CONFIG_CLOCK=n: change it "
                                         "there (--fragment last)"));
    if (o.status != 2)
        fprintf(stderr, "%s%s", o.out, o.err);
    outcome_free(&o);
    /* an earlier one does not agree either, unless that is said */
    static const char *const ways[][2] = {
        {"true", "change it there (--fragment gauge)"},
        {"sed -i 's,last: kernel/last.config,last: {file: kernel/last.config\\, contradicts: "
         "gauge},' boards/curlew.yaml",
         "      + # CONFIG_CLOCK is not set"}};
    for (size_t i = 0; i < 2; i++) {
        o = run_shell("cd '%s' && echo CONFIG_CLOCK=y > kernel/gauge.config && : > "
                      "kernel/last.config && %s && '%s' config ask CLOCK=n curlew --fragment last",
                      w, ways[i][0], MOSAICUM_PROGRAM);
        CU_ASSERT_EQUAL(o.status, i ? 0 : 2);
        CU_ASSERT_TRUE(strstr(o.err, ways[i][1]) || strstr(o.out, ways[i][1]));
        if (o.status != (i ? 0 : 2))
            fprintf(stderr, "%s%s", o.out, o.err);
        outcome_free(&o);
    }
}

/* A loader's sources settle its configuration, and the loader's rules see the result. */
static void loaders_are_settled(void) {
    const char *w = test_folder("loader");
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/tree.not-fitted/passes"), w);
    write_text(path_in(w, "loader/Kconfig"),
               "config CMD_BOOTI\n\tbool \"Start images\"\n\tdepends on CMDLINE\n"
               "config CMDLINE\n\tbool \"Command line\"\nconfig CMD_SOURCE\n\tbool \"Scripts\"\n"
               "\tdefault y\n");
    write_text(path_in(w, "loader.config"), "CONFIG_CMD_BOOTI=y\n");
    static const struct {
        const char *change, *says, *silent; /* NULL: anything */
    } steps[] = {
        {"true", "CONFIG_CMD_BOOTI=y is asked for, and comes to n.", NULL},
        {"true", "Add CONFIG_CMDLINE=y: with it the request is kept", NULL},
        {"true", "loader.command-missing",
         NULL}, /* its rules see that it cannot start the kernel */
        {"echo CONFIG_CMDLINE=y >> loader.config", "Nothing to complain about", "CONFIG_CMD_BOOTI"},
        {"echo CONFIG_CMD_BOTI=y >> loader.config", "These sources have no CONFIG_CMD_BOTI.", NULL},
        {"sed -i /BOTI/d loader.config && rm loader/Kconfig",
         "not proved: what the loader makes of its configuration: there is no Kconfig in loader",
         NULL},
    };
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && sed -i 's/  dialect: u-boot/  dialect: u-boot\\n  source: "
             "loader\\n  config: {fragments: {ours: loader.config}}/' boards/curlew.yaml",
             w));
    for (size_t i = 0; i < sizeof steps / sizeof *steps; i++) {
        struct outcome o = run_shell("cd '%s' && %s && '%s' --no-cache check -v", w,
                                     steps[i].change, MOSAICUM_PROGRAM);
        bool good =
            strstr(o.out, steps[i].says) && (!steps[i].silent || !strstr(o.out, steps[i].silent));
        CU_ASSERT_TRUE(good);
        if (!good)
            fprintf(stderr, "%zu: %s%s", i, o.out, o.err);
        outcome_free(&o);
    }
}

/* All verbs know the loader of a board, too; and who else has a fragment is told. */
static void loaders_are_asked(void) {
    const char *w = test_folder("loader-ask");
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/tree.not-fitted/passes"), w);
    write_text(path_in(w, "loader/Kconfig"),
               "config CMD_BOOTI\n\tbool \"Start images\"\n\tdepends on CMDLINE\n"
               "config CMDLINE\n\tbool \"Command line\"\nconfig CMD_SOURCE\n\tbool \"Scripts\"\n"
               "\tdefault y\n");
    write_text(path_in(w, "loader/Makefile"), "obj-$(CONFIG_CMD_BOOTI) += booti.o\n");
    write_text(path_in(w, "loader.config"), "CONFIG_CMD_SOURCE=y\n");
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && sed -i 's/  dialect: u-boot/  dialect: u-boot\\n  source: "
             "loader\\n  config: {fragments: {ours: loader.config}}/' boards/curlew.yaml && sed "
             "'s/board: curlew/board: dunlin/' boards/curlew.yaml > boards/dunlin.yaml",
             w));
    write_text(path_in(w, "boards/wreck.yaml"), "mosaicum: 1\nboard: wreck\nharbour: none\n");
    static const struct call calls[] = {
        {"ask CMD_BOOTI=y curlew --of-loader --fragment gauge", "--fragment ours", 2},
        {"ask CMD_BOOTI=y curlew --fragment ours",
         "The configuration of curlew is not settled: its kernel names no source:", 2},
        {"ask CMD_BOOTI=y curlew --of-loader --fragment ours --only-show", "CMDLINE    n       y",
         0},
        {"ask CMD_BOOTI=y curlew --of-loader --fragment ours",
         "loader.config is also part of dunlin: mosaicum check tells", 0},
        {"ask CMD_SOURCE=n curlew --of-loader --fragment ours --only-show",
         "Not every board of this workspace can be read; more may share it.", 0},
        {"why CMD_BOOTI dunlin --of-loader", "booti.o", 0},
        {"minimal curlew --of-loader -o least", "2 settings give all 3 symbols", 0},
        {"resolve curlew --of-loader -o whole", "", 0},
        {"why CMD_BOOTI --source loader --of-loader", "--of-loader goes with the name of a board",
         2},
        {"why CMD_BOOTI curlew --of-loader --start least",
         "--start goes with --source; curlew says its own", 2},
        {"why CMD_BOOTI curlew --fragment least", "--fragment goes with --source", 2},
    };
    run_calls(w, "", calls, sizeof calls / sizeof *calls);
    CU_ASSERT_TRUE(runs(0, "cd '%s' && grep -qx CONFIG_CMDLINE=y least whole", w));
    CU_ASSERT_TRUE(runs(0, "cd '%s' && grep -qx CONFIG_CMDLINE=y loader.config", w));
}

/* What the sources settle lies beside the images, as they would write it themselves. */
static void settled_ones_are_built(void) {
    const char *w = test_folder("built");
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/tree.not-fitted/passes"), w);
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && cp -r '%s/tests/rules/kernel.dropped/passes/linux' . && cp "
                        "'%s/tests/rules/kernel.dropped/passes/kernel/gauge.config' . && sed -i "
                        "'s/  dialect: u-boot/  dialect: u-boot\\n  source: linux\\n  config: "
                        "{fragments: {its: gauge.config}}/; s/^tree:/kernel: {source: linux, "
                        "config: {fragments: {ours: gauge.config}}}\\ntree:/; s/kernel: kernel, "
                        "flags/flags/; s/^boot:/boot:/' boards/curlew.yaml && sed -i 's/kernel: "
                        "{source/kernel: {image: kernel, source/' boards/curlew.yaml && '%s' -q "
                        "build; '%s' -q config resolve curlew -o k && cmp k "
                        "out/curlew/kernel.config && cmp k out/curlew/loader.config",
                        w, MOSAICUM_SOURCE, MOSAICUM_SOURCE, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
}

/* What a symbol builds, as the build files say. */
static void symbols_say_what_they_build(void) {
    const char *w = make_tree("builds");
    write_text(path_in(w, "linux/drivers/Makefile"), "obj-$(CONFIG_RADIO) += radio.o\n");
    static const struct call calls[] = {
        {"why RADIO --start start --fragment fragment", "builds      drivers/radio.o", 0}};
    run_calls(w, "--source linux --var COUNT=/dev/null", calls, 1);
}

/* Bytes of a built kernel: what is not known is no zero, and a strange map is told. */
static void settings_are_weighed(void) {
    const char *w = test_folder("weighed");
    write_text(path_in(w, "linux/Kconfig"),
               "config MODULES\n\tdef_bool y\n\tmodules\nconfig NET\n\tbool \"Network\"\n"
               "config RADIO\n\ttristate \"Radio\"\n\tdepends on NET\nconfig MAST\n\tbool "
               "\"Mast\"\nconfig BUOY\n\ttristate \"Buoy\"\n");
    write_text(path_in(w, "linux/Makefile"), "core-y := sea/\n");
    write_text(path_in(w, "linux/sea/Makefile"),
               "obj-y += always.o\nobj-$(CONFIG_NET) += net.o\nnet-y := one.o two.o\n"
               "obj-$(CONFIG_RADIO) += radio.o\nobj-$(CONFIG_MAST) += mast.o lamp.o\n"
               "obj-$(CONFIG_BUOY) += buoy.o\n");
    write_text(path_in(w, "map"), ".text           0x0000000000010000     0x9000\n"
                                  " .text          0x0000000000010000     0x1000 sea/always.o\n"
                                  " .text          0x0000000000011000     0x2000 sea/one.o\n"
                                  " .bss           0x0000000000018000     0x0800 sea/one.o\n"
                                  " .text          0x0000000000013000     0x0800 sea/two.o\n"
                                  " .text          0x0000000000014000     0x0400 sea/mast.o\n"
                                  " .text          0x0000000000015000     0x0040 sea/kelp.o\n");
    write_text(path_in(w, "fragment"),
               "CONFIG_NET=y\nCONFIG_RADIO=m\nCONFIG_MAST=y\nCONFIG_BUOY=m\n");
    write_text(path_in(w, "modules/kernel/sea/radio.ko"), "0123456789");
    static const struct call calls[] = {
        {"--fragment fragment --link-map map --modules modules",
         "CONFIG_NET=y          2         1        1      10.0 KiB      12.0 KiB      10 bytes", 0},
        {"--fragment fragment --link-map map --modules modules",
         "CONFIG_RADIO=m        1         0        1       0 bytes       0 bytes      10 bytes", 0},
        {"--fragment fragment --link-map map --modules modules", "over 1.0 KiB", 0},
        {"--fragment fragment --link-map map --modules modules", "not known", 0},
        {"--fragment fragment --link-map map --modules modules",
         "The map has 15.1 KiB in 5 objects; 1 of them (64 bytes) stands in no build file", 0},
        {"--fragment fragment --link-map map",
         "1 object is built in and not in the map (sea/lamp.o)", 0},
        {"--fragment fragment --modules modules", "1 module is not in that folder (sea/buoy.o)", 0},
        {"--link-map map",
         "3 objects of the map are not built by this configuration (sea/one.o, sea/two.o, "
         "sea/mast.o): is it this kernel's map?",
         0},
        {"--fragment fragment --link-map fragment", "fragment is no map of a linker", 2},
        {"--fragment fragment --modules nowhere", "nowhere", 3},
    };
    run_calls(w, "cost --source linux", calls, sizeof calls / sizeof *calls);
}

SUITE(kconfig_suite, {"what is not whole is not settled", what_is_not_whole_is_not_settled},
      {"fragments are changed", fragments_are_changed},
      {"later fragments win", later_fragments_win},
      {"earlier wishes give in", earlier_wishes_give_in},
      {"loaders are settled", loaders_are_settled}, {"loaders are asked", loaders_are_asked},
      {"settings are weighed", settings_are_weighed},
      {"settled ones are built", settled_ones_are_built},
      {"symbols say what they build", symbols_say_what_they_build},
      {"symbols are explained", symbols_are_explained}, {"probes are kept", probes_are_kept},
      {"wrong calls are told", wrong_calls_are_told}, {"boards are settled", boards_are_settled});
