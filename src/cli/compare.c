#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    int status =
        print_result(cli, m, "compare", mosaicum_compare(m, cli->arguments[0], cli->arguments[1]));
    print_report(cli, m, stdout);
    mosaicum_free(m);
    return status;
}

const struct command command_compare = {
    .name = "compare",
    .usage = "A B",
    .about = "two boards or variants side by side: only what differs",
    .least = 2,
    .most = 2,
    .run = run,
};
