/* Real boots watched: the same damaged images that were rehearsed, started by real loaders while
 * `listen` hears them; it must name where each stopped, and why. */
#define _GNU_SOURCE
#include "damage.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { SAMPLE = 18, ALL = 150 };

/* What the stand-in for a kernel prints, in place of a kernel's words. */
static const char landmarks[] = "\\nlandmarks:\\n"
                                "  kernel: {text: \"stand-in kernel: started\", within: 15}\\n"
                                "  arguments: {text: \"^arguments: {}\", within: 5}\\n"
                                "  board: {may: yes}\\n"
                                "  root: {may: yes}\\n"
                                "  first-program: {may: yes}\\n"
                                "  log-in: {may: yes}\\n"
                                "  script-1: {within: 20}\\n"
                                "  hand-over: {within: 20}\\n";

static void make_board(size_t b, const char *w) {
    damaged_board_make(b, w);
    if (!exists(path_in(w, "mosaicum.yaml")))
        CU_ASSERT_TRUE_FATAL(runs(0, "cp -r '%s/demo/saltmarsh/.' '%s'", MOSAICUM_SOURCE, w));
    CU_ASSERT_TRUE_FATAL(
        runs(0, "printf '%s' >> '%s/boards/%s.yaml'", landmarks, w, damaged_boards[b].board));
}

static void copy_text(char *to, size_t room, const json_t *row, const char *key) {
    const char *text = json_string_value(json_object_get(row, key));
    snprintf(to, room, "%s", text ? text : "");
}

void listen_hear(const char *w, const char *board, unsigned port, const char *log,
                 struct heard *out) {
    int status;
    usleep(300000); /* the emulator waits for whoever listens */
    json_t *doc =
        run_json(&status, "--no-cache -w '%s' --out '%s/out' listen %s tcp:127.0.0.1:%u --log '%s'",
                 w, w, board, port, log);
    if (status > 1)
        fprintf(stderr, "\n%s\n", json_string_value(json_object_get(doc, "error")));
    const json_t *row = json_array_get(
        json_object_get(json_array_get(json_object_get(doc, "report"), 0), "rows"), 0);
    copy_text(out->end, sizeof out->end, row, "end");
    copy_text(out->stage, sizeof out->stage, row, "stage");
    copy_text(out->symptom, sizeof out->symptom, row, "symptom");
    CU_ASSERT_EQUAL(status, *out->symptom != 0);
    json_decref(doc);
}

/* The board's own words, as the log has them; malloc'ed. */
static char *listen_to(const struct damage *d, size_t b, const char *w, struct heard *out) {
    unsigned port = peers_port();
    char serial[100];
    const char *log = keep(path_in(d->folder, "boot.log"));
    snprintf(serial, sizeof serial, "tcp:127.0.0.1:%u,server=on,wait=on", port);
    const struct damaged_machine *kind = &damaged_machines[d->machine];
    machine_with(NULL, d->flash);
    machine_speaks_at(serial);
    struct machine *m = machine_start(kind->cpu, d->image, kind->device);
    listen_hear(w, damaged_boards[b].board, port, log, out);
    machine_stop(m);
    char *text = read_whole(log, NULL);
    unlink(log);
    return text;
}

/* ---- what is right ---- */

/* What damage of a kind may show itself as, where no kernel starts.  The first row that fits. */
static const struct {
    const char *what; /* in the words of the damage */
    const char *symptoms;
} truths[] = {
    {"variables: cut", "loader-waits nothing-to-start variable-missing script-wrong"},
    {"variables: erased", "environment-bad"},
    {"variables: torn", "environment-bad"},
    {"variables: a bit", "environment-bad"},
    {"missing", "no-file nothing-to-start"},
    {"kernel cut", "bad-magic loader-dies silent-after-hand-over"},
    {"kernel: bit", "bad-magic loader-dies silent-after-hand-over line-gone restarts"},
    {"main.dtb", "bad-tree tree-no-room silent-after-hand-over"},
    {"boot.parcel", "bad-magic bad-sum no-part-of-parcel"},
    {"boot.scr cut", "bad-sum bad-magic"},
    {"boot.scr: bit", "bad-sum bad-magic"},
    {"extlinux.conf", "nothing-to-start no-file script-wrong loader-waits"},
    {"\"bootz\"", "bad-magic no-command"},
    {"\"bootm\"", "bad-magic bad-tree"},
    {"\"booti\"", "bad-magic no-command"},
    {"\" then\"", "script-wrong"},
    {"\"load\"", "script-wrong"},
    {"\" \" for \"fi", "script-wrong"},
    {"\" \" for \"done", "script-wrong"},
    {"\"\" for", "script-wrong loader-waits"},
    {"0x40200200 main.dtb", "bad-tree bad-magic silent-after-hand-over"},
    {"0x40300000", "bad-tree bad-magic"},
    {"0x5f000000", "loader-dies over-another silent-after-hand-over bad-magic read-error"},
    {"0x30000000", "loader-dies over-another bad-magic"},
    {"main.dtc", "no-file"},
    {"\"#mian\"", "no-part-of-parcel"},
};

bool listen_among(const char *list, const char *word) {
    size_t n = strlen(word);
    for (const char *p = list; n && (p = strstr(p, word)); p += n)
        if ((p == list || p[-1] == ' ') && (p[n] == ' ' || !p[n]))
            return true;
    return false;
}

/* The line that the stand-in prints about its arguments; "": it did not come so far. */
static void arguments_of(const char *log, char *to, size_t room) {
    const char *at = strstr(log, "  arguments: ");
    size_t n = at ? strcspn(at, "\\\n") : 0; /* its end is written as \x0d */
    snprintf(to, room, "%.*s", (int)n, at ? at : "");
}

/* What really came of it, by the board's own words and by what was damaged. */
static bool is_right(const struct damage *d, const char *log, const char *built,
                     const struct heard *h) {
    char arguments[800];
    arguments_of(log, arguments, sizeof arguments);
    if (*arguments) {
        bool same = strcmp(arguments, built) == 0;
        bool quiet = strstr(d->what, "ecko") || strstr(d->what, " main"); /* our script says less */
        return strcmp(h->end, "up") == 0 &&
               (strcmp(h->symptom, same ? "" : "other-arguments") == 0 ||
                (quiet && same && strcmp(h->symptom, "not-said") == 0));
    }
    bool spoke = strstr(log, "stand-in kernel: started") != NULL;
    const char *stage = spoke                                  ? "kernel"
                        : strstr(log, "  Starting kernel ...") ? "hand-over"
                                                               : "loader";
    if (strcmp(h->end, "stopped") != 0 || strcmp(h->stage, stage) != 0)
        return false;
    for (size_t i = 0; i < sizeof truths / sizeof *truths; i++)
        if (strstr(d->what, truths[i].what))
            return listen_among(truths[i].symptoms, h->symptom);
    return false;
}

static void deaths_are_named(void) {
    size_t cases = peers_all() ? ALL : SAMPLE, right = 0, up = 0, wrongly_up = 0;
    const char *w[DAMAGED_BOARDS];
    static char built[DAMAGED_BOARDS][800];
    for (size_t b = 0; b < DAMAGED_BOARDS; b++) {
        w[b] = keep(test_folder(damaged_boards[b].via));
        make_board(b, w[b]);
    }
    struct damage d = {.seed = 2026, .folder = keep(test_folder("damaged"))};
    for (size_t n = 0; n < cases; n++) {
        size_t b = n % DAMAGED_BOARDS;
        struct heard heard;
        damage_begin(&d, b, w[b]);
        if (n >= DAMAGED_BOARDS)
            damage_something(&d, b);
        char *log = listen_to(&d, b, w[b], &heard);
        CU_ASSERT_PTR_NOT_NULL_FATAL(log);
        if (n < DAMAGED_BOARDS)
            arguments_of(log, built[b], sizeof built[b]);
        bool ok = is_right(&d, log, built[b], &heard) && *built[b];
        right += ok;
        up += strcmp(heard.end, "up") == 0;
        wrongly_up += strcmp(heard.end, "up") == 0 && !strstr(log, "stand-in kernel: started");
        if (!ok || peers_all())
            printf("%s %3zu %-11s %-62s %-8s %-10s %s\n", ok ? " " : "!", n, damaged_boards[b].via,
                   d.what, heard.end, heard.stage, heard.symptom);
        fflush(stdout);
        free(log);
    }
    CU_ASSERT_EQUAL(wrongly_up, 0);
    CU_ASSERT_TRUE(right * 15 >= cases * 14);
    proved("damaged images, listened to while they boot",
           "%zu of %zu: right end, stage and symptom (%zu up); no dead board called well", right,
           cases, up);
}

SUITE(listened_suite, {"deaths are named", deaths_are_named});
