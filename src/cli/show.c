#include "cli/cli.h"

#include <string.h>

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, true);
    if (!m)
        return MOSAICUM_USAGE;
    cli->aside = true;
    const char *board = cli->argument_count == 2 ? cli->arguments[0] : NULL;
    const char *part = cli->arguments[cli->argument_count - 1];
    int status = print_result(cli, m, "show", mosaicum_show(m, board, part, cli->trail));
    if (!cli->picture)
        print_report(cli, m, to_out);
    else if (strcmp(part, "layout") != 0) {
        fprintf(to_err, "%smosaicum:%s --picture draws the layout: show %slayout\n",
                style(cli, STYLE_ERROR), style(cli, STYLE_END), board ? "SELECTOR " : "");
        status = MOSAICUM_USAGE;
    } else if (!mosaicum_error(m)) {
        int drawn = draw_layout(cli, m, cli->picture);
        status = drawn ? drawn : status;
    }
    mosaicum_free(m);
    return status;
}

const struct command command_show = {
    .name = "show",
    .usage = "[SELECTOR] PART",
    .about = "layout, ram, boot, kernel, tree, drivers, env, budgets, emulator or all, worked out",
    .details = "PART is layout, ram, boot, kernel, tree, drivers, env, budgets, emulator or all. "
               "With one board "
               "in the workspace the selector may be left out.",
    .examples = "mosaicum show curlew layout\n"
                "mosaicum show curlew layout --picture layout.svg\n"
                "mosaicum show curlew+bench all --trail\n",
    .least = 1,
    .most = 2,
    .run = run,
};
