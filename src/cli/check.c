#include "cli/cli.h"

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    int status = mosaicum_check(m, cli->arguments, (size_t)cli->argument_count);
    print_result(cli, m, "check", status);
    if (!cli->json && !mosaicum_error(m)) {
        print_summary(cli, m, stdout);
        if (!mosaicum_count(m, MOSAICUM_ERROR) && !mosaicum_count(m, MOSAICUM_WARNING) &&
            !cli->quiet)
            printf("%sNothing to complain about.%s\n", style(cli, STYLE_GOOD),
                   style(cli, STYLE_END));
    }
    mosaicum_free(m);
    return status;
}

const struct command command_check = {
    .name = "check",
    .usage = "[BOARD…]",
    .about = "every rule on every board (or those named); nothing is written",
    .most = -1,
    .run = run,
};
