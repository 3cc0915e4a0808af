/* The built program on files in a folder of its own. */
#include "support.h"

#include "mosaicum/mosaicum.h"

#include <stdlib.h>
#include <string.h>

static const char *demo(void) {
    return path_in(MOSAICUM_SOURCE, "demo/saltmarsh");
}

static void statuses_say_what_happened(void) {
    static const struct {
        int status;
        const char *arguments, *on_stderr;
    } cases[] = {
        {2, "", "Use: mosaicum"},
        {0, "--help", ""},
        {0, "--version", ""},
        {2, "chekc", "no command chekc; did you mean check?"},
        {2, "help biuld", "did you mean build?"},
        {2, "explain layuot", "did you mean layout?"},
        {2, "explain region.att", "no rule, family or key region.att"},
        {2, "help a b", "used like this"},
        {0, "help build", ""},
        {0, "explain region.at", ""},
        {0, "help status", ""},
        {0, "help retired | grep -q ^status", ""},
        {0, "help legacy | grep -q ^as", ""},
        {2, "help complete", "no rule, family or key complete"},
        {0, "complete", ""},
        {0, "complete --help", ""},
        {0, "complete -- nosuch '' --", ""},
        {2, "show", "used like this"},
        {2, "check --colour", "unknown option: --colour; did you mean --color?"},
        {2, "build --out", "missing"},
        {2, "--color sometimes check", "auto, always or never"},
        {2, "-w /nowhere check", "Cannot open"},
        {2, "explain layout.overlp", "did you mean layout.overlap?"},
        {0, "explain", ""},
        {0, "explain layout.overlap", ""},
        {2, "inspect /nowhere", "Cannot open"},
        {2, "inspect /", "is a folder"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct outcome o = run_shell("'%s' %s", MOSAICUM_PROGRAM, cases[i].arguments);
        if (o.status != cases[i].status || !strstr(o.err, cases[i].on_stderr)) {
            fprintf(stderr, "\n%s: status %d: %s\n", cases[i].arguments, o.status, o.err);
            CU_FAIL("status or message");
        }
        outcome_free(&o);
    }
    struct outcome o = run_shell("'%s' -w '%s' check curlwe", MOSAICUM_PROGRAM, demo());
    CU_ASSERT_EQUAL(o.status, 2);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "did you mean curlew?"));
    outcome_free(&o);
}

/* Every command tells itself, with examples that the program takes; every rule has a family that is
 * listed, every word of a definition is found. */
static void help_is_whole(void) {
    const char *folder = keep(test_folder("examples"));
    struct outcome all = run_shell("'%s' --help", MOSAICUM_PROGRAM);
    size_t commands = 0, rules = 0, families = 0;
    char *next, *line = strtok_r(strstr(all.out, "Commands:\n") + 10, "\n", &next);
    for (; line && strncmp(line, "  ", 2) == 0; line = strtok_r(NULL, "\n", &next), commands++) {
        char name[40];
        sscanf(line, "%39s", name);
        struct outcome o = run_shell("'%s' %s --help", MOSAICUM_PROGRAM, name),
                       same = run_shell("'%s' help %s", MOSAICUM_PROGRAM, name);
        CU_ASSERT(o.status == 0 && same.status == 0 && strcmp(o.out, same.out) == 0);
        const char *example = strstr(o.out, "\nExamples:\n");
        CU_ASSERT_PTR_NOT_NULL_FATAL(example);
        size_t examples = 0, lines = 0;
        for (const char *p = o.out; (p = strchr(p, '\n')); p++)
            lines++;
        for (example += 11; *example; example += strcspn(example, "\n") + 1, examples++) {
            struct outcome e = run_shell(
                "cd '%s' && timeout --foreground -s INT 1 '%s' -w nowhere %.*s </dev/null", folder,
                MOSAICUM_PROGRAM, (int)strcspn(example, "\n") - 11, example + 11);
            bool good = strncmp(example, "  mosaicum ", 11) == 0 &&
                        !strstr(e.err, "unknown option") && !strstr(e.err, "is no option") &&
                        !strstr(e.err, "used like this") && !strstr(e.err, "no command");
            if (!good)
                fprintf(stderr, "\n%s: %s", name, e.err);
            CU_ASSERT(good);
            outcome_free(&e);
        }
        CU_ASSERT(examples && lines < 40);
        outcome_free(&o);
        outcome_free(&same);
    }
    CU_ASSERT_EQUAL(commands, 23);
    outcome_free(&all);
    struct outcome o = run_shell("cd '%s' && '%s' explain", test_folder("help"), MOSAICUM_PROGRAM);
    size_t told = strtoul(o.out, NULL, 10);
    for (line = strtok_r(strchr(o.out, '\n') + 2, "\n", &next); line; families++) {
        char name[40];
        size_t count, seen = 0;
        CU_ASSERT_EQUAL(sscanf(line, "%39s %zu", name, &count), 2);
        struct outcome family = run_shell("'%s' explain %s", MOSAICUM_PROGRAM, name);
        for (const char *p = family.out; p; p = strchr(p, '\n') ? strchr(p, '\n') + 1 : NULL)
            seen += strncmp(p, name, strlen(name)) == 0 && p[strlen(name)] == '.';
        CU_ASSERT_EQUAL(seen, count);
        rules += count;
        outcome_free(&family);
        line = strtok_r(NULL, "\n", &next);
    }
    CU_ASSERT(told == rules && families >= 14);
    outcome_free(&o);
}

/* A page for each command, with each of its options; what the shells are offered are just these. */
static void pages_and_shells_know_the_same(void) {
    struct outcome all = run_shell("'%s' complete -- ''", MOSAICUM_PROGRAM);
    size_t commands = 0, options = 0;
    char *next, *more;
    for (char *name = strtok_r(all.out, "\n", &next); name;
         name = strtok_r(NULL, "\n", &next), commands++) {
        struct outcome told = run_shell("'%s' complete -- %s --", MOSAICUM_PROGRAM, name);
        CU_ASSERT_EQUAL(told.status, 0);
        char *page = read_whole(path_in(MOSAICUM_BUILD, "man/man1/mosaicum-%s.1", name), NULL);
        CU_ASSERT_PTR_NOT_NULL_FATAL(page);
        struct outcome own = run_shell("'%s' help %s | sed -n '/^Options/,/^Examples/p' | grep -o "
                                       "'^ .*--[a-z0-9-]*' | grep -o -- '[a-z0-9-]*$'",
                                       MOSAICUM_PROGRAM, name);
        for (char *o = strtok_r(own.out, "\n", &more); o;
             o = strtok_r(NULL, "\n", &more), options++) {
            char said[80], *to = said + sprintf(said, "\\fB");
            for (const char *p = o; *p; p++)
                to += sprintf(to, *p == '-' ? "\\-" : "%c", *p);
            sprintf(to, "\\fR");
            CU_ASSERT_PTR_NOT_NULL(strstr(page, said));
            char line[80];
            snprintf(line, sizeof line, "%s\n", o);
            CU_ASSERT_PTR_NOT_NULL(strstr(told.out, line));
        }
        free(page);
        outcome_free(&told);
        outcome_free(&own);
    }
    CU_ASSERT(commands == 23 && options > 30);
    outcome_free(&all);
    char *keys = read_whole(path_in(MOSAICUM_BUILD, "man/man5/mosaicum-definition.5"), NULL);
    CU_ASSERT(keys && strstr(keys, "\\fBcorrection\\fR") && strstr(keys, ".SH region\n"));
    free(keys);
}

/* Words for the shells, and the keys of a real one pressed. */
static void shells_complete(void) {
    static const struct {
        const char *words;
        int status;
        const char *offered; /* "|"-separated, among them */
    } lines[] = {{"b", 0, "build"},
                 {"build curl", 0, "curlew|curlew+bench"},
                 {"show curlew lay", 0, "layout"},
                 {"show dun", 0, "dunlin"},
                 {"inspect x", 1, NULL},
                 {"take out/curlew/card.img b", 0, "boot"},
                 {"take out/curlew/card.img root:etc/host", 0, "root:etc/hostname"},
                 {"take out/curlew/card.img 2:et", 0, "2:etc/"},
                 {"amend out/curlew/card.img boot:k", 0, "boot:kernel"},
                 {"explain layout.overl", 0, "layout.overlap"},
                 {"--color al", 0, "always"},
                 {"build --out ", 1, NULL},
                 {"nosuch x", 0, NULL},
                 {"take nowhere.img r", 0, NULL},
                 {"rehearse d", 1, "dunlin"},
                 {"-w .. build curl", 0, NULL}};
    const char *w = keep(test_folder("shells"));
    copy_folder(demo(), w);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && '%s' --no-cache -q build curlew && mkdir bin && ln -s '%s' "
             "bin/mosaicum",
             w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++) {
        const char *end = strrchr(lines[i].words, ' ');
        struct outcome o = run_shell("cd '%s' && bin/mosaicum complete -- %s%s", w, lines[i].words,
                                     end && !end[1] ? " ''" : "");
        bool good = o.status == lines[i].status && (lines[i].offered || !*o.out);
        for (const char *p = lines[i].offered; p && *p;
             p += strcspn(p, "|") + (p[strcspn(p, "|")] != 0)) {
            char word[80];
            snprintf(word, sizeof word, "%.*s\n", (int)strcspn(p, "|"), p);
            good &= strstr(o.out, word) != NULL;
        }
        if (!good)
            fprintf(stderr, "\n%s: status %d\n%s%s", lines[i].words, o.status, o.out, o.err);
        CU_ASSERT(good);
        outcome_free(&o);
    }
    struct outcome o =
        run_shell("cd '%s' && printf 'source \"%s/share/completion/mosaicum.bash\"\\nmosaicum "
                  "expl\\tlayout.overl\\t"
                  "\\nmosaicum take out/curlew/card.img root:etc/hostn\\t -o -\\nmosaicum "
                  "bui\\tdunl\\t-q --out "
                  "o\\nexit\\n' | PATH=\"$PWD/bin:$PATH\" INPUTRC=/dev/null script -qec 'bash "
                  "--norc --noprofile -i' "
                  "/dev/null",
                  w, MOSAICUM_SOURCE);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "two regions share bytes of a medium"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\rcurlew\r\n"));
    outcome_free(&o);
}

/* Without white space and colours. */
static char *squeezed(const char *text) {
    char *out = malloc(strlen(text) + 1), *to = out;
    for (; *text; text++) {
        if (*text == '\033')
            text += strcspn(text, "mhlK");
        else if (!strchr(" \t\r\n", *text))
            *to++ = *text;
    }
    *to = 0;
    return out;
}

/* However narrow a terminal is, every word of a table is on it, and no line is longer than it. */
static void nothing_is_cut(void) {
    static const char *const commands[] = {"list",
                                           "show curlew layout",
                                           "show curlew ram",
                                           "inspect out/curlew/card.img --files",
                                           "build curlew",
                                           "rehearse curlew",
                                           "rehearse curlew --faults"};
    static const unsigned widths[] = {40, 57, 80, 100, 130, 160, 250};
    const char *w = keep(test_folder("narrow"));
    copy_folder(demo(), w);
    CU_ASSERT_TRUE_FATAL(
        runs(0, "cd '%s' && '%s' -q build curlew >/dev/null", w, MOSAICUM_PROGRAM));
    for (size_t c = 0; c < sizeof commands / sizeof *commands; c++) {
        struct outcome wide = run_shell("cd '%s' && '%s' %s", w, MOSAICUM_PROGRAM, commands[c]);
        for (size_t i = 0; i < sizeof widths / sizeof *widths; i++) {
            struct outcome o =
                run_shell("cd '%s' && LC_ALL=C.UTF-8 script -qec \"stty cols %u rows 40; "
                          "'%s' %s\" /dev/null </dev/null",
                          w, widths[i], MOSAICUM_PROGRAM, commands[c]);
            char *all = squeezed(o.out), *copy = strdup(wide.out), *next, *more;
            for (char *word = strtok_r(copy, " \n", &next); word;
                 word = strtok_r(NULL, " \n", &next)) {
                bool there = strstr(all, word) != NULL || strstr(all, "(notshownatthiswidth:") ||
                             strspn(word, "\xc2\xb7\xe2\x96\x88\x8c\x90#.") == strlen(word);
                if (!there)
                    fprintf(stderr, "\n%s, %u columns: %s is not there\n", commands[c], widths[i],
                            word);
                CU_ASSERT(there);
            }
            for (char *line = strtok_r(o.out, "\r\n", &more); line;
                 line = strtok_r(NULL, "\r\n", &more)) {
                size_t n = 0;
                for (const char *p = line; *p; p++) {
                    if (*p == '\033')
                        p += strcspn(p, "mhlK");
                    else
                        n += ((unsigned char)*p & 0xc0) != 0x80;
                }
                char *plain = squeezed(line), *known = squeezed(wide.out);
                bool title = strstr(line, "not shown at") ||
                             (n > widths[i] && strstr(known, plain) && !strstr(line, "  "));
                if (n > widths[i] && !title)
                    fprintf(stderr, "\n%s, %u columns: %s\n", commands[c], widths[i], line);
                CU_ASSERT(n <= widths[i] ||
                          title); /* a title is a sentence: the terminal wraps it */
                free(plain);
                free(known);
            }
            free(all);
            free(copy);
            outcome_free(&o);
        }
        outcome_free(&wide);
    }
}

/* What is installed works from where it was put. */
static void the_program_is_installed(void) {
    const char *to = keep(test_folder("installed"));
    CU_ASSERT_TRUE(runs(
        0,
        "cmake --install '%s' --prefix '%s/usr' >/dev/null && cd '%s' && "
        "usr/bin/mosaicum --version | grep -q '^mosaicum [0-9]' && test -s "
        "usr/share/man/man1/mosaicum-build.1 && test -s "
        "usr/share/man/man5/mosaicum-definition.5 && test -s "
        "usr/share/bash-completion/completions/mosaicum && test -s "
        "usr/share/zsh/site-functions/_mosaicum && test -s "
        "usr/share/fish/vendor_completions.d/mosaicum.fish && test -s "
        "usr/share/doc/mosaicum/LICENSE && test -s usr/share/mosaicum/definition.schema.json && "
        "usr/bin/mosaicum --no-cache demo gauge | grep -q 'Nothing to complain'",
        MOSAICUM_BUILD, to, to));
}

/* Another program uses the library: found by its package file, shared, static, and no other names
 * than those of its headers come with it. */
static void the_library_is_installed(void) {
    static const char client[] =
        "#include <mosaicum/mosaicum.h>\n#include <mosaicum/platform.h>\n#include <stdio.h>\n"
        "int main(int count, char **arguments) {\n"
        "    struct mosaicum_options o = {.host = mos_platform_host(), .workspace = "
        "arguments[1]};\n"
        "    mosaicum *m = mosaicum_new(&o);\n"
        "    int status = count == 2 && m ? (int)mosaicum_check(m, NULL, 0) : 9;\n"
        "    for (size_t i = 0; i < mosaicum_finding_count(m); i++)\n"
        "        puts(mosaicum_finding_at(m, i)->rule);\n"
        "    mosaicum_free(m);\n"
        "    return status;\n}\n";
    const char *to = keep(test_folder("library"));
    write_text(path_in(to, "client.c"), client);
    CU_ASSERT_TRUE(runs(
        0,
        "cmake --install '%s' --prefix '%s/usr' >/dev/null && cd '%s' && "
        "export PKG_CONFIG_PATH=$(dirname \"$(find usr -name mosaicum.pc)\") && "
        "flags=$(pkg-config --cflags --libs mosaicum) && libs=${PKG_CONFIG_PATH%%/pkgconfig} && "
        "%s -std=c11 -Wall -Wextra -Werror client.c -o shared $flags && "
        "%s client.c -o static -Iusr/include $libs/libmosaicum.a "
        "$(pkg-config --libs-only-l --static mosaicum | sed 's/-lmosaicum//') && "
        "LD_LIBRARY_PATH=$libs ./shared '%s' >out && test ! -s out && ./static '%s' && "
        "LD_LIBRARY_PATH=$libs ./shared '%s/tests/rules/layout.gap/fails' | grep -qx layout.gap && "
        "! nm -D --defined-only $libs/libmosaicum.so | grep -v ' mosaicum_\\| mos_platform_host$'",
        MOSAICUM_BUILD, to, to, MOSAICUM_CC, MOSAICUM_CC, demo(), demo(), MOSAICUM_SOURCE));
}

static void demo_checks_and_builds_clean(void) {
    int status;
    const char *out = test_folder("demo-out");
    json_t *d = run_json(&status, "-w '%s' check", demo());
    CU_ASSERT_EQUAL(status, 0);
    CU_ASSERT_EQUAL(json_array_size(json_object_get(d, "findings")), 0);
    json_decref(d);
    d = run_json(&status, "-w '%s' build --out '%s'", demo(), out);
    CU_ASSERT_EQUAL(status, 0);
    json_decref(d);
    static const char *const files[] = {"card.img", "boot.scr",      "boot-script.txt",
                                        "main.dtb", "kernel.config", "ledger.json"};
    for (size_t i = 0; i < 6; i++)
        CU_ASSERT(exists(path_in(out, "curlew/%s", files[i])));
    CU_ASSERT(!exists(path_in(out, "curlew.part")));
    d = run_json(&status, "inspect '%s/curlew/card.img'", out);
    CU_ASSERT_EQUAL(status, 0);
    json_t *rows = json_object_get(json_array_get(json_object_get(d, "report"), 0), "rows");
    CU_ASSERT_EQUAL(json_array_size(rows), 6);
    json_t *boot = json_array_get(rows, 4), *root = json_array_get(rows, 5);
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(boot, "holds")), "fat32");
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(boot, "contains")),
                           "kernel, main.dtb, boot.scr");
    CU_ASSERT_STRING_EQUAL(json_string_value(json_object_get(root, "label")), "root");
    CU_ASSERT_EQUAL(json_integer_value(json_object_get(root, "start")), 68 << 20);
    json_decref(d);
}

/* --strict turns warnings into errors; --quiet says nothing when all is well. */
static void options_do_what_they_say(void) {
    const char *mistake = keep(path_in(MOSAICUM_SOURCE, "demo/mistakes/forgotten-variable"));
    CU_ASSERT(runs(0, "'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, mistake));
    CU_ASSERT(runs(1, "'%s' --no-cache --strict -w '%s' check", MOSAICUM_PROGRAM, mistake));
    const char *out = test_folder("quiet");
    struct outcome o =
        run_shell("'%s' --no-cache -q -w '%s' check && '%s' --no-cache -q -w '%s' build --out '%s'",
                  MOSAICUM_PROGRAM, demo(), MOSAICUM_PROGRAM, demo(), out);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_free(&o);
    o = run_shell("'%s' --no-cache --color always -w '%s' check", MOSAICUM_PROGRAM, mistake);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\033[1;93mWARNING\033[0m"));
    outcome_free(&o);
    o = run_shell("NO_COLOR=1 '%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, mistake);
    CU_ASSERT_PTR_NULL(strchr(o.out, '\033'));
    outcome_free(&o);
}

static void parts_are_shown(void) {
    int status;
    size_t count = 0;
    while (mosaicum_show_part_at(count))
        count++;
    CU_ASSERT(count >= 9);
    for (size_t i = 0; i <= count; i++) {
        json_t *d = run_json(&status, "-w '%s' show curlew+bench %s", demo(),
                             i < count ? mosaicum_show_part_at(i) : "all --trail");
        CU_ASSERT_EQUAL(status, 0);
        CU_ASSERT(json_array_size(json_object_get(d, "report")) > 0);
        json_decref(d);
    }
}

/* `show all` is a definition that means the same. */
static void resolved_definition_reads_back(void) {
    const char *copy = test_folder("resolved");
    copy_folder(demo(), copy);
    struct outcome first = run_shell("'%s' -w '%s' show curlew all", MOSAICUM_PROGRAM, copy);
    CU_ASSERT_EQUAL(first.status, 0);
    write_text(path_in(copy, "boards/curlew.yaml"), first.out);
    struct outcome second = run_shell("'%s' -w '%s' show curlew all", MOSAICUM_PROGRAM, copy);
    CU_ASSERT_STRING_EQUAL(first.out, second.out);
    CU_ASSERT(
        runs(0,
             "'%s' -w '%s' build curlew --out '%s/a' && '%s' -w '%s' build curlew --out '%s/b' && "
             "cmp '%s/a/curlew/card.img' '%s/b/curlew/card.img'",
             MOSAICUM_PROGRAM, copy, copy, MOSAICUM_PROGRAM, demo(), copy, copy, copy));
    outcome_free(&first);
    outcome_free(&second);
}

/* The same bytes, whatever the folder, clock, zone, locale, umask, cores and store. */
static void builds_are_reproducible(void) {
    const char *a = test_folder("here"), *b = test_folder("elsewhere with a longer name");
    const char *store = test_folder("store");
    copy_folder(demo(), b);
    CU_ASSERT(runs(0, "umask 022; TZ=UTC LC_ALL=C '%s' --no-cache -w '%s' build --out '%s'",
                   MOSAICUM_PROGRAM, demo(), a));
    static const char *const others[] = {
        "umask 077; TZ=Pacific/Chatham LC_ALL=C.UTF-8 taskset -c 0",
        "umask 000; SOURCE_DATE_EPOCH=5", "faketime '2031-05-06 07:08:09'"};
    for (size_t i = 0; i < 3; i++) {
        CU_ASSERT(runs(0, "%s env XDG_CACHE_HOME='%s' '%s' -w '%s' build --out '%s/out%zu'",
                       others[i], store, MOSAICUM_PROGRAM, b, b, i));
        CU_ASSERT(runs(0,
                       "cd '%s/curlew' && for f in *; do cmp \"$f\" '%s/out%zu/curlew/'\"$f\" || "
                       "exit 1; done",
                       a, b, i));
    }
}

static void demo_command_tells_its_story(void) {
    const char *folder = test_folder("tour");
    struct outcome o = run_shell("'%s' --no-cache demo '%s/d'", MOSAICUM_PROGRAM, folder);
    CU_ASSERT_EQUAL(o.status, 0);
    CU_ASSERT_PTR_NOT_NULL(strstr(
        o.out, "Nothing to complain about: 12 boards and variants, 196 rules, 2 findings waived; 1 "
               "thing could not be checked (mosaicum check -v)."));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "layout.overlap"));
    outcome_free(&o);
    o = run_shell("'%s' --no-cache demo '%s/d'", MOSAICUM_PROGRAM, folder);
    CU_ASSERT_EQUAL(o.status, 4); /* never into a folder that holds something */
    outcome_free(&o);
}

/* Each small workspace of demo/mistakes has a first line in its mosaicum.yaml: # finds: RULE */
static void mistakes_are_found(void) {
    struct outcome list = run_shell("ls '%s/demo/mistakes'", MOSAICUM_SOURCE);
    size_t count = 0;
    for (char *save, *name = strtok_r(list.out, "\n", &save); name;
         name = strtok_r(NULL, "\n", &save)) {
        int status;
        char rule[64] = "";
        char *text =
            read_whole(path_in(MOSAICUM_SOURCE, "demo/mistakes/%s/mosaicum.yaml", name), NULL);
        CU_ASSERT_PTR_NOT_NULL_FATAL(text);
        CU_ASSERT_EQUAL(sscanf(text, "# finds: %63s", rule), 1);
        json_t *d = run_json(&status, "-w '%s/demo/mistakes/%s' check", MOSAICUM_SOURCE, name);
        json_t *findings = json_object_get(d, "findings");
        const char *severity =
            json_string_value(json_object_get(json_array_get(findings, 0), "severity"));
        CU_ASSERT_EQUAL(status, severity && strcmp(severity, "error") == 0);
        CU_ASSERT_EQUAL(json_array_size(findings), 1);
        const char *found = json_string_value(json_object_get(json_array_get(findings, 0), "rule"));
        CU_ASSERT_STRING_EQUAL(found ? found : "", rule);
        json_decref(d);
        free(text);
        count++;
    }
    CU_ASSERT(count >= 6);
    outcome_free(&list);
}

/* The drawing of DESIGN section 2, byte for byte, also in ASCII. */
static void findings_are_drawn(void) {
    static const char expected[] =
        "ERROR  layout.overlap  curlew\n"
        "  Regions loader and env both use 2048 to 2560 KiB of card.\n"
        "  , boards/curlew.yaml:8   loader: {at: 512 KiB, size: 2 MiB}\n"
        "  |                                     ~~~~~~~\n"
        "  ` boards/curlew.yaml:9   env: {at: 2 MiB, size: 512 KiB}\n"
        "                                     ~~~~~\n"
        "  why  Whichever is written last destroys 512 KiB of the other.\n"
        "  try  Set size: 1536 KiB for loader, or at: 2560 KiB for env.\n\n";
    const char *w = test_folder("drawn");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\nhardware:\n  media: {card: {kind: sd, size: 64 MiB}}\n"
               "layout:\n  card:\n    regions:\n      loader: {at: 512 KiB, size: 2 MiB}\n"
               "      env: {at: 2 MiB, size: 512 KiB}\n");
    struct outcome o = run_shell("LC_ALL=C '%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 1);
    if (strncmp(o.out, expected, sizeof expected - 1) != 0)
        fprintf(stderr, "\n%s", o.out);
    CU_ASSERT_EQUAL(strncmp(o.out, expected, sizeof expected - 1), 0);
    outcome_free(&o);
    o = run_shell("LC_ALL=C.UTF-8 '%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\u250c boards/curlew.yaml:8"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\u203e\u203e\u203e\u203e\u203e\u203e\u203e\n"));
    outcome_free(&o);
}

SUITE(program_suite, {"exit statuses and messages", statuses_say_what_happened},
      {"the demo checks and builds clean", demo_checks_and_builds_clean},
      {"help is whole", help_is_whole}, {"pages and shells", pages_and_shells_know_the_same},
      {"shells complete", shells_complete}, {"installed", the_program_is_installed},
      {"library", the_library_is_installed}, {"nothing is cut", nothing_is_cut},
      {"options", options_do_what_they_say}, {"parts are shown", parts_are_shown},
      {"the resolved definition reads back", resolved_definition_reads_back},
      {"builds are reproducible", builds_are_reproducible},
      {"the demo command", demo_command_tells_its_story},
      {"mistakes are found", mistakes_are_found}, {"findings are drawn", findings_are_drawn});
