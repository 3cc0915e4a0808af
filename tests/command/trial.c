/* check starts the board on its plan's own media: the bytes are those of the image, what fails is
 * told once and at its place, what nobody stated is counted, and nothing is kept too long. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

/* The demo's curlew in one file, with its loader's configuration, after a sed script. */
static const char *edited(const char *script) {
    const char *w = keep(test_folder("trial"));
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && cp '%s/tests/planted/curlew.yaml' boards && cp "
             "'%s/tests/planted/loader.config' loader && rm -f mosaicum.pins && sed -i -e %s "
             "boards/curlew.yaml",
             w, MOSAICUM_SOURCE, MOSAICUM_SOURCE, script));
    return w;
}

/* ---- bytes ---- */

/* The loader prints sums of everything that lies outside of volumes, and lists what lies in them.
 */
static void the_loader_reads_what_the_image_has(void) {
    static const char *const commands[] = {
        "mmc read 48000000 0 40; crc32 48000000 8000",         /* table and first stage */
        "mmc read 48000000 40 3c0; crc32 48000000 78000",      /* its copy, and nothing */
        "mmc read 48000000 400 780; crc32 48000000 f0000",     /* the loader */
        "mmc read 48000000 1000 100; crc32 48000000 20000",    /* the environment */
        "mmc read 48000000 1dffdf 21; crc32 48000000 4200",    /* the other table */
        "part list mmc 0; fstype mmc 0:1; fstype mmc 0:2",     /* */
        "ls mmc 0:1 /; size mmc 0:1 kernel; echo ${filesize}", /* */
        "load mmc 0:1 48000000 kernel; crc32 48000000 ${filesize}",
        "load mmc 0:1 48000000 KERNEL 10 8; md 48000000 8",
        "load mmc 0:2 48000000 /etc/mtab; load mmc 0:2 48000000 /etc/motd; md 48000000 4",
        "load mmc 0:2 48000000 /lib/modules/6.1.0-curlew/modules.dep; crc32 48000000 ${filesize}"};
    const char *w =
        edited("'s/{bootdelay: 2}/{bootdelay: 2, bootcmd: \"run sums\", sums: \"SUMS\"}/; "
               "s/^boot:/&\\n  until: loader/'");
    for (size_t i = 0; i < sizeof commands / sizeof *commands; i++) {
        CU_ASSERT_TRUE_FATAL(runs(
            0, "cd '%s' && cp boards/curlew.yaml all && sed -i 's#SUMS#%s#' boards/curlew.yaml", w,
            commands[i]));
        CU_ASSERT(
            runs(0, "cd '%s' && '%s' --no-cache -q build --out o >/dev/null", w, MOSAICUM_PROGRAM));
        struct outcome plan = run_shell("cd '%s' && '%s' -v rehearse curlew --planned", w,
                                        MOSAICUM_PROGRAM),
                       image = run_shell("cd '%s' && '%s' -v rehearse curlew --out o", w,
                                         MOSAICUM_PROGRAM);
        if (strcmp(plan.out, image.out) != 0)
            fprintf(stderr, "\n%s:\n%s\nis not\n%s\n", commands[i], plan.out, image.out);
        CU_ASSERT_STRING_EQUAL(plan.out, image.out);
        CU_ASSERT_PTR_NULL(strstr(plan.out, "cannot be told"));
        CU_ASSERT_PTR_NULL(strstr(plan.out, "ERROR"));
        outcome_free(&plan);
        outcome_free(&image);
        CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && mv all boards/curlew.yaml", w));
    }
}

/* ---- findings ---- */

static const struct {
    const char *edit; /* of the board */
    const char *also; /* and of the loader's configuration */
    const char *rule, *marked, *message;
} cases[] = {
    {"'s/{bootdelay: 2}/{bootdelay: 2, bootcmd: \"load mmc 0:3 ${scriptaddr} boot.scr\"}/'", "",
     "start.loader", "boot.scr", "** Invalid partition 3 **"},
    {"'s/{bootdelay: 2}/{bootdelay: 2, bootcmd: \"load mmc 0:2 ${scriptaddr} boot.scr; source "
     "${scriptaddr}\"}/'",
     "", "start.loader", "boot.scr", "Failed to load 'boot.scr'"},
    {"'s/{bootdelay: 2}/{bootdelay: 2, bootcmd: \"run twice\", twice: \"lod mmc 0:1\"}/'", "",
     "start.loader", "lod mmc 0:1", "Unknown command 'lod'"},
    {"'s/arguments: {root: <root>/arguments: {root: <root>, rootfstype: vfat/'", "", "start.system",
     "rootfstype", "rootfstype=vfat, but card:2 (root) holds ext4."},
    {"'s/x/x/'", "s/^CONFIG_BOOTDELAY=3/# CONFIG_AUTOBOOT is not set/", "start.loader", "boot",
     "built not to start by itself"},
    {"'s/x/x/'", "s/MAXARGS=64/MAXARGS=3/", "start.loader", "main",
     "booti has 4 words, and the loader takes 3"},
    {"'s/via: script/via: parcel/'", "s/BOOTM_LEN=0x4000000/BOOTM_LEN=0x200/", "start.loader",
     "main", "Image too large"},
    {"'s/x/x/'", "s/^CONFIG_CMD_BOOTI=y/CONFIG_CMD_BOOTI=y/", NULL, NULL, NULL},
    /* one cause, one finding: the rule that knows it is raised */
    {"'s/{bootdelay: 2}/{bootdelay: 2, bootcmd: \"load mmc 0:1 ${adress} boot.scr; source "
     "${adress}\"}/'",
     "", "loader.env-undefined", "adress", "Variable bootcmd uses adress, which nothing sets."},
};

static void what_fails_is_told_at_its_place(void) {
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *w = edited(cases[i].edit);
        int status;
        CU_ASSERT_TRUE_FATAL(runs(0, "sed -i '%s' '%s/loader/loader.config'", cases[i].also, w));
        json_t *d = run_json(&status, "-w '%s' check curlew", w);
        json_t *list = json_object_get(d, "findings"), *f = json_array_get(list, 0);
        CU_ASSERT_EQUAL(status, cases[i].rule != NULL);
        CU_ASSERT_EQUAL(json_array_size(list), cases[i].rule != NULL);
        if (f && cases[i].rule) {
            const json_t *place = json_array_get(json_object_get(f, "places"), 0);
            char *text = read_whole(
                path_in(w, "%s", json_string_value(json_object_get(place, "file"))), NULL);
            const char *at = text;
            for (long long n = json_integer_value(json_object_get(place, "line")); at && n > 1; n--)
                at = strchr(at, '\n') + 1;
            at += json_integer_value(json_object_get(place, "column")) - 1;
            bool good =
                strcmp(json_string_value(json_object_get(f, "rule")), cases[i].rule) == 0 &&
                strcmp(json_string_value(json_object_get(f, "severity")), "error") == 0 &&
                strstr(json_string_value(json_object_get(f, "message")), cases[i].message) &&
                strncmp(at, cases[i].marked, strlen(cases[i].marked)) == 0;
            if (!good)
                fprintf(stderr, "\n%s: %s\nmarked: %.40s\n", cases[i].edit,
                        json_dumps(f, JSON_INDENT(1)), at);
            CU_ASSERT(good);
            free(text);
        }
        json_decref(d);
    }
}

static bool not_proved(const json_t *d, const char *text) {
    const json_t *x;
    size_t i;
    json_array_foreach(json_object_get(d, "not-proved"), i, x) {
        if (strstr(json_string_value(x), text))
            return true;
    }
    return false;
}

/* What nobody stated is counted, with the fact that would settle it; it is never a finding. */
static void what_is_not_known_is_counted(void) {
    static const char *const rows[][2] = {
        {"'s/, facts: {defaults: [^}]*}//; /facts:/d; s/base: defaults/base: none/; /^      "
         "env:/d; "
         "/environments:/d; /^    main: {base: none/d'",
         "which variables the loader has of its own"},
        {"'/^            base: {archive/d; /^            system:/d; /^            modules:/d; "
         "s/          fills:$//; /^system:/,$d'",
         "which system card:2 (root) will hold"},
        {"'/^      tree: main/d'", "which tree the loader has of its own"},
        {"'s/root: <root>/root: \\/dev\\/nfs, ip: dhcp/'", "it lies on no medium of the board"}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = edited(rows[i][0]);
        int status;
        json_t *d = run_json(&status, "-w '%s' check curlew", w), *f;
        size_t k;
        bool told = not_proved(d, rows[i][1]);
        json_array_foreach(json_object_get(d, "findings"), k, f) {
            CU_ASSERT_NOT_EQUAL(strncmp(json_string_value(json_object_get(f, "rule")), "start.", 6),
                                0);
        }
        if (!told)
            fprintf(stderr, "\n%s: %s\n", rows[i][0], json_dumps(d, JSON_INDENT(1)));
        CU_ASSERT(told);
        json_decref(d);
    }
}

/* With other errors there is no trial; with accepted ones it is run, and what it meets is noted. */
static void errors_come_first(void) {
    const char *w = edited("'s/root: <root>/root: PARTLABEL=rot/'");
    int status;
    json_t *d = run_json(&status, "-w '%s' check curlew", w);
    CU_ASSERT_EQUAL(json_array_size(json_object_get(d, "findings")), 1);
    CU_ASSERT(not_proved(d, "how curlew starts: not before its errors are fixed"));
    json_decref(d);
    CU_ASSERT(runs(0, "'%s' -q -w '%s' check curlew --accept", MOSAICUM_PROGRAM, w));
    d = run_json(&status, "-w '%s' check curlew", w);
    CU_ASSERT_EQUAL(json_array_size(json_object_get(d, "findings")), 0);
    CU_ASSERT(not_proved(d, "what was accepted may be why"));
    json_decref(d);
}

/* A trial that found nothing is kept by everything that it depends on. */
static void what_is_kept_is_not_kept_too_long(void) {
    static const char *const changes[] = {
        "sed -i 's/MAXARGS=64/MAXARGS=3/' loader/loader.config",
        "sed -i 's/find_script=for/find_script=fro/' loader/defaults.txt",
        "sed -i 's/0x4a000000/0x5e000000/' loader/defaults.txt",
        "sed -i 's/{bootdelay: 2}/{bootdelay: -1}/' boards/curlew.yaml",
        ("mkdir r && zstd -qdc pieces/rootfs.tar.zst | tar -C r --exclude ./dev -xf - && mkdir "
         "r/dev && rm r/bin/sh && tar -C r --owner=0 --group=0 -c . | zstd -qf -o "
         "pieces/rootfs.tar.zst"),
        "printf '#!/bin/bash\\n' > "
        "f/sbin/init"};
    const char *w = edited("'s/            system: {made/            own: {folder: f, replaces: "
                           "yes}\\n&/'");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && mkdir -p f/sbin && zstd -qdc pieces/rootfs.tar.zst | tar "
                              "-xO ./sbin/init > f/sbin/init && chmod 755 f/sbin/init && touch -d "
                              "2026-01-01 f/sbin/init && cp -r . '%s.kept'",
                              w, w));
    for (size_t i = 0; i < sizeof changes / sizeof *changes; i++) {
        struct outcome o = run_shell(
            "export XDG_CACHE_HOME='%s.cache' && rm -rf '%s' && cp -r '%s.kept' '%s' && cd '%s' && "
            "'%s' check curlew >/dev/null && '%s' check curlew > /dev/null && { %s; } && '%s' "
            "check "
            "curlew; rm -rf '%s.cache'",
            w, w, w, w, w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, changes[i], MOSAICUM_PROGRAM, w);
        if (!strstr(o.out, "ERROR  "))
            fprintf(stderr, "\n%s:\n%s%s\n", changes[i], o.out, o.err);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "ERROR  "));
        outcome_free(&o);
    }
    remove_folder(path_in("", "%s.kept", w));
}

/* A board that is meant to end at a shell may, and its other entries are tried all the same. */
static void a_shell_may_be_the_end(void) {
    static const struct {
        const char *until, *rescue, *rule;
    } ends[] = {{"log-in", "/bin/sh", "boot.first-program"},
                {"shell", "/bin/bash", "start.entry"},
                {"shell", "/bin/sh", NULL}};
    for (size_t i = 0; i < sizeof ends / sizeof *ends; i++) {
        const char *w = keep(test_folder("shell"));
        int status;
        copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/start.entry/fails"), w);
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s' && rm root/sbin/init && sed -i 's/^boot:/&\\n  until: "
                                  "%s/' boards/curlew.yaml && printf '#!%s\\n' > root/sbin/rescue",
                                  w, ends[i].until, ends[i].rescue));
        json_t *d = run_json(&status, "-w '%s' check curlew", w);
        const json_t *f = json_array_get(json_object_get(d, "findings"), 0);
        CU_ASSERT_EQUAL(status, ends[i].rule != NULL);
        CU_ASSERT_STRING_EQUAL(f ? json_string_value(json_object_get(f, "rule")) : "",
                               ends[i].rule ? ends[i].rule : "");
        json_decref(d);
    }
}

SUITE(trial_suite, {"the loader reads what the image has", the_loader_reads_what_the_image_has},
      {"what fails is told at its place", what_fails_is_told_at_its_place},
      {"what is not known is counted", what_is_not_known_is_counted},
      {"errors come first", errors_come_first}, {"a shell may be the end", a_shell_may_be_the_end},
      {"what is kept is not kept too long", what_is_kept_is_not_kept_too_long});
