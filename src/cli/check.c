#include "cli/cli.h"

static void say_clean(const struct cli *cli, const mosaicum *m) {
    const struct mosaicum_rule *rules;
    size_t boards = mosaicum_board_count(m), count = mosaicum_rules(&rules);
    printf("%sNothing to complain about%s: %zu board%s, %zu rules.\n", style(cli, STYLE_GOOD),
           style(cli, STYLE_END), boards, boards == 1 ? "" : "s", count);
}

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
            say_clean(cli, m);
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
