#include "cli/cli.h"

#include <string.h>
#include <unistd.h>

static bool take_words(struct cli *cli, struct mosaicum_listen *r) {
    if (!beside_words(cli, &r->selector, &r->port))
        return false;
    if (cli->running && cli->cycle) {
        fprintf(to_err,
                "mosaicum: --cycle takes its power away, and --running says that it is up\n");
        return false;
    }
    if (cli->running && !cli->acceptance) {
        fprintf(to_err, "mosaicum: --running is for --acceptance\n");
        return false;
    }
    if (cli->acceptance && (cli->stored || !r->selector)) {
        fprintf(to_err, "mosaicum: --acceptance asks a board on a line: name which one it is\n");
        return false;
    }
    if (r->port && r->stored) {
        fprintf(to_err, "mosaicum: --stored reads what was stored: name no port beside it\n");
        return false;
    }
    return true;
}

/* ---- the terminal ---- */

static bool in_line; /* what was shown last was no line's end */

static void show(void *self, const void *bytes, size_t length) {
    (void)self;
    fflush(to_out);
    out_bytes(bytes, length);
    in_line = ((const char *)bytes)[length - 1] != '\n';
}

static void note(void *self, const char *text, bool bad) {
    const struct cli *cli = self;
    FILE *to = cli->terminal ? to_out : to_err;
    fprintf(to, "%s%s%s %s%s\n", in_line ? "\n" : "", style(cli, bad ? STYLE_WARNING : STYLE_NOTE),
            bad            ? "!"
            : cli->unicode ? "·"
                           : "-",
            one_line(text), style(cli, STYLE_END));
    fflush(to);
    in_line = false;
}

static void show_ports(void *self, mosaicum *m) {
    print_tables(self, m, to_out);
    fflush(to_out);
}

static int run(struct cli *cli) {
    struct mosaicum_listen request = {.stored = cli->stored,
                                      .out = cli->out,
                                      .log = cli->log,
                                      .junit = cli->junit,
                                      .bench = cli_bench_file(cli),
                                      .unit = cli->unit,
                                      .first_start = cli->first_start,
                                      .cycle = cli->cycle,
                                      .acceptance = cli->acceptance,
                                      .running = cli->running,
                                      .ascii = !cli->unicode,
                                      .self = cli};
    if (!take_words(cli, &request))
        return MOSAICUM_USAGE;
    cli->terminal =
        !cli->judge && !cli->acceptance && !cli->json && !cli->stored && isatty(0) && isatty(1);
    request.keys = cli->terminal;
    request.show = cli->terminal ? show : NULL;
    request.note = cli->json || cli->quiet ? NULL : note;
    request.show_ports = show_ports;
    mosaicum *m = cli_open(cli, request.selector != NULL);
    if (!m)
        return request.selector ? MOSAICUM_USAGE : MOSAICUM_SYSTEM;
    cli_stops_waiting();
    enum mosaicum_status came_to = mosaicum_listen(m, &request);
    if (cli->terminal)
        fputs(in_line ? "\n\n" : "\n", to_out);
    int status = print_result(cli, m, "listen", came_to);
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_listen = {
    .name = "listen",
    .usage = "[SELECTOR] [PORT]",
    .about = "watches a board start on its serial line: landmarks, and why it stopped",
    .details =
        "Of a selector it knows what was built: which texts must come, in which order and "
        "how soon. Without one it knows what loaders and kernels say. On a terminal the "
        "keyboard goes to the board: F12 leaves, F9 sends a break. Without PORT it is the one "
        "of the bench file, or the next that is plugged in. --stored judges a log that was "
        "stored, by --log or by anything else. Exit status 0: it is up, and what was built.",
    .examples = "mosaicum listen curlew /dev/ttyUSB0\n"
                "mosaicum listen curlew tcp:127.0.0.1:4001 --log boot.log --junit boot.xml\n"
                "mosaicum listen curlew --stored boot.log\n",
    .least = 0,
    .most = 2,
    .run = run,
};
