#include "cli/cli.h"
static int run(struct cli *cli) {
    (void)cli;
    return 2;
}
const struct command command_new = {.name = "new",
                                    .usage = "[NAME]",
                                    .about = "starts a workspace or adds a board",
                                    .most = 1,
                                    .run = run};
