/* rehearse: what it says of the demo's boards, of damaged images, and with one thing broken. */
#include "binaries.h"
#include "support.h"

#include <stdlib.h>
#include <string.h>

static const char *built(void) {
    static char *out; /* once for all tests here */
    if (out)
        return out;
    out = keep(test_folder("rehearse"));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "'%s' --no-cache -q -w '%s/demo/saltmarsh' build curlew avocet "
                              "dunlin --out '%s'",
                              MOSAICUM_PROGRAM, MOSAICUM_SOURCE, out));
    return out;
}

static json_t *table_of(const json_t *d, const char *key) {
    json_t *table;
    size_t i;
    json_array_foreach(json_object_get(d, "report"), i, table) {
        if (strcmp(json_string_value(json_object_get(table, "key")), key) == 0)
            return json_object_get(table, "rows");
    }
    return NULL;
}

static const char *cell(const json_t *rows, size_t row, const char *key) {
    const char *text = json_string_value(json_object_get(json_array_get(rows, row), key));
    return text ? text : "";
}

static void the_demo_boots(void) {
    static const char *const boards[][2] = {
        {"curlew", "card:2 (root)"}, {"avocet", "emmc:2 (root-a)"}, {"dunlin", "card:2"}};
    for (size_t i = 0; i < 3; i++) {
        int status;
        json_t *d = run_json(&status, "-w '%s/demo/saltmarsh' --out '%s' rehearse %s",
                             MOSAICUM_SOURCE, built(), boards[i][0]);
        CU_ASSERT_EQUAL(status, 0);
        CU_ASSERT_STRING_EQUAL(cell(table_of(d, "verdict"), 0, "end"), "boots");
        CU_ASSERT_STRING_EQUAL(cell(table_of(d, "verdict"), 0, "entry"), "main");
        CU_ASSERT_STRING_EQUAL(cell(table_of(d, "verdict"), 0, "root"), boards[i][1]);
        CU_ASSERT(json_array_size(table_of(d, "timeline")) > 8);
        CU_ASSERT(json_array_size(table_of(d, "ram")) == 3);
        json_decref(d);
    }
}

/* One change of the demo's card, and how its boot ends then. */
static const struct {
    const char *change; /* for amend; %s: a folder with files */
    const char *end, *reason;
} cases[] = {
    {"boot:~kernel", "loader prompt", "Failed to load 'kernel'"},
    {"boot:~main.dtb", "loader prompt", "Failed to load 'main.dtb'"},
    {"boot:~boot.scr", "loader prompt", "Failed to load 'boot.scr'"},
    {"boot:main.dtb=%s/text", "loader prompt", "Did not find a cmdline Flattened Device Tree"},
    {"boot:kernel=%s/text", "loader prompt", "Bad Linux ARM64 Image magic!"},
    {"boot:boot.scr=%s/text", "loader prompt", "Wrong image format"},
    {"root:~sbin/init", "a bare shell", "/sbin/init is not there"},
    {"root:~bin/sh", "kernel without a root", "/sbin/init needs /bin/sh: /bin/sh is not there"},
    {"root:bin/sh=%s/text", "kernel without a root", "neither a program nor a script"},
    {"root:bin/sh=%s/other", "kernel without a root", "is made for riscv64, the board is arm64"},
    {"root:etc/fstab=%s/text", "boots", ""},
    {"2 MiB:bootcmd=run nothing", "loader prompt", "\"nothing\" not defined"},
    {"2 MiB:bootcmd=if true", "loader prompt", "syntax error"},
    {"2 MiB:bootcmd=while true; do true; done", "hangs", "goes round for ever"},
    {"2 MiB:bootdelay=-1", "loader prompt", "waits for somebody to type"},
    {"2 MiB:bootcmd=load mmc 0:1 0x40000000 kernel; booti 0x40000000", "starts again and again",
     "FDT and ATAGS"},
    {"2 MiB:bootcmd=load mmc 0:1 0x5f000000 kernel", "loader prompt", "would overwrite reserved"},
    {"2 MiB:bootcmd=mmc info; mmc part; mmc list; mmc rescan; mmc dev 0; run nothing",
     "loader prompt", "\"nothing\" not defined"},
    {"2 MiB:bootcmd=usb read 0x40000000 0 1; test $? -eq 1 && run nothing", "loader prompt",
     "\"nothing\" not defined"},
    {"2 MiB:bootcmd=poweroff", "switched off", "switches the board off"},
    /* what ended it comes first, what was wrong before behind it; a new attempt has a new list */
    {"2 MiB:bootcmd=load mmc 0:1 0x40000000 none; booti 0x42000000", "loader prompt",
     "gives up: Failed to load 'none' (in the end: Bad Linux ARM64 Image magic!)"},
    {"2 MiB:bootcmd=load mmc 9:1 0x40000000 x; echo Entry two; load mmc 0:1 0x40000000 y",
     "loader prompt", "gives up: Failed to load 'y'"},
    {"2 MiB:bootcmd=setenv bootargs root=/dev/nfs; load mmc 0:1 0x40200000 kernel; load mmc 0:1 "
     "0x40400000 main.dtb; booti 0x40200000 - 0x40400000",
     "cannot tell", "what root=/dev/nfs holds"},
    {"2 MiB:bootcmd=load mmc 0:1 0x40200000 main.dtb; go 0x40200000", "cannot tell",
     "what the program at 0x40200000 does"},
    {"2 MiB:bootcmd=load mmc 0:1 0x44000000 main.dtb; load mmc 0:1 0x44000000 kernel; booti "
     "0x44000000 - 0x44000000",
     "loader prompt", "Did not find a cmdline"},
};

static void damaged_images_end_as_they_must(void) {
    const char *folder = keep(test_folder("rehearse-cases"));
    const char *image = keep(path_in(folder, "new.img"));
    write_text(path_in(folder, "text"), "nothing of the kind, but long enough to be looked at\n");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && '%s' -q take '%s/avocet/emmc.img' root-a:bin/sh -o other "
                              "&& chmod 755 other text",
                              folder, MOSAICUM_PROGRAM, built()));
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char change[400];
        int status;
        snprintf(change, sizeof change, cases[i].change, folder);
        CU_ASSERT_TRUE_FATAL(runs(0, "rm -f '%s'; '%s' -q amend '%s/curlew/card.img' '%s' -o '%s'",
                                  image, MOSAICUM_PROGRAM, built(), change, image));
        json_t *d = run_json(&status,
                             "rehearse '%s' --cpu arm64 --ram-start 0x40000000 --ram '512 "
                             "MiB'",
                             image);
        const char *end = cell(table_of(d, "verdict"), 0, "end");
        const char *reason = cell(table_of(d, "verdict"), 0, "reason");
        if (strcmp(end, cases[i].end) != 0 || !strstr(reason, cases[i].reason)) {
            fprintf(stderr, "\n%s: %s (%s)\n", change, end, reason);
            CU_FAIL("an end of a rehearsal");
        }
        CU_ASSERT_EQUAL(status, strcmp(end, "boots") != 0);
        char *all = json_dumps(d, 0); /* what these do is known */
        CU_ASSERT(!strstr(change, "mmc part") || !strstr(all, "what mmc"));
        free(all);
        json_decref(d);
    }
}

/* What the first program needs is followed as Linux follows it: five scripts, a dynamic linker. */
static void first_programs_are_followed(void) {
    static const struct {
        const char *what; /* path=file, for amend; the files are made below */
        const char *reason;
    } starts[] = {
        {"sbin/init=to-a bin/a=to-b bin/b=to-c bin/c=to-d bin/d=to-sh", NULL},
        {"sbin/init=to-a bin/a=to-b bin/b=to-c bin/c=to-d bin/d=to-e bin/e=to-sh",
         "/bin/e is one script too many: Linux follows 5"},
        {"sbin/init=to-a bin/a=to-b bin/b=to-c bin/c=to-d bin/d=to-e",
         "/bin/d needs /bin/e: /bin/e is not there"},
        {"sbin/init=dynamic", "/sbin/init needs /lib/ld.so: /lib/ld.so is not there"},
        {"sbin/init=dynamic lib/ld.so=static", NULL},
        {"sbin/init=dynamic lib/ld.so=dynamic", NULL}, /* its own linker is not asked for */
        {"sbin/init=dynamic lib/ld.so=to-sh", "/lib/ld.so is no program"},
        {"sbin/init=dynamic lib/ld.so=plain", "/lib/ld.so may not be executed (mode 0644)"},
        {"sbin/init=to-a bin/a=dynamic lib/ld.so=other", "/lib/ld.so is made for riscv64"},
        {"sbin/init=cut", "/sbin/init is cut off"},
    };
    const char *folder = keep(test_folder("first-programs"));
    const char *image = keep(path_in(folder, "new.img"));
    uint8_t program[1024];
    static const char names[][3] = {"a", "b", "c", "d", "e", "sh"};
    for (size_t i = 0; i < 6; i++)
        write_text(path_in(folder, "to-%s", names[i]), path_in("#!", "bin/%s\n", names[i]));
    make_program(program, true, 183, "/lib/ld.so", 1024);
    write_file(path_in(folder, "dynamic"), program, sizeof program);
    make_program(program, true, 243, NULL, 1024);
    write_file(path_in(folder, "other"), program, sizeof program);
    make_program(program, true, 183, NULL, 1025);
    write_file(path_in(folder, "cut"), program, sizeof program);
    make_program(program, true, 183, NULL, 1024);
    write_file(path_in(folder, "static"), program, sizeof program);
    CU_ASSERT_TRUE_FATAL(
        runs(0, "cd '%s' && chmod 755 * && cp static plain && chmod 644 plain", folder));
    for (size_t i = 0; i < sizeof starts / sizeof *starts; i++) {
        int status;
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s' && rm -f new.img && '%s' -q amend '%s/curlew/card.img' "
                                  "-o new.img $(for p in %s; do echo root:$p; done)",
                                  folder, MOSAICUM_PROGRAM, built(), starts[i].what));
        json_t *d = run_json(
            &status, "rehearse '%s' --cpu arm64 --ram-start 0x40000000 --ram '512 MiB'", image);
        const char *end = cell(table_of(d, "verdict"), 0, "end");
        const char *reason = cell(table_of(d, "verdict"), 0, "reason");
        bool good =
            starts[i].reason ? strstr(reason, starts[i].reason) != NULL : strcmp(end, "boots") == 0;
        if (!good)
            fprintf(stderr, "\n%s: %s (%s)\n", starts[i].what, end, reason);
        CU_ASSERT(good);
        json_decref(d);
    }
}

/* A kernel that expands itself does so behind a multiple of 128 MiB. */
static void a_kernel_expands_where_it_does(void) {
    static const struct {
        unsigned kernel, tree;
        bool harm;
    } places[] = {{0x40200000, 0x42000000, false}, {0x40200000, 0x41607fff, true},
                  {0x40200000, 0x41608000, false}, {0x48200000, 0x49000000, true},
                  {0x48200000, 0x41000000, false}, {0x50200000, 0x51000000, true},
                  {0x57f00000, 0x51000000, true},  {0x58200000, 0x51000000, false}};
    const char *folder = keep(test_folder("expands")), *image = keep(path_in(folder, "new.img"));
    uint8_t z[ZIMAGE];
    make_zimage(z);
    write_file(path_in(folder, "z"), z, sizeof z);
    for (size_t i = 0; i < sizeof places / sizeof *places; i++) {
        int status;
        CU_ASSERT_TRUE_FATAL(
            runs(0,
                 "cd '%s' && rm -f new.img && '%s' -q amend '%s/curlew/card.img' "
                 "boot:kernel=z '2 MiB:fdt_high=0xffffffff' '2 MiB:bootcmd=load mmc 0:1 "
                 "0x%x kernel; load mmc 0:1 0x%x main.dtb; bootz 0x%x - 0x%x' -o new.img",
                 folder, MOSAICUM_PROGRAM, built(), places[i].kernel, places[i].tree & ~7u,
                 places[i].kernel, places[i].tree & ~7u));
        json_t *d = run_json(
            &status, "rehearse '%s' --cpu arm --ram-start 0x40000000 --ram '512 MiB'", image);
        const char *reason = cell(table_of(d, "verdict"), 0, "reason");
        bool harm = strstr(reason, "The kernel expands itself over the tree") != NULL;
        if (harm != places[i].harm)
            fprintf(stderr, "\n%x, %x: %s\n", places[i].kernel, places[i].tree, reason);
        CU_ASSERT_EQUAL(harm, places[i].harm);
        json_decref(d);
    }
}

/* A GPT that its MBR does not announce is there for nobody; amend puts that right. */
static void a_gpt_that_nobody_looks_for(void) {
    static const struct {
        const char *bytes; /* of the MBR's first entry, at 446 */
        bool amend, boots;
    } mbrs[] = {{NULL, false, true},
                {"\\0\\0\\0\\0\\356", false, true}, /* what only firmware looks at is gone */
                {"\\0\\0\\0\\0\\0", false, false},
                {"\\0\\0\\0\\0\\356\\0\\0\\0\\2", false, false},
                {"\\0\\0\\0\\0\\0", true, true}};
    const char *folder = keep(test_folder("unseen"));
    for (size_t i = 0; i < sizeof mbrs / sizeof *mbrs; i++) {
        int status;
        CU_ASSERT_TRUE_FATAL(
            runs(0,
                 "cd '%s' && rm -f *.img && cp '%s/curlew/card.img' was.img && "
                 "printf '%s' | dd of=was.img bs=1 seek=446 conv=notrunc 2>/dev/null",
                 folder, built(), mbrs[i].bytes ? mbrs[i].bytes : ""));
        write_text(path_in(folder, "mosaicum.yaml"), "x");
        if (mbrs[i].amend)
            CU_ASSERT_TRUE(
                runs(0, "cd '%s' && '%s' -q amend was.img boot:new=mosaicum.yaml -o new.img",
                     folder, MOSAICUM_PROGRAM));
        struct outcome o = run_shell("cd '%s' && '%s' inspect %s.img", folder, MOSAICUM_PROGRAM,
                                     mbrs[i].amend ? "new" : "was");
        CU_ASSERT_EQUAL(o.status, mbrs[i].boots ? 0 : 1);
        CU_ASSERT_EQUAL(strstr(o.out, "take the MBR") || strstr(o.out, "do not see this GPT"),
                        !mbrs[i].boots);
        outcome_free(&o);
        json_t *d = run_json(&status,
                             "rehearse '%s/%s.img' --cpu arm64 --ram-start 0x40000000 --ram "
                             "'512 MiB'",
                             folder, mbrs[i].amend ? "new" : "was");
        CU_ASSERT_EQUAL(strcmp(cell(table_of(d, "verdict"), 0, "end"), "boots") == 0,
                        mbrs[i].boots);
        json_decref(d);
    }
}

/* The first entry dies three times, then the fallback starts: that is told as what it is. */
static void a_fallback_is_no_good_news(void) {
    const char *folder = keep(test_folder("fallback"));
    int status;
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && cp -r '%s/avocet' . && rm avocet/emmc.img && '%s' -q amend "
             "'%s/avocet/emmc.img' 'root-a:~sbin/init' -o avocet/emmc.img",
             folder, built(), MOSAICUM_PROGRAM, built()));
    json_t *d = run_json(&status, "-w '%s/demo/saltmarsh' --out '%s' rehearse avocet",
                         MOSAICUM_SOURCE, folder);
    json_t *verdict = table_of(d, "verdict"), *failed = table_of(d, "failed");
    CU_ASSERT_EQUAL(status, 1);
    CU_ASSERT_STRING_EQUAL(cell(verdict, 0, "end"), "boots");
    CU_ASSERT_STRING_EQUAL(cell(verdict, 0, "entry"), "fallback");
    CU_ASSERT_STRING_EQUAL(cell(verdict, 0, "root"), "emmc:3 (root-b)");
    CU_ASSERT_EQUAL(json_array_size(failed), 1);
    CU_ASSERT_STRING_EQUAL(cell(failed, 0, "entry"), "main");
    CU_ASSERT_PTR_NOT_NULL(strstr(cell(failed, 0, "reason"), "/sbin/init is not there"));
    CU_ASSERT_EQUAL(json_integer_value(json_object_get(json_array_get(failed, 0), "times")), 3);
    json_decref(d);
    struct outcome o = run_shell("'%s' -w '%s/demo/saltmarsh' --out '%s' rehearse avocet",
                                 MOSAICUM_PROGRAM, MOSAICUM_SOURCE, folder);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "avocet boots only entry fallback (root emmc:3 (root-b)), "
                                         "after entry main: "));
    outcome_free(&o);
}

/* Without RAM nobody knows whether things lie over each other. */
static void what_cannot_be_told_is_said(void) {
    struct outcome o =
        run_shell("'%s' rehearse '%s/curlew/card.img' --cpu arm64", MOSAICUM_PROGRAM, built());
    CU_ASSERT_EQUAL(o.status, 1);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "cannot be told: It is not known how much RAM there is"));
    outcome_free(&o);
}

static void faults_are_tried_one_by_one(void) {
    static const char *const rows[][3] = {{"emmc:1 boot.parcel", "its middle bit flipped", "DEAD"},
                                          {"emmc:2 sbin/init", "missing", "boots the fallback"},
                                          {"emmc:2 root-a", "unreadable", "boots the fallback"},
                                          {"emmc:3 root-b", "unreadable", "boots"},
                                          {"environment at 3 MiB", "first copy bad", "boots"},
                                          {"environment at 3 MiB", "lost", "cannot tell"},
                                          {"the system", "never confirms", "boots the fallback"}};
    int status;
    json_t *d = run_json(&status, "-w '%s/demo/saltmarsh' --out '%s' rehearse avocet --faults",
                         MOSAICUM_SOURCE, built());
    json_t *table = table_of(d, "faults");
    CU_ASSERT_EQUAL(status, 0);
    CU_ASSERT(json_array_size(table) > 25);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        size_t seen = 0;
        for (size_t k = 0; k < json_array_size(table); k++)
            seen += strcmp(cell(table, k, "thing"), rows[i][0]) == 0 &&
                    strcmp(cell(table, k, "fault"), rows[i][1]) == 0 &&
                    strcmp(cell(table, k, "result"), rows[i][2]) == 0;
        CU_ASSERT_EQUAL(seen, 1);
    }
    json_decref(d);
}

static void wrong_use_is_told(void) {
    static const struct {
        const char *arguments;
        int status;
        const char *says;
    } uses[] = {
        {"rehearse curlew", 2, "is not there: a rehearsal needs what was built"},
        {"rehearse", 2, "is used like this: mosaicum rehearse SELECTOR|IMAGE"},
        {"rehearse boards/curlew.yaml --ram 3", 2, "RAM is given as in"},
        {"rehearse boards/curlew.yaml --loader boards/curlew.yaml", 2, "no variables compiled"},
        {"rehearse boards/curlew.yaml", 1,
         "cannot be told: It is not known which variables the loader has"},
    };
    const char *w = keep(test_folder("rehearse-wrong"));
    copy_demo(w);
    for (size_t i = 0; i < sizeof uses / sizeof *uses; i++) {
        struct outcome o =
            run_shell("cd '%s' && '%s' --no-cache %s", w, MOSAICUM_PROGRAM, uses[i].arguments);
        bool good = o.status == uses[i].status &&
                    (strstr(o.err, uses[i].says) || strstr(o.out, uses[i].says));
        if (!good)
            fprintf(stderr, "\n%s: %d\n%s%s", uses[i].arguments, o.status, o.out, o.err);
        CU_ASSERT_TRUE(good);
        outcome_free(&o);
    }
}

SUITE(rehearse_suite, {"a kernel expands where it does", a_kernel_expands_where_it_does},
      {"first programs are followed", first_programs_are_followed},
      {"the demo boots", the_demo_boots},
      {"damaged images end as they must", damaged_images_end_as_they_must},
      {"a GPT that nobody looks for", a_gpt_that_nobody_looks_for},
      {"a fallback is no good news", a_fallback_is_no_good_news},
      {"what cannot be told is said", what_cannot_be_told_is_said},
      {"faults are tried one by one", faults_are_tried_one_by_one},
      {"wrong use is told", wrong_use_is_told});
