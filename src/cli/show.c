#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    const char *board = cli->argument_count == 2 ? cli->arguments[0] : NULL;
    const char *part = cli->arguments[cli->argument_count - 1];
    int status = print_result(cli, m, "show", mosaicum_show(m, board, part, cli->trail));
    print_report(cli, m, stdout);
    mosaicum_free(m);
    return status;
}

const struct command command_show = {
    .name = "show",
    .usage = "[SELECTOR] PART",
    .about = "layout, ram, boot, kernel, tree, env, budgets or all, worked out",
    .least = 1,
    .most = 2,
    .run = run,
};
