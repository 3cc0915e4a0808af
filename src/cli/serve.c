#include "cli/cli.h"

#include <string.h>
#include <time.h>

/* With the time: a board that was left alone is asked about in the morning. */
static void note(void *self, const char *text, bool bad) {
    const struct cli *cli = self;
    char at[16] = "";
    time_t now = time(NULL);
    struct tm t;
    if (localtime_r(&now, &t))
        strftime(at, sizeof at, "%H:%M:%S", &t);
    fprintf(to_err, "%s  %s%s%s%s\n", at, bad ? style(cli, STYLE_WARNING) : "", bad ? "! " : "",
            one_line(text), bad ? style(cli, STYLE_END) : "");
    fflush(to_err);
}

static int run(struct cli *cli) {
    const struct mosaicum_serve request = {.selectors = cli->arguments,
                                           .selector_count = (size_t)cli->argument_count,
                                           .out = cli->out,
                                           .at = cli->at,
                                           .by = cli->by,
                                           .tftp_port = cli->tftp_port,
                                           .http_port = cli->http_port,
                                           .address = cli->address,
                                           .bench = cli_bench_file(cli),
                                           .unit = cli->unit,
                                           .self = cli,
                                           .note = cli->quiet ? NULL : note};
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    cli_stops_waiting();
    enum mosaicum_status came_to = mosaicum_serve(m, &request);
    if (!cli->json && !cli->quiet)
        fputc('\n', to_err);
    int status = print_result(cli, m, "serve", came_to);
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_serve = {
    .name = "serve",
    .usage = "[SELECTOR…]",
    .about = "what was built, to boards over the network, by TFTP and HTTP",
    .details =
        "The files of the builds of these boards (of all that are built), and those that "
        "their definitions list under serve, and nothing else; each only as it was built. A new "
        "build is served as soon as it is there. It listens on the interface that the bench "
        "file states for the unit, or on --at, and goes on when cable and address come and go. "
        "Says who fetched what and how fast, and who asks for what is not here. With --address "
        "it answers DHCP, to the hardware address of the unit only. Ctrl-C ends it.",
    .examples = "mosaicum serve curlew\n"
                "mosaicum serve curlew --at 192.0.2.1 --by http --http-port 8000\n"
                "mosaicum serve curlew --at eth1 --address 192.0.2.17\n",
    .least = 0,
    .most = -1,
    .run = run,
};
