#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    int status = print_result(cli, m, "take",
                              mosaicum_take(m, cli->arguments[0], cli->arguments[1], cli->output));
    print_report(cli, m, stdout);
    mosaicum_free(m);
    return status;
}

const struct command command_take = {
    .name = "take",
    .usage = "IMAGE REGION[:PATH]",
    .about = "copies a file, a folder or a whole region out of an image",
    .least = 2,
    .most = 2,
    .run = run,
};
