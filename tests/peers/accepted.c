/* Real log-ins on real systems, started from what was built: their acceptance passes, and what was
 * made another is found. */
#define _GNU_SOURCE
#include "peers.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* What came of it: how many checks there are and how many passed, and the findings' text. */
struct result {
    int status;
    size_t checks, passed;
    char others[2000]; /* names of those that did not, a blank behind each */
    char error[500];
};

static struct result ask(const char *w, unsigned port, const char *how) {
    struct result r = {0};
    json_t *d =
        run_json(&r.status, "-w '%s' listen curlew tcp:127.0.0.1:%u --bench none %s", w, port, how);
    size_t i, k;
    const json_t *table, *row;
    json_array_foreach(json_object_get(d, "report"), i, table) {
        const char *key = json_string_value(json_object_get(table, "key"));
        if (!key || strcmp(key, "acceptance") != 0)
            continue;
        json_array_foreach(json_object_get(table, "rows"), k, row) {
            bool good = strcmp(json_string_value(json_object_get(row, "result")), "passes") == 0;
            r.checks++;
            r.passed += good;
            if (!good)
                snprintf(r.others + strlen(r.others), sizeof r.others - strlen(r.others), "%s ",
                         json_string_value(json_object_get(row, "check")));
        }
    }
    const char *error = json_string_value(json_object_get(d, "error"));
    const json_t *finding = json_array_get(json_object_get(d, "findings"), 0);
    if (!error && finding)
        error = json_string_value(json_object_get(finding, "message"));
    snprintf(r.error, sizeof r.error, "%s", error ? error : "");
    json_decref(d);
    return r;
}

/* ---- what is made another ---- */

static const struct {
    const char *what, *edit; /* of the definition, by sed */
    const char *check;       /* that must find it */
} planted[] = {
    {"another host name", "s/host-name: curlew/host-name: dunlin/", "host-name"},
    {"less RAM than stated", "s/sizes: .512 MiB./sizes: [1 GiB]/", "ram"},
    {"more RAM than stated", "s/sizes: .512 MiB./sizes: [256 MiB]/", "ram"},
    {"another number of cores", "s/^  cores: 1/  cores: 4/", "cores"},
    {"no such service", "s/services: .*/services: [tide-logger]/", "service tide-logger"},
    {"no such device", "s/nvme0n1p2/nvme0n1p9/", "device /dev/nvme0n1p9"},
    {"another address", "s/addresses: .*/addresses: [192.0.2.17]/", "address 192.0.2.17"},
    {"nobody replies", "s/replies: .*/replies: [192.0.2.99]/", "reply of 192.0.2.99"},
    {"no such module", "s/^acceptance:/&\\n  modules: [rtc-tide]/", "module rtc_tide"},
    {"other words", "s/tide {} of curlew/tide {} of dunlin/", "marker"},
    {"another status", "s/nothing, status: 1/nothing, status: 0/", "nothing"},
    {"another mount", "s/{root: .}/{root: \\/, data: {at: \\/data, kind: tmpfs}}/", "mount /data"},
    {"another partition is the root", "s/^        number: 2/        number: 3/", "root"},
};

static void go_through(const char *proof, bool systemd) {
    unsigned port = peers_port();
    enum { COUNT = sizeof planted / sizeof *planted };
    const char *w = keep(test_folder("accepted"));
    size_t found = 0, every = systemd && !peers_all() ? 3 : 1, tried = 0;
    make_system(w, systemd);
    struct machine *m = start_system(w, port);
    struct result r = ask(w, port, "--acceptance --first-start");
    if (r.status || r.passed < r.checks)
        fprintf(stderr, "\n%s: %d, %zu of %zu, not: %s (%s)\n", proof, r.status, r.passed, r.checks,
                r.others, r.error);
    CU_ASSERT(r.status == 0 && r.checks >= 13 && r.passed == r.checks);
    struct result again = ask(w, port, "--acceptance --running");
    CU_ASSERT(again.status == 0 && again.passed == r.checks);
    CU_ASSERT(runs(0, "cp '%s/boards/curlew.yaml' '%s/right.yaml'", w, w));
    for (size_t i = 0; i < COUNT; i += every, tried++) {
        CU_ASSERT(
            runs(0,
                 "cd '%s' && sed -e '%s' right.yaml > boards/curlew.yaml && ! cmp -s right.yaml "
                 "boards/curlew.yaml",
                 w, planted[i].edit));
        struct result x = ask(w, port, "--acceptance --running");
        char name[100];
        snprintf(name, sizeof name, "%s ", planted[i].check);
        bool one = x.status == 1 && strcmp(x.others, name) == 0;
        if (!one)
            fprintf(stderr, "\n%s, %s: %d, not: %s (%s)\n", proof, planted[i].what, x.status,
                    x.others, x.error);
        found += one;
    }
    CU_ASSERT(runs(0,
                   "cp '%s/right.yaml' '%s/boards/curlew.yaml' && echo high water > '%s/password'",
                   w, w, w));
    struct result wrong = ask(w, port, "--acceptance --running");
    bool refused =
        wrong.status == 1 && strstr(wrong.error, "refuses name and password") && !wrong.passed;
    if (!refused)
        fprintf(stderr, "\n%d %s\n", wrong.status, wrong.error);
    CU_ASSERT(refused && found == tried);
    machine_stop(m);
    remove_folder(w);
    proved(proof,
           "%zu of %zu checks passed; %zu of %zu planted differences found, each by its check "
           "alone; a wrong password: %s",
           r.passed, r.checks, found, tried, refused ? "told" : "NOT TOLD");
}

static void a_busybox_system(void) {
    go_through("acceptance on a real kernel with busybox (log-in by name and password)", false);
}

static void a_systemd_system(void) {
    go_through("acceptance on a real kernel with systemd (agetty, login, PAM)", true);
}

SUITE(accepted_suite, {"a busybox system", a_busybox_system},
      {"a systemd system", a_systemd_system});
