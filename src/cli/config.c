#include "cli/cli.h"

#include <string.h>

static int run(struct cli *cli) {
    mosaicum *m = cli_open(cli, false);
    if (!m)
        return MOSAICUM_SYSTEM;
    struct mosaicum_config request = {.verb = cli->arguments[0],
                                      .words = cli->arguments + 1,
                                      .count = (size_t)cli->argument_count - 1,
                                      .source = cli->source,
                                      .arch = cli->arch,
                                      .start = cli->start,
                                      .compiler = cli->compiler,
                                      .fragments = cli->fragments,
                                      .vars = cli->vars,
                                      .output = cli->output};
    int status = print_result(cli, m, "config", mosaicum_config(m, &request));
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_config = {
    .name = "config",
    .usage = "VERB [WORD…]",
    .about = "configurations of kernels and loaders: resolve, why, search",
    .details = "resolve -o FILE works out the whole configuration from a start and fragments, as "
               "the sources themselves would; why SYMBOL, its value, who asked for it, what allows "
               "or caps it, who selects it; search WORD, symbols by name and prompt.",
    .examples = "mosaicum config resolve --source linux --arch arm64 --start defconfig --fragment "
                "fragments/gauge.config -o whole.config\n"
                "mosaicum config why USB_SERIAL --source linux --arch arm64 --start defconfig\n",
    .least = 1,
    .most = -1,
    .run = run,
};
