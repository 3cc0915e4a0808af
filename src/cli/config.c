#include "cli/cli.h"

#include <string.h>

static int run(struct cli *cli) {
    if (!cli->workspace && !cli->source) /* of a board, if there are any */
        cli->workspace = cli_find_workspace();
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
                                      .output = cli->output,
                                      .only_show = cli->only_show,
                                      .loader = cli->of_loader,
                                      .link_map = cli->link_map,
                                      .modules = cli->modules};
    int status = print_result(cli, m, "config", mosaicum_config(m, &request));
    print_report(cli, m, to_out);
    mosaicum_free(m);
    return status;
}

const struct command command_config = {
    .name = "config",
    .usage = "VERB [WORD…]",
    .about = "configurations of kernels and loaders: resolve, why, ask, minimal and others",
    .details =
        "resolve -o FILE works out the whole configuration from a start and fragments, as the "
        "sources themselves would; merge -o FILE, what is asked for, without sources; why SYMBOL, "
        "its value, who asked for it, what allows or caps it, who selects it, what it takes to "
        "have it; search WORD or /PATTERN/, symbols by name and prompt; compare FILE FILE; minimal "
        "-o FILE, the fewest settings that give the same; cost, what each setting of a fragment "
        "brings, in bytes with the linker's map or the modules of a built kernel; ask "
        "SYMBOL=VALUE… SELECTOR --fragment NAME, the smallest change of that fragment "
        "of a board. A SELECTOR in the place of --source takes the board's own configuration, with "
        "--of-loader that of its loader.",
    .examples = "mosaicum config resolve --source linux --arch arm64 --start defconfig --fragment "
                "fragments/gauge.config -o whole.config\n"
                "mosaicum config why USB_SERIAL --source linux --arch arm64 --start defconfig\n"
                "mosaicum config ask USB_SERIAL=m curlew --fragment gauge --only-show\n",
    .least = 1,
    .most = -1,
    .run = run,
};
