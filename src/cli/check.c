#include "cli/cli.h"

static void say_clean(const struct cli *cli, const mosaicum *m) {
    const struct mosaicum_rule *rules;
    size_t boards = mosaicum_board_count(m), count = mosaicum_rules(&rules);
    size_t waived = mosaicum_waived_count(m);
    fprintf(to_out, "%sNothing to complain about%s: %zu board%s%s, %zu rules",
            style(cli, STYLE_GOOD), style(cli, STYLE_END), boards, boards == 1 ? "" : "s",
            boards == 1 ? "" : " and variants", count);
    if (waived)
        fprintf(to_out, ", %zu finding%s waived", waived, waived == 1 ? "" : "s");
    print_unproved(cli, m, to_out);
    fprintf(to_out, ".\n");
}

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    size_t count = (size_t)cli->argument_count;
    int status = cli->accept ? mosaicum_accept(m, cli->arguments, count)
                             : mosaicum_check(m, cli->arguments, count);
    print_result(cli, m, "check", status);
    if (!cli->quiet)
        print_report(cli, m, to_out);
    if (!cli->json && !mosaicum_error(m)) {
        print_summary(cli, m, to_out);
        if (!mosaicum_count(m, MOSAICUM_ERROR) && !mosaicum_count(m, MOSAICUM_WARNING) &&
            !cli->quiet && !cli->accept)
            say_clean(cli, m);
    }
    mosaicum_free(m);
    return status;
}

const struct command command_check = {
    .name = "check",
    .usage = "[SELECTOR…]",
    .about = "every rule on all boards and variants, or those selected",
    .details = "Nothing is written. A selector is BOARD, BOARD+VARIANT or a pattern with *. "
               "Without one it is what `usual` in mosaicum.yaml names, else every board with "
               "every combination of its variants.",
    .examples = "mosaicum check\n"
                "mosaicum check curlew+bench\n"
                "mosaicum check --strict --json '*+*'\n",
    .most = -1,
    .run = run,
};
