/* Mistakes that check finds are true: each is built all the same, and a real loader and a real
 * kernel do not come up with it; without it they do. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

enum { SECONDS = 25, SAMPLE = 5 };

/* What is done to the board, its pieces and its root (in files/), and which rule must find it. */
static const struct {
    const char *name, *rule, *edit;
} mistakes[] = {
    {"none", NULL, "true"},
    {"a first program whose shell is not there", "start.", "rm files/bin/sh"},
    {"a first program for another processor", "start.",
     "rm files/sbin/init && cp /bin/true files/sbin/init"},
    {"a first program that may not be run", "boot.first-program", "chmod 644 files/sbin/init"},
    {"a root named wrongly", "boot.root-unknown",
     "sed -i 's/root: <root>/root: PARTLABEL=rot/' boards/curlew.yaml"},
    {"a root by its label", "boot.root-unknown",
     "sed -i 's/root: <root>/root: LABEL=root/' boards/curlew.yaml"},
    {"a root of another medium", "boot.root-unknown",
     "sed -i 's/root: <root>/root: \\/dev\\/mmcblk0p2/' boards/curlew.yaml"},
    {"a root of another kind", "start.system",
     "sed -i 's/root: <root>/root: <root>, rootfstype: vfat/' boards/curlew.yaml"},
    {"a first program at another place", "boot.first-program",
     "sed -i 's/root: <root>/root: <root>, init: \\/sbin\\/start/' boards/curlew.yaml"},
    {"a root that is one folder too deep", "boot.",
     "mkdir deep && mv files deep/rootfs && mkdir files && mv deep/rootfs files/"},
    {"a kernel that is cut off", "boot.",
     "head -c 3000000 pieces/Image > cut && mv cut pieces/Image"},
    {"a tree over the kernel", "ram.overlap",
     "sed -i 's/^      tree: main/&\\n      addresses: {kernel: 0x40400000, tree: 0x40800000}/' "
     "boards/curlew.yaml"},
    {"a kernel in another form", "boot.format",
     "sed -i 's/file: pieces.Image/file: tree\\/machine.dtb/' boards/curlew.yaml"},
    {"arguments that name no root", "boot.root-unknown",
     "sed -i 's/root: <root>, //' boards/curlew.yaml"},
    {"a kernel address over the loader", "ram.",
     "sed -i 's/^      tree: main/&\\n      addresses: {kernel: 0x5e000000}/' boards/curlew.yaml"},
    {"a console that is not there", "console.",
     "sed -i 's/console: <console>/console: ttyS3/' boards/curlew.yaml"}};
enum { COUNT = sizeof mistakes / sizeof *mistakes };

/* Does check find it, by that rule? */
static bool is_found(const char *w, const char *rule) {
    int status;
    bool found = false;
    size_t i;
    json_t *d = run_json(&status, "-w '%s' check curlew", w), *f;
    json_array_foreach(json_object_get(d, "findings"), i, f) {
        bool error = strcmp(json_string_value(json_object_get(f, "severity")), "error") == 0;
        found |= error && (!rule || strncmp(json_string_value(json_object_get(f, "rule")), rule,
                                            strlen(rule)) == 0);
    }
    json_decref(d);
    return found;
}

/* Does the root's first program say its word on the serial line? */
static bool comes_up(const char *image) {
    struct machine *m = machine_start("arm64", image, "nvme,serial=x");
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    ok = ok && machine_expect(m, "=> ", 20);
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r");
    char *text = machine_until_one(
        m, (const char *const[]){"marker-root", "Kernel panic", "did not start", NULL}, SECONDS);
    ok = ok && strstr(text, "marker-root");
    free(text);
    machine_stop(m);
    return ok;
}

static void what_is_found_is_true(void) {
    const char *base = keep(test_folder("real-mistakes"));
    size_t tried = 0, right = 0;
    make_real_workspace(base);
    CU_ASSERT_TRUE_FATAL(runs(
        0, "cd '%s' && sed -i 's/, quiet\\]/]/' boards/curlew.yaml && rm -f mosaicum.pins", base));
    for (size_t i = 0; i < (peers_all() ? COUNT : SAMPLE); i++) {
        const char *w = keep(test_folder("mistake"));
        copy_folder(base, w);
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s' && { %s; } && tar --numeric-owner --owner=0 --group=0 "
                                  "-czf pieces/rootfs.tar.gz -C files .",
                                  w, mistakes[i].edit));
        bool found = is_found(w, mistakes[i].rule);
        struct outcome o = run_shell("'%s' --no-cache -q -w '%s' check --accept curlew; '%s' "
                                     "--no-cache -q -w '%s' build curlew",
                                     MOSAICUM_PROGRAM, w, MOSAICUM_PROGRAM, w);
        bool built = exists(path_in(w, "out/curlew/card.img"));
        bool up = built && comes_up(path_in(w, "out/curlew/card.img"));
        bool good = mistakes[i].rule ? found && !up : !found && up;
        if (!good)
            fprintf(stderr, "\n%s: found %d, built %d, comes up %d\n%s%s\n", mistakes[i].name,
                    found, built, up, o.out, o.err);
        outcome_free(&o);
        tried++;
        right += good;
        remove_folder(w);
    }
    CU_ASSERT_EQUAL(right, tried);
    proved("mistakes that check finds, booted for real",
           "%zu of %zu: with the mistake a real kernel does not come up, without it does", right,
           tried);
}

SUITE(mistakes_suite, {"what is found is true", what_is_found_is_true});
