#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    int status =
        print_result(cli, m, "pin", mosaicum_pin(m, cli->arguments, (size_t)cli->argument_count));
    if (!cli->quiet)
        print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_pin = {
    .name = "pin",
    .usage = "[SELECTOR…]",
    .about = "records the hash of every piece in mosaicum.pins",
    .details = "From then on check tells when a piece is not what it was. Pieces with "
               "`follow: yes` may change.",
    .examples = "mosaicum pin\n"
                "mosaicum pin curlew\n",
    .most = -1,
    .run = run,
};
