#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    int status = print_result(cli, m, "list", mosaicum_list(m));
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_list = {
    .name = "list",
    .usage = "",
    .about = "boards and variants, and whether they are checked and built",
    .details = "A line for each board and variant: is it checked, is it built, and is what "
               "stands in out/ what its definition gives today.",
    .examples = "mosaicum list\n",
    .most = 0,
    .run = run,
};
