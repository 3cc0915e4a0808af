#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    int status =
        print_result(cli, m, "list", cli->written ? mosaicum_list_written(m) : mosaicum_list(m));
    if (cli->written)
        print_tables(cli, m, to_out);
    else
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
    .examples = "mosaicum list\n"
                "mosaicum list --written\n",
    .most = 0,
    .run = run,
};
