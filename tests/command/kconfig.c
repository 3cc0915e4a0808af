/* Configurations worked out over Kconfig files: the verb, probes from one run to the next, and what
 * a board's check makes of it. */
#include "support.h"

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
        {"resolve --source linux --start none -o out", "none", 3},
        {"resolve --source linux --fragment none -o out", "none", 3},
        {"resolve --source linux --var =x -o out", "--var is NAME=VALUE", 2},
        {"resolve --source linux --fragment wrong -o out", "kernel.malformed", 1},
        {"resolve --source linux --fragment fragment -o out", "Add CONFIG_NET=y: with it", 1},
        {"resolve --source linux -o fragment", "fragment is there already", 4},
        {"resolve --source chatty -o other", "tide is low", 0},
        {"resolve --source mixed -o another", "which stands between results", 3},
    };
    write_text(path_in(w, "chatty/Kconfig"), "$(info,tide is low)\nconfig A\n\tbool\n");
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
         "Add CONFIG_CLOCK=y: with it the request is kept."},
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

SUITE(kconfig_suite, {"symbols are explained", symbols_are_explained},
      {"probes are kept", probes_are_kept}, {"wrong calls are told", wrong_calls_are_told},
      {"boards are settled", boards_are_settled});
